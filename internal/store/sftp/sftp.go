// Package sftp keeps archives on another machine over SFTP
// (draft-ietf-secsh-filexfer-02), in an SSH connection.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"revlet/internal/store"
	"revlet/internal/store/connpool"
	"revlet/internal/store/sshconn"
)

// Options say where the store is and how to get in.
type Options struct {
	// Dialer says on which machine, and as whom.
	sshconn.Dialer
	// Dir is the store's folder; one without a leading slash starts at the
	// account's home.
	Dir string
	// Lanes is the most connections at a time.
	Lanes int
	// AppendOnly is for an account that may neither delete nor overwrite: nothing is asked
	// for that the far end would refuse. See package appendonly.
	AppendOnly bool
	// Where describes the address for people.
	Where string
}

// Store is a folder on another machine.
type Store struct {
	store.Unprotected
	store.ByFolder
	o       Options
	pool    *connpool.Pool[*client]
	uploads *store.Uploads
}

// client is one SSH connection with SFTP in it.
type client struct {
	*sshconn.Files
	ssh *ssh.Client
}

// Close ends the connection at once: closing only the SFTP side would wait for
// answers that may never come.
func (c *client) Close() error { return c.ssh.Close() }

// New returns the store; nothing is connected yet.
func New(o Options) *Store {
	s := &Store{o: o, uploads: store.NewUploads()}
	s.ByFolder = store.ByFolder{Read: s.readDir}
	s.pool = connpool.New(o.Lanes, s.dial)
	return s
}

func (s *Store) dial(ctx context.Context) (*client, error) {
	c, err := s.o.Dialer.Dial(ctx)
	if err != nil {
		return nil, err
	}
	files, err := sshconn.OpenFiles(c)
	if err != nil {
		_ = c.Close()
		return nil, fmt.Errorf("%s offers no SFTP: %w", s.o.Host, err)
	}
	return &client{files, c}, nil
}

func (s *Store) do(ctx context.Context, work func(*client) error) error {
	return s.pool.Do(ctx, sshconn.Answered, work)
}

func (s *Store) path(name string) string { return path.Join(s.o.Dir, name) }

func explain(name string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return store.Missing(name)
	case errors.Is(err, fs.ErrPermission):
		return store.Refuse("%s: the far end denies permission; check who owns the folder there", name)
	default:
		return fmt.Errorf("%s: %w", name, err)
	}
}

// Where implements store.Store.
func (s *Store) Where() string { return s.o.Where }

// Offsite implements store.Store.
func (s *Store) Offsite() bool { return true }

// Close implements store.Store.
func (s *Store) Close() error { return s.pool.Close() }

// Check implements store.Store. The store's folder is made if its parent exists.
func (s *Store) Check(ctx context.Context) error {
	return s.do(ctx, func(c *client) error {
		if err := s.mkdir(c, store.Incoming); err != nil {
			return err
		}
		if s.o.AppendOnly {
			return nil // a probe would stay; the first object tells
		}
		probe := s.path(s.uploads.Probe())
		f, err := c.Create(probe)
		if err != nil {
			return explain("the folder "+s.o.Dir, err)
		}
		if err := f.Close(); err != nil {
			return explain("the folder "+s.o.Dir, err)
		}
		if err := c.Remove(probe); errors.Is(err, fs.ErrPermission) {
			return store.NoDeletion(err)
		} else if err != nil {
			return explain("the folder "+s.o.Dir, err)
		}
		left, err := listed(ctx, c, s.path(store.Incoming))
		if err != nil {
			return explain(store.Incoming, err)
		}
		s.uploads.ClearStale(left, func(name string) error { return c.Remove(s.path(name)) })
		return nil
	})
}

func (s *Store) temporary(name string) string { return s.path(s.uploads.Temporary(name)) }

// mkdir makes a folder of the store, once for each run.
func (s *Store) mkdir(c *client, dir string) error {
	return s.uploads.Folder(dir, func() error {
		if err := c.MkdirAll(s.path(dir)); err != nil {
			return explain("make the folder "+s.path(dir), err)
		}
		return nil
	})
}

// Put implements store.Store. What an upload that was cut has brought over is
// kept, so that the next try with the same name goes on from there.
func (s *Store) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	return s.do(ctx, func(c *client) error {
		if err := s.mkdir(c, store.Incoming); err != nil {
			return err
		}
		temporary := s.temporary(name)
		if s.o.AppendOnly {
			temporary = s.path(s.uploads.Once(name))
		}
		if err := s.upload(c, temporary, src, size); err != nil {
			return s.explainWrite(c, name, size, err)
		}
		if err := s.mkdir(c, path.Dir(name)); err != nil {
			return err
		}
		if s.o.AppendOnly {
			return s.place(c, temporary, name, size)
		}
		if err := rename(c.Files.Client, temporary, s.path(name)); err != nil {
			return explain(name, err)
		}
		return nil
	})
}

// Abandon removes what a cut upload has brought over.
func (s *Store) Abandon(ctx context.Context, name string) error {
	return s.do(ctx, func(c *client) error { return c.Remove(s.temporary(name)) })
}

func (s *Store) upload(c *client, temporary string, src io.ReadSeeker, size int64) error {
	var from int64
	if info, err := c.Stat(temporary); err == nil && info.Size() <= size {
		from = max(info.Size()-c.Unsure, 0)
	}
	flags := os.O_WRONLY | os.O_CREATE
	if from == 0 {
		flags |= os.O_TRUNC
	}
	f, err := c.OpenFile(temporary, flags)
	if err != nil {
		return err
	}
	_, err = f.Seek(from, io.SeekStart)
	if err == nil {
		_, err = src.Seek(from, io.SeekStart)
	}
	if err == nil {
		_, err = f.ReadFrom(io.LimitReader(src, size-from))
	}
	if _, ok := c.HasExtension("fsync@openssh.com"); ok && err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	info, err := c.Stat(temporary)
	if err == nil && info.Size() != size {
		_ = c.Remove(temporary)
		err = fmt.Errorf("%d bytes arrived, %d were sent", info.Size(), size)
	}
	return err
}

// explainWrite finds out whether the far end is full, which SFTP has no word for.
func (s *Store) explainWrite(c *client, name string, size int64, err error) error {
	var status *sftp.StatusError
	if errors.As(err, &status) {
		if strings.Contains(strings.ToLower(err.Error()), "space") || strings.Contains(strings.ToLower(err.Error()), "quota") {
			return fmt.Errorf("%s: %w at the far end (%w)", name, store.ErrFull, err)
		}
		if _, ok := c.HasExtension("statvfs@openssh.com"); ok {
			if v, statErr := c.StatVFS(s.path(store.Incoming)); statErr == nil && int64(v.FreeSpace()) < size {
				return fmt.Errorf("%s: %w at the far end: %d MiB are free there", name, store.ErrFull, v.FreeSpace()>>20)
			}
		}
	}
	return explain(name, err)
}

// place gives an upload its name, where nothing is there under it yet: SFTP's own rename
// (draft-ietf-secsh-filexfer-02 §6.5) replaces nothing. Of two that bring the same object
// at a time the later one has nothing left to do.
func (s *Store) place(c *client, temporary, name string, size int64) error {
	err := c.Rename(temporary, s.path(name))
	if err == nil {
		return nil
	}
	if info, there := c.Stat(s.path(name)); there == nil && info.Size() == size {
		return nil
	}
	return explain(name, err)
}

// rename replaces what is there in one step where the far end can, as OpenSSH
// does.
func rename(c *sftp.Client, from, to string) error {
	if _, ok := c.HasExtension("posix-rename@openssh.com"); ok {
		return c.PosixRename(from, to)
	}
	if err := c.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return c.Rename(from, to)
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	lease, err := s.pool.Take(ctx)
	if err != nil {
		return nil, err
	}
	f, err := lease.Conn.Open(s.path(name))
	if err == nil {
		_, err = f.Seek(offset, io.SeekStart)
	}
	if err != nil {
		lease.Release(sshconn.Answered(err))
		return nil, explain(name, err)
	}
	return newReader(f, lease), nil
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (info store.Info, err error) {
	err = s.do(ctx, func(c *client) error {
		fi, err := c.Stat(s.path(name))
		if err != nil {
			return explain(name, err)
		}
		info = store.Info{Name: name, Bytes: fi.Size(), Changed: fi.ModTime()}
		return nil
	})
	return info, err
}

func (s *Store) readDir(ctx context.Context, dir string) (entries []store.Entry, err error) {
	err = s.do(ctx, func(c *client) error {
		if entries, err = listed(ctx, c, s.path(dir)); err != nil {
			return explain(dir, err)
		}
		return nil
	})
	return entries, err
}

// asked is how many folders are asked for over one connection before the first answer is there.
const asked = 16

// List implements store.Store. One connection asks for many folders at a time: over a long line, it is the waiting
// that takes the time.
func (s *Store) List(ctx context.Context, dir string) (all []store.Info, err error) {
	err = s.do(ctx, func(c *client) error {
		defer c.Meter.Bound(store.LongestAnswer)()
		all, err = store.Walk(ctx, dir, asked, func(ctx context.Context, dir string) ([]store.Entry, error) {
			c.Meter.Bound(store.LongestAnswer)
			entries, err := entriesOf(ctx, c, s.path(dir))
			if err != nil {
				err = explain(dir, err)
			}
			return entries, err
		})
		return err
	})
	return all, err
}

// listed reads one folder.
func listed(ctx context.Context, c *client, dir string) ([]store.Entry, error) {
	defer c.Meter.Bound(store.LongestAnswer)()
	return entriesOf(ctx, c, dir)
}

func entriesOf(ctx context.Context, c *client, dir string) ([]store.Entry, error) {
	infos, err := c.ReadDirContext(ctx, dir)
	var entries []store.Entry
	for _, fi := range infos {
		entries = append(entries, store.Entry{Info: store.Info{Name: fi.Name(), Bytes: fi.Size(), Changed: fi.ModTime()}, Folder: fi.IsDir()})
	}
	return entries, err
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	return s.do(ctx, func(c *client) error {
		if err := c.Remove(s.path(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return explain(name, err)
		}
		return nil
	})
}

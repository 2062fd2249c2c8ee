package tree

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"revlet/internal/platform/process"
	"revlet/internal/store/sshconn"
)

// Attr is what a path is given beside its content.
type Attr struct {
	// Mode has the permissions, with setuid, setgid and the sticky bit.
	Mode    fs.FileMode
	ModTime time.Time
	// UID and GID are set where Own is.
	Own      bool
	UID, GID int
}

// Writer is a Place far away that can be written to. All names are absolute paths there.
// No link is followed at the end of one; what lies above it is the caller's to know. A call
// that was cut off is made again, and finds what the first one has done.
type Writer interface {
	Place
	// Lstat describes a name itself.
	Lstat(ctx context.Context, name string) (fs.FileInfo, error)
	// Mkdir makes a folder that only the account may enter. One that is there already gives
	// an error that wraps fs.ErrExist.
	Mkdir(ctx context.Context, name string) error
	// Put writes a file of size bytes; Flush makes sure that it is on the disk. What the account has begun under that name is written
	// over: it is for folders in which nobody else can make anything.
	Put(ctx context.Context, name string, content io.ReaderAt, size int64, a Attr) error
	// Create writes a small new file; one that is there gives fs.ErrExist. A mode of 0 leaves
	// the rights as the place gives them.
	Create(ctx context.Context, name string, content []byte, mode fs.FileMode) error
	Symlink(ctx context.Context, target, name string) error
	// Link gives a file a second name; false where the place cannot do that.
	Link(ctx context.Context, file, name string) (bool, error)
	// Set gives a folder its rights and its time.
	Set(ctx context.Context, name string, a Attr) error
	// Rename never replaces what has the new name: that gives fs.ErrExist.
	Rename(ctx context.Context, old, new string) error
	// Remove removes a file, a link or an empty folder; RemoveAll a folder with all in it.
	// What is gone already is no error for it.
	Remove(ctx context.Context, name string) error
	RemoveAll(ctx context.Context, name string) error
	// Free is how many bytes a folder has room for; false where the place does not tell.
	Free(ctx context.Context, dir string) (int64, bool)
	// Flush has everything that was put into a folder written to its disk, as far as the
	// place can be asked for that.
	Flush(ctx context.Context, dir string) error
	// Copied copies regular files of one folder to the same names in another, by the place's
	// own means, and returns the SHA-256 of each copy by its name. What is missing in that
	// was not copied, or cannot be told. nil is all where no command may be run.
	Copied(ctx context.Context, from, to string, names []string) map[string]string
}

// again runs work on a connection, and tells it whether an earlier try may have come
// through.
func (p *sshPlace) again(ctx context.Context, op, name string, work func(files *sshconn.Files, again bool) error) error {
	tried := false
	err := p.do(ctx, func(files *sshconn.Files) error {
		before := tried
		tried = true
		return work(files, before)
	})
	return pathError(op, name, err)
}

// Lstat implements Writer.
func (p *sshPlace) Lstat(ctx context.Context, name string) (info fs.FileInfo, err error) {
	err = p.do(ctx, func(files *sshconn.Files) (err error) {
		if info, err = files.Lstat(name); err == nil && info.Size() < 0 {
			err = errSize
		}
		return err
	})
	if err != nil {
		return nil, pathError("lstat", name, err)
	}
	return farInfo{info}, nil
}

// exists tells whether a name is there.
func exists(files *sshconn.Files, name string) (bool, error) {
	_, err := files.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Mkdir implements Writer. SFTP's own answer does not tell why a folder cannot be made.
func (p *sshPlace) Mkdir(ctx context.Context, name string) error {
	return p.again(ctx, "mkdir", name, func(files *sshconn.Files, again bool) error {
		failed := files.Mkdir(name)
		if failed != nil {
			there, err := exists(files, name)
			switch {
			case err != nil:
				return errors.Join(failed, err)
			case there && !again:
				return &fs.PathError{Op: "mkdir", Path: name, Err: fs.ErrExist}
			case !there:
				return failed
			}
		}
		return files.Chmod(name, 0o700)
	})
}

// A chunk of a file is on its way at a time, and is sent again when the connection breaks:
// less of it each time, until one comes through.
const (
	largestChunk  = 512 << 10
	smallestChunk = 4 << 10
)

// Put implements Writer.
func (p *sshPlace) Put(ctx context.Context, name string, content io.ReaderAt, size int64, a Attr) error {
	u := &upload{name: name, content: content, size: size, a: a, chunk: largestChunk, flushed: p.mayRun()}
	for {
		before := u.sent
		err := p.again(ctx, "write", name, u.send)
		if !errors.Is(err, ErrUnreachable) || u.sent <= before || ctx.Err() != nil || givenUp(err) {
			return err
		}
	}
}

// errSending is wrapped when a file cannot be sent whatever the connection is like.
var errSending = errors.New("a file could not be sent")

// upload is a file on its way.
type upload struct {
	name       string
	content    io.ReaderAt
	size, sent int64
	a          Attr
	chunk      int64
	// flushed tells that Flush has all of it written to the disk.
	flushed bool
}

// send sends what is missing.
func (u *upload) send(files *sshconn.Files, _ bool) error {
	flags := os.O_WRONLY | os.O_CREATE
	if u.sent == 0 {
		flags |= os.O_TRUNC
	}
	f, err := files.OpenFile(u.name, flags)
	if err != nil {
		return err
	}
	err = u.write(f)
	if err == nil && !u.flushed {
		err = flush(files, f)
	}
	if err != nil {
		return errors.Join(full(err), f.Close())
	}
	var g errgroup.Group // both are one journey
	g.Go(f.Close)
	err = set(files, u.name, u.a)
	return full(errors.Join(err, g.Wait()))
}

// full adds to an error that says nothing what it may come of.
func full(err error) error {
	var status *sftp.StatusError
	if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxFailure {
		return fmt.Errorf("%w; is the disk or the quota there full?", err)
	}
	return err
}

func (u *upload) write(f *sftp.File) error {
	buffer := make([]byte, min(u.size-u.sent, largestChunk))
	for u.sent < u.size {
		part := buffer[:min(u.chunk, u.size-u.sent)]
		n, err := u.content.ReadAt(part, u.sent)
		if n < len(part) {
			return fmt.Errorf("%w: it cannot be read: %w", errSending, err)
		}
		if _, err := f.WriteAt(part, u.sent); err != nil {
			u.chunk = max(u.chunk/4, smallestChunk)
			return err
		}
		u.sent += int64(n)
		u.chunk = min(2*u.chunk, largestChunk)
	}
	return nil
}

// flush has the far end write a file to its disk, where it knows how to (fsync@openssh.com).
func flush(files *sshconn.Files, f *sftp.File) error {
	if _, can := files.HasExtension("fsync@openssh.com"); !can {
		return nil
	}
	return f.Sync()
}

// set gives a path its owner, rights and time: changing the owner takes rights away.
func set(files *sshconn.Files, name string, a Attr) error {
	if a.Own {
		if err := files.Chown(name, a.UID, a.GID); err != nil {
			return err
		}
	}
	var g errgroup.Group // both are one journey
	g.Go(func() error {
		return files.Chmod(name, a.Mode.Perm()|a.Mode&(fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky))
	})
	var err error
	if !a.ModTime.IsZero() {
		err = files.Chtimes(name, a.ModTime, a.ModTime)
	}
	return errors.Join(err, g.Wait())
}

// Create implements Writer.
func (p *sshPlace) Create(ctx context.Context, name string, content []byte, mode fs.FileMode) error {
	return p.again(ctx, "create", name, func(files *sshconn.Files, again bool) error {
		flags := os.O_WRONLY | os.O_CREATE | os.O_EXCL
		f, err := files.OpenFile(name, flags)
		if err != nil {
			there, second := exists(files, name)
			switch {
			case second != nil || !there:
				return errors.Join(err, second)
			case !again:
				return &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
			}
			if f, err = files.OpenFile(name, os.O_WRONLY|os.O_TRUNC); err != nil {
				return err
			}
		}
		_, err = f.Write(content)
		if err = errors.Join(err, flush(files, f), f.Close()); err != nil || mode == 0 {
			return err
		}
		return files.Chmod(name, mode)
	})
}

// Symlink implements Writer.
func (p *sshPlace) Symlink(ctx context.Context, target, name string) error {
	err := p.again(ctx, "symlink", name, func(files *sshconn.Files, again bool) error {
		err := files.Symlink(target, name)
		if err != nil && again {
			if now, second := files.ReadLink(name); second == nil && now == target {
				return nil
			}
		}
		return err
	})
	// Some servers refuse them, all or those that lead out of the account's folder.
	var status *sftp.StatusError
	if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxOpUnsupported || errors.Is(err, fs.ErrPermission) {
		return fmt.Errorf("%w: %w", ErrNoLinks, err)
	}
	return err
}

// Link implements Writer, by hardlink@openssh.com.
func (p *sshPlace) Link(ctx context.Context, file, name string) (can bool, err error) {
	err = p.again(ctx, "link", name, func(files *sshconn.Files, again bool) error {
		if _, can = files.HasExtension("hardlink@openssh.com"); !can {
			return nil
		}
		err := files.Link(file, name)
		if there, second := exists(files, name); err != nil && again && second == nil && there {
			return nil
		}
		return err
	})
	return can && err == nil, err
}

// Set implements Writer.
func (p *sshPlace) Set(ctx context.Context, name string, a Attr) error {
	return p.again(ctx, "set", name, func(files *sshconn.Files, _ bool) error { return set(files, name, a) })
}

// Rename implements Writer.
func (p *sshPlace) Rename(ctx context.Context, old, new string) error {
	return p.again(ctx, "rename", old, func(files *sshconn.Files, again bool) error {
		there, err := exists(files, new)
		if err != nil {
			return err
		}
		if there && again {
			if left, err := exists(files, old); err != nil || !left {
				return err // it came through
			}
		}
		if there {
			return &fs.PathError{Op: "rename", Path: new, Err: fs.ErrExist}
		}
		return files.Rename(old, new)
	})
}

// Remove implements Writer.
func (p *sshPlace) Remove(ctx context.Context, name string) error {
	return p.again(ctx, "remove", name, func(files *sshconn.Files, again bool) error {
		err := files.Remove(name)
		if again && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}

// ownPrefix begins the names of folders that this program has made, with much in them that
// nobody can foresee: whatever an account sees under a path when it runs commands, one of
// that name is none but that.
const ownPrefix = ".revlet-"

// removers are how many paths are removed at a time.
const removers = 64

// RemoveAll implements Writer. Links are removed, never followed.
func (p *sshPlace) RemoveAll(ctx context.Context, name string) error {
	info, err := p.Lstat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() {
		err := p.again(ctx, "remove", name, func(files *sshconn.Files, _ bool) error { return files.RemoveDirectory(name) })
		if err == nil || errors.Is(err, ErrUnreachable) {
			return err // it was empty
		}
		if p.mayRun() && strings.HasPrefix(path.Base(name), ownPrefix) {
			_ = p.command(ctx, "rm -rf -- "+process.ShellQuote(name), nil) // what is left is removed the slow way
			if _, err := p.Lstat(ctx, name); errors.Is(err, fs.ErrNotExist) {
				return nil
			}
		}
		if err := p.empty(ctx, name); err != nil {
			return err
		}
	}
	err = p.again(ctx, "remove", name, func(files *sshconn.Files, _ bool) error { return files.Remove(name) })
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// empty removes what is in a folder: many files at a time, one folder after the other.
func (p *sshPlace) empty(ctx context.Context, dir string) error {
	// A folder that its owner may not enter cannot be emptied.
	if err := p.again(ctx, "chmod", dir, func(files *sshconn.Files, _ bool) error { return files.Chmod(dir, 0o700) }); err != nil {
		return err
	}
	in, err := p.Folder(ctx, dir)
	if err != nil {
		return err
	}
	defer in.Close()
	names, infos, err := in.ReadFolder(".", math.MaxInt)
	if err != nil {
		return err
	}
	return eachAtOnce(ctx, removers, len(names), func(ctx context.Context, i int) error {
		file := path.Join(dir, names[i])
		if infos[i].Err == nil && infos[i].IsDir() {
			return p.RemoveAll(ctx, file)
		}
		err := p.again(ctx, "remove", file, func(files *sshconn.Files, _ bool) error { return files.Remove(file) })
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}

// eachAtOnce does the same n times, many at a time.
func eachAtOnce(ctx context.Context, most, n int, do func(ctx context.Context, i int) error) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(most)
	for i := range n {
		g.Go(func() error { return do(ctx, i) })
	}
	return g.Wait()
}

// Free implements Writer, by statvfs@openssh.com.
func (p *sshPlace) Free(ctx context.Context, dir string) (free int64, known bool) {
	err := p.do(ctx, func(files *sshconn.Files) error {
		if _, can := files.HasExtension("statvfs@openssh.com"); !can {
			return nil
		}
		st, err := files.StatVFS(dir)
		if err == nil && st.Frsize > 0 && st.Bavail < math.MaxInt64/st.Frsize {
			free, known = int64(st.Bavail*st.Frsize), true
		}
		return err
	})
	return free, known && err == nil
}

// command runs a command over there, whose output says nothing, and tells whether it has
// come to its end well. in is its standard input.
func (p *sshPlace) command(ctx context.Context, line string, in []byte) error {
	const done = "revlet: done"
	return p.runWith(ctx, "{ "+line+"; } >/dev/null 2>&1 && printf '%s' '"+done+"'", in, func(out io.Reader) error {
		said, err := io.ReadAll(io.LimitReader(out, 64))
		if err == nil && string(said) != done {
			err = errNoCommands
		}
		return err
	})
}

// Flush implements Writer. Each file was written to the disk as it came where the far end
// can do that; names in folders are on it once the file system is.
func (p *sshPlace) Flush(ctx context.Context, dir string) error {
	if !p.mayRun() {
		return nil
	}
	err := p.command(ctx, "sync -f -- "+process.ShellQuote(dir)+" || sync", nil)
	if errors.Is(err, ErrUnreachable) {
		return err
	}
	return nil // a place that cannot be asked for it
}

// Copied implements Writer, with cp and sha256sum of GNU's kind. What was copied is what
// is read for its digest, so that it does not matter what becomes of the other meanwhile.
func (p *sshPlace) Copied(ctx context.Context, from, to string, names []string) map[string]string {
	if !p.mayRun() || len(names) == 0 {
		return nil
	}
	list := []byte(strings.Join(names, "\x00") + "\x00")
	// Some may fail, such as one that was removed meanwhile: the digests tell which came.
	line := "cd -- " + process.ShellQuote(from) + " && { xargs -0 cp -p --parents -t " + process.ShellQuote(to) + " -- || :; }"
	if err := p.command(ctx, line, list); err != nil {
		return nil
	}
	sums := map[string]string{}
	err := p.runWith(ctx, "cd -- "+process.ShellQuote(to)+" && LC_ALL=C xargs -0 sha256sum -b -- 2>/dev/null", list, func(out io.Reader) error {
		lines := bufio.NewScanner(out)
		lines.Buffer(nil, 2*longestPath)
		for lines.Scan() {
			// A name that had to be written otherwise begins the line with a backslash.
			if sum, name, ok := strings.Cut(lines.Text(), " *"); ok && len(sum) == 64 {
				sums[name] = sum
			}
		}
		return lines.Err()
	})
	if err != nil {
		return nil
	}
	return sums
}

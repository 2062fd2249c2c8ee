package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/disk"
	"revlet/internal/state"
	"revlet/internal/store"
)

// adopter is a store on this machine that takes over a finished file from the
// folder it offers, without copying it.
type adopter interface {
	Incoming() string
	Adopt(ctx context.Context, name, file string) error
}

// spool holds parts between being made and being in every store.
type spool struct {
	disk   *disk.Disk
	state  *state.State
	site   string
	stores []store.Named
	own    adopter // takes the file itself; nil when all stores are remote
	dir    string
	count  atomic.Int64
	sends  errgroup.Group
	ledger *disk.File
	mu     sync.Mutex
	sent   map[string]bool
}

// sendsAtOnce bounds how many parts wait on disk to be synced and sent.
const sendsAtOnce = 4

func newSpool(ctx context.Context, st *state.State, site string, stores []store.Named) (*spool, error) {
	s := &spool{disk: st.Disk, state: st, site: site, stores: stores, sent: map[string]bool{}}
	s.sends.SetLimit(sendsAtOnce)
	if err := sweep(ctx, st, site, stores); err != nil {
		return nil, err
	}
	var err error
	for _, held := range stores {
		if a, ok := held.Store.(adopter); ok {
			s.own = a
			if s.dir, err = state.Empty(st.Disk, filepath.Join(a.Incoming(), site)); err != nil {
				return nil, err
			}
			break
		}
	}
	if s.own == nil {
		if s.dir, err = st.Spool(site); err != nil {
			return nil, err
		}
	}
	ledger := st.Ledger(site)
	if err := st.Disk.MkdirAll(filepath.Dir(ledger), 0o700); err != nil {
		return nil, fmt.Errorf("open the ledger: %w", err)
	}
	s.ledger, err = st.Disk.OpenFile(ledger, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the ledger: %w", err)
	}
	return s, nil
}

// name makes up a scratch file's name.
func (s *spool) name() string { return filepath.Join(s.dir, fmt.Sprintf("%06d", s.count.Add(1))) }

func (s *spool) create() (*disk.File, error) {
	f, err := s.disk.Create(s.name())
	if err != nil {
		return nil, fmt.Errorf("make a scratch file: %w", err)
	}
	return f, nil
}

func (s *spool) discard(f *disk.File) {
	_ = f.Close()
	_ = s.disk.Remove(f.Name())
}

// send brings a finished scratch file into every store in the background. The
// ledger names it first, so that it can be found again if the run dies.
func (s *spool) send(ctx context.Context, name string, size int64, f *disk.File, done func(fresh bool)) error {
	s.mu.Lock()
	again := s.sent[name]
	s.sent[name] = true
	var err error
	if !again {
		_, err = fmt.Fprintln(s.ledger, name)
	}
	s.mu.Unlock()
	if again {
		s.discard(f)
		return nil
	}
	if err != nil {
		s.discard(f)
		return fmt.Errorf("note a part in the ledger: %w", err)
	}
	s.sends.Go(func() error {
		fresh, err := s.deliver(ctx, name, size, f)
		if err != nil {
			s.discard(f)
			return err
		}
		done(fresh)
		return nil
	})
	return nil
}

// deliver puts one file into every store that lacks it.
func (s *spool) deliver(ctx context.Context, name string, size int64, f *disk.File) (fresh bool, err error) {
	if err := f.Sync(); err != nil {
		return false, fmt.Errorf("write %s: %w", name, err)
	}
	adopt := false
	for _, to := range s.stores {
		info, err := to.Stat(ctx, name)
		if err == nil && info.Bytes == size {
			continue
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return false, fmt.Errorf("store %s: %w", to.Name, err)
		}
		fresh = true
		if a, ok := to.Store.(adopter); ok && a == s.own {
			adopt = true
			continue
		}
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return false, err
		}
		if err := to.Put(ctx, name, f, size); err != nil {
			return false, fmt.Errorf("store %s: %w", to.Name, err)
		}
	}
	if !adopt {
		return fresh, errors.Join(f.Close(), s.disk.Remove(f.Name()))
	}
	if err := f.Close(); err != nil {
		return false, err
	}
	return fresh, s.own.Adopt(ctx, name, f.Name())
}

// wait returns once everything sent so far is in the stores.
func (s *spool) wait() error { return s.sends.Wait() }

// settle ends a run that has written its record.
func (s *spool) settle() error {
	return errors.Join(s.ledger.Close(), s.disk.Remove(s.ledger.Name()), s.disk.RemoveAll(s.dir))
}

// sweep removes what an earlier run of the site has written without coming to
// its record: the objects in its ledger that no record names.
func sweep(ctx context.Context, st *state.State, site string, stores []store.Named) error {
	data, err := st.Disk.ReadFile(st.Ledger(site))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("read the ledger of an earlier run: %w", err)
	}
	listing, err := catalog.List(ctx, stores, site)
	if err != nil {
		return err
	}
	if len(listing.Broken)+len(listing.Silent) > 0 {
		return nil // what a record that cannot be read names is not known
	}
	named := map[string]bool{}
	for _, h := range listing.Archives {
		named[archive.ListPath(site, h.Name)] = true
		for _, p := range h.Parts {
			named[archive.PartPath(site, p.Name)] = true
		}
	}
	for name := range strings.FieldsSeq(string(data)) {
		if named[name] || !strings.HasPrefix(name, site+"/") {
			continue
		}
		for _, s := range stores {
			if err := s.Remove(ctx, name); err != nil {
				return fmt.Errorf("store %s: clear up after an earlier run: %w", s.Name, err)
			}
		}
	}
	for _, s := range stores {
		if a, ok := s.Store.(adopter); ok {
			if err := st.Disk.RemoveAll(filepath.Join(a.Incoming(), site)); err != nil {
				return fmt.Errorf("store %s: clear up after an earlier run: %w", s.Name, err)
			}
		}
	}
	return st.Disk.Remove(st.Ledger(site))
}

// treePart is the part of folders and links, written while the walk goes on.
type treePart struct {
	spool *spool
	file  *disk.File
	pw    *archive.PartWriter
	tw    *tar.Writer
	n     int64
}

func newTreePart(s *spool) (*treePart, error) {
	f, err := s.create()
	if err != nil {
		return nil, err
	}
	enc, err := archive.NewEncoder()
	if err != nil {
		return nil, err
	}
	pw := archive.NewPartWriter(f, archive.TarZstd, enc)
	return &treePart{spool: s, file: f, pw: pw, tw: tar.NewWriter(pw)}, nil
}

func (t *treePart) add(e archive.Entry) error {
	t.n++
	if err := t.tw.WriteHeader(header(e)); err != nil {
		return fmt.Errorf("%s: %w", e.Path, err)
	}
	return nil
}

func (t *treePart) finish() (archive.Part, *disk.File, error) {
	if err := t.tw.Close(); err != nil {
		return archive.Part{}, nil, err
	}
	part, err := t.pw.Finish()
	part.Kind, part.Entries = archive.KindTree, t.n
	f := t.file
	if err == nil {
		t.file = nil
	}
	return part, f, err
}

func (t *treePart) abandon() {
	if t.file != nil {
		t.spool.discard(t.file)
	}
}

// summer counts and hashes what is written through it.
type summer struct {
	out    *bufio.Writer
	digest hash.Hash
	n      int64
}

func newSummer(w io.Writer) *summer {
	s := &summer{digest: sha256.New()}
	s.out = bufio.NewWriterSize(w, 1<<18)
	return s
}

func (s *summer) Write(p []byte) (int, error) {
	s.digest.Write(p)
	s.n += int64(len(p))
	return s.out.Write(p)
}

func (s *summer) flush() error { return s.out.Flush() }

func (s *summer) hex() string { return hex.EncodeToString(s.digest.Sum(nil)) }

//go:embed read-me-first.txt
var readmeText []byte

const readmeName = "READ-ME-FIRST.txt"

// writeReadme leaves the way to recover by hand in the store.
func writeReadme(ctx context.Context, s store.Named) error {
	if info, err := s.Stat(ctx, readmeName); err == nil && info.Bytes == int64(len(readmeText)) {
		return nil
	}
	return putBytes(ctx, s, readmeName, readmeText)
}

func putBytes(ctx context.Context, s store.Named, name string, data []byte) error {
	return s.Put(ctx, name, bytes.NewReader(data), int64(len(data)))
}

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
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/encryption"
	"revlet/internal/store"
)

// spool holds scratch files: parts between being made and being in the stores.
type spool struct {
	disk  *disk.Disk
	dir   string
	count atomic.Int64
}

// name makes up a scratch file's name.
func (s *spool) name() string { return filepath.Join(s.dir, fmt.Sprintf("%06d", s.count.Add(1))) }

// NoRoomError tells that there is no room to prepare parts in.
type NoRoomError struct {
	// Store is the store whose folder has no room, if it is that of one.
	Store string
	err   error
}

// Error implements error.
func (e *NoRoomError) Error() string { return e.err.Error() }

// Unwrap returns the error of the file system.
func (e *NoRoomError) Unwrap() error { return e.err }

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

// treePart is the part of folders and links, written while the walk goes on.
type treePart struct {
	spool  *spool
	file   *disk.File
	pw     *archive.PartWriter
	tw     *tar.Writer
	digest hash.Hash
	n      int64
}

func newTreePart(s *spool, to encryption.Recipients) (*treePart, error) {
	f, err := s.create()
	if err != nil {
		return nil, err
	}
	enc, err := archive.NewEncoder()
	if err != nil {
		return nil, err
	}
	pw, err := archive.NewPartWriter(f, archive.TarZstd, enc, to)
	if err != nil {
		return nil, err
	}
	digest := sha256.New()
	return &treePart{spool: s, file: f, pw: pw, digest: digest, tw: tar.NewWriter(io.MultiWriter(pw, digest))}, nil
}

func (t *treePart) add(e archive.Entry) error {
	t.n++
	if err := t.tw.WriteHeader(archive.Header(e)); err != nil {
		return fmt.Errorf("%s: %w", e.Path, err)
	}
	return nil
}

// stale notes the names in a part that the archive does not hold, each ended by
// a zero byte, for those who unpack parts by hand.
func (t *treePart) stale(part string, names []string) error {
	text := strings.Join(names, "\x00") + "\x00"
	h := &tar.Header{Name: archive.StaleDir + part, Typeflag: tar.TypeReg, Mode: 0o600, Size: int64(len(text)), ModTime: time.Unix(0, 0), Format: tar.FormatPAX}
	if err := t.tw.WriteHeader(h); err != nil {
		return err
	}
	_, err := io.WriteString(t.tw, text)
	return err
}

func (t *treePart) finish() (archive.Part, *disk.File, error) {
	if err := t.tw.Close(); err != nil {
		return archive.Part{}, nil, err
	}
	part, err := t.pw.Finish()
	part.Kind, part.Entries, part.ContentSHA256 = archive.KindTree, t.n, hex.EncodeToString(t.digest.Sum(nil))
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

// keyName is where the key that a passphrase opens lies in a store.
const keyName = "KEY-FOR-PASSPHRASE.age"

// olderKeyName is where a locked key lies that another one has replaced: archives of
// its time need it. They count from 1.
func olderKeyName(n int) string { return fmt.Sprintf("KEY-FOR-PASSPHRASE.%d.age", n) }

// maxSmall bounds what is read of an object beside the sites.
const maxSmall = 1 << 16

// PutKey puts the locked key into a store. One that is there and differs is kept
// under a name of its own first: without it the archives of its time could not be
// opened any more.
func PutKey(ctx context.Context, s store.Store, data []byte) error {
	there, err := readSmall(ctx, s, keyName)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return putBytes(ctx, s, keyName, data)
	case err != nil:
		return err
	case bytes.Equal(there, data):
		return nil
	}
	older, err := Keys(ctx, s)
	if err != nil {
		return err
	}
	has := func(keys [][]byte, key []byte) bool {
		return slices.ContainsFunc(keys, func(k []byte) bool { return bytes.Equal(k, key) })
	}
	next := len(older)
	if !has(older[1:], there) {
		if err := putBytes(ctx, s, olderKeyName(next), there); err != nil {
			return err
		}
		next++
	}
	err = putBytes(ctx, s, keyName, data)
	if !errors.Is(err, store.ErrKeeper) || has(older, data) {
		return ignoreKeeper(err)
	}
	// Nothing can be replaced there: it lies beside the others, for all are tried.
	return putBytes(ctx, s, olderKeyName(next), data)
}

// ignoreKeeper is err, unless it says that something stays as it is in a store that another
// machine looks after.
func ignoreKeeper(err error) error {
	if errors.Is(err, store.ErrKeeper) {
		return nil
	}
	return err
}

// mostKeys bounds how many locked keys a store may have.
const mostKeys = 100

// Keys reads the locked keys in a store, the newest first; none gives an empty list.
func Keys(ctx context.Context, s store.Store) (all [][]byte, err error) {
	for name := keyName; len(all) < mostKeys; name = olderKeyName(len(all)) {
		data, err := readSmall(ctx, s, name)
		if errors.Is(err, store.ErrNotFound) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		all = append(all, data)
	}
	return all, nil
}

// PutCompanions puts what lies beside the sites into a store: how to recover by hand, in
// our own words, and the locked keys that another store has.
func PutCompanions(ctx context.Context, from, to store.Store) error {
	if err := PutReadme(ctx, to); err != nil {
		return err
	}
	keys, err := Keys(ctx, from)
	for _, key := range slices.Backward(keys) { // the newest last, so that it stays the first
		err = errors.Join(err, PutKey(ctx, to, key))
	}
	return err
}

// PutReadme puts the page on recovering by hand into a store.
func PutReadme(ctx context.Context, s store.Store) error {
	return ignoreKeeper(PutSame(ctx, s, readmeName, readmeText))
}

func readSmall(ctx context.Context, s store.Store, name string) ([]byte, error) {
	in, err := s.Open(ctx, name, 0)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(in, maxSmall+1))
	if err = errors.Join(err, in.Close()); err != nil {
		return nil, err
	}
	if len(data) > maxSmall {
		return nil, fmt.Errorf("%s is longer than %d bytes", name, maxSmall)
	}
	return data, nil
}

// PutSame writes a small object unless it is there already with the same content.
func PutSame(ctx context.Context, s store.Store, name string, data []byte) error {
	if info, err := s.Stat(ctx, name); err == nil && info.Bytes == int64(len(data)) {
		in, err := s.Open(ctx, name, 0)
		if err != nil {
			return err
		}
		there, err := io.ReadAll(io.LimitReader(in, info.Bytes+1))
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
		if bytes.Equal(there, data) {
			return nil
		}
	}
	return putBytes(ctx, s, name, data)
}

func putBytes(ctx context.Context, s store.Store, name string, data []byte) error {
	return s.Put(ctx, name, bytes.NewReader(data), int64(len(data)))
}

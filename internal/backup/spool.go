package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"revlet/internal/archive"
	"revlet/internal/disk"
	"revlet/internal/seal"
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

func newTreePart(s *spool, to seal.Recipients) (*treePart, error) {
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
	if err := t.tw.WriteHeader(header(e)); err != nil {
		return fmt.Errorf("%s: %w", e.Path, err)
	}
	return nil
}

// StaleDir is the folder in a part of kind tree that names, part by part, the
// entries that do not belong to the archive.
const StaleDir = "REVLET-STALE/"

// stale notes the names in a part that the archive does not hold, each ended by
// a zero byte, for those who unpack parts by hand.
func (t *treePart) stale(part string, names []string) error {
	text := strings.Join(names, "\x00") + "\x00"
	h := &tar.Header{Name: StaleDir + part, Typeflag: tar.TypeReg, Mode: 0o600, Size: int64(len(text)), ModTime: time.Unix(0, 0), Format: tar.FormatPAX}
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

// KeyName is where the key that a passphrase opens lies in a store.
const KeyName = "KEY-FOR-PASSPHRASE.age"

// Companions are the objects beside the sites in a store.
var Companions = []string{readmeName, KeyName}

// PutSame writes a small object unless it is there already with that length.
func PutSame(ctx context.Context, s store.Store, name string, data []byte) error {
	if info, err := s.Stat(ctx, name); err == nil && info.Bytes == int64(len(data)) {
		return nil
	}
	return putBytes(ctx, s, name, data)
}

func putBytes(ctx context.Context, s store.Store, name string, data []byte) error {
	return s.Put(ctx, name, bytes.NewReader(data), int64(len(data)))
}

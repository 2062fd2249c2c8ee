package catalog

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"io/fs"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/digest"
	"revlet/internal/store"
)

// Expected is what the list says of one entry of a part, in little memory.
type Expected struct {
	name uint64
	// meta is a hash of permissions, owner, time and the like.
	meta uint64
	size int64
	sum  [sha256.Size]byte
}

// metaOf hashes what a header says beside name and length.
func metaOf(h *tar.Header) uint64 {
	var m maphash.Hash
	m.SetSeed(seed)
	archive.HashMeta(&m, h)
	return m.Sum64()
}

// Index holds what every part of an archive must contain, in order.
type Index struct {
	parts map[string][]Expected
	// labels are the first path elements in each part.
	labels map[string]map[string]bool
}

// Holds tells whether a part has anything under a first path element.
func (ix *Index) Holds(part, label string) bool { return ix.labels[part][label] }

// seed makes the hashes of all indexes of a process comparable.
var seed = maphash.MakeSeed()

// Expects returns what the archive expects of one of its parts.
func (ix *Index) Expects(part string) []Expected { return ix.parts[part] }

// Within tells whether everything that is expected of a part was expected of it
// before, in the same order.
func Within(now, before []Expected) bool {
	for _, x := range now {
		for len(before) > 0 && before[0] != x {
			before = before[1:]
		}
		if len(before) == 0 {
			return false
		}
		before = before[1:]
	}
	return true
}

// ReadIndex reads the archive's list into an Index: about 60 bytes a path.
func (h *Held) ReadIndex(ctx context.Context) (*Index, error) { return index(ctx, h.ReadList) }

// ReadDatabaseIndex is ReadIndex for parts of databases alone.
func (h *Held) ReadDatabaseIndex(ctx context.Context) (*Index, error) {
	return index(ctx, h.ReadDatabaseList)
}

func index(ctx context.Context, read func(context.Context, func(archive.Entry) error) error) (*Index, error) {
	ix := &Index{parts: map[string][]Expected{}, labels: map[string]map[string]bool{}}
	err := read(ctx, func(e archive.Entry) error {
		x := Expected{name: maphash.String(seed, e.Path), size: e.Size}
		if e.IsFileTree() {
			x.meta = metaOf(archive.Header(e))
		}
		if e.SHA256 != "" {
			if n, err := hex.Decode(x.sum[:], []byte(e.SHA256)); err != nil || n != len(x.sum) {
				return fmt.Errorf("%w: %s has no sound digest", archive.ErrList, e.Path)
			}
		}
		ix.parts[e.Part] = append(ix.parts[e.Part], x)
		label, _, _ := strings.Cut(e.Path, "/")
		if ix.labels[e.Part] == nil {
			ix.labels[e.Part] = map[string]bool{}
		}
		ix.labels[e.Part][label] = true
		return nil
	})
	if err != nil {
		return nil, err
	}
	return ix, nil
}

func damaged(part archive.Part, format string, args ...any) error {
	return fmt.Errorf("part %s: %w: %s", part.Name, archive.ErrDamaged, fmt.Sprintf(format, args...))
}

// ReadTar reads a part of files or of the tree to its end and calls visit for
// each entry that the list names in it. It makes sure that the part holds what
// the list says, in its order, and compares every file's digest after visit has
// read it; what visit does not read is read for it. Entries that the list does
// not name are passed over: they belong to earlier archives that share the part.
func (ix *Index) ReadTar(p *Part, part archive.Part, visit func(h *tar.Header, content io.Reader) error) error {
	err := ix.Sift(p, part, func(h *tar.Header, content io.Reader) (bool, error) { return true, visit(h, content) }, func(h *tar.Header, sound bool) error {
		if !sound {
			return damaged(part, "the content of %q is not what was saved", h.Name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return p.Finish()
}

// Sift reads a part of files or of the tree as far as it goes, and calls visit for each
// entry that the list names in it. Of those that visit wants, ended is told whether the
// content is what was saved; of others nobody asks. An error is one of visit or ended, or
// says that the part cannot be read on, or lacks entries. Its stored bytes as a whole are
// not compared: see PartReader.Finish.
func (ix *Index) Sift(p *Part, part archive.Part, visit func(h *tar.Header, content io.Reader) (wanted bool, err error), ended func(h *tar.Header, sound bool) error) error {
	expected := ix.parts[part.Name]
	tr := tar.NewReader(p)
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return p.Blame(err)
		}
		name := strings.TrimSuffix(h.Name, "/")
		if len(expected) == 0 || expected[0].name != maphash.String(seed, name) {
			continue
		}
		if h.Typeflag == tar.TypeReg && expected[0].size != h.Size {
			return damaged(part, "%q in it has another length than the list says", h.Name)
		}
		if expected[0].meta != metaOf(h) {
			return damaged(part, "%q in it has another owner, other permissions or another time than the list says", h.Name)
		}
		if err := siftOne(p, tr, h, expected[0].sum, visit, ended); err != nil {
			return err
		}
		expected = expected[1:]
	}
	if len(expected) > 0 {
		return damaged(part, "%d entries of the list are not in it", len(expected))
	}
	return nil
}

// siftOne has one entry visited.
func siftOne(p *Part, tr io.Reader, h *tar.Header, sum [sha256.Size]byte, visit func(h *tar.Header, content io.Reader) (wanted bool, err error), ended func(h *tar.Header, sound bool) error) error {
	sha := digest.New(h.Size)
	defer sha.Close()
	content := io.TeeReader(tr, sha)
	wanted, err := visit(h, content)
	if err != nil || !wanted {
		return err
	}
	if _, err := io.Copy(io.Discard, content); err != nil {
		return p.Blame(err)
	}
	return ended(h, h.Typeflag != tar.TypeReg || sha.Sum() == sum)
}

// CheckSQL reads a part of a database to its end through visit and compares
// the whole with the list.
func (ix *Index) CheckSQL(p *Part, part archive.Part, visit func(io.Reader) error) error {
	digest := sha256.New()
	content := io.TeeReader(p, digest)
	if err := visit(content); err != nil {
		return err
	}
	if _, err := io.Copy(io.Discard, content); err != nil {
		return err
	}
	sum := [sha256.Size]byte(digest.Sum(nil))
	for _, x := range ix.parts[part.Name] {
		if x.sum != sum {
			return fmt.Errorf("part %s: %w: its text is not what was saved", part.Name, archive.ErrDamaged)
		}
	}
	return p.Finish()
}

// Check proves one part in one store: its stored bytes, and each entry in it.
func (ix *Index) Check(ctx context.Context, h *Held, s store.Named, part archive.Part, pace func(int64)) error {
	p, err := h.OpenPart(ctx, s, part, pace)
	if err != nil {
		return err
	}
	defer p.Close()
	if part.IsSQL() {
		return ix.CheckSQL(p, part, func(io.Reader) error { return nil })
	}
	return ix.ReadTar(p, part, func(*tar.Header, io.Reader) error { return nil })
}

// mostRead bounds what of an archive is read into memory at a time, in bytes: a site's settings can be of any length.
const mostRead = 64 << 20

// ReadFile reads one file out of an archive by its name in the list. A file
// that the archive does not hold gives fs.ErrNotExist.
func (h *Held) ReadFile(ctx context.Context, name string) ([]byte, error) {
	return h.ReadFileNear(ctx, name, nil)
}

// ReadFileNear does so, and takes what near gives instead, if that is the very same: a part need not be fetched for it.
func (h *Held) ReadFileNear(ctx context.Context, name string, near func() ([]byte, error)) ([]byte, error) {
	found, err := h.FindFile(ctx, name)
	if err != nil {
		return nil, err
	}
	if near != nil {
		if data, err := near(); err == nil && int64(len(data)) == found.Size {
			if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) == found.SHA256 {
				return data, nil
			}
		}
	}
	if found.Size > mostRead {
		return nil, fmt.Errorf("%s: it has %d bytes, and is read up to %d", name, found.Size, int64(mostRead))
	}
	var data bytes.Buffer
	err = h.CopyFile(ctx, *found, func() (io.Writer, error) {
		data.Reset()
		return &data, nil
	})
	return data.Bytes(), err
}

// FindFile is a file's entry in the list. Links of the archive are followed, unless they lead out of what it holds. A file
// that the archive does not hold gives fs.ErrNotExist.
func (h *Held) FindFile(ctx context.Context, name string) (found *archive.Entry, err error) {
	links, names := map[string]string{}, map[string]string{}
	look := func(wanted string) error {
		return h.ReadList(ctx, func(e archive.Entry) error {
			switch {
			case e.Path == wanted && e.Type == archive.TypeFile:
				found = &e
			case e.Type == archive.TypeSymlink:
				links[e.Path] = e.Target
			case e.Type == archive.TypeHardlink:
				names[e.Path] = e.Target
			}
			return nil
		})
	}
	if err := look(name); err != nil || found != nil {
		return found, err
	}
	real, err := throughLinks(&h.Origin, links, name)
	if first, is := names[real]; err == nil && is {
		real = first
	}
	if err == nil && real != name {
		err = look(real)
	}
	if err == nil && found == nil {
		err = fs.ErrNotExist
	}
	if err != nil {
		return nil, fmt.Errorf("%s in archive %s: %w", name, h.Name, err)
	}
	return found, nil
}

// CopyFile writes the content of a file of the list to what begin returns; of a store whose copy is damaged
// another one is tried, and begin is called anew. What was written is good only if no error is returned.
func (h *Held) CopyFile(ctx context.Context, e archive.Entry, begin func() (io.Writer, error)) error {
	part := h.PartNamed(e.Part)
	if part == nil {
		return fmt.Errorf("archive %s: %w: it does not name part %s", h.Name, archive.ErrRecord, e.Part)
	}
	return h.EachStore(func(s store.Named) error {
		p, err := h.OpenPart(ctx, s, *part, nil)
		if err != nil {
			return err
		}
		defer p.Close()
		tr := tar.NewReader(p)
		for {
			hdr, err := tr.Next()
			if err != nil {
				return fmt.Errorf("part %s: %w", part.Name, err)
			}
			if hdr.Name != e.Path {
				continue
			}
			w, err := begin()
			if err != nil {
				return err
			}
			digest := sha256.New()
			if _, err := io.Copy(io.MultiWriter(w, digest), io.LimitReader(tr, e.Size)); err != nil {
				return err
			}
			if hex.EncodeToString(digest.Sum(nil)) != e.SHA256 {
				return fmt.Errorf("part %s: %w: the content of %s is not what was saved", part.Name, archive.ErrDamaged, e.Path)
			}
			return nil
		}
	})
}

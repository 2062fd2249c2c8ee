package unpack

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"hash/maphash"
	"io"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/site/tree"
)

// Live is a folder whose files may be the very ones that are wanted: a site that is put back. What is there under the
// same name with the same length is copied, and is taken when the copy has the archive's digest: nothing else that is
// said of it is believed. Where the file system lets files share blocks, the copy costs no space and no writing. Parts of which nothing is lacking are not fetched from elsewhere; on this machine their
// stored bytes are read and compared all the same, so that an archive which is damaged does not pass for a sound one.
type Live struct {
	tree.Folder
	// Paths and Bytes are what came from there.
	Paths, Bytes int64
}

// liveParts is what came from a live folder, by part.
type liveParts struct {
	seed  maphash.Seed
	parts map[string]*livePart
	// copied is set when the file system was found not to share blocks: files are copied.
	copied atomic.Bool
}

// livePart is one part of it: how many of its files are wanted, and the hashes of the names of those that are had.
type livePart struct {
	wanted int
	had    map[uint64]bool
	bytes  int64
}

// has tells whether a file of a part came from a live folder.
func (l *liveParts) has(part, name string) bool {
	p := l.parts[part]
	return p != nil && p.had[maphash.String(l.seed, name)]
}

// whole tells that nothing of a part is lacking.
func (l *liveParts) whole(part string) bool {
	p := l.parts[part]
	return p != nil && len(p.had) == p.wanted
}

// takeLive takes what the live folder still has. One that cannot be read has nothing.
func (t *Tree) takeLive(ctx context.Context, h *catalog.Held, workers int) error {
	t.live.seed, t.live.parts = maphash.MakeSeed(), map[string]*livePart{}
	if t.Live == nil {
		return nil
	}
	of := make(chan archive.Entry, 256)
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(of)
		return h.ReadList(ctx, func(e archive.Entry) error {
			if e.Type != archive.TypeFile || t.Parts != nil && !t.Parts[e.Part] {
				return nil
			}
			_, wanted, err := t.wants(&tar.Header{Name: e.Path})
			if err != nil || !wanted || !t.first(e) {
				return err
			}
			select {
			case of <- e:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	})
	for range workers {
		g.Go(func() error {
			for e := range of {
				if err := t.liveFile(e); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// first counts a file as wanted; false if it was before, for a list may be read again from another store.
func (t *Tree) first(e archive.Entry) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := t.live.parts[e.Part]
	if p == nil {
		p = &livePart{had: map[uint64]bool{}}
		t.live.parts[e.Part] = p
	}
	key := maphash.String(t.live.seed, e.Path)
	if _, before := p.had[key]; before {
		return false
	}
	p.had[key] = false
	p.wanted++
	return true
}

// liveFile takes one file. An error is one of writing it.
func (t *Tree) liveFile(e archive.Entry) error {
	header := archive.Header(e)
	rel, _, err := t.wants(header)
	if err != nil {
		return err
	}
	in, err := t.Live.Open(rel)
	if err != nil {
		return nil
	}
	defer in.Close()
	if info, err := in.Stat(); err != nil || info.Size() != e.Size {
		return nil
	}
	content := &liveContent{in: in, left: e.Size, digest: sha256.New()}
	err = t.entry(rel, header, content)
	if err != nil && content.err == nil {
		return err
	}
	if err != nil || hex.EncodeToString(content.digest.Sum(nil)) != e.SHA256 {
		return t.root.Remove(rel)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	p := t.live.parts[e.Part]
	p.had[maphash.String(t.live.seed, e.Path)] = true
	p.bytes += e.Size
	return nil
}

// liveContent reads a file of the live folder and hashes what it reads. It remembers the error of reading, to tell it from one
// of writing.
type liveContent struct {
	in     tree.File
	left   int64
	digest hash.Hash
	err    error
}

func (l *liveContent) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, io.EOF
	}
	n, err := l.in.Read(p[:min(int64(len(p)), l.left)])
	l.left -= int64(n)
	l.digest.Write(p[:n])
	if err != nil && err != io.EOF { //nolint:errorlint // readers give the bare value
		l.err = err
	}
	return n, err
}

// cloned has a new file share the blocks of the live one, where the file system can. What is hashed then is the new file,
// which nobody else writes to: the live one may change at any moment. One byte more than is wanted is read of it, so that a
// file that has grown has another digest.
func (t *Tree) cloned(f *disk.File, l *liveContent) bool {
	from, ok := l.in.(*disk.File)
	if !ok || t.live.copied.Load() {
		return false
	}
	if err := f.CloneOf(from); err != nil {
		t.live.copied.Store(errors.Is(err, errors.ErrUnsupported))
		return false
	}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	_, l.err = io.CopyBuffer(struct{ io.Writer }{l.digest}, io.LimitReader(f, l.left+1), *buf)
	return true
}

// filesPart puts the files of one part into the tree: from the store, but for what the live folder had.
func (t *Tree) filesPart(ctx context.Context, h *catalog.Held, ix *catalog.Index, part archive.Part) error {
	p := t.live.parts[part.Name]
	if t.live.whole(part.Name) && !t.stands(ctx, h, part) {
		clear(p.had) // as if nothing had been there
		p.bytes = 0
	}
	if p != nil {
		t.mu.Lock()
		t.written += int64(len(p.had))
		t.Live.Paths += int64(len(p.had))
		t.Live.Bytes += p.bytes
		t.mu.Unlock()
		if len(p.had) == p.wanted {
			return nil
		}
	}
	return t.part(ctx, h, ix, part)
}

// stands tells whether a part that is not needed is sound in the store that it would be read from, where that store is
// on this machine; of one elsewhere nobody asks.
func (t *Tree) stands(ctx context.Context, h *catalog.Held, part archive.Part) bool {
	pace := t.Pace
	if pace == nil {
		pace = func(int64) {}
	}
	if s := h.Stores[0]; !s.Offsite() {
		return h.CheckPart(ctx, s, part, pace) == nil
	}
	pace(part.StoredBytes())
	return true
}

// settle drops from what is had the names of what is not, once all were tried.
func (l *liveParts) settle() {
	for _, p := range l.parts {
		for key, had := range p.had {
			if !had {
				delete(p.had, key)
			}
		}
	}
}

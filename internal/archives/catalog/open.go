package catalog

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"revlet/internal/archives/archive"
	"revlet/internal/store"
)

// OpenPart opens a part in the store given.
func (h *Held) OpenPart(ctx context.Context, s store.Named, part archive.Part, pace func(int64)) (*Part, error) {
	p := &Part{ahead: slices.Collect(part.Objects()), open: func(object archive.Part) (*archive.PartReader, io.Closer, error) {
		in, err := s.Open(ctx, archive.PartPath(h.Site, object.Name), 0)
		if err != nil {
			return nil, nil, fmt.Errorf("store %s: part %w", s.Name, err)
		}
		r, err := archive.NewPartReader(in, object, h.Keys, pace)
		if err != nil {
			return nil, nil, errors.Join(err, in.Close())
		}
		return r, in, nil
	}}
	if err := p.next(); err != nil {
		return nil, err
	}
	return p, nil
}

// Part is an open part of an archive. Its objects are opened one after the other, as they are come to, and each is
// proved before the next.
type Part struct {
	// now is the object that is being read, in its stored bytes.
	now   *archive.PartReader
	in    io.Closer
	ahead []archive.Part
	open  func(object archive.Part) (*archive.PartReader, io.Closer, error)
	// gone is why the next object could not be opened.
	gone error
}

// next opens the object that comes next.
func (p *Part) next() (err error) {
	object := p.ahead[0]
	p.ahead = p.ahead[1:]
	p.now, p.in, err = p.open(object)
	p.gone = err
	return err
}

// Read gives content, never more than the record promises.
func (p *Part) Read(b []byte) (int, error) {
	for {
		if p.gone != nil {
			return 0, p.gone
		}
		n, err := p.now.Read(b)
		if n > 0 || !errors.Is(err, io.EOF) || len(p.ahead) == 0 {
			if errors.Is(err, io.EOF) && len(p.ahead) > 0 {
				err = nil
			}
			return n, err
		}
		if err := p.now.Finish(); err != nil {
			return 0, err
		}
		p.Close()
		if err := p.next(); err != nil {
			return 0, err
		}
	}
}

// Blame names the cause of an error about the part's content, as that of its object does.
func (p *Part) Blame(err error) error {
	if p.gone != nil {
		return p.gone
	}
	return p.now.Blame(err)
}

// Finish reads what is left and tells whether the part is what the record says.
func (p *Part) Finish() error {
	if _, err := io.Copy(io.Discard, p); err != nil {
		return err
	}
	return p.now.Finish()
}

// Close releases the part.
func (p *Part) Close() {
	if p.gone != nil {
		return
	}
	_ = p.in.Close() // first: it ends a read that is under way
	p.now.Close()
}

// CheckPart compares the stored bytes of a part's objects in a store with what was written, as CheckBytes does; the
// first that differs ends it. No key is needed.
func (h *Held) CheckPart(ctx context.Context, s store.Store, part archive.Part, pace func(int64)) error {
	for o := range part.Objects() {
		if err := CheckBytes(ctx, s, archive.PartPath(h.Site, o.Name), o.Bytes, o.SHA256, pace); err != nil {
			return err
		}
	}
	return nil
}

package backup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/state"
	"revlet/internal/store"
)

// chain is what this machine remembers of the records that it has signed for a site: each
// names the one before, so that one that is exchanged or left out breaks the row.
type chain struct {
	// Last is the last record, nil before the first.
	Last *archive.Link `json:"last"`
	// Number is that of the last one.
	Number int64 `json:"number"`
	// Next is a record that is about to be written; nobody knows yet whether it was.
	Next *archive.Link `json:"next,omitempty"`

	file string
	st   *state.State
}

func openChain(st *state.State, site string) (*chain, error) {
	c := &chain{file: filepath.Join(st.Dir, "chain", site+".json"), st: st}
	data, err := st.Disk.ReadFile(c.file)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		err = json.Unmarshal(data, c)
	}
	if err != nil {
		return nil, fmt.Errorf("what is remembered of the last record: %w", err)
	}
	return c, nil
}

func (c *chain) save() error {
	data, err := json.Marshal(c)
	if err == nil {
		err = c.st.Disk.MkdirAll(filepath.Dir(c.file), 0o700)
	}
	if err == nil {
		err = c.st.Disk.WriteFile(c.file, data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("remember the last record: %w", err)
	}
	return nil
}

// settle finds out what became of a record that a run which died was about to write.
func (c *chain) settle(ctx context.Context, site string, stores []store.Named) error {
	if c.Next == nil {
		return nil
	}
	for _, s := range stores {
		rec, err := catalog.ReadRecord(ctx, s, site, c.Next.Name)
		if err == nil && rec.Checksum == c.Next.SHA256 {
			c.done()
			break
		}
	}
	c.Next = nil
	return ctx.Err()
}

// done notes that the next record was written.
func (c *chain) done() { c.Last, c.Number, c.Next = c.Next, c.Number+1, nil }

// encode signs and encodes a record as the next of the chain, if the job has a key.
func (r *run) encode(ctx context.Context, stored *archive.Record) (data []byte, written func() error, err error) {
	written = func() error { return nil }
	if r.Key == nil {
		data, err = stored.Encode(nil)
		return data, written, err
	}
	c, err := openChain(r.State, r.Site.Name)
	if err == nil {
		err = c.settle(ctx, r.Site.Name, r.Stores)
	}
	if err != nil {
		return nil, nil, err
	}
	r.record.Number, r.record.Before = c.Number+1, c.Last
	stored.Number, stored.Before = r.record.Number, r.record.Before
	if data, err = stored.Encode(r.Key); err != nil {
		return nil, nil, err
	}
	c.Next = &archive.Link{Name: stored.Name, SHA256: stored.Checksum}
	return data, func() error { c.done(); return c.save() }, c.save()
}

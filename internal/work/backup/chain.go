package backup

import (
	"path/filepath"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/signing"
	"revlet/internal/platform/state"
)

// chain is what this machine remembers of the records that it has signed for a site: each
// names the one before, so that one that is exchanged or left out breaks the row.
type chain struct {
	// Last is the last record, nil before the first.
	Last *archive.Link `json:"last"`
	// Number is that of the last one.
	Number int64 `json:"number"`

	file string
	st   *state.State
}

func openChain(st *state.State, site string) (*chain, error) {
	c := &chain{file: filepath.Join(st.Dir, "chain", site+".json"), st: st}
	_, err := st.ReadNote(c.file, c, "the last record of "+site)
	return c, err
}

func (c *chain) save() error { return c.st.WriteNote(c.file, c, "the last record") }

// adopt takes a record of a run that died for the last one, if it has come to be, and to
// be the next.
func (c *chain) adopt(rec *archive.Record) error {
	if rec.Number != c.Number+1 {
		return nil
	}
	return c.append(rec)
}

// append notes the record that was written last.
func (c *chain) append(rec *archive.Record) error {
	c.Last, c.Number = &archive.Link{Name: rec.Name, SHA256: rec.Checksum}, rec.Number
	return c.save()
}

// encode signs and encodes a record as the next of the chain, if the job has a key.
func (r *run) encode(stored *archive.Record) (data []byte, written func() error, err error) {
	if r.Key == nil {
		data, err = stored.Encode(nil)
		return data, func() error { return nil }, err
	}
	c, err := openChain(r.State, r.Site.Name)
	if err != nil {
		return nil, nil, err
	}
	r.record.Number, r.record.Before = c.Number+1, c.Last
	stored.Number, stored.Before = r.record.Number, r.record.Before
	data, err = stored.Encode(r.Key)
	return data, func() error { return c.append(stored) }, err
}

// signer is the public half of the key that the record is to be signed with, if any.
func (r *run) signer() signing.Public {
	if r.Key == nil {
		return ""
	}
	return r.Key.Public()
}

// adoptDead has the chain know the record of a run that died right after it was written.
func adoptDead(st *state.State, site string, signer signing.Public, dead []deadRun, listing *catalog.Listing) error {
	c, err := openChain(st, site)
	for _, d := range dead {
		for _, h := range listing.Archives {
			if err == nil && h.Name == d.name && signer != "" && h.Signer() == signer {
				err = c.adopt(h.Record)
			}
		}
	}
	return err
}

package archive

import (
	"encoding/json"
	"fmt"
	"slices"

	"revlet/internal/platform/encryption"
)

// secrets are what an encrypted archive's record says to its key only. Name, List and Parts
// stand in the clear as well, in part: they tie what is sealed to this very archive.
type secrets struct {
	Name   string  `json:"name"`
	List   ListRef `json:"list"`
	Note   string  `json:"note"`
	Host   string  `json:"host"`
	Origin Origin  `json:"origin"`
	Totals Totals  `json:"totals"`
	Gaps   []Gap   `json:"gaps"`
	Parts  []Part  `json:"parts"`
}

// Seal returns the record as it is stored when it is encrypted for to: without
// a name of anything that the site consists of in the clear, and without counts.
func (r *Record) Seal(to encryption.Recipients) (*Record, error) {
	public := *r
	data, err := json.MarshalIndent(secrets{Name: r.Name, List: r.List, Note: r.Note, Host: r.Host, Origin: r.Origin, Totals: r.Totals, Gaps: r.Gaps, Parts: r.Parts}, "", "  ")
	if err != nil {
		return nil, err
	}
	if public.Sealed, err = to.Bytes(data); err != nil {
		return nil, fmt.Errorf("seal the record: %w", err)
	}
	public.Parts = slices.Clone(r.Parts)
	for i, p := range public.Parts {
		public.Parts[i] = p.public()
	}
	public.Note, public.Host, public.Origin, public.Gaps = "", "", Origin{}, nil
	public.Totals = Totals{StoredBytes: r.Totals.StoredBytes, NewBytes: r.Totals.NewBytes}
	return &public, nil
}

// Unseal puts back what Seal took out. Without a fitting key the error wraps
// encryption.ErrNoKey or encryption.ErrWrongKey; what was sealed for another archive, or
// for other parts, gives one that wraps ErrRecord.
func (r *Record) Unseal(keys *encryption.Keys) error {
	if len(r.Sealed) == 0 {
		return nil
	}
	data, err := keys.Bytes(r.Sealed)
	if err != nil {
		return fmt.Errorf("archive %s: %w", r.Name, err)
	}
	var s secrets
	if err = affordable(data); err == nil {
		err = json.Unmarshal(data, &s)
	}
	if err != nil || s.Name != r.Name || s.List != r.List || !samePublic(s.Parts, r.Parts) {
		return fmt.Errorf("archive %s: %w: what is sealed in it is of another one", r.Name, ErrRecord)
	}
	open := *r
	open.Note, open.Host, open.Origin, open.Totals, open.Gaps, open.Parts, open.Sealed = s.Note, s.Host, s.Origin, s.Totals, s.Gaps, s.Parts, nil
	open.tidyText()
	if err := open.checkContent(); err != nil {
		return fmt.Errorf("archive %s: %w: %w", r.Name, ErrRecord, err)
	}
	*r = open
	return nil
}

// UnsealFrom puts back what Seal took out from a copy of the record that was
// kept open. It tells whether that is a copy of this one. What has signed the stored
// record stays.
func (r *Record) UnsealFrom(open *Record) bool {
	if open == nil || open.Name != r.Name || open.List != r.List || len(open.Sealed) > 0 ||
		!samePublic(open.Parts, r.Parts) {
		return false
	}
	stored := *r
	*r = *open
	r.Checksum, r.Signature, r.signer = stored.Checksum, stored.Signature, stored.signer
	return true
}

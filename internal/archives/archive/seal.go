package archive

import (
	"encoding/json"
	"fmt"
	"slices"

	"revlet/internal/platform/encryption"
)

// secrets are what an encrypted archive's record says to its key only.
type secrets struct {
	Note   string        `json:"note"`
	Origin Origin        `json:"origin"`
	Gaps   []Gap         `json:"gaps"`
	Parts  []partSecrets `json:"parts"`
}

type partSecrets struct {
	Database      string `json:"database,omitempty"`
	Table         string `json:"table,omitempty"`
	ContentSHA256 string `json:"content_sha256,omitempty"`
}

// Seal returns the record as it is stored when it is encrypted for to: without
// a name of anything that the site consists of in the clear.
func (r *Record) Seal(to encryption.Recipients) (*Record, error) {
	public := *r
	public.Parts = slices.Clone(r.Parts)
	s := secrets{Note: r.Note, Origin: r.Origin, Gaps: r.Gaps}
	for i := range public.Parts {
		p := &public.Parts[i]
		s.Parts = append(s.Parts, partSecrets{p.Database, p.Table, p.ContentSHA256})
		p.Database, p.Table, p.ContentSHA256 = "", "", ""
	}
	data, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	if public.Sealed, err = to.Bytes(data); err != nil {
		return nil, fmt.Errorf("seal the record: %w", err)
	}
	public.Note, public.Origin, public.Gaps = "", Origin{}, nil
	return &public, nil
}

// Unseal puts back what Seal took out. Without a fitting key the error wraps
// encryption.ErrNoKey or encryption.ErrWrongKey.
func (r *Record) Unseal(keys *encryption.Keys) error {
	if len(r.Sealed) == 0 {
		return nil
	}
	data, err := keys.Bytes(r.Sealed)
	if err != nil {
		return fmt.Errorf("archive %s: %w", r.Name, err)
	}
	var s secrets
	if err := json.Unmarshal(data, &s); err != nil || len(s.Parts) != len(r.Parts) {
		return fmt.Errorf("archive %s: %w: what is sealed in it does not fit", r.Name, ErrRecord)
	}
	r.Note, r.Origin, r.Gaps, r.Sealed = s.Note, s.Origin, s.Gaps, nil
	for i, p := range s.Parts {
		r.Parts[i].Database, r.Parts[i].Table, r.Parts[i].ContentSHA256 = p.Database, p.Table, p.ContentSHA256
	}
	r.tidyText()
	if err := r.checkContent(); err != nil {
		return fmt.Errorf("archive %s: %w: %w", r.Name, ErrRecord, err)
	}
	return nil
}

// UnsealFrom puts back what Seal took out from a copy of the record that was
// kept open. It tells whether that is a copy of this one.
func (r *Record) UnsealFrom(open *Record) bool {
	if open == nil || open.Name != r.Name || open.List.SHA256 != r.List.SHA256 || len(open.Sealed) > 0 {
		return false
	}
	*r = *open
	return true
}

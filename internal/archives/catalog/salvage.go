package catalog

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/reason"
	"revlet/internal/store"
)

// mostStale bounds the names of what is stale in a part, as text.
const mostStale = 64 << 20

// IsDamage tells whether an error of one store is damage, or an object that is gone. What
// was not reached may be sound.
func IsDamage(err error) bool {
	return errors.Is(err, archive.ErrDamaged) || errors.Is(err, store.ErrNotFound)
}

// BecauseDamaged gives an error about what is damaged the reason that something can be done about
// it; others stay as they are.
func BecauseDamaged(h *Held, err error) error {
	if !IsDamage(err) || reason.Is(err, reason.ArchiveDamaged) {
		return err
	}
	return reason.Because(reason.SomeDamaged, reason.Names{"archive": h.Name}, err)
}

// Salvage prepares an archive for having out of it what damage has left. Where its list
// is sound somewhere there is nothing to do. Else the list is made anew out of those
// parts whose bytes are the ones written, for each of them names what is in it. It
// returns what cannot be told, in words. An error means that something was not reached.
func (h *Held) Salvage(ctx context.Context) (lost []string, err error) {
	for _, s := range h.Stores {
		err := CheckList(ctx, s, h.Record)
		switch {
		case err == nil:
			return nil, nil
		case !IsDamage(err):
			return nil, err
		}
	}
	lost = []string{"the list of what the archive holds: it is made anew out of the parts"}
	stale := map[string][]string{}
	entries := []archive.Entry{}
	for _, part := range h.Parts {
		if part.IsSQL() {
			entries = append(entries, archive.Entry{Type: part.Kind, Path: "database/" + part.Database + "/" + part.Table, Size: part.ContentBytes, SHA256: part.ContentSHA256,
				Part: part.Name, Database: part.Database, Table: part.Table, Slice: part.Slice, Rows: part.Entries})
			continue
		}
		found, err := h.entriesOf(ctx, part, stale)
		if err != nil {
			if !IsDamage(err) {
				return nil, err
			}
			lost = append(lost, fmt.Sprintf("what is in part %s, %d entries whose names are not known", part.Name, part.Entries))
			continue
		}
		entries = append(entries, found...)
	}
	entries = slices.DeleteFunc(entries, func(e archive.Entry) bool { return slices.Contains(stale[e.Part], e.Path) })
	// Of a file in several parts the last one is the newest.
	last := map[string]string{}
	for _, e := range entries {
		if e.IsFileTree() {
			last[e.Path] = e.Part
		}
	}
	entries = slices.DeleteFunc(entries, func(e archive.Entry) bool { return e.IsFileTree() && last[e.Path] != e.Part })
	slices.SortStableFunc(entries, func(a, b archive.Entry) int { return archive.ComparePaths(a.Path, b.Path) })
	h.rebuilt = entries
	return lost, nil
}

// entriesOf reads what is in a part, from the first store that has it sound. Names that
// do not belong to the archive any more are added to stale.
func (h *Held) entriesOf(ctx context.Context, part archive.Part, stale map[string][]string) (entries []archive.Entry, err error) {
	err = h.EachStore(func(s store.Named) error {
		p, err := h.OpenPart(ctx, s, part, nil)
		if err != nil {
			return err
		}
		defer p.Close()
		entries = nil
		tr := tar.NewReader(p)
		for {
			hdr, err := tr.Next()
			if errors.Is(err, io.EOF) {
				return p.Finish()
			}
			if err != nil {
				return p.Blame(err)
			}
			if of, ok := strings.CutPrefix(hdr.Name, archive.StaleDir); ok {
				text, err := io.ReadAll(io.LimitReader(tr, mostStale))
				if err != nil {
					return p.Blame(err)
				}
				if len(text) == mostStale {
					return p.Blame(errors.New("it names too much that is stale"))
				}
				stale[of] = strings.Split(strings.TrimSuffix(string(text), "\x00"), "\x00")
				continue
			}
			e := archive.EntryOf(hdr)
			e.Part = part.Name
			if e.Type == archive.TypeFile {
				digest := sha256.New()
				if _, err := io.Copy(digest, tr); err != nil {
					return p.Blame(err)
				}
				e.SHA256 = hex.EncodeToString(digest.Sum(nil))
			}
			entries = append(entries, e)
		}
	})
	return entries, err
}

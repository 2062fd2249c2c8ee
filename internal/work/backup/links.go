package backup

import (
	"context"
	"math"

	"revlet/internal/archives/archive"
)

// mostLinks bounds how many hard links are held back until it is known whether the file that they are other names of
// was saved; more of them are written as they are met.
const mostLinks = 100_000

// treeSeq numbers the part of the tree: it is the last.
const treeSeq = math.MaxInt

// hardlink is one more name of a file that the walk has met, and the file under that name.
type hardlink struct {
	entry archive.Entry
	file  planned
}

// links are the hard links of a site. A file that has several names is saved under the first that is met; where that one
// is gone by the time it is read, or cannot be read, it is saved under the next.
type links struct {
	// saved tells of the first names whether they are in the archive.
	saved map[string]bool
	held  []hardlink
}

// hold keeps a link back; false when there are too many.
func (l *links) hold(h hardlink) bool {
	if len(l.held) == mostLinks {
		return false
	}
	l.held = append(l.held, h)
	return true
}

// met notes the name of a file that has several, if it has.
func (r *run) met(f planned) {
	if several(f.info) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.links.saved[f.name] = false
	}
}

// noteSaved notes that files are in the archive.
func (r *run) noteSaved(names ...string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, name := range names {
		if _, ok := r.links.saved[name]; ok {
			r.links.saved[name] = true
		}
	}
}

// saveLinks writes the hard links, in a part of their own between files and tree, once all files were read.
func (r *run) saveLinks(ctx context.Context, k *packer) error {
	if len(r.links.held) == 0 {
		return nil
	}
	part, err := newTreePart(r.spool, r.To)
	if err != nil {
		return err
	}
	defer part.abandon()
	var entries []archive.Entry
	instead := map[string]string{} // of a first name that was not saved, the one that was
	for _, h := range r.links.held {
		first := h.entry.Target
		if name, ok := instead[first]; ok {
			h.entry.Target = name
		}
		if !r.links.saved[h.entry.Target] {
			r.links.saved[h.file.name] = false
			if err := r.packJob(ctx, k, job{seq: treeSeq - 2, files: []planned{h.file}, compress: !archive.Packed(h.file.name)}); err != nil {
				return err
			}
			if r.links.saved[h.file.name] {
				instead[first] = h.file.name
			}
			continue
		}
		if r.HandMade != nil && r.HandMade.Own != nil {
			r.HandMade.Own(&h.entry)
		}
		if err := part.add(h.entry); err != nil {
			return err
		}
		entries = append(entries, h.entry)
	}
	r.links.held = nil
	if len(entries) == 0 {
		return nil
	}
	made, file, err := part.finish()
	if err != nil {
		return err
	}
	for i := range entries {
		entries[i].Part = made.Name
	}
	r.record.Totals.Links += int64(len(entries))
	if err := r.list.Add(entries...); err != nil {
		r.spool.discard(file)
		return err
	}
	return r.publish(numbered{treeSeq - 1, made}, spooled{made, file})
}

package backup

import "revlet/internal/archives/archive"

// mostRecorded bounds what a recording holds: some 30 MB. A larger site is
// walked a second time.
const mostRecorded = 100_000

// recording is what a walk has met, in its order, so that a site need not be
// walked twice.
type recording struct {
	events []event
	full   bool
}

// event is one thing that a walk has met: one field is set.
type event struct {
	file *planned
	tree *archive.Entry
	gap  *archive.Gap
	skip *[2]string
	// again is a further name of a file.
	again *hardlink
}

func (r *recording) add(e event) {
	switch {
	case r.full:
	case len(r.events) == mostRecorded:
		r.full, r.events = true, nil
	default:
		r.events = append(r.events, e)
	}
}

// walker returns a walker that records.
func (r *recording) walker() *walker {
	return &walker{
		file:  func(f planned) error { r.add(event{file: &f}); return nil },
		tree:  func(e archive.Entry) error { r.add(event{tree: &e}); return nil },
		again: func(h hardlink) error { r.add(event{again: &h}); return nil },
		gap:   func(g archive.Gap) { r.add(event{gap: &g}) },
		skip:  func(name, rule string) { r.add(event{skip: &[2]string{name, rule}}) },
	}
}

// replay hands everything on as the walk would.
func (r *recording) replay(w *walker) error {
	for _, e := range r.events {
		var err error
		switch {
		case e.file != nil:
			err = w.file(*e.file)
		case e.tree != nil:
			err = w.tree(*e.tree)
		case e.again != nil:
			err = w.again(*e.again)
		case e.gap != nil:
			w.gap(*e.gap)
		case e.skip != nil:
			w.skip(e.skip[0], e.skip[1])
		}
		if err != nil {
			return err
		}
	}
	return nil
}

package backup

import (
	"context"
	"io/fs"

	"revlet/internal/archives/archive"
	"revlet/internal/site/tree"
)

// aheadAtOnce is how many paths of a folder are looked at before they are
// visited.
const aheadAtOnce = 512

// listing is what a first look at a folder finds: all names, in order, and what
// the first of them are.
type listing struct {
	names []string
	infos []tree.Info
	err   error
}

// foldersAhead is how many folders are read before they are visited.
const foldersAhead = 16

// lookout reads folders ahead, one after the other.
type lookout struct {
	asks chan ask
}

type ask struct {
	in    tree.Folder
	rel   string
	found chan<- listing
}

// newLookout starts one; it ends with stop.
func newLookout() (l *lookout, stop func()) {
	l = &lookout{asks: make(chan ask, foldersAhead)}
	go func() {
		for a := range l.asks {
			a.found <- readListing(a.in, a.rel)
		}
	}()
	return l, func() { close(l.asks) }
}

func readListing(in tree.Folder, rel string) (found listing) {
	found.names, found.infos, found.err = in.ReadFolder(dot(rel), aheadAtOnce)
	return found
}

// look begins to read a folder, unless there is enough to read already: then it is
// read when it is asked for.
func (l *lookout) look(in tree.Folder, rel string) func() listing {
	found := make(chan listing, 1)
	select {
	case l.asks <- ask{in, rel, found}:
		return func() listing { return <-found }
	default:
		return func() listing { return readListing(in, rel) }
	}
}

// folderAhead visits what is in a folder; while one folder in it is visited, the
// next is read already. What is known of a path is a little older than the visit.
func (w *walker) folderAhead(ctx context.Context, rel string, look func() listing) error {
	l := look()
	if l.err != nil {
		return w.noFolder(rel, l.err)
	}
	for from := 0; from < len(l.names); {
		names := l.names[from:]
		switch {
		case from == 0:
			names = names[:len(l.infos)]
		default:
			names = names[:min(len(names), aheadAtOnce)]
			l.infos = w.in.Lstats(dot(rel), names)
		}
		if err := w.visitAhead(ctx, rel, names, l.infos); err != nil {
			return err
		}
		from += len(names)
	}
	return nil
}

func (w *walker) visitAhead(ctx context.Context, rel string, names []string, infos []tree.Info) error {
	looks := map[int]func() listing{}
	begun := 0
	// begin begins to read the folders from a place on, some of them ahead.
	begin := func(from int) {
		for begun = max(begun, from); begun < len(names) && len(looks) < foldersAhead/2; begun++ {
			if infos[begun].Err == nil && infos[begun].IsDir() && !w.skips(joinRel(rel, names[begun])) {
				looks[begun] = w.ahead.look(w.in, joinRel(rel, names[begun]))
			}
		}
	}
	for i, name := range names {
		rel := joinRel(rel, name)
		if rule, skipped := w.site.SkipsIn(w.label, rel); skipped {
			w.skip(w.name(rel), rule)
			continue
		}
		err := w.found(rel, infos[i].FileInfo, infos[i].Err, func() error {
			begin(i)
			look, begun := looks[i]
			if !begun {
				look = w.ahead.look(w.in, rel)
			}
			delete(looks, i)
			begin(i + 1)
			if err := w.beginFolder(ctx, rel, infos[i].FileInfo); err != nil {
				return err
			}
			return w.folderAhead(ctx, rel, look)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (w *walker) skips(rel string) bool {
	_, skipped := w.site.SkipsIn(w.label, rel)
	return skipped
}

// beginFolder visits a folder itself.
func (w *walker) beginFolder(ctx context.Context, rel string, info fs.FileInfo) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	e := w.entry(archive.TypeFolder, rel, info)
	if !w.look {
		e.XAttrs = w.in.XAttrs(dot(rel))
	}
	return w.tree(e)
}

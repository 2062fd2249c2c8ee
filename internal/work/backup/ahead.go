package backup

import (
	"context"
	"io/fs"
	"path/filepath"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
)

// aheadAtOnce is how many paths of a folder are looked at before they are
// visited.
const aheadAtOnce = 512

// listing is what a first look at a folder finds: all names, in order, and what
// the first of them are.
type listing struct {
	names []string
	infos []disk.Info
	err   error
}

// foldersAhead is how many folders are read before they are visited.
const foldersAhead = 16

// lookout reads folders ahead, one after the other.
type lookout struct {
	disk *disk.Disk
	asks chan ask
}

type ask struct {
	dir   string
	found chan<- listing
}

// newLookout starts one; it ends with stop.
func newLookout(d *disk.Disk) (l *lookout, stop func()) {
	l = &lookout{disk: d, asks: make(chan ask, foldersAhead)}
	go func() {
		for a := range l.asks {
			a.found <- l.read(a.dir)
		}
	}()
	return l, func() { close(l.asks) }
}

func (l *lookout) read(dir string) (found listing) {
	found.names, found.infos, found.err = l.disk.ReadFolder(dir, aheadAtOnce)
	return found
}

// look begins to read a folder, unless there is enough to read already: then it is
// read when it is asked for.
func (l *lookout) look(dir string) func() listing {
	found := make(chan listing, 1)
	select {
	case l.asks <- ask{dir, found}:
		return func() listing { return <-found }
	default:
		return func() listing { return l.read(dir) }
	}
}

// folderAhead visits what is in a folder; while one folder in it is visited, the
// next is read already. It is for looking at a site, not for saving it: what is
// known of a path is a little older than the visit.
func (w *walker) folderAhead(ctx context.Context, dir, rel string, look func() listing) error {
	l := look()
	if l.err != nil {
		return w.noFolder(rel, l.err)
	}
	for from := 0; from < len(l.names); from += aheadAtOnce {
		names := l.names[from:min(from+aheadAtOnce, len(l.names))]
		if from > 0 {
			l.infos = w.disk.Lstats(dir, names)
		}
		if err := w.visitAhead(ctx, dir, rel, names, l.infos); err != nil {
			return err
		}
	}
	return nil
}

func (w *walker) visitAhead(ctx context.Context, dir, rel string, names []string, infos []disk.Info) error {
	looks := map[int]func() listing{}
	begun := 0
	// begin begins to read the folders from a place on, some of them ahead.
	begin := func(from int) {
		for begun = max(begun, from); begun < len(names) && len(looks) < foldersAhead/2; begun++ {
			if infos[begun].Err == nil && infos[begun].IsDir() && !w.skips(joinRel(rel, names[begun])) {
				looks[begun] = w.ahead.look(filepath.Join(dir, names[begun]))
			}
		}
	}
	for i, name := range names {
		path, rel := dir+"/"+name, joinRel(rel, name)
		if rule, skipped := w.site.Skips(rel); skipped && w.label == site.RootLabel {
			w.skip(w.name(rel), rule)
			continue
		}
		err := w.found(path, rel, infos[i].FileInfo, infos[i].Err, func() error {
			begin(i)
			look, begun := looks[i]
			if !begun {
				look = w.ahead.look(path)
			}
			delete(looks, i)
			begin(i + 1)
			if err := w.beginFolder(ctx, path, rel, infos[i].FileInfo); err != nil {
				return err
			}
			return w.folderAhead(ctx, path, rel, look)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (w *walker) skips(rel string) bool {
	_, skipped := w.site.Skips(rel)
	return skipped && w.label == site.RootLabel
}

// beginFolder visits a folder itself.
func (w *walker) beginFolder(ctx context.Context, dir, rel string, info fs.FileInfo) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	e := w.entry(archive.TypeFolder, rel, info)
	if w.ahead == nil {
		e.XAttrs = readXAttrs(w.disk, dir)
	}
	return w.tree(e)
}

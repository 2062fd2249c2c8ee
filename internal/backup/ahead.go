package backup

import (
	"context"
	"io/fs"
	"path/filepath"

	"revlet/internal/archive"
	"revlet/internal/disk"
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

// look begins to read a folder beside whatever else is done.
func (w *walker) look(dir string) func() listing {
	found := make(chan listing, 1)
	go func() {
		var l listing
		l.names, l.infos, l.err = w.disk.ReadFolder(dir, aheadAtOnce)
		found <- l
	}()
	return func() listing { return <-found }
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
	// next begins to read the first folder from a place on.
	next := func(from int) {
		i := from
		for i < len(names) && (infos[i].Err != nil || !infos[i].IsDir() || w.skips(joinRel(rel, names[i]))) {
			i++
		}
		if i < len(names) && looks[i] == nil {
			looks[i] = w.look(filepath.Join(dir, names[i]))
		}
	}
	for i, name := range names {
		path, rel := dir+"/"+name, joinRel(rel, name)
		if rule, skipped := w.site.Skips(rel); skipped && w.label == site.RootLabel {
			w.skip(w.name(rel), rule)
			continue
		}
		err := w.found(path, rel, infos[i].FileInfo, infos[i].Err, func() error {
			next(i)
			next(i + 1)
			if err := w.beginFolder(ctx, path, rel, infos[i].FileInfo); err != nil {
				return err
			}
			return w.folderAhead(ctx, path, rel, looks[i])
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
	if !w.ahead {
		e.XAttrs = readXAttrs(dir)
	}
	return w.tree(e)
}

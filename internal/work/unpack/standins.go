package unpack

import (
	"archive/tar"
	"context"
	"errors"
	"io/fs"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
)

// StandIns are hard links that are wanted without the file that they are other names of, by that file's name: the first
// of them gets its content. What else is there under the file's name may be something else by now.
type StandIns map[string]string

// FindStandIns looks for them in an archive's list. keep tells of a path below label whether it is wanted. parts are those
// that the files lie in.
func FindStandIns(ctx context.Context, h *catalog.Held, label string, keep func(rel string) bool) (found StandIns, parts map[string]bool, err error) {
	found, parts = StandIns{}, map[string]bool{}
	below := func(name string) (rel string, wanted bool) {
		rel, ok := strings.CutPrefix(name, label+"/")
		return rel, ok && keep(rel)
	}
	err = h.ReadList(ctx, func(e archive.Entry) error {
		if e.Type != archive.TypeHardlink || found[e.Target] != "" {
			return nil
		}
		if _, wanted := below(e.Path); !wanted {
			return nil
		}
		if _, wanted := below(e.Target); !wanted {
			found[e.Target] = e.Path
		}
		return nil
	})
	if err != nil || len(found) == 0 {
		return found, parts, err
	}
	err = h.ReadList(ctx, func(e archive.Entry) error {
		if e.Type == archive.TypeFile && found[e.Path] != "" {
			parts[e.Part] = true
		}
		return nil
	})
	return found, parts, err
}

// place tells whether an entry is to be written, and where. A link that has stood in for its file is written by then; h
// is changed where a further one is to lead to it.
func (u *unpacking) place(h *tar.Header) (rel string, wanted bool, err error) {
	name := strings.TrimSuffix(h.Name, "/")
	rel, wanted, err = u.wants(h)
	if err != nil || len(u.standIns) == 0 {
		return rel, wanted, err
	}
	switch link := u.standIns[name]; {
	case h.Typeflag == tar.TypeReg && link != "" && !wanted:
		rel, err = u.relative(link)
		return rel, err == nil, err
	case h.Typeflag == tar.TypeLink && wanted && u.standIns[h.Linkname] != "":
		if u.standIns[h.Linkname] != name {
			h.Linkname = u.standIns[h.Linkname]
			return rel, true, nil
		}
		if _, err := u.root.Lstat(rel); err == nil {
			u.good[name] = true
		} else if !u.Salvage || !errors.Is(err, fs.ErrNotExist) {
			return rel, false, err
		}
		return rel, false, nil
	}
	return rel, wanted, nil
}

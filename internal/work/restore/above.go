package restore

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
)

// largestSettings bounds the settings file above a webroot.
const largestSettings = 1 << 20

// AboveFile is a settings file that a restore has put into the folder above the webroot.
type AboveFile struct {
	Path string `json:"path"`
	// Inode tells it from one that was put there since; on another machine SHA256 does.
	Inode  uint64 `json:"inode,omitempty"`
	SHA256 string `json:"sha256,omitempty"`
}

// GoneAbove are the settings files above a webroot, by name, that an archive holds and that
// are not there: a restore of all files puts them back. Only what the recipe knows as a
// settings file above the webroot can be one; a list may say anything.
func GoneAbove(ctx context.Context, d *disk.Disk, s *site.Site, h *catalog.Held) (names []string, err error) {
	if _, ok := h.Origin.Roots[site.AboveLabel]; !ok || s.Recipe == nil {
		return nil, nil
	}
	err = h.ReadList(ctx, func(e archive.Entry) error {
		name, ok := strings.CutPrefix(e.Path, site.AboveLabel+"/")
		if !ok || e.Type != archive.TypeFile || e.Size > largestSettings || strings.Contains(name, "/") || !slices.Contains(s.Recipe.Settings.Files, "../"+name) {
			return nil
		}
		in, err := s.At(d).Folder(ctx, path.Dir(s.PathAt(s.Beside(name))))
		if err == nil {
			_, err = in.Lstat(name)
			err = errors.Join(err, in.Close())
		}
		if errors.Is(err, fs.ErrNotExist) {
			names = append(names, name)
			err = nil
		}
		return err
	})
	return names, err
}

// restoreAbove puts the settings file above the webroot back when it is gone.
// One that is there stays: it is not part of what is exchanged. That it cannot
// be put back is said, and is no reason to call the restore failed.
func (r *run) restoreAbove(ctx context.Context) {
	if !r.Files || r.Selection != nil || r.Moving != nil {
		return
	}
	gone, err := GoneAbove(ctx, r.disk, r.Site, r.Archive)
	for _, name := range gone {
		writeErr := r.writeAbove(ctx, name)
		if writeErr == nil {
			r.observer.Note("note: the settings file " + r.Site.Beside(name) + " was gone and is put back, readable for this account only")
		}
		err = errors.Join(err, writeErr)
	}
	if err != nil {
		r.observer.Note("note: the settings file above the webroot could not be put back: " + err.Error())
	}
}

// writeAbove writes one as a new file, and notes it for undo.
func (r *run) writeAbove(ctx context.Context, name string) error {
	data, err := r.Archive.ReadFile(ctx, site.AboveLabel+"/"+name)
	if err != nil {
		return err
	}
	if r.far != nil {
		return r.writeAboveFar(ctx, name, data)
	}
	dir, err := r.disk.OpenRootNoLinks(sitepath.Dir(r.Site.Root))
	if err != nil {
		return err
	}
	defer dir.Close()
	f, err := dir.Create(name, 0o600)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil {
		r.journal.Above = append(r.journal.Above, AboveFile{Path: r.Site.Beside(name), Inode: inodeOf(info)})
		err = r.journal.save()
	}
	if err == nil {
		_, err = f.Write(data)
	}
	return errors.Join(err, f.Sync(), f.Close(), dir.SyncDir("."))
}

// writeAboveFar is writeAbove for another machine.
func (r *run) writeAboveFar(ctx context.Context, name string, data []byte) error {
	sum := sha256.Sum256(data)
	r.journal.Above = append(r.journal.Above, AboveFile{Path: r.Site.Beside(name), SHA256: hex.EncodeToString(sum[:])})
	if err := r.journal.save(); err != nil {
		return err
	}
	return r.far.Create(ctx, r.Site.PathAt(r.Site.Beside(name)), data, 0o600)
}

// revertAboveFar removes one on another machine, if it is what was put there.
func (j *Journal) revertAboveFar(ctx context.Context, a AboveFile) error {
	name := j.Files.at(a.Path)
	data, err := tree.ReadFile(j.far.Anywhere(ctx), name, largestSettings)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, tree.ErrTooLarge) {
		return nil
	}
	if sum := sha256.Sum256(data); err == nil && hex.EncodeToString(sum[:]) == a.SHA256 {
		err = j.far.RemoveAll(ctx, name)
	}
	return err
}

// revertAbove removes the settings files above the webroot that the restore has made.
func (j *Journal) revertAbove(ctx context.Context, d *disk.Disk) error {
	for _, a := range j.Above {
		if j.isFar() {
			if err := j.revertAboveFar(ctx, a); err != nil {
				return fmt.Errorf("take %s away again: %w", a.Path, err)
			}
			continue
		}
		now, err := inode(d, a.Path)
		if err == nil && now == a.Inode {
			err = d.Remove(a.Path)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("take %s away again: %w", a.Path, err)
		}
	}
	return nil
}

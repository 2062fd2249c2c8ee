package restore

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"

	"revlet/internal/disk"
	"revlet/internal/state"
)

// Aside is what a restore has replaced and set aside.
type Aside struct {
	*Journal
	// Folders are trees of files by their label; webroot is the site's own.
	Folders map[string]string
	// DatabaseFiles are databases that are files, by label; Tables says where
	// others lie.
	DatabaseFiles map[string]string
	Tables        []string
}

// Asides returns what is set aside for a site, the newest first.
func Asides(st *state.State, site string) ([]Aside, error) {
	journals, err := Journals(st, site)
	if err != nil {
		return nil, err
	}
	var all []Aside
	for _, j := range journals {
		if j.Phase != Done {
			continue
		}
		a := Aside{Journal: j, Folders: map[string]string{}, DatabaseFiles: map[string]string{}}
		for _, f := range j.plans() {
			if f.LiveInode != 0 {
				a.Folders[f.Label] = f.aside()
			}
		}
		for _, p := range j.Databases {
			if p.Engine == "sqlite" && p.Share == nil {
				a.DatabaseFiles[p.Label] = p.Aside
			} else {
				a.Tables = append(a.Tables, placeOf(p))
			}
		}
		all = append([]Aside{a}, all...)
	}
	return all, nil
}

// Export writes the files that are set aside as a tar (POSIX pax), with their
// owners, permissions and times: as evidence, or to look into elsewhere. Nothing
// is changed.
func (a Aside) Export(ctx context.Context, d *disk.Disk, w io.Writer) error {
	out := tar.NewWriter(w)
	for label, dir := range a.Folders {
		err := d.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
			if err != nil || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			rel, err := filepath.Rel(dir, p)
			if err != nil {
				return err
			}
			return exportPath(d, out, p, path.Join(label, filepath.ToSlash(rel)))
		})
		if err != nil {
			return fmt.Errorf("export what is set aside: %w", err)
		}
	}
	for label, file := range a.DatabaseFiles {
		err := exportPath(d, out, file, path.Join("database", label+".sqlite"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // it lies in the tree
			return fmt.Errorf("export what is set aside: %w", err)
		}
	}
	return out.Close()
}

func exportPath(d *disk.Disk, out *tar.Writer, file, name string) error {
	info, err := d.Lstat(file)
	if err != nil {
		return err
	}
	target := ""
	if info.Mode()&fs.ModeSymlink != 0 {
		if target, err = d.Readlink(file); err != nil {
			return err
		}
	}
	if !info.IsDir() && !info.Mode().IsRegular() && target == "" {
		return nil // sockets and pipes have no content
	}
	h, err := tar.FileInfoHeader(info, target)
	if err != nil {
		return err
	}
	h.Name, h.Format = name, tar.FormatPAX
	if info.IsDir() {
		h.Name += "/"
	}
	if err := out.WriteHeader(h); err != nil || !info.Mode().IsRegular() {
		return err
	}
	f, err := d.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(out, f)
	return err
}

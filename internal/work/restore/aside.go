package restore

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"revlet/internal/database"
	"revlet/internal/platform/state"
	"revlet/internal/site/tree"
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
		a := Aside{Journal: j, Folders: j.AsideFolders(), DatabaseFiles: map[string]string{}}
		for _, p := range j.Databases {
			if p.Engine == "sqlite" && p.Rows == nil {
				a.DatabaseFiles[p.Label] = p.Aside
			} else {
				a.Tables = append(a.Tables, placeOf(p))
			}
		}
		all = append(all, a)
	}
	return all, nil
}

// ExportAside writes what is set aside as a tar (POSIX pax): files with their
// owners, permissions and times, and tables as SQL text; as evidence, or to look
// into elsewhere. Nothing is changed.
func (r Recoverer) ExportAside(ctx context.Context, a *Aside, w io.Writer) error {
	if err := r.reach(ctx, a.Journal); err != nil {
		return err
	}
	here := tree.Local(r.State.Disk)
	out, place := tar.NewWriter(w), here
	if a.isFar() {
		place = a.far
	}
	for label, dir := range a.Folders {
		in, err := tree.Surveyed(ctx, place, a.Path(dir))
		if err == nil {
			err = tree.Walk(ctx, in, ".", func(rel string, info fs.FileInfo, err error) error {
				if err != nil {
					return err
				}
				return exportPath(in, out, info, rel, path.Join(label, rel))
			})
			err = errors.Join(err, in.Close())
		}
		if err != nil {
			return fmt.Errorf("export what is set aside: %w", err)
		}
	}
	for label, file := range a.DatabaseFiles {
		in, err := here.Folder(ctx, filepath.Dir(file))
		if err == nil {
			var info fs.FileInfo
			if info, err = in.Lstat(filepath.Base(file)); err == nil {
				err = exportPath(in, out, info, filepath.Base(file), path.Join("database", label+".sqlite"))
			}
			err = errors.Join(err, in.Close())
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // it lies in the tree
			return fmt.Errorf("export what is set aside: %w", err)
		}
	}
	err := r.EachAsideSource(ctx, a, func(p *database.Plan, source database.Source) error { return r.exportTables(ctx, source, p, out) })
	if err != nil {
		return fmt.Errorf("export the tables that are set aside: %w", err)
	}
	return out.Close()
}

// EachAsideSource opens what was set aside in each database for reading, but for whole
// databases that are files.
func (r Recoverer) EachAsideSource(ctx context.Context, a *Aside, visit func(*database.Plan, database.Source) error) error {
	targets, done, err := r.targets(ctx, a.Journal)
	defer done()
	if err != nil {
		return err
	}
	for _, p := range a.Databases {
		source, err := targets[p.Label].AsideSource(ctx, p)
		if err != nil {
			return err
		}
		if source == nil {
			continue
		}
		if err := errors.Join(visit(p, source), source.Close()); err != nil {
			return err
		}
	}
	return nil
}

// exportTables writes the tables of one database, each as a file of SQL text.
func (r Recoverer) exportTables(ctx context.Context, source database.Source, p *database.Plan, out *tar.Writer) error {
	snapshot, err := source.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snapshot.Close()
	for _, u := range snapshot.Units() {
		name := u.Kind + ".sql"
		if u.Kind == database.Rows {
			name = fmt.Sprintf("%s.%d.sql", p.AsideOf(u.Table), max(u.Slice, 1))
		}
		if u.Kind == database.Rows && p.Rows != nil && p.AsideOf(u.Table) == u.Table {
			continue // the rows that came
		}
		if u.Kind == database.Objects {
			continue // those of the live tables; the ones that went are in the plan
		}
		err := r.exportText(out, path.Join("database", p.Label, name), func(w io.Writer) error {
			_, err := snapshot.Dump(ctx, u, w)
			return err
		})
		if err != nil {
			return err
		}
	}
	if p.OldObjects == "" {
		return nil
	}
	return r.exportText(out, path.Join("database", p.Label, "objects.sql"), func(w io.Writer) error {
		_, err := io.WriteString(w, p.OldObjects)
		return err
	})
}

// exportText adds a text whose length is known only once it is written.
func (r Recoverer) exportText(out *tar.Writer, name string, write func(io.Writer) error) error {
	spool, err := os.CreateTemp(r.State.Dir, "aside-")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(spool.Name()) }()
	defer spool.Close()
	if err := write(spool); err != nil {
		return err
	}
	size, err := spool.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if _, err := spool.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := out.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, Format: tar.FormatPAX}); err != nil {
		return err
	}
	_, err = io.Copy(out, spool)
	return err
}

func exportPath(in tree.Folder, out *tar.Writer, info fs.FileInfo, name, as string) (err error) {
	target := ""
	if info.Mode()&fs.ModeSymlink != 0 {
		if target, err = in.Readlink(name); err != nil {
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
	if st, known := tree.StatOf(info); known {
		h.Uid, h.Gid = st.UID, st.GID
		h.Uname, h.Gname = in.Owner(st.UID, st.GID)
	}
	h.Name, h.Format = as, tar.FormatPAX
	if info.IsDir() {
		h.Name += "/"
	}
	if err := out.WriteHeader(h); err != nil || !info.Mode().IsRegular() {
		return err
	}
	f, err := in.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(out, f)
	return err
}

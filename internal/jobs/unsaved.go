package jobs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/engine"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
	"revlet/internal/work/restore"
)

// Unsaved is what restores of a site have set aside and no archive holds: once that is
// deleted, it exists nowhere.
type Unsaved struct {
	Files  []UnsavedFile  `json:"files"`
	Tables []UnsavedTable `json:"tables"`
	// Unread are the archives and stores that could not be looked into: what is listed
	// may be held by them.
	Unread []string `json:"unread"`
	// Unknown is what is set aside and could not be looked into.
	Unknown []string `json:"unknown"`
}

// UnsavedFile is a file that no archive holds the content of. Path begins with the
// label of the folder that it lay in.
type UnsavedFile struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
}

// UnsavedTable is a table that no archive holds as it was.
type UnsavedTable struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	Rows     int64  `json:"rows"`
}

// Empty tells that nothing would be lost.
func (u *Unsaved) Empty() bool { return len(u.Files)+len(u.Tables)+len(u.Unknown) == 0 }

// Bytes is how long the files are together.
func (u *Unsaved) Bytes() (n int64) {
	for _, f := range u.Files {
		n += f.Bytes
	}
	return n
}

// Unsaved looks through what restores of a site have set aside for what no archive
// holds. A file that has not changed since an archive was taken (same size, times and
// inode) is not read.
func (a *Agent) Unsaved(ctx context.Context, name string) (*Unsaved, error) {
	asides, err := restore.Asides(a.State, name)
	if err != nil || len(asides) == 0 {
		return &Unsaved{}, err
	}
	u := &unsaved{a: a, found: &Unsaved{}}
	if err := u.openArchives(ctx, name); err != nil {
		return nil, err
	}
	for i := range asides {
		if err := u.files(ctx, &asides[i]); err != nil {
			return nil, fmt.Errorf("look for what no archive holds: %w", err)
		}
		if err := u.databases(ctx, &asides[i]); err != nil {
			return nil, fmt.Errorf("look for what no archive holds: %w", err)
		}
	}
	return u.found, nil
}

// unsaved is the search.
type unsaved struct {
	a     *Agent
	found *Unsaved
	// archives can be looked into, newest first; lists are those with files whose list
	// was readable so far.
	archives, lists []*catalog.Held
}

// openArchives opens the archives of the site; what cannot be is noted.
func (u *unsaved) openArchives(ctx context.Context, name string) error {
	l, err := u.a.List(ctx, name)
	if err != nil {
		return err
	}
	for _, s := range l.Silent {
		u.found.Unread = append(u.found.Unread, "store "+s.Store+", which is not reached")
	}
	for i := range l.Archives {
		h := &l.Archives[i]
		if err := h.Unseal(h.Keys); err != nil {
			u.found.Unread = append(u.found.Unread, h.Name+": it is encrypted, and no key was given")
			continue
		}
		u.archives = append(u.archives, h)
		if h.Scope.HasFiles() {
			u.lists = append(u.lists, h)
		}
	}
	return nil
}

// files looks through the folders of an aside.
func (u *unsaved) files(ctx context.Context, aside *restore.Aside) error {
	if _, ok := aside.Folders[site.RootLabel]; !ok {
		return nil
	}
	// What does not differ from one archive is held; of the rest, the digest tells.
	for len(u.lists) > 0 {
		i := max(0, slices.IndexFunc(u.lists, func(h *catalog.Held) bool { return h.Name == aside.Archive }))
		report, err := u.a.compareAside(ctx, u.lists[i], aside, true)
		if err != nil {
			u.unread(i, err)
			continue
		}
		var differ []string
		for _, f := range report.Files {
			if f.After >= 0 && !f.Folder() {
				differ = append(differ, f.Path)
			}
		}
		return u.digested(ctx, aside, differ)
	}
	return u.everyFile(ctx, aside)
}

// unread notes that the list of an archive cannot be read.
func (u *unsaved) unread(i int, err error) {
	why := err.Error()
	if reason.Is(err, reason.NoKey) {
		why = "it is encrypted, and no key was given"
	}
	u.found.Unread = append(u.found.Unread, u.lists[i].Name+": "+why)
	u.lists = slices.Delete(u.lists, i, i+1)
}

// everyFile is for a site no archive of which can be looked into.
func (u *unsaved) everyFile(ctx context.Context, aside *restore.Aside) error {
	in, err := u.a.openFolders(ctx, aside.Journal, aside.Folders)
	if err != nil {
		return err
	}
	var all []string
	err = in.each(ctx, func(label, rel string, _ fs.FileInfo) error {
		all = append(all, label+"/"+rel)
		return nil
	})
	if err := errors.Join(err, in.Close()); err != nil {
		return err
	}
	return u.digested(ctx, aside, all)
}

// digested notes those files that no archive holds the content of. One that the live
// site has under another name of the same file stays there.
func (u *unsaved) digested(ctx context.Context, aside *restore.Aside, paths []string) error {
	was, err := u.a.openFolders(ctx, aside.Journal, aside.Folders)
	if err != nil {
		return err
	}
	defer was.Close()
	is, err := u.a.openFolders(ctx, aside.Journal, aside.LiveFolders())
	if err != nil {
		return err
	}
	defer is.Close()
	bySum := map[string][]UnsavedFile{}
	for _, p := range paths {
		label, rel, _ := strings.Cut(p, "/")
		if was[label] == nil {
			return fmt.Errorf("%s: %w", aside.Folders[label], fs.ErrNotExist)
		}
		info, err := was[label].Lstat(rel)
		if err != nil {
			return err
		}
		if now := is[label]; now != nil {
			if live, err := now.Lstat(rel); err == nil && sameFile(live, info) {
				continue
			}
		}
		sum, err := contentSum(was[label], rel, info)
		if err != nil {
			return err
		}
		if sum != "" {
			bySum[sum] = append(bySum[sum], UnsavedFile{p, info.Size()})
		}
	}
	for i := 0; i < len(u.lists) && len(bySum) > 0; i++ {
		err := u.lists[i].ReadList(ctx, func(e archive.Entry) error {
			delete(bySum, e.SHA256)
			if e.Type == archive.TypeSymlink {
				delete(bySum, "-> "+e.Target)
			}
			return nil
		})
		if err != nil {
			u.unread(i, err)
			i--
		}
	}
	for _, files := range bySum {
		u.found.Files = append(u.found.Files, files...)
	}
	slices.SortFunc(u.found.Files, func(a, b UnsavedFile) int { return strings.Compare(a.Path, b.Path) })
	return nil
}

// sameFile tells whether both are names of one file.
func sameFile(a, b fs.FileInfo) bool {
	one, ok1 := tree.StatOf(a)
	other, ok2 := tree.StatOf(b)
	return ok1 && ok2 && one.Inode != 0 && one.Dev == other.Dev && one.Inode == other.Inode
}

// contentSum is the SHA-256 of a file's content, or where a link leads; it is empty for
// what has no content.
func contentSum(in tree.Folder, name string, info fs.FileInfo) (string, error) {
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := in.Readlink(name)
		return "-> " + target, err
	case !info.Mode().IsRegular() || info.Size() == 0:
		return "", nil
	}
	f, err := in.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	digest := sha256.New()
	_, err = io.Copy(digest, f)
	return hex.EncodeToString(digest.Sum(nil)), err
}

// databases looks through the databases of an aside.
func (u *unsaved) databases(ctx context.Context, aside *restore.Aside) error {
	place, err := u.a.machine(aside.Journal)
	if err != nil {
		return err
	}
	for label, file := range u.databaseFiles(aside) {
		db := site.Database{Label: label, Engine: "sqlite", Path: file}
		if strings.HasPrefix(file, aside.On()) && aside.On() != "" {
			db.Place, db.On = place, place.Base()
		}
		there, err := u.a.fileExists(ctx, db)
		if err != nil || !there {
			if err != nil {
				return err
			}
			continue
		}
		scratch, err := os.MkdirTemp(u.a.State.Dir, "aside-")
		if err != nil {
			return err
		}
		source, err := engine.Untouched(ctx, u.a.Disk, db, scratch)
		if err == nil {
			err = errors.Join(u.tables(ctx, source, &database.Plan{Label: label}), source.Close())
		}
		if err != nil {
			u.unknown(label, err)
		}
		if err := u.a.Disk.RemoveAll(scratch); err != nil {
			return err
		}
	}
	s := u.a.siteIfKnown(ctx, aside.Journal)
	err = u.a.recoverer(s).EachAsideSource(ctx, aside, func(p *database.Plan, source database.Source) error {
		if err := u.tables(ctx, source, p); err != nil {
			u.unknown(p.Label, err)
		}
		return nil
	})
	if err != nil && ctx.Err() == nil {
		u.unknown("the site's", err)
		err = nil
	}
	return err
}

// fileExists tells whether a database that is a file is there.
func (a *Agent) fileExists(ctx context.Context, db site.Database) (bool, error) {
	if db.Place == nil {
		return a.Disk.Exists(db.Path)
	}
	_, err := db.Place.Anywhere(ctx).Lstat(strings.TrimPrefix(db.Path, db.On))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// unknown notes a database that cannot be looked into: it may be what broke the site.
func (u *unsaved) unknown(label string, err error) {
	u.found.Unknown = append(u.found.Unknown, "database "+label+": "+err.Error())
}

// databaseFiles are the database files of an aside, by label: those that lie in the
// tree of files, too, unless they are those of the live site.
func (u *unsaved) databaseFiles(aside *restore.Aside) map[string]string {
	all := maps.Clone(aside.DatabaseFiles)
	for _, h := range u.archives {
		for label, o := range h.Origin.Databases {
			for folder, dir := range aside.Folders {
				rel, err := sitepath.Rel(h.Origin.Roots[folder], o.Where)
				if all[label] == "" && o.Engine == "sqlite" && err == nil && sitepath.IsLocal(rel) && aside.Exchanged(folder, rel) {
					all[label] = dir + "/" + rel
				}
			}
		}
	}
	return all
}

// tables notes the tables of a source that no archive holds as they are.
func (u *unsaved) tables(ctx context.Context, source database.Source, p *database.Plan) error {
	snapshot, err := source.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snapshot.Close()
	missing := map[string]int64{}
	for _, unit := range snapshot.Units() {
		table := p.AsideOf(unit.Table)
		if unit.Kind != database.Rows || p.Rows != nil && table == unit.Table {
			continue
		}
		digest := sha256.New()
		w := io.Writer(digest)
		if table != unit.Table {
			w = &renamed{to: digest, from: [][]byte{[]byte("INSERT INTO `" + unit.Table + "`"), []byte(`INSERT INTO "` + unit.Table + `"`)}, is: []byte(table)}
		}
		rows, err := snapshot.Dump(ctx, unit, w)
		if err != nil {
			return err
		}
		if rows > 0 && !u.holdsTable(p.Label, table, hex.EncodeToString(digest.Sum(nil))) {
			missing[table] += rows
		}
	}
	for table, rows := range missing {
		u.found.Tables = append(u.found.Tables, UnsavedTable{p.Label, table, rows})
	}
	slices.SortFunc(u.found.Tables, func(a, b UnsavedTable) int {
		return strings.Compare(a.Database+"\x00"+a.Table, b.Database+"\x00"+b.Table)
	})
	return nil
}

func (u *unsaved) holdsTable(label, table, sum string) bool {
	return slices.ContainsFunc(u.archives, func(h *catalog.Held) bool {
		return slices.ContainsFunc(h.Parts, func(p archive.Part) bool {
			return p.Kind == archive.KindRows && p.Database == label && p.Table == table && p.ContentSHA256 == sum
		})
	})
}

// renamed writes SQL text on, with the name of a table at the beginning of lines
// changed. A value that has such a line in it only makes the text be another one.
type renamed struct {
	to   io.Writer
	from [][]byte
	is   []byte
	// held is the beginning of a line that may still become one of from; inside is set
	// in the rest of a line.
	held   []byte
	inside bool
}

func (r *renamed) Write(data []byte) (int, error) {
	n := len(data)
	for len(data) > 0 {
		if r.inside {
			end := bytes.IndexByte(data, '\n') + 1
			if r.inside = end == 0; r.inside {
				end = len(data)
			}
			if _, err := r.to.Write(data[:end]); err != nil {
				return 0, err
			}
			data = data[end:]
			continue
		}
		r.held = append(r.held, data[0])
		data = data[1:]
		if err := r.decide(); err != nil {
			return 0, err
		}
	}
	return n, nil
}

// decide writes what is held once it is clear what it is.
func (r *renamed) decide() error {
	for _, head := range r.from {
		if bytes.Equal(r.held, head) {
			quote := head[len("INSERT INTO ")]
			r.held = fmt.Appendf(nil, "INSERT INTO %c%s%c", quote, r.is, quote)
			break
		}
		if bytes.HasPrefix(head, r.held) {
			return nil
		}
	}
	r.inside = r.held[len(r.held)-1] != '\n'
	_, err := r.to.Write(r.held)
	r.held = nil
	return err
}

// refuseUnsaved is the answer to settling what no archive holds.
func refuseUnsaved(name string, u *Unsaved) error {
	return reason.New(reason.NotSaved, reason.Names{"site": name}, "site %s: %d files and %d tables that are set aside are in no archive that could be looked into; nothing was deleted", name, len(u.Files), len(u.Tables))
}

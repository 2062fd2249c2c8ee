package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/store"
)

// preflight refuses what cannot work before anything is written.
func (r *run) preflight(ctx context.Context) error {
	rec := r.Archive.Record
	if err := r.findFar(); err != nil {
		return err
	}
	if r.Files && !rec.Scope.HasFiles() && (r.Selection == nil || !r.Selection.databases) {
		return fmt.Errorf("archive %s holds no files (its scope is %s)", rec.Name, rec.Scope)
	}
	if r.Database && !rec.Scope.HasDatabase() {
		return fmt.Errorf("archive %s holds no database (its scope is %s)", rec.Name, rec.Scope)
	}
	if err := r.sameSite(); err != nil {
		return err
	}
	if r.Files && r.Selection != nil {
		if err := r.planShare(ctx); err != nil {
			return err
		}
	}
	if err := r.partsPresent(ctx); err != nil {
		return err
	}
	if r.Files {
		if err := r.planFiles(ctx); err != nil {
			return err
		}
		if err := r.planKept(ctx); err != nil {
			return err
		}
	}
	if err := r.planMaintenance(); err != nil {
		return err
	}
	if err := r.unlocked(); err != nil {
		return err
	}
	var err error
	if r.owners, err = r.whose(); err != nil {
		return err
	}
	if err := r.openTargets(ctx); err != nil {
		return err
	}
	if r.Moving != nil {
		return nil // it is another site, and its settings are changed
	}
	err = errors.Join(r.sameAddress(ctx), r.settingsLead(ctx))
	if err == nil && r.Database && r.Confirm != nil {
		err = r.Confirm()
	}
	if err != nil {
		r.closeTargets()
	}
	return err
}

// unlocked refuses folders that cannot be exchanged, and a door that cannot be closed, for they are locked
// against changes. What lies deeper goes along with its folder, locked or not.
func (r *run) unlocked() error {
	if !r.Files || r.far != nil {
		return nil
	}
	var all []string
	for _, f := range r.journal.plans() {
		// What is locked cannot be written to either.
		if err := cmp.Or(r.disk.Locked(f.Root), writable(r.disk, f.Root)); err != nil {
			return err
		}
		for _, rel := range f.Carried {
			if err := writable(r.disk, filepath.Join(f.Root, filepath.FromSlash(path.Dir(rel)))); err != nil {
				return err
			}
		}
		for _, kept := range f.Kept {
			all = append(all, filepath.Join(f.Root, filepath.FromSlash(kept)))
		}
		if inner, err := needsInner(r.disk, f.Root); r.Selection == nil && (err != nil || !inner) {
			continue // the folder is renamed as a whole
		}
		names, err := r.disk.ReadNames(f.Root)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, name := range slices.Sorted(slices.Values(names)) {
			all = append(all, filepath.Join(f.Root, name))
		}
	}
	if r.journal.Door != "" {
		all = append(all, filepath.Join(r.journal.Files.Root, frontDoor))
	}
	return r.disk.Locked(all...)
}

// writable refuses a folder that this account can read, and not exchange: nothing is renamed
// out of it, and it itself into no other folder.
func writable(d *disk.Disk, root string) error {
	info, err := d.Lstat(root)
	if errors.Is(err, fs.ErrNotExist) || err == nil && disk.Writable(root) {
		return nil
	}
	if err != nil {
		return err
	}
	if isOwn(info) || os.Geteuid() == 0 {
		return fmt.Errorf("%s cannot be written to", root)
	}
	owner := ownerOf(info)
	return reason.New(reason.WorkAs, reason.Names{"account": owner}, "%s belongs to %s, and this account may not write there: it can save the site, and not put it back", root, owner)
}

// isOwn tells whether something belongs to this account, or to nobody that is known.
func isOwn(info fs.FileInfo) bool {
	a, ok := disk.AttributesOf(info)
	return !ok || a.UID == os.Geteuid()
}

// ownerOf is the name of the account that something belongs to, or its number.
func ownerOf(info fs.FileInfo) string {
	a, _ := disk.AttributesOf(info)
	return disk.AccountName(a.UID)
}

// sameSite refuses to put an archive over what looks like another site.
func (r *run) sameSite() error {
	o := r.Archive.Origin
	switch {
	case r.Anyway:
		return nil
	case o.Recipe != "" && r.Site.Recipe != nil && r.Site.Recipe.Name != "" && o.Recipe != r.Site.Recipe.Name:
		return reason.New(reason.OtherCMS, nil, "%s is %s now, the archive is of %s: this looks like another site", r.Site.Root, r.Site.Recipe.Name, o.Recipe)
	}
	return nil
}

// sameAddress refuses to put an archive over a site of another address. Where the
// configuration says none, the site's own database is asked.
func (r *run) sameAddress(ctx context.Context) error {
	archived := r.Archive.Origin.Address
	if r.Anyway || archived == "" {
		return nil
	}
	if now := r.addressNow(ctx); now != "" && place(archived) != place(now) {
		return reason.New(reason.OtherSite, nil, "the site's address is %s, the archive is of %s: this looks like another site", now, archived)
	}
	return nil
}

// place is what of an address tells one site from another.
func place(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	return strings.TrimPrefix(u.Hostname(), "www.") + strings.TrimSuffix(u.Path, "/")
}

// wanted are the parts that this restore reads.
func (r *run) wanted() []archive.Part {
	return slices.DeleteFunc(slices.Clone(r.Archive.Parts), func(p archive.Part) bool {
		isFile := p.Kind == archive.KindFiles || p.Kind == archive.KindTree
		if p.Kind == archive.KindFiles && r.Selection != nil && r.Selection.parts != nil && !r.Selection.parts[p.Name] {
			return true
		}
		return isFile && !r.Files || !isFile && !r.wantsSQL(p)
	})
}

// wantsSQL tells whether a part of a database is read.
func (r *run) wantsSQL(p archive.Part) bool {
	if !r.Database || r.Rows == nil {
		return r.Database
	}
	if r.Rows[p.Database] == nil {
		return false
	}
	return p.Kind != archive.KindRows || slices.Contains(r.tables(p.Database), p.Table)
}

// asked is how many parts, and of each how many objects, are asked for at a time.
const asked = 4

func (r *run) partsPresent(ctx context.Context) error {
	parts := r.wanted()
	found := make([]error, len(parts))
	g, asking := errgroup.WithContext(ctx)
	g.SetLimit(asked)
	for i, p := range parts {
		g.Go(func() error {
			found[i] = r.Archive.EachStore(func(s store.Named) error { return r.partPresent(asking, s, p) })
			if found[i] != nil && catalog.VerdictOf(found[i]) != catalog.Damaged {
				return fmt.Errorf("archive %s cannot be read now: %w", r.Archive.Name, found[i])
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, p := range parts {
		if err := found[i]; err != nil && (!r.Salvage || p.Kind == archive.KindSchema) {
			return reason.New(reason.ArchiveDamaged, reason.Names{"archive": r.Archive.Name}, "archive %s cannot be restored whole: %w", r.Archive.Name, err)
		}
	}
	return nil
}

// partPresent tells whether a store has all objects of a part, of the right length.
func (r *run) partPresent(ctx context.Context, s store.Named, p archive.Part) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(asked)
	for o := range p.Objects() {
		g.Go(func() error {
			info, err := s.Stat(ctx, archive.PartPath(r.Archive.Site, o.Name))
			if err == nil && info.Bytes != o.Bytes {
				err = fmt.Errorf("store %s: part %s: %w: it has %d bytes, %d were written", s.Name, o.Name, archive.ErrDamaged, info.Bytes, o.Bytes)
			}
			return err
		})
	}
	return g.Wait()
}

// margin is kept free beyond what the restored files need.
const margin = 16 << 20

// FoldersNamed makes sure that the site has each folder that the archive, or the share of it, lies in. A share has to be
// looked at before.
func FoldersNamed(s *site.Site, h *catalog.Held, share *FileSelection) error {
	for _, label := range h.Origin.Others(site.RootLabel) {
		if s.Roots[label] == "" && (share == nil || share.labels[label]) {
			return reason.New(reason.RootUnnamed, reason.Names{"site": s.Name, "label": label, "path": h.Origin.Roots[label]}, "archive %s holds a folder %q that the site's entry does not name now", h.Name, label)
		}
	}
	return nil
}

// planFiles plans the exchange of every folder that the archive holds.
func (r *run) planFiles(ctx context.Context) error {
	totals := r.Archive.Totals
	need := totals.FileBytes + (totals.Files+totals.Folders)*2048 + margin
	if r.Selection != nil {
		need = r.Selection.bytes + r.Selection.paths*2048 + totals.Folders*4096 + margin
	}
	for _, db := range r.Site.Databases {
		if _, _, inside := r.Site.LiesIn(db); inside && r.Database && r.Rows == nil {
			need += totals.DatabaseBytes
		}
	}
	if err := FoldersNamed(r.Site, r.Archive, r.Selection); err != nil {
		return err
	}
	f, err := r.planFolder(ctx, site.RootLabel, r.Site.Root, need)
	if err != nil {
		return err
	}
	r.carries(f)
	r.journal.Files, r.journal.Partial = f, r.Selection != nil
	for _, label := range r.Archive.Origin.Others(site.RootLabel) {
		if !r.plans(label) {
			continue // of a share, other folders stay as they are
		}
		dir := r.Site.Roots[label]
		// How the bytes are shared out is not known here: each must have room for all.
		extra, err := r.planFolder(ctx, label, dir, need)
		if err != nil {
			return err
		}
		r.carries(extra)
		r.journal.Extra = append(r.journal.Extra, extra)
	}
	folders := map[string]string{}
	for _, f := range r.journal.plans() {
		folders[f.Label] = f.Root
	}
	return site.Apart(folders)
}

// thereOrAbove is a folder, or the nearest above it that is there.
func (r *run) thereOrAbove(dir string) string {
	for there, err := r.disk.Exists(dir); err == nil && !there && dir != filepath.Dir(dir); there, err = r.disk.Exists(dir) {
		dir = filepath.Dir(dir)
	}
	return dir
}

// MayReplace refuses a folder that is one of its machine's system.
func MayReplace(dir string) error {
	if site.NeverExchanged(dir) {
		return reason.New(reason.SystemFolder, reason.Names{"path": dir}, "%s is a folder of the system, and a restore would put another in its place", dir)
	}
	return nil
}

func (r *run) planFolder(ctx context.Context, label, dir string, need int64) (*FilesPlan, error) {
	if r.far != nil {
		return r.planFarFolder(ctx, label, dir, need)
	}
	root, err := disk.Way(dir)
	if err == nil {
		err = errors.Join(MayReplace(dir), MayReplace(root))
	}
	if err == nil && !r.looks {
		err = r.disk.MkdirAll(filepath.Dir(root), 0o755)
	}
	if err != nil {
		return nil, fmt.Errorf("the folder %s: %w", dir, err)
	}
	f := &FilesPlan{Label: label, Root: root, Box: newBox(root, r.Site.Name, r.journal.ID+boxSuffix(label), r.token)}
	if root != dir {
		f.Named = dir
	}
	if err := NoMountsBelow(r.disk, r.Site.Name, root); err != nil {
		return nil, err
	}
	if f.Inner, err = needsInner(r.disk, root); err != nil {
		return nil, err
	}
	if f.Inner {
		f.Box = newBoxIn(root, r.Site.Name, r.journal.ID, r.token)
		r.observer.Note("note: nothing can be staged beside " + root + ", so its content is exchanged name by name")
	}
	free, err := r.disk.Free(r.thereOrAbove(filepath.Dir(f.Box)))
	if err != nil {
		return nil, err
	}
	if free < need {
		return nil, fmt.Errorf("no room to stage: %s has %d MiB free, %d MiB are needed, for the live site stays until the new one is complete", filepath.Dir(f.Box), free>>20, need>>20)
	}
	return f, nil
}

// boxSuffix keeps the boxes of folders apart that lie side by side.
func boxSuffix(label string) string {
	if label == site.RootLabel {
		return ""
	}
	return "-" + label
}

// carries notes the database files in a folder that stay what they are.
func (r *run) carries(f *FilesPlan) {
	for _, db := range r.Site.Databases {
		if label, rel, inside := r.Site.LiesIn(db); inside && label == f.Label && (!r.Database || r.Rows != nil) {
			f.Carried = append(f.Carried, rel)
		}
	}
}

// openTargets connects to every database that is restored.
func (r *run) openTargets(ctx context.Context) error {
	r.targets = map[string]database.Target{}
	if !r.Database {
		return nil
	}
	for label, origin := range r.Archive.Origin.Databases {
		if r.Rows != nil && r.Rows[label] == nil {
			continue
		}
		db, ok := r.Site.Database(label)
		if !ok {
			return reason.New(reason.DatabaseUnknown, nil, "archive %s holds a database %q that the site does not have now", r.Archive.Name, label)
		}
		if db.Engine != origin.Engine {
			return fmt.Errorf("database %s: the archive's is %s, the site's is %s", label, origin.Engine, db.Engine)
		}
		mode := r.fileMode(origin)
		in, rel, inside := r.Site.LiesIn(db)
		f := r.journal.plan(in)
		whole := inside && f != nil && r.Rows == nil
		beside, err := r.placeOf(&db, f, in, rel, inside)
		if err != nil {
			return err
		}
		target, err := r.Open(ctx, db, mode, beside)
		if err != nil && db.Dump != "" {
			return reason.Because(reason.DumpAlone, reason.Names{"archive": r.Archive.Name}, err)
		}
		if err != nil {
			return NotSetUp(db, origin, err)
		}
		if !whole {
			r.journal.access(db)
		}
		if err := database.CheckVersion(origin.Version, target.Info().Version); err != nil && !r.Anyway && db.Engine != "sqlite" {
			return errors.Join(err, target.Close())
		}
		if whole {
			r.inside = append(r.inside, insideDatabase{db: db, plan: f, rel: rel, target: target})
			continue
		}
		r.targets[label] = target
	}
	return nil
}

// placeOf returns the folder beside which the files of a database that is a file are
// staged, if it is one; inside tells that it lies in one of the site's folders, as rel, and f is the plan for that, if it is
// restored. One that is restored with its folder is given the path at which it is loaded.
func (r *run) placeOf(db *site.Database, f *FilesPlan, in, rel string, inside bool) (beside string, err error) {
	whole := inside && f != nil && r.Rows == nil
	if db.Path != "" && db.On == "" && !whole && r.Rows == nil {
		if err := writable(r.disk, filepath.Dir(db.Path)); err != nil {
			return "", err
		}
	}
	switch {
	case whole && f.On != "":
		// It is loaded here, and sent with the rest.
		db.Place, db.On = nil, ""
		db.Path = filepath.Join(f.here(), filepath.FromSlash(rel))
		return f.boxHere(), nil
	case whole && f.Inner:
		if err := r.makeScratch(); err != nil {
			return "", err
		}
		db.Path = filepath.Join(r.scratch, db.Label+".db")
		return r.scratch, nil
	case whole:
		db.Path = filepath.Join(f.staged(), filepath.FromSlash(rel))
		return f.Box, nil
	case inside && f != nil:
		db.Path = filepath.Join(f.Root, filepath.FromSlash(rel))
		return f.Box, nil
	case inside:
		root, err := filepath.EvalSymlinks(r.Site.FolderOf(in))
		if err != nil {
			root = r.Site.FolderOf(in)
		}
		db.Path = filepath.Join(root, filepath.FromSlash(rel))
		if inner, err := needsInner(r.disk, root); err == nil && inner {
			return newBoxIn(root, r.Site.Name, r.journal.ID, r.token), nil
		}
		return newBox(root, r.Site.Name, r.journal.ID, r.token), nil
	case db.Path != "":
		return newBox(db.Path, r.Site.Name, r.journal.ID, r.token), nil
	}
	return "", nil
}

func (r *run) makeScratch() (err error) {
	if r.scratch == "" {
		r.scratch, err = r.State.Inside(r.Site.Name)
	}
	return err
}

// NotSetUp adds to an error about a server that lacks something what its administrator
// has to run.
func NotSetUp(db site.Database, origin archive.DBOrigin, err error) error {
	if !errors.Is(err, database.ErrNotSetUp) {
		return err
	}
	s := db.Setup(origin.Charset, origin.Collation)
	_ = errors.As(err, &s.LetIn)
	sql, what := s.SQL(), reason.ServerRights
	if sql == "" {
		return err
	}
	if strings.Contains(sql, database.Placeholder) {
		what = reason.ServerSetup
	}
	return reason.Because(what, reason.Names{"sql": sql}, err)
}

func (r *run) fileMode(o archive.DBOrigin) sqlite.FileMode {
	perm, err := strconv.ParseUint(o.Mode, 8, 32)
	if err != nil || o.Owner == nil {
		return sqlite.FileMode{}
	}
	uid, gid := r.owners.Of(*o.Owner)
	return sqlite.FileMode{Perm: fs.FileMode(perm & 0o777), UID: uid, GID: gid}
}

func (r *run) closeTargets() {
	for _, t := range r.targets {
		_ = t.Close()
	}
	for _, d := range r.inside {
		_ = d.target.Close()
	}
	if r.scratch != "" {
		_ = r.disk.RemoveAll(r.scratch)
	}
}

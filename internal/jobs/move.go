package jobs

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/check"
	"revlet/internal/site/engine"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
	"revlet/internal/watch/history"
	"revlet/internal/work/move"
	"revlet/internal/work/restore"
	"revlet/internal/work/rewrite"
)

// MoveOrder is where an archive is to come up, and how.
type MoveOrder struct {
	Archive *catalog.Held
	// To is the new site's name. Root, Address, Databases and Stores make an entry for it;
	// they are empty for one that the configuration has.
	To, Root, Address string
	// Folders are where its other folders lie, each `LABEL=FOLDER`, as `roots:` of the configuration has them.
	Folders []string
	// Reach is how the machine of a new site is reached that lives elsewhere.
	Reach *config.Reach
	// Databases are those of the new place, each `ENGINE: where` or `LABEL=ENGINE: where`
	// as the configuration has it; PasswordFile holds the password of all of them.
	Databases    []string
	PasswordFile string
	Stores       []string
	// MakeDatabase is an administrator of the database server, as user@host:port or
	// user@/socket, who makes databases and accounts that are missing; AdminPasswordFile
	// holds his password.
	MakeDatabase, AdminPasswordFile string
	// PHP is the program of the PHP that the new place's web server uses.
	PHP string
	// Look tells that nothing is to be done, not even a new password.
	Look bool
	move.Options
	// Anyway takes a place at which something is: it is set aside.
	Anyway bool
}

// Move is a move that was planned.
type Move struct {
	Order MoveOrder
	Site  *site.Site
	Plan  *move.Plan
	// Entry is the new site's entry, and New tells that it is not in the configuration yet.
	Entry config.Site
	New   bool
	// Replaces says in words what is at the new place.
	Replaces []string
	// Makes are the databases that have to be made first.
	Makes []site.Database
	// Needs are what the CMS needs, and whether the new place has it.
	Needs []Requirement
	// own labels the database that the recipe describes; empty if it describes none, or
	// several. servers are the versions of the database servers, by label.
	own     string
	servers map[string]string
	// Beside says what is there too, and stays: it belongs to another site.
	Beside []string
}

// Moved is what came of a move.
type Moved struct {
	*restore.Result
	Move   *Move
	Report move.Report
	// Added is what was added to the configuration, Answers what the new place answers.
	Added   string
	Answers []check.Result
	// Made says what was made on the database server, in words.
	Made []string
}

// PlanMove makes sure that an archive can come up where it is to, and that nothing else is
// there. Nothing is changed, but that a new password may be written into a file, and that a
// page may ask the new web server for its PHP; neither is with MoveOrder.Look.
func (a *Agent) PlanMove(ctx context.Context, o MoveOrder) (*Move, error) {
	m := &Move{Order: o, servers: map[string]string{}}
	if err := a.newPasswordFile(&m.Order); err != nil {
		return nil, err
	}
	if err := a.entryFor(ctx, m); err != nil {
		return nil, err
	}
	if err := a.openMoved(ctx, m); err != nil {
		return nil, err
	}
	if err := a.apart(ctx, m); err != nil {
		return nil, err
	}
	if err := a.vacant(ctx, m); err != nil {
		return nil, err
	}
	if err := a.needs(ctx, m); err != nil {
		return nil, err
	}
	var err error
	m.Plan, err = move.New(ctx, m.Order.Archive, m.Site, m.Order.Options)
	return m, err
}

// newPasswordFile writes a random password for an account that is to be made into a file
// that is not there yet.
func (a *Agent) newPasswordFile(o *MoveOrder) error {
	if o.MakeDatabase == "" || o.PasswordFile == "" {
		return nil
	}
	there, err := a.Disk.Exists(o.PasswordFile)
	if err != nil || there {
		return err
	}
	if err := a.NotInSites(o.PasswordFile); err != nil {
		return err
	}
	if o.Look {
		o.PasswordFile = ""
		return nil
	}
	return a.Disk.WriteFile(o.PasswordFile, []byte(rand.Text()+"\n"), 0o600)
}

// entryFor finds the new site's entry, or makes one.
func (a *Agent) entryFor(ctx context.Context, m *Move) error {
	o, from := m.Order, m.Order.Archive
	if o.To == from.Site {
		return reason.BadUsage("%s is the site that the archive is of; the copy needs a name of its own", o.To)
	}
	if entry, ok := a.Config.Sites[o.To]; ok {
		return m.entryKnown(entry)
	}
	m.New = true
	if !config.ValidName(o.To) {
		return reason.BadUsage("%q cannot be the name of a site", o.To)
	}
	if o.Root == "" || o.Address == "" {
		return reason.BadUsage("there is no site %s in %s%s; to make one, say at least its webroot and its address", o.To, a.Config.Path, a.Config.Suggest(o.To))
	}
	there, err := a.newRoot(ctx, o)
	if err != nil {
		return err
	}
	root := strings.TrimPrefix(there.Root, there.Base())
	if site.SystemFolder(root) {
		return reason.BadUsage("%s is no place for a site", there.Root)
	}
	address, err := siteAddress(o.Address)
	if err != nil {
		return err
	}
	stores := o.Stores
	if len(stores) == 0 {
		stores = a.Config.Sites[from.Site].Stores
	}
	for _, name := range stores {
		if _, ok := a.Config.Stores[name]; !ok {
			return reason.BadUsage("there is no store %q in %s%s", name, a.Config.Path, a.Config.Suggest(name))
		}
	}
	if len(stores) == 0 {
		return reason.BadUsage("say in which store archives of %s are to be held", o.To)
	}
	m.Entry = config.Site{Root: there.Root, Reach: there.Reach, ReachRate: there.ReachRate, ReachSilence: there.ReachSilence, Address: address, Recipe: a.recipeFor(from), Stores: stores, Skip: a.Config.Sites[from.Site].Skip}
	if _, err := rewrite.New(rewrite.Options{Pairs: []rewrite.Pair{{Old: "/x", New: root}, {Old: "http://x.example", New: address}}}); err != nil {
		return reason.BadUsage("%w", err)
	}
	if m.Entry.Roots, err = moveFolders(o); err != nil {
		return err
	}
	if err := m.foldersFor(); err != nil {
		return err
	}
	m.Entry.Databases, err = moveDatabases(o)
	return err
}

// entryKnown takes an entry that the configuration has.
func (m *Move) entryKnown(entry config.Site) (err error) {
	o := m.Order
	if o.Root+o.Address != "" || len(o.Stores)+len(o.Folders) > 0 || len(o.Databases) > 0 && entry.NamesDatabases() {
		return reason.BadUsage("the configuration has a site %s already: where it lies is said there", o.To)
	}
	m.Entry = entry
	if err := m.foldersFor(); err != nil || len(o.Databases) == 0 {
		return err
	}
	m.Entry.Databases, err = moveDatabases(o) // its own settings do not lead to one yet
	return err
}

// foldersFor makes sure that each folder of the archive has its like at the new place.
func (m *Move) foldersFor() error {
	for _, label := range m.Order.Archive.Origin.Others(site.RootLabel) {
		if m.Entry.Roots[label] == "" {
			return reason.New(reason.FolderUnnamed, reason.Names{"label": label}, "archive %s holds a further folder %s (it lay at %s); say where it is to be at the new place", m.Order.Archive.Name, label, m.Order.Archive.Origin.Roots[label])
		}
	}
	return nil
}

// moveFolders reads the other folders of an order.
func moveFolders(o MoveOrder) (map[string]string, error) {
	var all map[string]string
	for _, typed := range o.Folders {
		label, dir, ok := strings.Cut(typed, "=")
		if !ok || dir == "" || label == site.RootLabel || label == site.AboveLabel || o.Archive.Origin.Roots[label] == "" {
			return nil, reason.BadUsage("%q is no folder of the archive; it is to be LABEL=FOLDER, and it has %s", typed, cmp.Or(strings.Join(o.Archive.Origin.Others(site.RootLabel), ", "), "none but the webroot"))
		}
		there := config.Site{Root: o.Root}
		dir = strings.TrimPrefix(dir, there.Base())
		if !there.Far() {
			var err error
			if dir, err = filepath.Abs(dir); err != nil {
				return nil, err
			}
		}
		if !sitepath.IsAbs(dir) || site.SystemFolder(dir) {
			return nil, reason.BadUsage("%s is no place for a folder of a site", dir)
		}
		if all == nil {
			all = map[string]string{}
		}
		all[label] = there.Base() + dir
	}
	return all, nil
}

// newRoot is the webroot that an order names for a new site, here or elsewhere.
func (a *Agent) newRoot(ctx context.Context, o MoveOrder) (config.Site, error) {
	there := config.Site{Root: o.Root, Reach: o.Reach}
	if there.Far() {
		return there, ofSite("", a.settleRoot(ctx, &there))
	}
	if there.Reach != nil {
		return there, reason.BadUsage("%s is on this machine: no key and no password are needed there", o.Root)
	}
	var err error
	there.Root, err = filepath.Abs(o.Root)
	return there, err
}

// recipeFor is the recipe of an archive's site as an entry names it.
func (a *Agent) recipeFor(h *catalog.Held) string {
	if name := a.Config.Sites[h.Site].Recipe; site.IsRecipeFile(name) {
		return name
	}
	return cmp.Or(h.Origin.Recipe, "none")
}

// siteAddress makes an address that somebody typed plain: a host in small letters, without
// a dot or a slash at its end.
func siteAddress(typed string) (string, error) {
	u, err := url.Parse(typed)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return "", reason.BadUsage("%s is no address of a site; it is to be like https://lighthouse.example or https://lighthouse.example/visit", typed)
	}
	host := strings.TrimSuffix(strings.ToLower(u.Hostname()), ".")
	if strings.ContainsFunc(host, func(r rune) bool { return r >= 0x80 }) {
		return "", reason.BadUsage("write the host name of %s as the name servers have it (it begins with xn--)", typed)
	}
	if u.Port() != "" {
		host += ":" + u.Port()
	}
	return u.Scheme + "://" + host + strings.TrimRight(u.EscapedPath(), "/"), nil
}

// moveDatabases reads the databases of an order.
func moveDatabases(o MoveOrder) (map[string]config.Database, error) {
	all := map[string]config.Database{}
	for _, typed := range o.Databases {
		label, rest, named := strings.Cut(typed, "=")
		if !named || strings.ContainsAny(label, ":@/") {
			label, rest = "", typed
		}
		if label == "" {
			for only := range o.Archive.Origin.Databases {
				label = only
			}
			if n := len(o.Archive.Origin.Databases); n != 1 {
				return nil, reason.BadUsage("the archive holds %d databases; say which one %q is: LABEL=%s", n, typed, typed)
			}
		}
		engine, where, _ := strings.Cut(rest, ":")
		db := config.Database{PasswordFile: o.PasswordFile}
		switch where = strings.TrimSpace(where); strings.TrimSpace(engine) {
		case "mysql":
			db.MySQL = where
		case "postgres":
			db.Postgres = where
		case "sqlite":
			db = config.Database{SQLite: where}
		default:
			return nil, reason.BadUsage("%q is no database; it is to be like `mysql: user@127.0.0.1:3306/name`", typed)
		}
		if _, held := o.Archive.Origin.Databases[label]; !held {
			return nil, reason.BadUsage("archive %s holds no database %q", o.Archive.Name, label)
		}
		all[label] = db
	}
	return all, nil
}

// openMoved opens the site at its new place, with the settings of the archive: what they
// say of tables holds there, too.
func (a *Agent) openMoved(ctx context.Context, m *Move) error {
	h := m.Order.Archive
	// A path in the settings that led into one of the old folders leads into the new one.
	root := strings.TrimPrefix(m.Entry.Root, m.Entry.Base())
	pairs := []rewrite.Pair{{Old: cmp.Or(h.Origin.Roots[site.RootLabel], root), New: root}}
	for label, dir := range m.Entry.Roots {
		if was := h.Origin.Roots[label]; was != "" {
			pairs = append(pairs, rewrite.Pair{Old: was, New: strings.TrimPrefix(dir, m.Entry.Base())})
		}
	}
	folders, err := rewrite.New(rewrite.Options{Pairs: pairs})
	if err != nil {
		return err
	}
	recipe, err := a.recipeOf(h)
	if err != nil {
		return reason.Because(reason.CannotMove, nil, err)
	}
	read := move.FromArchive(ctx, h, recipe)
	fromArchive := func(rel string) ([]byte, error) {
		data, err := read(rel)
		data, _, _ = folders.Value(data)
		return data, err
	}
	place, err := a.place(m.Entry)
	if err != nil {
		return err
	}
	s, err := site.OpenFromAt(m.Order.To, m.Entry, place, fromArchive)
	if !m.New && !m.Entry.NamesDatabases() {
		// Its own settings lead to its databases; those of an intruder, to somebody else's.
		if s, err = site.OpenAt(ctx, m.Order.To, m.Entry, place); err == nil {
			err = a.confirmDatabases(m.Order.To, s, m.Entry)
		}
	}
	if errors.Is(err, site.ErrNoRoot) {
		return reason.BadUsage("nothing is at %s yet that says which database is the new place's; say it", m.Entry.Root)
	}
	if err != nil {
		return err
	}
	var then map[string]site.Database
	if s.Recipe != nil {
		if then, err = s.Recipe.Leads(root, m.Entry.Settings, fromArchive); err != nil {
			return reason.Because(reason.CannotMove, nil, fmt.Errorf("the settings in archive %s cannot be read: %w", h.Name, err))
		}
	}
	if err := m.matchDatabases(s, then); err != nil {
		return err
	}
	if len(s.Checks) == 0 {
		s.Checks = []config.Check{{Path: "/", Status: 200}}
	}
	m.Site = s
	return nil
}

// matchDatabases makes sure that each database of the archive has its like at the new place,
// and has the site's own tables be known by what the settings of the archive say, then.
func (m *Move) matchDatabases(s *site.Site, then map[string]site.Database) error {
	h := m.Order.Archive
	if s.Recipe != nil && len(s.Recipe.Databases) == 1 {
		m.own = slices.Collect(maps.Keys(s.Recipe.Databases))[0]
	}
	for label, origin := range h.Origin.Databases {
		i := slices.IndexFunc(s.Databases, func(db site.Database) bool { return db.Label == label })
		if i < 0 {
			return reason.BadUsage("the archive holds a database %q (%s); say which one it is to be at the new place", label, origin.Engine)
		}
		db := &s.Databases[i]
		if db.Engine != origin.Engine {
			return reason.BadUsage("the archive's database %q is %s; a %s one cannot take it in", label, origin.Engine, db.Engine)
		}
		entry := m.Entry.Databases[label]
		named := entry != (config.Database{}) && (db.Engine != "sqlite" || entry.SQLite != "")
		if file, ok := fileInFolder(s, h, origin); ok && m.New && !named {
			db.Path = file
		}
		if _, _, inside := s.LiesIn(*db); !named && (db.Engine != "sqlite" && m.New || db.Engine == "sqlite" && !inside) {
			return reason.BadUsage("the archive holds a database %q (%s); say which one it is to be at the new place", label, origin.Engine)
		}
		if old := then[label].Prefix; old != "" {
			if !m.New && db.Prefix != "" && db.Prefix != old && m.Order.Prefix == "" && label == m.own {
				m.Order.Prefix = db.Prefix // the place has one of its own
			}
			db.Prefix = old
		}
		db.OwnTables = then[label].OwnTables
	}
	return nil
}

// fileInFolder is where a database file of an archive, which really lay in another folder than the webroot, lies in the new
// site's folder of that label.
func fileInFolder(s *site.Site, h *catalog.Held, origin archive.DBOrigin) (string, bool) {
	if origin.Engine != "sqlite" {
		return "", false
	}
	for _, label := range h.Origin.Others(site.RootLabel) {
		rel, err := sitepath.Rel(h.Origin.Roots[label], origin.Where)
		if err == nil && sitepath.IsLocal(rel) && s.FolderOf(label) != "" {
			return s.PathIn(label, rel), true
		}
	}
	return "", false
}

// apart refuses a place that is, or touches, that of the site the archive is of, or of
// another.
func (a *Agent) apart(ctx context.Context, m *Move) error {
	roots := map[string]string{}
	o := m.Order.Archive.Origin
	for label, dir := range o.Roots {
		if label != site.AboveLabel && dir != "" { // the folder above a webroot is nobody's
			roots[o.Place+dir] = m.Order.Archive.Site
		}
	}
	for name, other := range a.Config.Sites {
		if name == m.Order.To {
			continue
		}
		roots[other.Root] = name
		for _, dir := range other.Roots {
			roots[dir] = name
		}
	}
	for dir, name := range roots {
		for _, own := range m.Site.Folders() {
			if dir != "" && (within(own, dir) || within(dir, own)) {
				return reason.New(reason.CannotMove, nil, "%s belongs to site %s (%s); the new place is to be another", own, name, dir)
			}
		}
	}
	if err := site.Apart(m.Site.Folders()); err != nil {
		return reason.New(reason.CannotMove, nil, "%w", err)
	}
	for _, db := range m.Site.Databases {
		if origin, ok := m.Order.Archive.Origin.Databases[db.Label]; ok && origin.Where == db.Where() && a.hereOf(m.Order.Archive) {
			return reason.New(reason.CannotMove, nil, "%s is the database of site %s; the new place is to have another", db.Where(), m.Order.Archive.Site)
		}
		for name, cfg := range a.Config.Sites {
			if name == m.Order.To {
				continue
			}
			if theirs, ok := a.usedBy(ctx, cfg, name, db); ok {
				return reason.New(reason.CannotMove, nil, "%s is the database of site %s (%s); the new place is to have another", db.Where(), name, theirs.Where())
			}
		}
	}
	return nil
}

// hereOf tells whether an archive was taken on this machine, of a site that lives here.
func (a *Agent) hereOf(h *catalog.Held) bool {
	host, err := os.Hostname()
	return err == nil && host == h.Host && h.Origin.Place == ""
}

// within tells whether a path is a folder, or in it.
func within(path, dir string) bool {
	rel, err := sitepath.Rel(dir, path)
	return err == nil && sitepath.IsLocal(rel)
}

// usedBy tells whether another site uses a database, by whatever way it is reached.
func (a *Agent) usedBy(ctx context.Context, cfg config.Site, name string, db site.Database) (site.Database, bool) {
	if cfg.Far() && a.otherName(name, db) {
		return db, false
	}
	other, err := a.openSite(ctx, name, cfg)
	if err != nil {
		return db, false
	}
	for _, theirs := range other.Databases {
		if theirs.Engine != db.Engine {
			continue
		}
		if theirs.Same(db) {
			return theirs, true
		}
		if db.Engine == "sqlite" || theirs.Name != db.Name {
			continue // another database, whatever the server; theirs is not asked
		}
		if id := a.identity(ctx, theirs); id != "" && id == a.identity(ctx, db) {
			return theirs, true
		}
	}
	return db, false
}

// otherName tells whether, as far as is remembered, no database of a site is called as this
// one: forty machines need not be asked then.
func (a *Agent) otherName(name string, db site.Database) bool {
	known, err := a.readDatabasePlaces(name)
	if err != nil || len(known.Confirmed) == 0 {
		return false
	}
	for _, places := range []map[string]string{known.Confirmed, known.Waiting} {
		for _, place := range places {
			if strings.HasPrefix(place, db.Engine+" ") && strings.HasSuffix(place, "/"+db.Name) {
				return false
			}
		}
	}
	return true
}

// identity is what a database says it is; empty if it cannot be asked.
func (a *Agent) identity(ctx context.Context, db site.Database) string {
	target, err := a.openTarget(ctx, db, sqlite.FileMode{}, "")
	if err != nil {
		return ""
	}
	defer target.Close()
	id := ""
	if of, ok := target.(interface {
		Identity(ctx context.Context) (string, error)
	}); ok {
		id, _ = of.Identity(ctx)
	}
	return id
}

// serverOf is the version of a database's server; empty if it cannot be asked.
func (a *Agent) serverOf(ctx context.Context, db site.Database) string {
	target, err := a.openTarget(ctx, db, sqlite.FileMode{}, "")
	if err != nil {
		return ""
	}
	defer target.Close()
	return target.Info().Version
}

// vacant refuses a place at which something is, unless it is to be set aside.
func (a *Agent) vacant(ctx context.Context, m *Move) error {
	foreign := false
	folders := m.Site.Folders()
	for _, label := range slices.Sorted(maps.Keys(folders)) {
		names, err := namesIn(ctx, m.Site.At(a.Disk), m.Site.PathAt(folders[label]))
		if err != nil {
			return ofSite(m.Order.To, fmt.Errorf("the new folder %s: %w", folders[label], err))
		}
		if len(names) > 0 {
			m.Replaces = append(m.Replaces, fmt.Sprintf("%s, which is not empty", folders[label]))
		}
	}
	for _, db := range m.Site.Databases {
		if _, _, inside := m.Site.LiesIn(db); inside {
			continue
		}
		all := db
		all.Prefix, all.OwnTables = "", nil
		tables, err := a.tableNames(ctx, all)
		if errors.Is(err, database.ErrNotSetUp) && m.Order.MakeDatabase != "" {
			m.Makes = append(m.Makes, db)
			continue
		}
		if err != nil {
			return fmt.Errorf("the database of the new place, %s: %w", db.Where(), restore.NotSetUp(db, m.Order.Archive.Origin.Databases[db.Label], err))
		}
		m.servers[db.Label] = a.serverOf(ctx, db)
		if db.Label == m.own {
			db.Prefix = cmp.Or(m.Order.Prefix, db.Prefix)
		}
		mine, err := a.tableNames(ctx, db)
		if err != nil {
			return fmt.Errorf("the database of the new place, %s: %w", db.Where(), err)
		}
		foreign = foreign || len(tables) > 0
		if len(mine) > 0 {
			m.Replaces = append(m.Replaces, fmt.Sprintf("%s, which has %s", db.Where(), english.Plural(len(mine), "table", "")))
		}
		if n := len(tables) - len(mine); n > 0 {
			m.Beside = append(m.Beside, fmt.Sprintf("%s of another site in %s", english.Plural(n, "table", ""), db.Where()))
		}
	}
	// A database that was named just now is not known to be the site's.
	foreign = foreign && len(m.Order.Databases) > 0
	if there := slices.Concat(m.Replaces, m.Beside); len(there) > 0 && (m.New || foreign) && !m.Order.Anyway {
		return reason.New(reason.PlaceTaken, reason.Names{"site": m.Order.To}, "something is at the new place: %s", strings.Join(there, "; "))
	}
	return nil
}

// namesIn are the names in a folder; there are none in one that is not there.
func namesIn(ctx context.Context, place tree.Place, dir string) ([]string, error) {
	in, err := place.Folder(ctx, dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	names, _, err := in.ReadFolder(".", 0)
	return names, err
}

// CountMove tells what a move would change, without changing it.
func (a *Agent) CountMove(ctx context.Context, m *Move, pace progress.Observer) (move.Report, error) {
	err := catalog.BecauseDamaged(m.Order.Archive, m.Plan.Count(ctx, progress.Or(pace).Advance))
	report, second := m.Plan.Report()
	return report, errors.Join(err, second)
}

func (a *Agent) moveJob(m *Move, watch progress.Observer) restore.Job {
	return restore.Job{Site: m.Plan.To(), Archive: m.Order.Archive, Files: true, Database: len(m.Order.Archive.Origin.Databases) > 0, Clean: true, State: a.State, Open: a.openTarget, Mirror: a.mirror(m.Order.To),
		Observer: watch, Now: a.Now, Drain: a.Drain, Anyway: m.Order.Anyway, Others: a.otherSites(m.Order.To), Moving: m.Plan.Moving()}
}

// CheckMove tells whether a move would begin. Nothing is changed. Where databases are to be made first, or an earlier move
// there has not come to its end, that is not known, and no error.
func (a *Agent) CheckMove(ctx context.Context, m *Move) error {
	if len(m.Makes) > 0 || restore.Interrupted(a.State, m.Order.To) {
		return nil
	}
	return catalog.BecauseDamaged(m.Order.Archive, restore.Check(ctx, a.moveJob(m, nil)))
}

// Move brings the archive up at its new place. What was planned with PlanMove is done
// once. Until everything is staged, changed and proved, nothing at the new place changes.
func (a *Agent) Move(ctx context.Context, m *Move, watch progress.Observer) (*Moved, error) {
	r := &Moved{Move: m}
	undo, err := a.addEntry(m, r)
	if err != nil {
		return nil, err
	}
	run := history.Run{Site: m.Order.To, Command: "move", Archive: m.Order.Archive.Name}
	err = a.work(ctx, &run, func(ctx context.Context, _ *history.Run) (err error) {
		if r.Made, err = a.makeDatabases(ctx, m); err != nil {
			return err
		}
		r.Result, err = restore.Run(ctx, a.moveJob(m, watch))
		return err
	})
	if err != nil {
		err = catalog.BecauseDamaged(m.Order.Archive, err)
		if left, unread := restore.Journals(a.State, m.Order.To); unread != nil || len(left) > 0 {
			return nil, err // what is half done is found by the entry
		}
		return nil, errors.Join(err, undo())
	}
	if r.Report, err = m.Plan.Report(); err != nil {
		a.warnf("the changes could not all be written down: %w", err)
	}
	if err := a.State.WriteNote(a.State.Moved(m.Order.To), movedFrom{From: m.Order.Archive.Site, Options: m.Order.Options}, "how the site was moved"); err != nil {
		a.warn(err)
	}
	r.Answers = a.checkRestored(ctx, m.Site)
	return r, nil
}

// movedFrom is what is remembered of a move: what it takes to do it again.
type movedFrom struct {
	From    string       `json:"from"`
	Options move.Options `json:"options"`
}

// makeDatabases makes what is missing on the database server of the new place. What was
// made stays, whatever comes of the move.
func (a *Agent) makeDatabases(ctx context.Context, m *Move) (made []string, err error) {
	for _, db := range m.Makes {
		admin, err := site.Described(map[string]config.Database{"admin": adminOf(db, m.Order)})
		if err != nil {
			return made, reason.BadUsage("%s is no administrator of a database server: %w", m.Order.MakeDatabase, err)
		}
		if db.Password == "" {
			return made, reason.BadUsage("account %s is to be made, and has no password; name a file that holds it, or one that is to be written", db.User)
		}
		as := m.Site.There(admin["admin"])
		as.TLS = db.TLS
		origin := m.Order.Archive.Origin.Databases[db.Label]
		setup := db.Setup(origin.Charset, origin.Collation)
		setup.Filled = m.Order.Anyway
		more, err := engine.Make(ctx, as, db, setup)
		made = append(made, more...)
		if err != nil {
			if len(made) > 0 {
				err = fmt.Errorf("%w (made before, and left: %s)", err, strings.Join(made, ", "))
			}
			return made, err
		}
	}
	return made, nil
}

// adminOf is how an administrator reaches the server of a database.
func adminOf(db site.Database, o MoveOrder) config.Database {
	c := config.Database{PasswordFile: o.AdminPasswordFile}
	if db.Engine == "postgres" {
		c.Postgres = o.MakeDatabase + "/postgres"
	} else {
		c.MySQL = o.MakeDatabase + "/mysql"
	}
	return c
}

// addEntry writes the new site into the configuration: what is interrupted is found by it.
// undo takes it out again, unless the file was changed since.
func (a *Agent) addEntry(m *Move, r *Moved) (undo func() error, err error) {
	if !m.New {
		return func() error { return nil }, nil
	}
	entry := m.Entry
	if m.Site.Recipe != nil {
		databases := entry.Databases
		entry.Databases = nil // its own settings lead there from now on
		for label := range databases {
			if _, known := m.Site.Recipe.Databases[label]; !known {
				entry.Databases = databases
			}
		}
		if !site.IsRecipeFile(entry.Recipe) {
			entry.Recipe = "auto"
		}
	}
	path := a.Config.Path
	before, err := a.Disk.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if r.Added, err = config.Add(a.Disk, path, nil, map[string]config.Site{m.Order.To: entry}); err != nil {
		return nil, err
	}
	after, err := a.Disk.ReadFile(path)
	if err != nil {
		return nil, err
	}
	fresh, err := config.Load(path)
	if err != nil {
		return nil, err
	}
	a.Config = fresh
	return func() error {
		now, err := a.Disk.ReadFile(path)
		if err != nil || string(now) != string(after) {
			return err
		}
		return a.Disk.WriteFile(path, before, 0o600)
	}, nil
}

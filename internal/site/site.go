package site

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
)

// AboveLabel is the first path element of a settings file above the webroot.
const AboveLabel = "above"

// RootLabel is the first path element of everything in the webroot, in lists
// and tar entries alike.
const RootLabel = "webroot"

// Site is a configured site with its settings read.
type Site struct {
	Name string
	// Root is the webroot: a path or, where Place is another machine, a URL, which no call
	// of this machine's takes for a path.
	Root    string
	Address string
	// Place is the machine that the folders are on; nil is this one.
	Place tree.Place
	// Recipe is nil for a site described by hand.
	Recipe    *Recipe
	Databases []Database
	// Roots are further folders of the site, by the name that is the first path
	// element of everything in them.
	Roots  map[string]string
	Skip   []string
	Stores []string
	Checks []config.Check
	// Maintenance is the switch that the configuration names; it comes before the
	// recipe's.
	Maintenance Maintenance
	// Above is the settings file when it lies outside the webroot, one folder
	// above it; it is saved too.
	Above string
	// SettingsFile is the settings file that the configuration names, if it is not the
	// recipe's own.
	SettingsFile string
	// Boxes are the folders in the site's, by label and relative to them, in which restores that this machine knows of hold
	// what they have set aside. They are no part of the site; what is only named like them is.
	Boxes map[string][]string
	// said is the address that the settings give.
	said string
	// read reads from the webroot.
	read ReadFunc
	// way is a path of the site without links on its way, as far as it is there; nil does not ask another machine.
	way func(path string) (string, error)
}

// Far tells whether the site lives on another machine.
func (s *Site) Far() bool { return s.Place != nil }

// At is the machine that the site's folders are on: this one with the disk d, or another.
func (s *Site) At(d *disk.Disk) tree.Place {
	if s.Place == nil {
		return tree.Local(d)
	}
	return s.Place
}

// PathAt is a path of the site as its machine has it.
func (s *Site) PathAt(name string) string {
	if s.Place == nil || name == "" {
		return name
	}
	return cmp.Or(strings.TrimPrefix(name, s.Place.Base()), "/")
}

// Beside is where a name beside the webroot is, as Root is written.
func (s *Site) Beside(name string) string {
	if s.Place == nil {
		return sitepath.Join(sitepath.Dir(s.Root), name)
	}
	return s.pathFrom(path.Join(path.Dir(s.PathAt(s.Root)), name))
}

// There gives a database that the site's settings name the machine that they mean it on.
func (s *Site) There(db Database) Database {
	db.Place = s.Place
	if s.Place == nil {
		return db
	}
	db.On = s.Place.Base()
	if strings.HasPrefix(db.Path, "/") {
		db.Path = s.pathFrom(db.Path)
	}
	if db.usualSocket {
		db.Socket = "" // where one is on this machine says nothing of another
	}
	return db
}

// AsThere are the site's databases as its own settings name them, on its machine.
func (s *Site) AsThere() []Database {
	all := slices.Clone(s.Databases)
	for i := range all {
		all[i].Place, all[i].On, all[i].Path = nil, "", s.PathAt(all[i].Path)
	}
	return all
}

// Read reads a file of the live webroot by its path relative to that.
func (s *Site) Read(ctx context.Context, rel string) ([]byte, error) {
	if s.Place == nil {
		return InFolder(s.Root)(rel)
	}
	return ReadAt(ctx, s.Place, s.PathAt(s.Root))(rel)
}

// AddressInSettings is the public address as the site's settings give it.
func (s *Site) AddressInSettings() string { return s.said }

// Asked is a database that can be asked for a value of one row.
type Asked interface {
	Lookup(ctx context.Context, table, column, where, is string) (string, error)
}

// StoredAddress is the public address that a database of the site keeps; empty if it
// keeps none.
func (s *Site) StoredAddress(ctx context.Context, db Asked) string {
	if s.Recipe == nil || s.Recipe.Address.Table == "" {
		return ""
	}
	look := s.Recipe.Address
	for label := range s.Recipe.Databases {
		if own, ok := s.Database(label); ok {
			if address, err := db.Lookup(ctx, own.Prefix+look.Table, look.Column, look.Where, look.Is); err == nil {
				return address
			}
		}
	}
	return ""
}

// Database is one database of a site and how to reach it.
type Database struct {
	// Label names it within the site: main, or as configured.
	Label string
	// Engine is mysql, postgres or sqlite.
	Engine   string
	Host     string
	Port     int
	Socket   string
	User     string
	Password string
	Name     string
	// Path is the database file, for sqlite.
	Path string
	// Prefix begins the names of the CMS's tables.
	Prefix    string
	OwnTables []string
	// Dump is where a job of the site's host leaves dumps, which are taken in place of reading
	// the database: see DumpPath. AtMost is how old the newest may be; 0 is any age.
	Dump   string
	AtMost time.Duration
	// TLS is how a server elsewhere is spoken to.
	TLS database.TLS
	// Place is the machine that Host, Socket and Path are meant on; nil is this one, unless
	// On says otherwise: the address that Place has, where that is kept.
	Place tree.Place `json:"-"`
	On    string     `json:"on,omitempty"`
	// As is the account that a server on this machine takes us for at a socket; nil is the one that runs this. Servers let
	// accounts of the machine in without a password, and whoever may write a site's settings gets no more lent than his own.
	As *int `json:"as,omitempty"`
	// usualSocket tells that Socket is where one is on this machine.
	usualSocket bool
	// within are the folders that a file lies in which the site's settings have chosen; nil is any.
	within []string
}

// Within is the database with the folders, without links on the way, in which a file has to lie.
func (db Database) Within(folders ...string) Database {
	db.within = folders
	return db
}

// MayBe refuses a file, without links on the way, that a site's settings may not choose: see Own. What the path of a database
// leads to may be another one than a moment ago.
func (db Database) MayBe(real string) error {
	if db.within == nil {
		return nil
	}
	for _, dir := range db.within {
		if rel, err := sitepath.Rel(dir, real); err == nil && sitepath.IsLocal(rel) && rel != "." {
			return nil
		}
	}
	return reason.New(reason.DatabaseElsewhere, reason.Names{"label": db.Label, "path": real}, "the site's settings choose %s as its database, which is in none of the site's folders", real)
}

// Where describes the database for people, without secrets.
func (db Database) Where() string {
	if db.Engine == "sqlite" {
		return db.Path
	}
	host := db.Host + ":" + strconv.Itoa(db.Port)
	if db.Socket != "" {
		host = db.Socket
	}
	return fmt.Sprintf("%s@%s/%s", db.User, host, db.Name)
}

// DumpPath is the folder on the site's machine in which dumps of a database are left, and the
// pattern of their names. A path that is not absolute is meant from the folder that the
// webroot lies in: in the webroot itself, anybody could fetch them.
func (s *Site) DumpPath(db Database) (dir, pattern string) {
	name := db.Dump
	if !sitepath.IsAbs(name) {
		name = sitepath.Join(sitepath.Dir(s.PathAt(s.Root)), name)
	}
	return sitepath.Dir(name), sitepath.Base(name)
}

// ErrNoRoot is wrapped when a site's webroot is not there.
var ErrNoRoot = errors.New("the webroot is missing")

// ErrFar is wrapped when what works on this machine only is asked of a site elsewhere.
var ErrFar = errors.New("not for a site elsewhere yet")

// Open reads the settings of a site on this machine from its webroot. A webroot that is
// missing gives an error that wraps ErrNoRoot.
func Open(name string, c config.Site) (*Site, error) {
	return OpenAt(context.Background(), name, c, nil)
}

// OpenAt is Open for a site at a place, nil for this machine. The place is used as long as
// the site is; ctx is that of reading its settings, also later.
func OpenAt(ctx context.Context, name string, c config.Site, place tree.Place) (*Site, error) {
	if place == nil && c.Far() {
		return nil, fmt.Errorf("site %s: %w: %s is on another machine", name, ErrFar, c.Root)
	}
	if place == nil {
		return open(name, c, nil, func() (fs.FileInfo, error) { return os.Stat(c.Root) }, InFolder(c.Root), nil)
	}
	root := strings.TrimPrefix(c.Root, place.Base())
	way := func(name string) (string, error) {
		real, err := tree.Way(ctx, place, cmp.Or(strings.TrimPrefix(name, place.Base()), "/"))
		return place.Base() + real, err
	}
	return open(name, c, place, func() (fs.FileInfo, error) { return place.Anywhere(ctx).Lstat(root) }, ReadAt(ctx, place, root), way)
}

func open(name string, c config.Site, place tree.Place, stat func() (fs.FileInfo, error), read ReadFunc, way func(string) (string, error)) (*Site, error) {
	info, err := stat()
	if errors.Is(err, fs.ErrNotExist) && place != nil {
		return nil, fmt.Errorf("site %s: %w: %s; was it moved, is `root:` right?", name, ErrNoRoot, c.Root)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, reason.New(reason.WebrootMissing, reason.Names{"site": name}, "site %s: %w: %s; is the disk mounted, is `root:` right?", name, ErrNoRoot, c.Root)
	}
	if err != nil {
		return nil, fmt.Errorf("site %s: %w", name, err)
	}
	if !info.IsDir() {
		return nil, fmt.Errorf("site %s: the webroot %s is not a folder", name, c.Root)
	}
	if place == nil {
		for _, dir := range append(slices.Collect(maps.Values(c.Roots)), c.Root) {
			if _, err := disk.Way(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, fmt.Errorf("site %s: %w", name, err)
			}
		}
	}
	s, err := openFrom(name, c, place, read, way)
	if s != nil {
		s.read = read
	}
	return s, err
}

// ReadAt reads files by their paths relative to a folder at a place, in whole. Links are
// followed.
func ReadAt(ctx context.Context, place tree.Place, dir string) ReadFunc {
	return func(rel string) ([]byte, error) {
		return tree.ReadFile(place.Anywhere(ctx), path.Join(dir, rel), mostSettings)
	}
}

// OpenFrom is Open with the settings read through read, such as from an
// archive when the webroot is gone.
func OpenFrom(name string, c config.Site, read ReadFunc) (*Site, error) {
	return OpenFromAt(name, c, nil, read)
}

// OpenFromAt is OpenFrom for a site at a place, nil for this machine. Another machine is not asked.
func OpenFromAt(name string, c config.Site, place tree.Place, read ReadFunc) (*Site, error) {
	return openFrom(name, c, place, read, nil)
}

func openFrom(name string, c config.Site, place tree.Place, read ReadFunc, way func(string) (string, error)) (*Site, error) {
	s := &Site{way: way, Name: name, Place: place, Root: c.Root, Roots: c.Roots, Address: c.Address, Stores: c.Stores, Checks: c.AllChecks(), SettingsFile: c.Settings, Skip: slices.Clone(c.Skip)}
	var err error
	switch {
	case c.Recipe == "" || c.Recipe == "auto":
		s.Recipe, err = Recognise(read)
	case c.Recipe == "none":
	case IsRecipeFile(c.Recipe):
		s.Recipe, err = ReadRecipe(c.Recipe)
	default:
		s.Recipe, err = RecipeNamed(c.Recipe)
	}
	if err != nil {
		return nil, fmt.Errorf("site %s: %w", name, err)
	}
	if s.Recipe != nil {
		s.Skip = append(s.Skip, s.Recipe.Skip...)
	}
	if m := c.Maintenance; m != nil {
		s.Maintenance = Maintenance{File: m.File, Content: cmp.Or(m.Content, closedPage)}
		s.Skip = append(s.Skip, m.File)
	}
	if s.Databases, err = described(c.Databases); err != nil {
		return nil, fmt.Errorf("site %s: %w", name, err)
	}
	if err := s.readOwnSettings(c, read); err != nil {
		return nil, fmt.Errorf("site %s: %w", name, err)
	}
	for i, db := range s.Databases {
		if _, configured := c.Databases[db.Label]; !configured || !tree.FilesOnly(place) || db.Engine == "sqlite" {
			s.Databases[i] = s.There(db)
		} // else it is one that answers from here
		if d := c.Databases[db.Label].Dump; d != nil {
			s.Databases[i].Dump, s.Databases[i].AtMost = d.Path, d.Span
		}
		s.Databases[i].TLS = database.TLS{Mode: c.Databases[db.Label].TLS, CAFile: c.Databases[db.Label].CAFile}
	}
	for i, db := range s.Databases {
		if db.Engine != "sqlite" {
			continue
		}
		if s.Databases[i].Path, err = s.realFile(db); err != nil {
			return nil, fmt.Errorf("site %s: %w", name, err)
		}
	}
	slices.SortFunc(s.Databases, func(a, b Database) int { return strings.Compare(a.Label, b.Label) })
	return s, nil
}

// realFile is where a database file of the site's folders really lies: a folder on the way can be a link, to another folder
// of the site or out of it. A copy of the folder has the same link: what is put there by the file's path in the copy would be
// put in the live file's place. What nobody may be led to is left to whoever opens it, and refuses.
func (s *Site) realFile(db Database) (string, error) {
	real, err := s.wayTo(db.Path)
	if errors.Is(err, tree.ErrUnreachable) {
		return "", err
	}
	if err != nil {
		return db.Path, nil
	}
	if label, rel, inside := s.folderOver(real); inside {
		return s.PathIn(label, rel), nil
	}
	if _, _, inside := s.LiesIn(db); inside {
		return real, nil
	}
	return db.Path, nil
}

// wayTo is a path of the site without links on its way, as far as it is there and can be asked for.
func (s *Site) wayTo(path string) (string, error) {
	switch {
	case s.way != nil:
		return s.way(path)
	case s.Place == nil && !tree.IsFar(path):
		return disk.Way(path)
	}
	return path, nil
}

// folderOver is the folder of the site that a path without links lies in, and its path relative to that.
func (s *Site) folderOver(real string) (label, rel string, inside bool) {
	for _, label := range s.labels() {
		folder, err := s.wayTo(s.FolderOf(label))
		if err != nil {
			continue
		}
		if rel, err := sitepath.Rel(folder, real); err == nil && sitepath.IsLocal(rel) {
			return label, rel, true
		}
	}
	return "", "", false
}

// RealName is the name, as in the lists of archives, of what a name of the site leads to by links to another of its folders.
func (s *Site) RealName(name string) string {
	label, rel, _ := strings.Cut(name, "/")
	folder := s.FolderOf(label)
	if folder == "" {
		return name
	}
	if real, err := s.wayTo(s.PathIn(label, rel)); err == nil {
		if in, rest, inside := s.folderOver(real); inside {
			return path.Join(in, rest)
		}
	}
	return name
}

// closedPage is shown while a site is closed by a file of the configuration's.
const closedPage = "<!doctype html><title>Back in a moment</title><h1>Back in a moment</h1><p>This site is being maintained. Please try again in a few seconds.</p>\n"

// readOwnSettings adds the databases that the site's settings name to those of
// the configuration, which count where both describe the same one.
func (s *Site) readOwnSettings(c config.Site, read ReadFunc) error {
	if s.Recipe == nil {
		return nil
	}
	missing := false
	for label := range s.Recipe.Databases {
		_, known := s.Database(label)
		missing = missing || !known
	}
	if !missing {
		return nil
	}
	found, above, said, err := s.Recipe.databases(s.PathAt(c.Root), c.Settings, read)
	if err != nil {
		return err
	}
	s.Above, s.said = s.pathFrom(above), said
	for _, db := range found {
		db.Path = s.pathFrom(db.Path)
		if _, known := s.Database(db.Label); known {
			continue
		}
		if !c.AnyDatabase {
			if err := s.ownFile(db); err != nil {
				return err
			}
			if s.Place == nil && db.Engine == "sqlite" {
				db = db.Within(s.folders()...)
			}
		}
		if s.Place == nil && db.Engine != "sqlite" {
			db.As = s.writer(c)
		}
		s.Databases = append(s.Databases, db)
	}
	return nil
}

// pathFrom is PathAt the other way round.
func (s *Site) pathFrom(name string) string {
	if s.Place == nil || name == "" {
		return name
	}
	return s.Place.Base() + name
}

// Own tells whether a database is in a server, or a file in one of the site's folders.
func (s *Site) Own(db Database) bool { return s.ownFile(db) == nil }

// ownFile refuses a database file that the site's own settings choose and that is not in
// one of the site's folders: whoever can write to the site could have chosen anybody's.
// The configuration may name any.
func (s *Site) ownFile(db Database) error {
	if db.Engine != "sqlite" {
		return nil
	}
	return db.Within(s.folders()...).MayBe(s.withoutLinks(db.Path))
}

// folders are the site's, without links on the way.
func (s *Site) folders() []string {
	all := []string{s.withoutLinks(s.Root)}
	for _, dir := range s.Roots {
		all = append(all, s.withoutLinks(dir))
	}
	return all
}

// withoutLinks is a path of the site with links followed as far as it is there.
func (s *Site) withoutLinks(path string) string {
	if s.Place == nil {
		return withoutLinks(path)
	}
	if real, err := s.wayTo(path); err == nil {
		return real
	}
	return path
}

// withoutLinks is a path on this machine with links followed as far as it is there.
func withoutLinks(path string) string {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		return real
	}
	if dir := sitepath.Dir(path); dir != path {
		return sitepath.Join(withoutLinks(dir), sitepath.Base(path))
	}
	return path
}

// OtherSettings lists settings files of further sites in the same installation.
func (s *Site) OtherSettings(ctx context.Context) []string {
	var all []string
	if s.Recipe == nil {
		return nil
	}
	in, err := s.At(nil).Folder(ctx, s.PathAt(s.Root))
	if err != nil {
		return nil
	}
	defer in.Close()
	for _, pattern := range s.Recipe.Settings.Others {
		all = append(all, glob(in, ".", pattern)...)
	}
	return all
}

// glob finds the files whose names match a pattern, element by element.
func glob(in tree.Folder, dir, pattern string) (all []string) {
	first, rest, deeper := strings.Cut(pattern, "/")
	names, _, err := in.ReadFolder(dir, 0)
	if err != nil {
		return nil
	}
	for _, name := range names {
		if ok, err := path.Match(first, name); err != nil || !ok {
			continue
		}
		if name = tree.Join(dir, name); deeper {
			all = append(all, glob(in, name, rest)...)
		} else {
			all = append(all, name)
		}
	}
	return all
}

// Setup is what a server's administrator has to make for a database.
func (db Database) Setup(charset, collation string) database.Setup {
	host := db.Host
	if db.Socket != "" {
		host = ""
	}
	return database.Setup{Engine: db.Engine, Host: host, Port: db.Port, User: db.User, Name: db.Name, Charset: charset, Collation: collation}
}

// Described turns databases written in the configuration into their parts, by
// label.
func Described(all map[string]config.Database) (map[string]Database, error) {
	list, err := described(all)
	out := map[string]Database{}
	for _, db := range list {
		out[db.Label] = db
	}
	return out, err
}

// described turns databases written in the configuration into their parts.
func described(all map[string]config.Database) ([]Database, error) {
	var out []Database
	for label, c := range all {
		if c.MySQL+c.Postgres+c.SQLite == "" {
			continue // it says how a database is reached that the recipe knows
		}
		db := Database{Label: label, Engine: "sqlite", Path: c.SQLite}
		if c.SQLite == "" {
			db.Engine = "mysql"
			if c.Postgres != "" {
				db.Engine = "postgres"
			}
			if err := db.parseURL(c.MySQL + c.Postgres); err != nil {
				return nil, fmt.Errorf("database %s: %w", label, err)
			}
			password, err := c.Password()
			if err != nil {
				return nil, fmt.Errorf("database %s: %w", label, err)
			}
			db.Password = password
		}
		out = append(out, db)
	}
	return out, nil
}

// parseURL reads user@host:port/name and user@/path/of/socket/name. An account may have an @
// in its name, as with some hosts, and so may a database.
func (db *Database) parseURL(s string) error {
	slash := strings.LastIndexByte(s, '/')
	at := strings.Index(s[:max(slash, 0)], "@/")
	if at < 0 {
		at = strings.LastIndexByte(s[:max(slash, 0)], '@')
	}
	if at < 0 || s[slash+1:] == "" {
		return fmt.Errorf("%q is not user@host:port/name", s)
	}
	db.User, db.Name = s[:at], s[slash+1:]
	return db.setHost(s[at+1 : slash])
}

// Skips tells whether a path, relative to the webroot, is left out of archives,
// and by which rule. The rule is empty for what is saved in another way: a
// database's own files.
func (s *Site) Skips(rel string) (string, bool) {
	for _, p := range s.Skip {
		if matchesAny([]string{p}, rel) {
			return p, true
		}
	}
	if s.HasDatabaseFile(RootLabel, rel) {
		return "", true
	}
	if s.InBox(RootLabel, rel) {
		return setAside, true
	}
	return "", false
}

// setAside is the rule for what lies in Boxes.
const setAside = "set aside by a restore"

// SkipsIn is Skips for a path relative to any of the site's folders: rules are of the webroot.
func (s *Site) SkipsIn(label, rel string) (string, bool) {
	if label == RootLabel {
		return s.Skips(rel)
	}
	if s.InBox(label, rel) {
		return setAside, true
	}
	return "", s.HasDatabaseFile(label, rel)
}

// HasDatabaseFile tells whether a path, relative to one of the site's folders, is a database file of the site's, or its log.
func (s *Site) HasDatabaseFile(label, rel string) bool {
	return slices.ContainsFunc(s.Databases, func(db Database) bool {
		in, file, ok := s.LiesIn(db)
		return ok && in == label && isDatabaseFile(file, rel)
	})
}

// InBox tells whether a path, relative to one of the site's folders, is one of Boxes, or lies in one.
func (s *Site) InBox(label, rel string) bool {
	return slices.ContainsFunc(s.Boxes[label], func(box string) bool { return rel == box || strings.HasPrefix(rel, box+"/") })
}

// Matches tells whether a skip rule means a path relative to the webroot.
func Matches(rule, rel string) bool { return matchesAny([]string{rule}, rel) }

// LeftoverPrefix begins the name of anything Revlet puts next to or into a
// webroot for a while. Anybody may call things so.
const LeftoverPrefix = ".revlet-"

// Inside returns a database file's path relative to the webroot, if it lies in it.
func (s *Site) Inside(db Database) (string, bool) {
	label, rel, ok := s.LiesIn(db)
	return rel, ok && label == RootLabel
}

// LiesIn returns in which of the site's folders a database file lies, and its path relative to that.
func (s *Site) LiesIn(db Database) (label, rel string, ok bool) {
	if db.Engine != "sqlite" {
		return "", "", false
	}
	for _, label := range s.labels() {
		rel, err := sitepath.Rel(s.FolderOf(label), db.Path)
		if err == nil && rel != ".." && !strings.HasPrefix(rel, "../") {
			return label, rel, true
		}
	}
	return "", "", false
}

// labels are those of the site's folders, the webroot's first.
func (s *Site) labels() []string {
	return append([]string{RootLabel}, slices.Sorted(maps.Keys(s.Roots))...)
}

// FolderOf is one of the site's folders; empty for a label that it has none of.
func (s *Site) FolderOf(label string) string {
	if label == RootLabel {
		return s.Root
	}
	return s.Roots[label]
}

// PathIn is the path of what lies in one of the site's folders, as those are written.
func (s *Site) PathIn(label, rel string) string {
	folder := s.FolderOf(label)
	if !tree.IsFar(folder) {
		return sitepath.Join(folder, rel)
	}
	if rel == "" || rel == "." {
		return folder
	}
	return strings.TrimSuffix(folder, "/") + "/" + rel
}

func isDatabaseFile(db, rel string) bool {
	suffix, ok := strings.CutPrefix(rel, db)
	return ok && slices.Contains([]string{"", "-wal", "-shm", "-journal"}, suffix)
}

// Database returns the database with a label.
func (s *Site) Database(label string) (Database, bool) {
	i := slices.IndexFunc(s.Databases, func(db Database) bool { return db.Label == label })
	if i < 0 {
		return Database{}, false
	}
	return s.Databases[i], true
}

// Version reads the CMS's version from its own files; empty when unknown.
func (s *Site) Version() string {
	if s.Place == nil {
		return s.Recipe.VersionIn(InFolder(s.Root))
	}
	if s.read == nil {
		return ""
	}
	return s.Recipe.VersionIn(s.read)
}

// VersionIn reads a CMS's version through read.
func (r *Recipe) VersionIn(read ReadFunc) string {
	if r == nil || r.Version.File == "" {
		return ""
	}
	data, err := read(r.Version.File)
	if err != nil {
		return ""
	}
	values, err := parseSettings(r.Settings.Syntax, "", data)
	if err != nil {
		return ""
	}
	v, _ := filled(r.Version.Value, values)
	return v
}

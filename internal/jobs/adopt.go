package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
	"revlet/internal/work/backup"
)

// Adopted is what adopt found, as JSON too.
type Adopted struct {
	Site      string            `json:"site"`
	Root      string            `json:"root"`
	Recipe    string            `json:"recipe"`
	Version   string            `json:"version"`
	Address   string            `json:"address"`
	Databases []AdoptedDatabase `json:"databases"`
	Store     string            `json:"store"`
	Config    string            `json:"config"`
	Written   bool              `json:"written"`
	// LeadsOut is what links of the webroot lead out to; nil is nothing.
	LeadsOut *LinksOut `json:"leads_out"`
}

// AdoptedDatabase is a database of a site that was adopted.
type AdoptedDatabase struct {
	Label   string `json:"label"`
	Where   string `json:"where"`
	Version string `json:"version"`
	Bytes   int64  `json:"bytes"`
	// Address is what the database itself gives as the site's address.
	Address string `json:"address"`
}

// recognise opens the site at a webroot, here or elsewhere, and returns what its entry says
// of where it is.
func (a *Agent) recognise(ctx context.Context, o AdoptOrder) (*site.Site, config.Site, error) {
	cfg := config.Site{Root: o.Root, Reach: o.Reach, Recipe: "auto", Settings: o.Settings, AnyDatabase: true}
	if cfg.Far() && a.State == nil {
		if err := a.OpenState(ctx, o.StateDir); err != nil {
			return nil, cfg, err
		}
	}
	if err := a.settleRoot(ctx, &cfg); err != nil {
		return nil, cfg, ofSite("", err)
	}
	root := cfg.Root
	place, err := a.place(cfg)
	if err != nil {
		return nil, cfg, err
	}
	folder := func(dir string) (tree.Folder, error) { return tree.Local(a.Disk).Folder(ctx, dir) }
	if place != nil {
		folder = func(dir string) (tree.Folder, error) {
			return place.Folder(ctx, strings.TrimPrefix(dir, place.Base()))
		}
	}
	in, err := folder(root)
	if errors.Is(err, tree.ErrNoFolder) {
		return nil, cfg, reason.BadUsage("%s is not a folder; give the site's webroot", root)
	}
	if err != nil {
		if err = ofSite("", err); !errors.Is(err, tree.ErrUnreachable) {
			err = fmt.Errorf("the webroot: %w", err)
		}
		return nil, cfg, err
	}
	defer in.Close()
	s, err := site.OpenAt(ctx, "new", cfg, place)
	if err != nil {
		return nil, cfg, err
	}
	if s.Recipe == nil {
		if below := cmsBelow(in); below != "" {
			below = root + "/" + below
			return nil, cfg, reason.Because(reason.CMSBelow, reason.Names{"path": below}, reason.BadUsage("no known CMS is at %s itself, but one is below it", root))
		}
		return nil, cfg, reason.BadUsage("no known CMS is at %s; give the folder that holds its start page, or describe the site by hand in %s (root, databases, stores; docs in the README)", root, a.Config.Path)
	}
	return s, cfg, nil
}

// settleRoot checks how a site elsewhere is reached, and finds out the whole path of a
// folder in the account's home.
func (a *Agent) settleRoot(ctx context.Context, cfg *config.Site) error {
	base, dir, home := config.SplitHome(cfg.Root)
	if home {
		cfg.Root = base + "/home"
	}
	if err := cfg.Settle(filepath.Dir(a.Config.Path)); err != nil {
		return reason.BadUsage("%v", err)
	}
	if !home {
		return nil
	}
	place, err := a.place(*cfg)
	if err != nil {
		return err
	}
	real, err := place.Absolute(ctx, dir)
	cfg.Root = base + real
	return err
}

// cmsBelow looks for a CMS one folder deeper, and names that folder.
func cmsBelow(in tree.Folder) string {
	names, _, err := in.ReadFolder(".", 0)
	if err != nil {
		return ""
	}
	for _, dir := range names {
		read := func(rel string) ([]byte, error) {
			const most = 1 << 20
			return tree.ReadFile(in, tree.Join(dir, rel), most)
		}
		if r, err := site.Recognise(read); err == nil && r != nil {
			return dir
		}
	}
	return ""
}

// confirm connects to the site's databases and looks for the site's address.
func (a *Agent) confirm(ctx context.Context, s *site.Site) (*Adopted, error) {
	found := &Adopted{Root: s.Root, Recipe: s.Recipe.Name, Version: s.Version(), Databases: []AdoptedDatabase{}, Address: s.AddressInSettings()}
	for _, db := range s.Databases {
		if db.Dump != "" {
			if _, err := backup.FindDump(ctx, s, db); err != nil {
				return nil, err
			}
			found.Databases = append(found.Databases, AdoptedDatabase{Label: db.Label, Where: db.Where()})
			continue
		}
		source, err := a.openSource(ctx, db, os.TempDir())
		if err != nil {
			return nil, fmt.Errorf("%s at %s is recognised, but its database cannot be reached: %w%s", s.Recipe.Title, s.Root, err, whatToTry(s, db))
		}
		info := source.Info()
		d := AdoptedDatabase{Label: db.Label, Where: db.Where(), Version: info.Version, Bytes: info.Bytes}
		look := s.Recipe.Address
		if look.Table != "" {
			d.Address, err = source.Lookup(ctx, db.Prefix+look.Table, look.Column, look.Where, look.Is)
		} else {
			err = ownTables(ctx, source, db)
		}
		_ = source.Close()
		if err != nil {
			return nil, fmt.Errorf("database %s can be reached, but it does not look like this site's: %w; is the table prefix %q right?", db.Where(), err, db.Prefix)
		}
		if found.Address == "" {
			found.Address = d.Address
		}
		found.Databases = append(found.Databases, d)
	}
	return found, nil
}

// whatToTry lists the next steps when a database cannot be reached.
func whatToTry(s *site.Site, db site.Database) string {
	if db.Engine == "sqlite" {
		return ""
	}
	first := "run this on the site's own machine: many servers answer no other"
	if s.Far() {
		first = "ask who runs the machine whether its SSH server forwards connections (`AllowTcpForwarding`): the database is reached through it"
	}
	steps := []string{
		first,
		fmt.Sprintf("compare user, password and host with %s", s.PathIn(site.RootLabel, s.Recipe.Settings.Files[0])),
	}
	if db.Host == "localhost" && db.Socket == "" && !s.Far() {
		steps = append(steps, "`localhost` means a socket, and none was found; put `databases: {main: {mysql: \"user@/path/to.sock/name\", password_file: …}}` into the configuration")
	}
	return "\nWhat to try:\n- " + strings.Join(steps, "\n- ")
}

// ownTables tells whether a database has the tables that every installation of
// the CMS has: how to confirm one that does not store its address.
func ownTables(ctx context.Context, source database.Source, db site.Database) error {
	tables, err := source.Tables(ctx)
	if err != nil {
		return err
	}
	for _, own := range db.OwnTables {
		if !slices.ContainsFunc(tables, func(t database.TableInfo) bool { return t.Name == db.Prefix+own }) {
			return fmt.Errorf("it has no table %s", db.Prefix+own)
		}
	}
	return nil
}

// nameFrom derives a site's name from its address, or else from its folder.
func nameFrom(address, root string) string {
	host := ""
	if u, err := url.Parse(address); err == nil {
		host = strings.TrimPrefix(u.Hostname(), "www.")
	}
	label, _, _ := strings.Cut(host, ".")
	if label == "" || label == "localhost" || strings.ContainsAny(label[:1], "0123456789") {
		label = sitepath.Base(root)
		for _, generic := range []string{"htdocs", "html", "www", "public_html", "public", "web", "httpdocs"} {
			if label == generic {
				label = sitepath.Base(sitepath.Dir(root))
			}
		}
	}
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune("abcdefghijklmnopqrstuvwxyz0123456789._-", r) {
			return r
		}
		return '-'
	}, strings.ToLower(label))
}

// chooseStore returns the stores to add: none when an existing one serves.
func (a *Agent) chooseStore(asked string, found *Adopted, root string) (map[string]config.Store, error) {
	if _, ok := a.Config.Stores[asked]; ok {
		found.Store = asked
		return nil, nil
	}
	if asked == "" && len(a.Config.Stores) == 1 {
		for name := range a.Config.Stores {
			found.Store = name
		}
		return nil, nil
	}
	if asked == "" && len(a.Config.Stores) > 1 {
		return nil, reason.Because(reason.SeveralStores, nil, reason.BadUsage("%s has several stores", a.Config.Path))
	}
	if asked != "" && !strings.Contains(filepath.ToSlash(asked), "/") {
		return nil, reason.Because(reason.StoreUnknown, reason.Names{"path": "./" + asked}, reason.BadUsage("there is no store %q in %s; a new one is named by its folder", asked, a.Config.Path))
	}
	place := asked
	if place == "" {
		place = "/var/backups/revlet"
		if home, err := os.UserHomeDir(); err == nil && os.Geteuid() != 0 {
			place = filepath.Join(home, "revlet-archives")
		}
	}
	place, err := filepath.Abs(place)
	if err != nil {
		return nil, err
	}
	if state.Inside(place, root) {
		return nil, reason.New(reason.StoreInWebroot, nil, "%s", "the store "+place+" would lie inside the webroot, where anyone could download it; choose another folder")
	}
	for name, s := range a.Config.Stores {
		if s.Folder == place {
			found.Store = name
			return nil, nil
		}
	}
	found.Store = "here"
	if _, taken := a.Config.Stores["here"]; taken {
		found.Store = nameFrom("", place)
	}
	return map[string]config.Store{found.Store: {Folder: place}}, nil
}

// AdoptOrder is a webroot to recognise.
type AdoptOrder struct {
	// StateDir is the state folder that was asked for, or empty.
	StateDir string
	Root     string
	// Name, Store, Address and Settings say what would otherwise be found out.
	Name, Store, Address, Settings string
	// Reach says how the machine of a site elsewhere is reached.
	Reach *config.Reach
	// TLS and CAFile say how a database server elsewhere is spoken to.
	TLS, CAFile string
	// Dump and DumpAtMost say where a job of the host leaves dumps of the database, and how
	// old the newest may be, in words: it is not read then.
	Dump, DumpAtMost string
	// Write puts the site into the configuration.
	Write bool
}

// apply gives the databases what the order says of them.
func (o AdoptOrder) apply(s *site.Site) error {
	var span time.Duration
	if o.DumpAtMost != "" {
		var err error
		if span, err = config.ParseSpan(o.DumpAtMost); err != nil || o.Dump == "" {
			return reason.BadUsage("how old a dump may be is said beside where it lies, such as backups/*.sql.gz and \"1 day\"; it was %q and %q", o.Dump, o.DumpAtMost)
		}
	}
	for i := range s.Databases {
		db := &s.Databases[i]
		db.TLS = database.TLS{Mode: o.TLS, CAFile: o.CAFile}
		if o.Dump != "" && db.Engine == "sqlite" {
			return reason.BadUsage("database %s is a file, which is copied itself: it needs no dump", db.Where())
		}
		db.Dump, db.AtMost = o.Dump, span
	}
	return nil
}

// databases are those that the entry has to say something of. A file that lies elsewhere
// counts only when the configuration says so.
func (o AdoptOrder) databases(s *site.Site) map[string]config.Database {
	all := map[string]config.Database{}
	for _, db := range s.Databases {
		switch {
		case !s.Own(db):
			all[db.Label] = config.Database{SQLite: s.PathAt(db.Path)}
		case db.Engine != "sqlite" && o.TLS+o.CAFile+o.Dump != "":
			own := config.Database{TLS: o.TLS, CAFile: o.CAFile}
			if o.Dump != "" {
				own.Dump = &config.Dump{Path: o.Dump, AtMost: o.DumpAtMost}
			}
			all[db.Label] = own
		}
	}
	return all
}

// Adopt recognises the CMS in a webroot, reads its settings, confirms its databases
// by looking into them, and writes the site into the configuration. It returns the
// stores that are new, too.
func (a *Agent) Adopt(ctx context.Context, o AdoptOrder) (*Adopted, map[string]config.Store, error) {
	s, entry, err := a.recognise(ctx, o)
	if err != nil {
		return nil, nil, err
	}
	o.Root = entry.Root
	if err := o.apply(s); err != nil {
		return nil, nil, err
	}
	if others := s.OtherSettings(ctx); len(others) > 1 {
		a.Tell(SeveralSites{s.Root, others})
	}
	found, err := a.confirm(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	found.Config = a.Config.Path
	if found.LeadsOut, err = a.linksOut(ctx, s); err != nil {
		return nil, nil, err
	}
	found.Address = cmp.Or(o.Address, found.Address)
	if found.Site = o.Name; found.Site == "" {
		found.Site = nameFrom(found.Address, o.Root)
	}
	if !config.ValidName(found.Site) {
		return nil, nil, reason.Because(reason.NameTaken, nil, reason.BadUsage("%q cannot be a site's name, which is of small letters, digits and dashes", found.Site))
	}
	if old, taken := a.Config.Sites[found.Site]; taken {
		return nil, nil, reason.Because(reason.NameTaken, nil, reason.BadUsage("%s has a site %q already (%s)", a.Config.Path, found.Site, old.Root))
	}
	stores, err := a.chooseStore(o.Store, found, o.Root)
	if err != nil || !o.Write {
		return found, stores, err
	}
	entry.Address, entry.Recipe, entry.Stores = found.Address, found.Recipe, []string{found.Store}
	if found.Address != "" {
		entry.Check = &config.Check{Path: "/", Status: 200}
	}
	entry.Databases = o.databases(s)
	for _, st := range stores {
		if err := a.Disk.MkdirAll(st.Folder, 0o700); err != nil {
			return nil, nil, fmt.Errorf("make the store folder: %w", err)
		}
	}
	if _, err := config.Add(a.Disk, a.Config.Path, stores, map[string]config.Site{found.Site: entry}); err != nil {
		return nil, nil, err
	}
	found.Written = true
	if err := a.begin(ctx, found.Site, o.StateDir); err != nil {
		a.warnf("the site is adopted; whose archives of it are taken is settled at the first backup: %w", err)
	}
	return found, stores, nil
}

// begin has a site that was just written into the configuration known from its first
// moment on: what somebody puts into its stores later is not seen for the first time.
func (a *Agent) begin(ctx context.Context, site, stateDir string) error {
	if err := a.Reload(); err != nil {
		return err
	}
	if a.State == nil {
		if err := a.OpenState(ctx, stateDir); err != nil {
			return err
		}
	}
	s, err := a.trust(ctx, site)
	if err == nil && !s.seen && s.asked {
		err = a.saveSigners(site, s)
	}
	return err
}

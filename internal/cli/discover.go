package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/config"
	"revlet/internal/seal"
	"revlet/internal/site"
	"revlet/internal/store"
)

// storeFlags describe how to get into a store that is not in the configuration
// yet; each is the key of the same name there.
var storeFlags = []cli.Flag{
	&cli.StringFlag{Name: "user", Usage: "the account at a WebDAV or FTP store"},
	&cli.StringFlag{Name: "password-file", Usage: "a `FILE` that holds the password, or the passphrase of the SSH key"},
	&cli.StringFlag{Name: "key-file", Usage: "the SSH key `FILE`"},
	&cli.StringFlag{Name: "access-key", Usage: "the access key of an S3 store"},
	&cli.StringFlag{Name: "secret-file", Usage: "a `FILE` that holds its secret"},
	&cli.StringFlag{Name: "region", Usage: "the region of an S3 store"},
	&cli.StringFlag{Name: "ca-file", Usage: "a `FILE` with certificates of authorities that are trusted as well"},
}

// foundSite is a site whose archives were found in a store.
type foundSite struct {
	Site     string `json:"site"`
	Archives int    `json:"archives"`
	Newest   string `json:"newest"`
	Root     string `json:"root"`
	Address  string `json:"address"`
	// Known tells that the configuration has a site of this name already.
	Known bool `json:"known"`
	// Sealed tells that only the key says what the site is.
	Sealed bool `json:"sealed"`
	// Encrypted tells that the newest archive is encrypted.
	Encrypted bool `json:"encrypted"`
	entry     config.Site
}

func (a *app) discover(ctx context.Context, c *cli.Command) error {
	typed, err := oneArg(c, "ADDRESS or STORE")
	if err != nil {
		return err
	}
	path, exists := config.Locate(c.String("config"))
	a.config = &config.Config{Path: path}
	if exists {
		if a.config, err = config.Load(path); err != nil {
			return err
		}
	}
	a.findKeys(c)
	if err := a.openState(ctx, c); err != nil {
		return err
	}
	name, cfg, err := a.storeToDiscover(c, typed)
	if err != nil {
		return err
	}
	o := a.opener()
	o.Trust, o.Trusted = c.Bool("trust"), a.sayTrusted
	s, err := o.Open(name, cfg)
	if err != nil {
		return err
	}
	defer s.Close()
	sites, deeper, err := a.sitesIn(ctx, s)
	if err != nil {
		return err
	}
	if len(sites) == 0 && deeper != "" {
		return usageError("no archives are in %s itself, but some are in its folder %q; give that as the address", s.Where(), deeper)
	}
	_, inConfig := a.config.Stores[name]
	if !c.Bool("dry-run") && len(sites) > 0 {
		if err := a.writeDiscovered(name, cfg, inConfig, sites); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"store": name, "where": s.Where(), "sites": nonNil(sites), "exports": nonNil(exportsIn(cfg))})
	}
	a.showDiscovered(c, name, s, cfg, sites)
	if len(sites) == 0 {
		return &exitError{code: exitFailed}
	}
	return nil
}

// storeToDiscover is a store of the configuration, or one at a typed address.
func (a *app) storeToDiscover(c *cli.Command, typed string) (string, config.Store, error) {
	if cfg, ok := a.config.Stores[typed]; ok {
		return typed, cfg, nil
	}
	cfg, err := config.ParseAddress(typed)
	if err != nil {
		return "", cfg, usageError("%w", err)
	}
	name := c.String("name")
	if _, taken := a.config.Stores[name]; taken || !config.ValidName(name) {
		return "", cfg, usageError("the name %q is taken or not allowed; choose another with --name", name)
	}
	cfg.User, cfg.PasswordFile, cfg.KeyFile = c.String("user"), c.String("password-file"), c.String("key-file")
	cfg.AccessKey, cfg.SecretFile, cfg.Region, cfg.CAFile = c.String("access-key"), c.String("secret-file"), c.String("region"), c.String("ca-file")
	here, err := os.Getwd()
	if err != nil {
		return "", cfg, err
	}
	if err := cfg.Settle(here); err != nil {
		return "", cfg, usageError("%w", err)
	}
	return name, cfg, nil
}

// sitesIn finds the sites in a store. When there are none, it looks one folder
// deeper, and above, for copies are often nested by one.
func (a *app) sitesIn(ctx context.Context, s store.Named) (sites []foundSite, deeper string, err error) {
	names, err := s.Folders(ctx, "")
	if err != nil {
		return nil, "", fmt.Errorf("store %s: %w", s.Name, err)
	}
	if slices.Contains(names, "archives") && slices.Contains(names, "parts") {
		return nil, "", usageError("%s is the folder of one site; give the folder above it", s.Where())
	}
	slices.Sort(names)
	for _, name := range names {
		if !config.ValidName(name) {
			continue
		}
		l, err := catalog.List(ctx, []store.Named{s}, name, catalog.Options{Keys: a.keys})
		if err != nil {
			return nil, "", err
		}
		if len(l.Archives) > 0 {
			found, err := a.describeFound(name, l)
			if err != nil {
				return nil, "", err
			}
			sites = append(sites, found)
			continue
		}
		inner, err := s.Folders(ctx, name)
		if err != nil {
			return nil, "", fmt.Errorf("store %s: %w", s.Name, err)
		}
		for _, sub := range inner {
			if l, err := catalog.List(ctx, []store.Named{s}, path.Join(name, sub), catalog.Options{}); err == nil && len(l.Archives)+len(l.Broken) > 0 {
				deeper = name
			}
		}
	}
	return sites, deeper, nil
}

// describeFound makes a configuration entry of the newest archive's origin.
func (a *app) describeFound(name string, l *catalog.Listing) (foundSite, error) {
	h := l.Archives[0]
	f := foundSite{Site: name, Archives: len(l.Archives), Newest: h.Name, Encrypted: h.Encrypted}
	_, f.Known = a.config.Sites[name]
	if err := h.Unseal(a.keys); err != nil {
		f.Sealed = true
		return f, nil
	}
	o := h.Origin
	for _, older := range l.Archives { // a database archive does not say where files go
		if o.Roots == nil && older.Unseal(a.keys) == nil {
			o.Roots = older.Origin.Roots
		}
	}
	f.Root, f.Address = o.Roots[site.RootLabel], o.Address
	f.entry = config.Site{Root: f.Root, Address: o.Address, Recipe: o.Recipe, Skip: o.Skipped}
	if o.Recipe == "" {
		f.entry.Recipe = "none"
		f.entry.Databases = describedDatabases(o)
	}
	for label, dir := range o.Roots {
		if label != site.RootLabel && label != site.AboveLabel {
			if f.entry.Roots == nil {
				f.entry.Roots = map[string]string{}
			}
			f.entry.Roots[label] = dir
		}
	}
	if o.Address != "" {
		f.entry.Check = &config.Check{Path: "/", Status: 200}
	}
	return f, nil
}

// describedDatabases are the databases of a site that no recipe knows, but for
// their passwords, which no archive holds.
func describedDatabases(o archive.Origin) map[string]config.Database {
	all := map[string]config.Database{}
	for label, db := range o.Databases {
		switch db.Engine {
		case "mysql":
			all[label] = config.Database{MySQL: db.Where}
		case "postgres":
			all[label] = config.Database{Postgres: db.Where}
		default:
			all[label] = config.Database{SQLite: db.Where}
		}
	}
	return all
}

func (a *app) writeDiscovered(name string, cfg config.Store, inConfig bool, sites []foundSite) error {
	stores := map[string]config.Store{}
	if !inConfig {
		stores[name] = cfg
	}
	entries := map[string]config.Site{}
	for _, f := range sites {
		if !f.Known && !f.Sealed && f.Root != "" {
			f.entry.Stores = []string{name}
			entries[f.Site] = f.entry
		}
	}
	if len(stores)+len(entries) == 0 {
		return nil
	}
	return config.Add(a.disk, a.config.Path, stores, entries)
}

// exportsIn are portable files that lie in a folder store.
func exportsIn(cfg config.Store) []string {
	var found []string
	for _, pattern := range []string{"*.zip", "*.tar", "*.tar.zst", "*.zip.001", "*.tar.001", "*.tar.zst.001"} {
		if cfg.Folder == "" {
			break
		}
		matches, _ := filepath.Glob(filepath.Join(cfg.Folder, pattern)) // the patterns are sound
		found = append(found, matches...)
	}
	return found
}

func (a *app) showDiscovered(c *cli.Command, name string, s store.Named, cfg config.Store, sites []foundSite) {
	var rows [][]string
	for _, f := range sites {
		root := f.Root
		if f.Sealed {
			root = a.bad("encrypted: give the key with --key FILE")
		}
		rows = append(rows, []string{f.Site, fmt.Sprint(f.Archives), f.Newest, root, f.Address})
	}
	if len(rows) > 0 {
		a.table([]string{"site", "archives", "newest", "webroot", "address"}, rows, 2)
	} else {
		fmt.Fprintf(a.out, "No archives are in %s.\n", s.Where())
	}
	for _, file := range exportsIn(cfg) {
		fmt.Fprintf(a.out, "A portable archive lies there: `revlet import %s` takes it in.\n", file)
	}
	if len(sites) == 0 {
		return
	}
	verb := "Written to"
	if c.Bool("dry-run") {
		verb = "Would be written to"
	}
	fmt.Fprintf(a.out, "\n%s %s: store %s", verb, a.config.Path, name)
	for _, f := range sites {
		switch {
		case f.Known:
			fmt.Fprintf(a.out, "\nSite %s is there already; add %s to its `stores:`", f.Site, name)
		case !f.Sealed && f.Root != "":
			fmt.Fprintf(a.out, ", site %s", f.Site)
		}
	}
	fmt.Fprintln(a.out)
	if sealed := slices.ContainsFunc(sites, func(f foundSite) bool { return f.Sealed }); sealed {
		fmt.Fprintln(a.out, "With the key, run this again: it then finds out where the site belongs.")
		return
	}
	for _, f := range sites {
		for _, label := range slices.Sorted(maps.Keys(f.entry.Databases)) {
			if f.entry.Databases[label].SQLite == "" {
				fmt.Fprintf(a.out, "Name the password of database %s of %s there in `password_file:`; no archive holds it.\n", label, f.Site)
			}
		}
	}
	if a.config.Encrypt == nil && slices.ContainsFunc(sites, func(f foundSite) bool { return f.Encrypted }) {
		fmt.Fprintf(a.out, "%s what is there is encrypted, new archives will not be until you add `encrypt: {to: [%s]}`.\n", a.bad("Mind:"), a.publics())
	}
	fmt.Fprintf(a.out, "Next: look over what was written, then `revlet restore %s`.\n", sites[0].Site)
}

// publics are the recipients of the key that was given.
func (a *app) publics() string {
	ids, err := a.identities()
	if err != nil {
		return "age1…"
	}
	return strings.Join(seal.Publics(ids), ", ")
}

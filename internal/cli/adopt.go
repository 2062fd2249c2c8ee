package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/site"
	"revlet/internal/state"
)

func (a *app) adoptCommand() *cli.Command {
	return &cli.Command{
		Name: "adopt", Usage: "recognise the CMS at PATH and write the site into the configuration", ArgsUsage: "PATH",
		Description: "Reads the site's own settings for its database and address, looks into that\n" +
			"database to confirm them, and writes the site into the configuration file.\n" +
			"Nothing on the site is changed.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "what to call the site (default: from its address)"},
			&cli.StringFlag{Name: "store", Usage: "where archives go: a configured store's `NAME`, or a folder for a new one"},
			&cli.StringFlag{Name: "address", Usage: "the public `URL` (default: as the site's database says)"},
			&cli.StringFlag{Name: "settings", Usage: "the settings `FILE`, relative to PATH, where one installation holds several sites"},
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be written"},
			jsonFlag,
		},
		Action: a.adopt,
	}
}

// adopted is what adopt found, as JSON too.
type adopted struct {
	Site      string            `json:"site"`
	Root      string            `json:"root"`
	Recipe    string            `json:"recipe"`
	Version   string            `json:"version"`
	Address   string            `json:"address"`
	Databases []adoptedDatabase `json:"databases"`
	Store     string            `json:"store"`
	Config    string            `json:"config"`
	Written   bool              `json:"written"`
}

type adoptedDatabase struct {
	Label   string `json:"label"`
	Where   string `json:"where"`
	Version string `json:"version"`
	Bytes   int64  `json:"bytes"`
	// Address is what the database itself gives as the site's address.
	Address string `json:"address"`
}

func (a *app) adopt(ctx context.Context, c *cli.Command) error {
	arg, err := oneArg(c, "PATH: the site's webroot")
	if err != nil {
		return err
	}
	root, err := filepath.Abs(arg)
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
	s, err := a.recognise(root, c.String("settings"))
	if err != nil {
		return err
	}
	a.tellOthers(s)
	found, err := a.confirm(ctx, s)
	if err != nil {
		return err
	}
	found.Config = path
	if addr := c.String("address"); addr != "" {
		found.Address = addr
	}
	if found.Site = c.String("name"); found.Site == "" {
		found.Site = nameFrom(found.Address, root)
	}
	if !config.ValidName(found.Site) {
		return usageError("%q cannot be a site's name; choose one of small letters, digits and dashes with --name", found.Site)
	}
	if old, taken := a.config.Sites[found.Site]; taken {
		return usageError("%s has a site %q already (%s); choose another name with --name", path, found.Site, old.Root)
	}
	stores, err := a.chooseStore(c.String("store"), found, root)
	if err != nil {
		return err
	}
	entry := config.Site{Root: root, Settings: c.String("settings"), Address: found.Address, Recipe: found.Recipe, Stores: []string{found.Store}}
	if found.Address != "" {
		entry.Check = &config.Check{Path: "/", Status: 200}
	}
	if !c.Bool("dry-run") {
		for _, st := range stores {
			if err := a.disk.MkdirAll(st.Folder, 0o700); err != nil {
				return fmt.Errorf("make the store folder: %w", err)
			}
		}
		if err := config.Add(a.disk, path, stores, map[string]config.Site{found.Site: entry}); err != nil {
			return err
		}
		found.Written = true
	}
	if c.Bool("json") {
		return a.printJSON(found)
	}
	a.showAdopted(found, stores)
	return nil
}

func (a *app) recognise(root, settings string) (*site.Site, error) {
	info, err := os.Stat(root)
	if err != nil {
		return nil, fmt.Errorf("the webroot: %w", err)
	}
	if !info.IsDir() {
		return nil, usageError("%s is not a folder; give the site's webroot", root)
	}
	s, err := site.Open("new", config.Site{Root: root, Recipe: "auto", Settings: settings})
	if err != nil {
		return nil, err
	}
	if s.Recipe == nil {
		if below := cmsBelow(root); below != "" {
			return nil, usageError("no known CMS is at %s itself, but one is below it: `revlet adopt %s`", root, below)
		}
		return nil, usageError("no known CMS is at %s; give the folder that holds its start page, or describe the site by hand in %s (root, databases, stores; docs in the README)", root, a.config.Path)
	}
	return s, nil
}

// tellOthers says that an installation holds more sites than the adopted one.
func (a *app) tellOthers(s *site.Site) {
	if others := s.OtherSettings(); len(others) > 1 {
		fmt.Fprintf(a.err, "note: this installation holds several sites; `revlet adopt %s --settings FILE` adopts another: %s\n", s.Root, strings.Join(others, ", "))
	}
}

// cmsBelow looks for a CMS one folder deeper.
func cmsBelow(root string) string {
	dirs, err := filepath.Glob(filepath.Join(root, "*"))
	if err != nil {
		return ""
	}
	for _, dir := range dirs {
		if r, err := site.Recognise(site.InFolder(dir)); err == nil && r != nil {
			return dir
		}
	}
	return ""
}

// confirm connects to the site's databases and looks for the site's address.
func (a *app) confirm(ctx context.Context, s *site.Site) (*adopted, error) {
	found := &adopted{Root: s.Root, Recipe: s.Recipe.Name, Version: s.Version(), Databases: []adoptedDatabase{}, Address: s.AddressInSettings()}
	for _, db := range s.Databases {
		source, err := a.openSource(ctx, db, os.TempDir())
		if err != nil {
			return nil, fmt.Errorf("%s at %s is recognised, but its database cannot be reached: %w%s", s.Recipe.Title, s.Root, err, whatToTry(s, db))
		}
		info := source.Info()
		d := adoptedDatabase{Label: db.Label, Where: db.Where(), Version: info.Version, Bytes: info.Bytes}
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
	steps := []string{
		"run this on the site's own machine: many servers answer no other",
		fmt.Sprintf("compare user, password and host with %s", filepath.Join(s.Root, s.Recipe.Settings.Files[0])),
	}
	if db.Host == "localhost" && db.Socket == "" {
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
		label = filepath.Base(root)
		for _, generic := range []string{"htdocs", "html", "www", "public_html", "public", "web", "httpdocs"} {
			if label == generic {
				label = filepath.Base(filepath.Dir(root))
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
func (a *app) chooseStore(asked string, found *adopted, root string) (map[string]config.Store, error) {
	if _, ok := a.config.Stores[asked]; ok {
		found.Store = asked
		return nil, nil
	}
	if asked == "" && len(a.config.Stores) == 1 {
		for name := range a.config.Stores {
			found.Store = name
		}
		return nil, nil
	}
	if asked == "" && len(a.config.Stores) > 1 {
		return nil, usageError("%s has several stores; say which one with --store NAME", a.config.Path)
	}
	if asked != "" && !strings.Contains(asked, "/") {
		return nil, usageError("there is no store %q in %s; for a new one give its folder, such as --store ./%s", asked, a.config.Path, asked)
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
		return nil, errors.New("the store " + place + " would lie inside the webroot, where anyone could download it; choose another folder with --store")
	}
	for name, s := range a.config.Stores {
		if s.Folder == place {
			found.Store = name
			return nil, nil
		}
	}
	found.Store = "here"
	if _, taken := a.config.Stores["here"]; taken {
		found.Store = nameFrom("", place)
	}
	return map[string]config.Store{found.Store: {Folder: place}}, nil
}

func (a *app) showAdopted(f *adopted, stores map[string]config.Store) {
	title := f.Recipe
	if r, err := site.RecipeNamed(f.Recipe); err == nil {
		title = r.Title
	}
	fmt.Fprintf(a.out, "%s is %s %s at %s\n\n", a.bold(f.Site), title, f.Version, f.Root)
	lines := [][2]string{{"address", f.Address}}
	for _, db := range f.Databases {
		confirmed := "its tables are this CMS's"
		if db.Address != "" {
			confirmed = "the database gives its address as " + db.Address
		}
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s: %s (%s)", db.Label, db.Where, size(db.Bytes))},
			[2]string{"confirmed", confirmed})
	}
	for name, s := range stores {
		lines = append(lines, [2]string{"new store", fmt.Sprintf("%s: %s", name, s.Folder)})
	}
	if len(stores) == 0 {
		lines = append(lines, [2]string{"store", f.Store})
	}
	verb := "written to"
	if !f.Written {
		verb = "would be written to"
	}
	a.facts(append(lines, [2]string{verb, f.Config}))
	fmt.Fprintf(a.out, "\nNext: `revlet backup %s` takes the first archive; `schedule:` and `keep:` in %s have that done for you.\n", f.Site, a.config.Path)
}

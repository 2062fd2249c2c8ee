package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"revlet/internal/archive"
	"revlet/internal/backup"
	"revlet/internal/catalog"
	"revlet/internal/config"
	"revlet/internal/history"
	"revlet/internal/portable"
	"revlet/internal/site"
	"revlet/internal/store"
	"revlet/internal/store/folder"
)

func (a *app) exportCommand() *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write one portable file out of an archive", ArgsUsage: "ARCHIVE FILE",
		Description: "FILE ends in .zip, .tar or .tar.zst and opens on any computer: the plain tree under\n" +
			"files/, each database as database/LABEL.sql, and Revlet's record and list. It is not\n" +
			"encrypted. `revlet import FILE` and `revlet restore FILE` take it in again.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "split", Usage: "into pieces of `BYTES` (such as 500MB), for places with an upload limit"},
			beforeFlag, keyFlag, jsonFlag,
		},
		Action: a.export,
	}
}

func (a *app) export(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usageError("`revlet export` needs an ARCHIVE and the FILE to write; it got %d arguments", c.Args().Len())
	}
	var split uint64
	if text := c.String("split"); text != "" {
		var err error
		if split, err = humanize.ParseBytes(text); err != nil || split < leastPiece {
			return usageError("--split %q: it is an amount of at least 64 kB, such as 500MB", text)
		}
	}
	h, err := a.chosen(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	files, err := portable.Export{Archive: h, File: c.Args().Get(1), Split: int64(split), Disk: a.disk, Observer: watch}.Run(ctx)
	done()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"archive": h.Name, "files": nonNil(files)})
	}
	for _, f := range files {
		info, err := os.Stat(f)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "Wrote %s (%s)\n", f, size(info.Size()))
	}
	if h.Encrypted {
		fmt.Fprintf(a.out, "\n%s the archive is encrypted, this file is not.\n", a.bad("Mind:"))
	}
	if split > 0 {
		fmt.Fprintln(a.out, "\nThe pieces and the .sha256 file belong together; `sha256sum -c` checks them, `cat` joins them.")
	}
	return nil
}

// leastPiece is the least length of a piece.
const leastPiece = 64 << 10

func (a *app) importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "take in a portable file, or a copy made by hand", ArgsUsage: "FILE…",
		Description: "FILE is what `revlet export` wrote, or its pieces in any order; or a .zip, .tar.gz,\n" +
			".tar or .tar.zst of a webroot that somebody has packed by hand, with or without a\n" +
			"folder around it, and an .sql, .sql.gz or .sql.zst from a database admin page. It\n" +
			"becomes an archive like any other, in all stores of the site.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "site", Usage: "the `SITE` that a copy made by hand is of"},
			&cli.StringFlag{Name: "store", Usage: "where a site that is not configured yet is to have its archives: a store's `NAME`, or a folder"},
			&cli.StringFlag{Name: "note", Usage: "`TEXT` for a copy made by hand"},
			jsonFlag,
		},
		Action: a.importFile,
	}
}

func (a *app) importFile(ctx context.Context, c *cli.Command) error {
	files := c.Args().Slice()
	if len(files) == 0 {
		return usageError("`revlet import` needs a FILE")
	}
	if err := a.open(ctx, c); err != nil && !errors.Is(err, config.ErrNone) {
		return err
	}
	if a.config == nil {
		path, _ := config.Locate(c.String("config"))
		a.config = &config.Config{Path: path}
		a.findKeys(c)
		if err := a.openState(ctx, c); err != nil {
			return err
		}
	}
	opened, done, err := a.unpack(ctx, files, "import")
	if err != nil {
		return err
	}
	defer done()
	name := c.String("site")
	if opened.Record != nil {
		name = opened.Record.Site
	}
	if name == "" {
		return usageError("this is no portable file of Revlet's: say which site the copy is of, with --site NAME")
	}
	if err := a.siteToImport(c, name, opened); err != nil {
		return err
	}
	cfg, err := a.siteConfig(name)
	if err != nil {
		return err
	}
	unlock, err := a.state.Lock(name)
	if err != nil {
		return err
	}
	defer unlock()
	started := a.now()
	r, err := a.takeIn(ctx, c, opened, name, cfg, a.stores(cfg))
	run := history.Run{Site: name, Command: "import", Started: started, Outcome: history.Done}
	if err != nil {
		run.Outcome, run.Detail = history.Failed, err.Error()
		a.remember(ctx, run)
		return err
	}
	run.Archive, run.Bytes, run.NewBytes, run.Gaps, run.Stores = r.Record.Name, r.Record.Totals.StoredBytes, r.Record.Totals.NewBytes, len(r.Record.Gaps), a.arrivedIn(r)
	a.remember(ctx, run)
	if err := a.knowArchive(ctx, archiveLine(r.Record), run.Stores); err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"archives": []*archive.Record{r.Record}})
	} else {
		a.showBackup(ctx, &delivered{Result: r})
	}
	if err == nil && len(r.Pending)+len(r.Record.Gaps) > 0 {
		return &exitError{code: exitGaps}
	}
	return err
}

// unpack unpacks files into a scratch folder, which done removes.
func (a *app) unpack(ctx context.Context, files []string, what string) (*portable.Opened, func(), error) {
	scratch, err := a.state.Spool(what)
	if err != nil {
		return nil, nil, err
	}
	done := func() { _ = a.disk.RemoveAll(scratch) }
	inner := filepath.Join(scratch, "unpacked")
	if err := a.disk.Mkdir(inner, 0o700); err != nil {
		done()
		return nil, nil, err
	}
	opened, err := portable.Open(ctx, a.disk, files, inner)
	if err != nil {
		done()
		return nil, nil, err
	}
	return opened, done, nil
}

// siteToImport makes sure that the site is in the configuration: one that is
// not is described by its archive.
func (a *app) siteToImport(c *cli.Command, name string, opened *portable.Opened) error {
	if _, ok := a.config.Sites[name]; ok {
		return nil
	}
	if opened.Record == nil {
		_, err := a.siteConfig(name)
		return err
	}
	found := &adopted{}
	stores, err := a.chooseStore(c.String("store"), found, opened.Record.Origin.Roots[site.RootLabel])
	if err != nil {
		return err
	}
	if c.String("store") == "" && stores != nil {
		return usageError("site %s is not in %s; say where its archives are to be, with --store FOLDER", name, a.config.Path)
	}
	f, err := a.describeFound(name, &catalog.Listing{Archives: []catalog.Held{{Record: opened.Record}}})
	if err != nil {
		return err
	}
	for _, s := range stores {
		if err := a.disk.MkdirAll(s.Folder, 0o700); err != nil {
			return fmt.Errorf("make the store folder: %w", err)
		}
	}
	f.entry.Stores = []string{found.Store}
	if err := config.Add(a.disk, a.config.Path, stores, map[string]config.Site{name: f.entry}); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "note: site %s is written into %s, as its archive describes it.\n", name, a.config.Path)
	a.config, err = config.Load(a.config.Path)
	return err
}

// takeIn makes an archive of what was unpacked.
func (a *app) takeIn(ctx context.Context, c *cli.Command, opened *portable.Opened, name string, cfg config.Site, stores []store.Named) (*backup.Result, error) {
	to, err := a.recipients()
	if err != nil {
		return nil, err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	defer done()
	job := backup.Job{Stores: stores, State: a.state, Scope: archive.Full, Note: c.String("note"), Program: "revlet " + Version, Observer: watch, Now: a.now,
		To: to.all, RecipientNames: to.names, KeyFile: to.locked}
	if rec := opened.Record; rec != nil {
		job.Site, job.Scope = &site.Site{Name: name, Root: cfg.Root}, rec.Scope
		job.Imported = &backup.Imported{Record: rec, List: opened.List, File: opened.File, Database: opened.Database}
		return backup.Run(ctx, job)
	}
	if job.Site, job.HandMade, err = handMade(opened, name, cfg); err != nil {
		return nil, err
	}
	if opened.SQL == "" {
		job.Scope = archive.Files
	}
	if job.Note == "" {
		job.Note = "made by hand, imported"
	}
	return backup.Run(ctx, job)
}

// handMade describes a copy that was made by hand: a site whose webroot is
// where the copy was unpacked.
func handMade(opened *portable.Opened, name string, cfg config.Site) (*site.Site, *backup.HandMade, error) {
	here := cfg
	here.Root, here.Roots = opened.Root, nil
	s, err := site.Open(name, here)
	if err != nil {
		return nil, nil, err
	}
	if cfg.Recipe != "none" && s.Recipe == nil {
		return nil, nil, usageError("no known CMS is in the file archive (its top holds: %s); is it the webroot of %s? `recipe: none` in the configuration takes anything", strings.Join(topOf(opened.Root), ", "), name)
	}
	h := &backup.HandMade{Taken: opened.Made.UTC().Truncate(time.Second), Root: cfg.Root, Own: ownerOf(cfg.Root), SQL: opened.SQL}
	if opened.SQL == "" {
		return s, h, nil
	}
	if len(s.Databases) != 1 {
		return nil, nil, usageError("the SQL file could be of any of %d databases of %s; one is wanted", len(s.Databases), name)
	}
	db := s.Databases[0]
	if db.Engine == "sqlite" {
		return nil, nil, usageError("the site's database is an SQLite file inside its webroot; it needs no SQL file")
	}
	h.Label = db.Label
	h.Origin = archive.DBOrigin{Engine: db.Engine, Name: db.Name, Where: db.Where(), Prefix: db.Prefix, Consistency: "as another program has written it"}
	return s, h, nil
}

func topOf(dir string) []string {
	entries, _ := os.ReadDir(dir) // only for an error's text
	var names []string
	for i, e := range entries {
		if i == 8 {
			return append(names, "…")
		}
		names = append(names, printable(e.Name()))
	}
	return names
}

// ownerOf gives entries the owner of a live webroot, if there is one: a copy
// that went through an admin page has lost them.
func ownerOf(root string) func(*archive.Entry) {
	info, err := os.Stat(root)
	if err != nil {
		return nil
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	return func(e *archive.Entry) { e.UID, e.GID, e.User, e.Group = int(st.Uid), int(st.Gid), "", "" }
}

// isFile tells whether what was typed for an ARCHIVE is a portable file.
func isFile(typed string) bool {
	if !portable.IsPortable(typed) {
		return false
	}
	if _, err := os.Stat(typed); errors.Is(err, fs.ErrNotExist) {
		_, err = os.Stat(typed + ".001")
		return err == nil
	}
	return true
}

// fromFile makes an archive of a portable file in a passing store, for a
// restore; done removes it.
func (a *app) fromFile(ctx context.Context, c *cli.Command, file string) (*catalog.Held, func(), error) {
	if err := a.open(ctx, c); err != nil {
		return nil, nil, err
	}
	opened, done, err := a.unpack(ctx, []string{file}, "restore-file")
	if err != nil {
		return nil, nil, err
	}
	h, err := a.passing(ctx, c, opened)
	if err != nil {
		done()
		return nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	return h, done, nil
}

func (a *app) passing(ctx context.Context, c *cli.Command, opened *portable.Opened) (*catalog.Held, error) {
	if opened.Record == nil {
		return nil, usageError("it is no portable file of Revlet's; `revlet import` takes in copies made by hand")
	}
	name := opened.Record.Site
	cfg, ok := a.config.Sites[name]
	if !ok {
		return nil, usageError("site %s is not in %s; `revlet import FILE --store FOLDER` describes it there", name, a.config.Path)
	}
	dir := filepath.Join(filepath.Dir(opened.Dir), "store")
	if err := a.disk.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	s := store.Named{Name: "file", Store: folder.New(a.disk, dir)}
	encrypt := a.config.Encrypt
	a.config.Encrypt = nil // what passes is not left anywhere
	r, err := a.takeIn(ctx, c, opened, name, cfg, []store.Named{s})
	a.config.Encrypt = encrypt
	if err != nil {
		return nil, err
	}
	return &catalog.Held{Record: r.Record, Stores: []store.Named{s}}, nil
}

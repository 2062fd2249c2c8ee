package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"revlet/internal/catalog"
	"revlet/internal/compare"
	"revlet/internal/database/engine"
	"revlet/internal/restore"
	"revlet/internal/site"
)

func (a *app) asideCommand() *cli.Command {
	return &cli.Command{
		Name: "aside", Usage: "what restores have replaced and set aside, as evidence",
		Description: "What is set aside lies outside the webroot, where no web server comes, until `revlet\n" +
			"undo` puts it back or `revlet settle` deletes it.",
		Commands: []*cli.Command{
			{Name: "list", Usage: "what is set aside, and where", ArgsUsage: "[SITE…]", Flags: []cli.Flag{jsonFlag}, Action: a.asideList},
			{Name: "show", Usage: "how the newest aside differs from the archive that was restored", ArgsUsage: "SITE",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "list everything that differs"}, keyFlag}, Action: a.asideShow},
			{Name: "export", Usage: "pack the newest aside, files and tables, into a .tar.zst", ArgsUsage: "SITE FILE", Action: a.asideExport},
		},
	}
}

// asideLine is one aside, as JSON.
type asideLine struct {
	Site     string    `json:"site"`
	Archive  string    `json:"archive"`
	Restored time.Time `json:"restored"`
	Places   []string  `json:"places"`
	Files    int64     `json:"files"`
	Bytes    int64     `json:"bytes"`
}

func (a *app) asideList(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	all := []asideLine{}
	for _, name := range names {
		asides, err := restore.Asides(a.state, name)
		if err != nil {
			return err
		}
		for _, one := range asides {
			l := asideLine{Site: name, Archive: one.Archive, Restored: one.Started, Places: nonNil(one.AsidePlaces())}
			for _, dir := range one.Folders {
				if err := a.measure(dir, &l); err != nil {
					return err
				}
			}
			all = append(all, l)
		}
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"asides": all})
	}
	if len(all) == 0 {
		fmt.Fprintln(a.out, "Nothing is set aside.")
		return nil
	}
	var rows [][]string
	for _, l := range all {
		rows = append(rows, []string{l.Site, when(l.Restored), l.Archive, fmt.Sprint(l.Files), size(l.Bytes), strings.Join(l.Places, "\n")})
	}
	a.table([]string{"site", "restored", "from", "files", "size", "what was there lies in"}, rows, 4, 5)
	return nil
}

// measure counts what lies in a folder.
func (a *app) measure(dir string, l *asideLine) error {
	return a.disk.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		info, err := e.Info()
		if err == nil {
			l.Files++
			l.Bytes += info.Size()
		}
		return err
	})
}

// newestAside is what the last restore of a site has set aside.
func (a *app) newestAside(name string) (*restore.Aside, error) {
	if _, err := a.siteConfig(name); err != nil {
		return nil, err
	}
	all, err := restore.Asides(a.state, name)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, usageError("nothing is set aside for %s", name)
	}
	return &all[0], nil
}

func (a *app) asideShow(ctx context.Context, c *cli.Command) error {
	name, err := oneArg(c, "SITE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	aside, err := a.newestAside(name)
	if err != nil {
		return err
	}
	h, err := a.findOpen(ctx, aside.Archive, time.Time{})
	if err != nil {
		return err
	}
	root, ok := aside.Folders[site.RootLabel]
	if !ok {
		return usageError("no files are set aside for %s, only %s", name, strings.Join(aside.AsidePlaces(), ", "))
	}
	r, err := a.compareAside(ctx, h, aside)
	if err != nil {
		return err
	}
	a.showCompared(h, "what is set aside ("+root+")", r, c.Bool("all"))
	for _, t := range aside.Tables {
		fmt.Fprintf(a.out, "\nSet aside in the database server: %s\n", t)
	}
	return nil
}

// compareAside tells how the files that are set aside differ from an archive.
func (a *app) compareAside(ctx context.Context, h *catalog.Held, aside *restore.Aside) (*compare.Report, error) {
	recipe, err := recipeOf(h)
	if err != nil {
		return nil, err
	}
	was := &site.Site{Name: aside.Site, Root: aside.Folders[site.RootLabel], Recipe: recipe, Skip: h.Origin.Skipped, Roots: map[string]string{}}
	maps.Copy(was.Roots, aside.Folders)
	delete(was.Roots, site.RootLabel)
	for label, o := range h.Origin.Databases {
		if rel, err := filepath.Rel(h.Origin.Roots[site.RootLabel], o.Where); o.Engine == "sqlite" && err == nil && filepath.IsLocal(rel) {
			was.Databases = append(was.Databases, site.Database{Label: label, Engine: o.Engine, Path: filepath.Join(was.Root, rel)})
		}
	}
	r, err := compare.Job{A: compare.Archive{Held: h}, B: &compare.Live{Site: was, Disk: a.disk, IsDatabase: engine.IsFile}, Recipe: recipe, Files: true}.Run(ctx)
	if err != nil {
		return nil, err
	}
	r.Files = slices.DeleteFunc(r.Files, func(f compare.File) bool { return strings.HasPrefix(f.Path, site.AboveLabel) })
	return r, nil
}

func (a *app) asideExport(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usageError("`revlet aside export` needs a SITE and the FILE to write; it got %d arguments", c.Args().Len())
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	aside, err := a.newestAside(c.Args().First())
	if err != nil {
		return err
	}
	s, err := a.siteForAside(ctx, aside.Site, a.config.Sites[aside.Site], aside.Journal)
	if err != nil {
		return err
	}
	file, err := filepath.Abs(c.Args().Get(1))
	if err != nil {
		return err
	}
	f, err := a.disk.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return usageError("%s is there already; choose another name", file)
	}
	if err != nil {
		return err
	}
	pack, err := zstd.NewWriter(f)
	if err == nil {
		err = errors.Join(a.recoverer(s).ExportAside(ctx, aside, pack), pack.Close())
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, a.disk.Remove(file))
	}
	fmt.Fprintf(a.out, "%s %s, readable for this account only. Do not unpack it where a web server comes.\n", a.good("Written:"), file)
	return nil
}

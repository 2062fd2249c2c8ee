package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"revlet/internal/config"
	"revlet/internal/jobs"
	"revlet/internal/site"
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

func (a *app) adopt(ctx context.Context, c *cli.Command) error {
	arg, err := oneArg(c, "PATH: the site's webroot")
	if err != nil {
		return err
	}
	root, err := filepath.Abs(arg)
	if err != nil {
		return err
	}
	path, exists := config.Locate(c.String("config"), a.env("REVLET_CONFIG"))
	if err := a.jobs.ReadConfigIfAny(path, exists); err != nil {
		return err
	}
	found, stores, err := a.jobs.Adopt(ctx, jobs.AdoptOrder{Root: root, Name: c.String("name"), Store: c.String("store"), Address: c.String("address"), Settings: c.String("settings"), Write: !c.Bool("dry-run")})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(found)
	}
	a.showAdopted(found, stores)
	return nil
}

func (a *printer) showAdopted(f *jobs.Adopted, stores map[string]config.Store) {
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
	fmt.Fprintf(a.out, "\nNext: `revlet backup %s` takes the first archive; `schedule:` and `keep:` in %s have that done for you.\n", f.Site, f.Config)
}

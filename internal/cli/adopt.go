package cli

import (
	"context"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"revlet/internal/jobs"
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
			&cli.StringFlag{Name: "tls", Usage: "how a database server elsewhere is spoken to: `MODE` is verify (the default), unverified or off"},
			&cli.StringFlag{Name: "ca-file", Usage: "a PEM `FILE` of the authority that its certificate is of"},
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
	path, exists, err := a.locate(c)
	if err != nil {
		return err
	}
	if err := a.jobs.ReadConfigIfAny(path, exists); err != nil {
		return err
	}
	found, stores, err := a.jobs.Adopt(ctx, jobs.AdoptOrder{StateDir: c.String("state"), Root: root, Name: c.String("name"), Store: c.String("store"), Address: c.String("address"), Settings: c.String("settings"), TLS: c.String("tls"), CAFile: c.String("ca-file"), Write: !c.Bool("dry-run")})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(found)
	}
	a.ShowAdopted(found, stores)
	return nil
}

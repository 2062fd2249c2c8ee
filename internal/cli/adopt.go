package cli

import (
	"context"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/config"
	"revlet/internal/jobs"
)

func (a *app) adoptCommand() *cli.Command {
	return &cli.Command{
		Name: "adopt", Usage: "recognise the CMS at PATH and write the site into the configuration", ArgsUsage: "PATH|sftp://USER@HOST/PATH",
		Description: "Reads the site's own settings for its database and address, looks into that\n" +
			"database to confirm them, and writes the site into the configuration file.\n" +
			"Nothing on the site is changed.\n\n" +
			"A site on another machine is reached over SFTP, and its database through the same\n" +
			"connection: sftp://keeper@host.example/home/keeper/public_html, or from the account's\n" +
			"home, sftp://keeper@host.example/~/public_html. See docs/ELSEWHERE.md.",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the site's `NAME` in the configuration (default: from its address)"},
			&cli.StringFlag{Name: "store", Usage: "where archives go: a configured `STORE`, or a folder for a new one"},
			&cli.StringFlag{Name: "address", Usage: "the public `URL` (default: as the site's database says)"},
			&cli.StringFlag{Name: "settings", Usage: "the settings `FILE`, relative to PATH, where one installation holds several sites"},
			&cli.StringFlag{Name: "tls", Usage: "how a database server elsewhere is spoken to: `MODE` is verify (the default), unverified or off"},
			&cli.StringFlag{Name: "dump", Usage: "take the database from the dump that a job of the host leaves at `PATH`, such as backups/*.sql.gz, on its machine"},
			&cli.StringFlag{Name: "dump-at-most", Usage: "how old it may be before there is an alarm, a `SPAN` such as \"1 day\""},
			&cli.StringFlag{Name: "ca-file", Usage: "a PEM `FILE` of the authority that its certificate is of"},
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be written"},
			jsonFlag,
		}, reachFlags("password-file")...),
		Action: a.adopt,
	}
}

// reachFlags say how the machine of a site elsewhere is reached; password is the name of the
// option for the file with the password there.
func reachFlags(password string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "ssh-key", Usage: "the SSH key `FILE` for a site elsewhere (default: the SSH agent's keys)"},
		&cli.StringFlag{Name: password, Usage: "a `FILE` with the password there, or with the passphrase of the key"},
		&cli.StringFlag{Name: "host-key", Usage: "the `FINGERPRINT` (SHA256:…) that the machine there has to show"},
		&cli.BoolFlag{Name: "trust", Usage: "accept the key that the machine there shows, if none is known"},
	}
}

// reachOf is how a site elsewhere is reached, as typed; relative paths are from here.
func reachOf(c *cli.Command, password string) *config.Reach {
	absolute := func(file string) string {
		if file == "" {
			return ""
		}
		if abs, err := filepath.Abs(file); err == nil {
			return abs
		}
		return file
	}
	r := config.Reach{KeyFile: absolute(c.String("ssh-key")), PasswordFile: absolute(c.String(password)), HostKey: c.String("host-key")}
	if r == (config.Reach{}) {
		return nil
	}
	return &r
}

func (a *app) adopt(ctx context.Context, c *cli.Command) error {
	arg, err := oneArg(c, "PATH: the site's webroot")
	if err != nil {
		return err
	}
	root, reach := arg, (*config.Reach)(nil)
	if strings.Contains(arg, "://") {
		reach = reachOf(c, "password-file")
		a.jobs.TrustHosts = c.Bool("trust")
	} else if root, err = filepath.Abs(arg); err != nil {
		return err
	}
	path, exists, err := a.locate(c)
	if err != nil {
		return err
	}
	if err := a.jobs.ReadConfigIfAny(path, exists); err != nil {
		return err
	}
	found, stores, err := a.jobs.Adopt(ctx, jobs.AdoptOrder{StateDir: c.String("state"), Root: root, Reach: reach, Name: c.String("name"), Store: c.String("store"), Address: c.String("address"), Settings: c.String("settings"), TLS: c.String("tls"), CAFile: c.String("ca-file"), Dump: c.String("dump"), DumpAtMost: c.String("dump-at-most"), Write: !c.Bool("dry-run")})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(found)
	}
	a.ShowAdopted(found, stores)
	return nil
}

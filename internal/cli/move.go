package cli

import (
	"context"
	"errors"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/site/check"
	"revlet/internal/work/move"
	"revlet/internal/work/rewrite"
)

func (a *app) moveCommand() *cli.Command {
	return &cli.Command{
		Name: "move", Usage: "bring an archive up at another place", ArgsUsage: "ARCHIVE",
		DisableSliceFlagSeparator: true,
		Description: "Restores an archive as another site: another folder, database or address. Its\n" +
			"settings, and every value of the database that names the old place, are changed in\n" +
			"the staged copy, before anything goes live; the old site is not touched. What is at\n" +
			"the new place stops it, unless it is to be set aside: `revlet undo` puts that back.\n" +
			"See docs/MOVING.md.",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "the new `SITE`: a name that the configuration has, or a new one", Required: true},
			&cli.StringFlag{Name: "root", Usage: "the new site's webroot, a `FOLDER`, or sftp://USER@HOST/FOLDER on another machine"},
			&cli.StringSliceFlag{Name: "folder", Usage: "where another folder of the site's (roots: in its entry) is to lie, `LABEL=FOLDER`; may be given again"},
			&cli.StringFlag{Name: "address", Usage: "its `URL`, such as https://lighthouse.example/visit"},
			&cli.StringSliceFlag{Name: "database", Usage: "its `DATABASE`, such as \"mysql: user@127.0.0.1:3306/name\"; LABEL= before it where there are several"},
			&cli.StringFlag{Name: "password-file", Usage: "the `FILE` with the database account's password"},
			&cli.StringFlag{Name: "make-database", Usage: "make database and account if they are missing, as the server's `ADMIN`: root@localhost or root@127.0.0.1:3306"},
			&cli.StringFlag{Name: "admin-password-file", Usage: "the `FILE` with the administrator's password"},
			&cli.StringFlag{Name: "php", Usage: "the `PROGRAM` of the PHP that its web server uses, to see whether the site can run there"},
			&cli.StringSliceFlag{Name: "stores", Usage: "the `STORE` for its archives; may be given again (default: those of the old site)"},
			&cli.StringFlag{Name: "prefix", Usage: "what begins the names of its tables, a `TEXT` such as lh_ (default: as it is)"},
			&cli.StringFlag{Name: "sub-site", Usage: "of a network only the site at this `PATH` or host name, as a site of its own"},
			&cli.StringSliceFlag{Name: "also", Usage: "a further pair to change, `OLD=NEW`: two addresses with http:// or https://, or two folders"},
			&cli.StringSliceFlag{Name: "keep", Usage: "a column whose values stay, `TABLE.COLUMN`"},
			&cli.BoolFlag{Name: "mail-too", Usage: "change the host name in mail addresses, too"},
			&cli.BoolFlag{Name: "copy", Usage: "make a practice copy: search engines are kept out, mail and scheduled tasks are off, the title says it"},
			&cli.StringSliceFlag{Name: "extensions-off", Usage: "do not load the extension `NAME` (its folder), or all; may be given again"},
			&cli.BoolFlag{Name: "new-keys", Usage: "give the settings new secret keys, which ends all sessions of the archive"},
			&cli.StringFlag{Name: "changes", Usage: "write every value that changes into `FILE`, a JSON line each"},
			&cli.BoolFlag{Name: "anyway", Usage: "take a place where something is (it is set aside), or that lacks what the CMS needs"},
			beforeFlag, keyFlag, signedByFlag, dryRunFlag, yesFlag, jsonFlag,
		}, reachFlags("login-password-file")...),
		Action: a.move,
	}
}

// moveOrder reads what is wanted.
func (a *app) moveOrder(ctx context.Context, c *cli.Command) (o jobs.MoveOrder, done func(), err error) {
	typed, err := oneArg(c, "ARCHIVE")
	if err != nil {
		return o, nil, err
	}
	if o.Archive, done, err = a.archiveOrFile(ctx, c, typed); err != nil {
		return o, nil, err
	}
	o.To, o.Root, o.Address, o.Anyway = c.String("to"), c.String("root"), c.String("address"), c.Bool("anyway")
	o.Databases, o.PasswordFile, o.Stores = c.StringSlice("database"), c.String("password-file"), c.StringSlice("stores")
	o.Folders, o.Reach = c.StringSlice("folder"), reachOf(c, "login-password-file")
	a.jobs.TrustHosts = c.Bool("trust")
	o.Keep, o.Mail = c.StringSlice("keep"), c.Bool("mail-too")
	o.Look, o.PHP = c.Bool("dry-run"), c.String("php")
	o.MakeDatabase, o.AdminPasswordFile = c.String("make-database"), c.String("admin-password-file")
	o.Prefix, o.SubSite = c.String("prefix"), c.String("sub-site")
	o.NewKeys = c.Bool("new-keys")
	o.Copy, o.ExtensionsOff = c.Bool("copy"), c.StringSlice("extensions-off")
	for _, pair := range c.StringSlice("also") {
		old, now, ok := strings.Cut(pair, "=")
		if !ok {
			return o, done, usageError("--also %s: it is to be OLD=NEW", pair)
		}
		o.Also = append(o.Also, rewrite.Pair{Old: old, New: now})
	}
	return o, done, nil
}

func (a *app) move(ctx context.Context, c *cli.Command) (err error) {
	o, done, err := a.moveOrder(ctx, c)
	if err != nil {
		return err
	}
	defer done()
	if file := c.String("changes"); file != "" {
		if _, err := os.Lstat(file); err == nil {
			return usageError("%s is there already", file)
		}
		if err := a.jobs.NotInSites(file); err != nil {
			return err
		}
		f := &lateFile{name: file}
		defer func() { err = errors.Join(err, f.Close()) }()
		o.Changes = f
	}
	a.warnReadable(o.PasswordFile, o.AdminPasswordFile)
	m, err := a.jobs.PlanMove(ctx, o)
	if err != nil {
		return err
	}
	if !c.Bool("json") {
		a.ShowMovePlan(m)
	}
	watch, quiet := a.observer(c.Bool("quiet") || c.Bool("json"))
	if c.Bool("dry-run") {
		report, err := a.jobs.CountMove(ctx, m, watch)
		if err == nil {
			err = a.jobs.CheckMove(ctx, m)
		}
		quiet()
		if err != nil {
			return err
		}
		return a.reportMoveCount(c, m, report)
	}
	if err := a.confirmed(c, "Bring "+o.Archive.Site+" up as "+o.To+"?"); err != nil {
		quiet()
		return err
	}
	r, err := a.jobs.Move(ctx, m, watch)
	quiet()
	if err != nil {
		return err
	}
	return a.reportMove(c, r)
}

// lateFile is a new file that is made when something is written to it.
type lateFile struct {
	name string
	f    *os.File
}

// Write implements io.Writer.
func (l *lateFile) Write(p []byte) (n int, err error) {
	if l.f == nil {
		if l.f, err = os.OpenFile(l.name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600); err != nil {
			return 0, err
		}
	}
	return l.f.Write(p)
}

// Close closes the file, if it was made.
func (l *lateFile) Close() error {
	if l.f == nil {
		return nil
	}
	return l.f.Close()
}

func moveJSON(m *jobs.Move, r move.Report) map[string]any {
	return map[string]any{"archive": m.Order.Archive.Name, "from": m.Order.Archive.Site, "site": m.Order.To, "root": m.Entry.Root, "address": m.Site.Address,
		"replaces": render.NonNil(m.Replaces), "beside": render.NonNil(m.Beside), "columns": render.NonNil(r.Columns), "files": render.NonNil(r.Files), "rows_changed": render.NonNil(r.Rows), "emptied": render.NonNil(r.Emptied), "notes": render.NonNil(r.Notes), "copy": m.Order.Copy, "needs": render.NonNil(m.Needs)}
}

func (a *app) reportMoveCount(c *cli.Command, m *jobs.Move, report move.Report) error {
	if c.Bool("json") {
		all := moveJSON(m, report)
		all["dry_run"] = true
		return a.PrintJSON(all)
	}
	a.ShowMoveReport(report, true, m.Plan.Dumped())
	a.Line("\nDry run: nothing was changed.")
	return nil
}

func (a *app) reportMove(c *cli.Command, r *jobs.Moved) error {
	if c.Bool("json") {
		all := moveJSON(r.Move, r.Report)
		all["paths"], all["tables"], all["rows"], all["seconds"], all["swap_seconds"] = r.Paths, r.Tables, r.Rows, r.Took.Seconds(), r.Swap.Seconds()
		all["made"], all["disarmed"], all["given"] = render.NonNil(r.Made), render.NonNil(r.Disarmed), givenJSON(r.Given)
		all["aside"], all["added"], all["checks"] = render.NonNil(r.Aside), r.Added, render.NonNil(r.Answers)
		if err := a.PrintJSON(all); err != nil {
			return err
		}
	} else {
		a.ShowMoved(r)
	}
	if worst := check.Worst(r.Answers); worst != nil && !worst.OK() {
		return &exitError{code: exitDamage}
	}
	return nil
}

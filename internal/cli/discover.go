package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/config"
	"revlet/internal/jobs"
	"revlet/internal/platform/process"
	"revlet/internal/platform/reason"
)

// storeFlags describe how to get into a store that is not in the configuration
// yet; each is the key of the same name there.
var storeFlags = []cli.Flag{
	&cli.StringFlag{Name: "user", Usage: "the `ACCOUNT` at a WebDAV or FTP store"},
	&cli.StringFlag{Name: "password-file", Usage: "a `FILE` that holds the password, or the passphrase of the SSH key"},
	&cli.StringFlag{Name: "ssh-key", Usage: "the SSH key `FILE`"},
	&cli.StringFlag{Name: "access-key", Usage: "the access `KEY` of an S3 store"},
	&cli.StringFlag{Name: "secret-file", Usage: "a `FILE` that holds its secret"},
	&cli.StringFlag{Name: "region", Usage: "the `REGION` of an S3 store"},
	&cli.StringFlag{Name: "ca-file", Usage: "a `FILE` with certificates of authorities that are trusted as well"},
}

func (a *app) discover(ctx context.Context, c *cli.Command) error {
	typed, err := oneArg(c, "ADDRESS or STORE")
	if err != nil {
		return err
	}
	if err := a.openBare(ctx, c); err != nil {
		return err
	}
	n, err := a.storeToDiscover(c, typed)
	if err != nil {
		return err
	}
	d := jobs.Discovery{Name: n.Name, Store: n.Entry, Secret: n.Secret, Trust: c.Bool("trust"), Write: !c.Bool("dry-run")}
	found, err := a.jobs.Discover(ctx, d)
	if reason.Is(err, reason.HostUnknown) && !d.Trust && terminal(a.in) && !c.Bool("json") {
		fmt.Fprintln(a.Out, render.ErrText(err))
		if err := a.typed("Is that its key? [y/N] ", "y", "yes"); err != nil {
			return err
		}
		d.Trust = true
		found, err = a.jobs.Discover(ctx, d)
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"store": n.Name, "where": found.Where, "sites": render.NonNil(found.Sites), "added": found.Added, "exports": render.NonNil(found.Exports), "trouble": render.NonNil(render.TroubleTexts(found.Trouble))})
	} else {
		a.showDiscovered(c, found)
	}
	if err != nil {
		return err
	}
	if err := verdictCode(found.Verdict()); err != nil {
		return err
	}
	if len(found.Sites) == 0 {
		return &exitError{code: exitFailed}
	}
	return nil
}

// storeToDiscover is a store of the configuration, or one at a typed address; how to get in there is asked for on a terminal.
func (a *app) storeToDiscover(c *cli.Command, typed string) (n jobs.NewStore, err error) {
	if cfg, ok := a.jobs.Config.Stores[typed]; ok {
		return jobs.NewStore{Name: typed, Entry: cfg}, nil
	}
	n.Name = c.String("name")
	if n.Entry, err = config.ParseAddress(typed); err != nil {
		return n, usageError("%w", err)
	}
	if _, taken := a.jobs.Config.Stores[n.Name]; taken || !config.ValidName(n.Name) {
		return n, usageError("the name %q is taken or not allowed; choose another with --name", n.Name)
	}
	e := &n.Entry
	e.User, e.PasswordFile, e.KeyFile = c.String("user"), c.String("password-file"), c.String("ssh-key")
	e.AccessKey, e.SecretFile, e.Region, e.CAFile = c.String("access-key"), c.String("secret-file"), c.String("region"), c.String("ca-file")
	here, err := os.Getwd()
	if err != nil {
		return n, err
	}
	if err := e.Settle(here); err != nil {
		return n, usageError("%w", err)
	}
	return n, a.askHowToGetIn(&n)
}

func (a *app) showDiscovered(c *cli.Command, found *jobs.Discovered) {
	var rows [][]string
	for _, f := range found.Sites {
		root := f.Root
		if f.Sealed {
			root = a.Bad("encrypted: give the key with --key FILE")
		}
		rows = append(rows, []string{f.Site, fmt.Sprint(f.Archives), f.Newest, root, f.Address})
	}
	if len(rows) > 0 {
		a.Table([]string{"site", "archives", "newest", "webroot", "address"}, rows, 2)
	} else if len(found.Trouble) > 0 {
		fmt.Fprintf(a.Out, "Archives are in %s, and no record of them can be read.\n", found.Where)
	} else {
		fmt.Fprintf(a.Out, "No archives are in %s.\n", found.Where)
	}
	for _, t := range render.TroubleTexts(found.Trouble) {
		fmt.Fprintf(a.Out, "%s %s\n", a.Bad("trouble:"), render.PrintableText(t))
	}
	for _, file := range found.Exports {
		fmt.Fprintf(a.Out, "A portable archive lies there: `revlet import %s` takes it in.\n", file)
	}
	for _, f := range found.Sites {
		a.ShowFoundSigners(f)
	}
	if found.SecretFile != "" {
		fmt.Fprintf(a.Out, "\nWhat you typed is in %s; nobody else can read that file.\n", render.PrintableText(found.SecretFile))
	}
	if len(rows) > 0 {
		a.showWritten(c, found)
	}
}

// showAdded shows the very text, and what was left out of it.
func (a *app) showAdded(found *jobs.Discovered) {
	if found.Added != "" {
		fmt.Fprintln(a.Out)
		for line := range strings.SplitSeq(strings.TrimRight(render.PrintableLines(found.Added), "\n"), "\n") {
			fmt.Fprintln(a.Out, "  "+line)
		}
		fmt.Fprintln(a.Out)
	}
	for _, f := range found.Sites {
		if f.Refused != "" {
			fmt.Fprintf(a.Out, "%s site %s is not written: its archive would have files in %s, where no site can be.\n", a.Bad("Refused:"), f.Site, render.Printable(f.Refused))
		}
	}
}

// showWritten says what was written into the configuration, and what is left to do.
func (a *app) showWritten(c *cli.Command, found *jobs.Discovered) {
	verb := "Written to"
	if c.Bool("dry-run") {
		verb = "Would be written to"
	}
	fmt.Fprintf(a.Out, "\n%s %s: store %s", verb, a.jobs.Config.Path, found.Name)
	sealed, encrypted := false, false
	for _, f := range found.Sites {
		sealed, encrypted = sealed || f.Sealed, encrypted || f.Encrypted
		switch {
		case f.Known:
			fmt.Fprintf(a.Out, "\nSite %s is there already; add %s to its `stores:`", f.Site, found.Name)
		case !f.Sealed && f.Root != "" && f.Refused == "":
			fmt.Fprintf(a.Out, ", site %s", f.Site)
		}
	}
	fmt.Fprintln(a.Out)
	a.showAdded(found)
	if sealed {
		fmt.Fprintln(a.Out, "With the key, run this again: it then finds out where the site belongs.")
		return
	}
	for _, f := range found.Sites {
		for _, label := range slices.Sorted(maps.Keys(f.Entry.Databases)) {
			if f.Entry.Databases[label].SQLite == "" {
				fmt.Fprintf(a.Out, "Name the password of database %s of %s there in `password_file:`; no archive holds it.\n", label, f.Site)
			}
		}
	}
	if len(found.EncryptTo) > 0 {
		fmt.Fprintf(a.Out, "What is there is encrypted, so new archives are too: `encrypt: {to: [%s]}` is part of that.\n", joined(found.EncryptTo))
	} else if encrypted && a.jobs.Config.Encrypt == nil {
		publics := joined(a.jobs.Publics())
		if publics == "" {
			publics = "age1…"
		}
		fmt.Fprintf(a.Out, "%s what is there is encrypted, new archives will NOT be until you add `encrypt: {to: [%s]}`.\n", a.Bad("Warning:"), publics)
	}
	for _, f := range found.Sites {
		if !f.Known && f.Root != "" && f.Refused == "" {
			fmt.Fprintf(a.Out, "Next: look over what was written, then `revlet restore %s --root %s`.\n", f.Site, process.ShellQuote(render.Printable(f.Root)))
			return
		}
	}
}

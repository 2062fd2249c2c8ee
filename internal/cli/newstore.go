package cli

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/config"
	"revlet/internal/jobs"
	"revlet/internal/platform/reason"
	"revlet/internal/store/link"
)

func (a *app) storesAddCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "try a place, and write it into the configuration as a new store", ArgsUsage: "NAME [ADDRESS]",
		Description: "ADDRESS is a folder, or begins with sftp://, https:// (WebDAV), s3://, ftp:// or\n" +
			"plain-ftp://, plain-http:// or plain-s3://. What is not said is asked for on a terminal. The store is\n" +
			"written only if it works. A password that is typed is kept in NAME.password beside the configuration.\n\n" +
			"--issuer and --client are for a place that somebody links by saying yes on a page of it, with no\n" +
			"password (OAuth's device grant, RFC 8628); its documentation tells both.",
		Flags: append([]cli.Flag{
			&cli.StringSliceFlag{Name: "for", Usage: "the `SITE` whose archives go there from now on, or a pattern; may be given again"},
			&cli.StringFlag{Name: "keeper", Usage: "`WHO` removes what goes there: elsewhere, when this machine may not"},
			&cli.StringFlag{Name: "host-key", Usage: "the `FINGERPRINT` (SHA256:…) that an SSH machine has to show"},
			&cli.BoolFlag{Name: "trust", Usage: "accept the key of an SSH machine that is not known yet"},
			&cli.StringFlag{Name: "issuer", Usage: "the `URL` of whoever gives tokens for a WebDAV place"},
			&cli.StringFlag{Name: "client", Usage: "the `ID` of this program there (client_id)"},
			&cli.StringFlag{Name: "scope", Usage: "the `WORDS` that the place has for what is asked for"},
			jsonFlag,
		}, storeFlags...),
		Action: a.addStore,
	}
}

func (a *app) storesLinkCommand() *cli.Command {
	return &cli.Command{
		Name: "link", Usage: "have somebody say yes to the use of a store, on a page of it", ArgsUsage: "STORE",
		Description: "For a store whose entry says `link:` (docs/STORES.md). A page and a code are shown; once somebody has\n" +
			"said yes there, what the place gives in return is kept in the state folder, and renewed. No password is seen here.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "end", Usage: "take it back: nothing here may use the store any more"},
			jsonFlag,
		},
		Action: a.linkStore,
	}
}

func (a *app) addStore(ctx context.Context, c *cli.Command) error {
	if n := c.Args().Len(); n == 0 || n > 2 {
		return usageError("`revlet stores add` needs the NAME of the new store, and its ADDRESS; it got %d arguments", n)
	}
	if err := a.openBare(ctx, c); err != nil {
		return err
	}
	n, err := a.newStore(c)
	if err != nil {
		return err
	}
	for _, pattern := range c.StringSlice("for") {
		if _, err := a.jobs.SitesNamed([]string{pattern}); err != nil {
			return err
		}
	}
	done, err := a.jobs.AddStore(ctx, n)
	if err == nil && !n.Trust && reason.Is(done.Test.Err, reason.NewSiteHostUnknown) && terminal(a.in) && !c.Bool("json") {
		fmt.Fprintln(a.Out, render.PrintableText(done.Test.Why))
		if err := a.typed("Is that its key? [y/N] ", "y", "yes"); err != nil {
			return err
		}
		n.Trust = true
		done, err = a.jobs.AddStore(ctx, n)
	}
	if err != nil {
		return err
	}
	return a.afterAdding(c, n.Name, done)
}

// newStore is what the options say, and what is asked for beside them.
func (a *app) newStore(c *cli.Command) (n jobs.NewStore, err error) {
	n = jobs.NewStore{Name: c.Args().First(), Trust: c.Bool("trust"), Asked: a.showConsent(c)}
	if err := a.jobs.FreeStoreName(n.Name); err != nil {
		return n, err
	}
	typed := c.Args().Get(1)
	if typed == "" {
		if typed, err = a.need("Where is it? A folder, or an address that begins with sftp://, https:// (WebDAV), s3:// or ftp://\n> ", "its ADDRESS"); err != nil {
			return n, err
		}
	}
	e, err := config.ParseAddress(typed)
	if err != nil {
		return n, usageError("%w", err)
	}
	for _, f := range []struct {
		to   *string
		name string
	}{{&e.User, "user"}, {&e.AccessKey, "access-key"}, {&e.Region, "region"}, {&e.Keeper, "keeper"}, {&e.HostKey, "host-key"}} {
		*f.to = c.String(f.name)
	}
	for _, f := range []struct {
		to    *string
		typed string
	}{{&e.Folder, e.Folder}, {&e.PasswordFile, c.String("password-file")}, {&e.KeyFile, c.String("ssh-key")}, {&e.SecretFile, c.String("secret-file")}, {&e.CAFile, c.String("ca-file")}} {
		if *f.to = f.typed; f.typed != "" && !strings.HasPrefix(f.typed, "~/") {
			if *f.to, err = filepath.Abs(f.typed); err != nil {
				return n, err
			}
		}
	}
	if c.String("issuer") != "" || c.String("client") != "" {
		e.Link = &config.Link{Issuer: c.String("issuer"), Client: c.String("client"), Scope: c.String("scope")}
	}
	n.Entry = e
	check := e
	if err := check.Settle("/"); err != nil {
		return n, usageError("%w", err)
	}
	return n, a.askHowToGetIn(&n)
}

// askHowToGetIn asks for an account and a password where nothing says how to get in.
func (a *app) askHowToGetIn(n *jobs.NewStore) (err error) {
	e := &n.Entry
	kind := e.Kind()
	if kind == "folder" || e.Link != nil {
		return nil
	}
	if strings.HasSuffix(kind, "s3") {
		if e.AccessKey == "" {
			e.AccessKey, err = a.need("Access key: ", "--access-key")
		}
		if err == nil && e.SecretFile == "" {
			n.Secret, err = a.needSecret("Its secret (not shown): ", "--secret-file")
		}
		return err
	}
	u, err := e.URL()
	if err != nil {
		return usageError("%w", err)
	}
	if e.User == "" && u.User.Username() == "" {
		if e.User, err = a.need("Account there: ", "--user"); err != nil {
			return err
		}
	}
	if e.PasswordFile != "" || e.KeyFile != "" || kind == "sftp" && a.jobs.SSHAgent != "" {
		return nil
	}
	option := "--password-file"
	if kind == "sftp" {
		option = "--ssh-key or --password-file"
	}
	n.Secret, err = a.needSecret(fmt.Sprintf("Password of %s there (not shown): ", cmp.Or(e.User, u.User.Username())), option)
	return err
}

// need asks for something on a terminal; elsewhere it has to be given.
func (a *app) need(question, option string) (string, error) {
	if !terminal(a.in) {
		return "", usageError("there is no terminal to ask on; say %s", option)
	}
	answer, err := a.ask(question)
	if err == nil && answer == "" {
		err = usageError("nothing was typed; nothing was changed")
	}
	return answer, err
}

func (a *app) needSecret(question, option string) (string, error) {
	if !terminal(a.in) {
		return "", usageError("there is no terminal to ask for a password on; say %s", option)
	}
	secret, err := a.askSecret(question)
	if err == nil && secret == "" {
		err = usageError("nothing was typed; nothing was changed")
	}
	return secret, err
}

// afterAdding says what was written, and has sites use it.
func (a *app) afterAdding(c *cli.Command, name string, done *jobs.StoreAdded) error {
	quiet := c.Bool("json")
	if !quiet {
		a.ShowTested([]jobs.StoreTest{done.Test})
	}
	sites := []string{}
	if done.Test.OK {
		if !quiet {
			a.ShowStoreAdded(a.jobs.Config.Path, done)
		}
		var err error
		if sites, err = a.sitesFor(c, name); err != nil {
			return err
		}
		if len(sites) > 0 {
			if err := a.jobs.UseStore(name, sites); err != nil {
				return err
			}
		}
	}
	if quiet {
		if err := a.PrintJSON(map[string]any{"store": name, "test": done.Test, "added": done.Added, "secret_file": done.SecretFile, "sites": sites}); err != nil {
			return err
		}
	}
	if !done.Test.OK {
		if !quiet {
			fmt.Fprintln(a.Out, "Nothing was written into the configuration.")
		}
		return &exitError{code: exitFailed}
	}
	if !quiet {
		a.ShowStoreUsed(name, sites, a.jobs.Config.Encrypt != nil || done.Test.Onsite, len(a.jobs.Config.SiteNames()) > 0)
	}
	return nil
}

// sitesFor are the sites whose archives go to a new store: as the options say, or the answer to a question.
func (a *app) sitesFor(c *cli.Command, name string) ([]string, error) {
	if given := c.StringSlice("for"); len(given) > 0 {
		return a.jobs.SitesNamed(given)
	}
	all := a.jobs.Config.SiteNames()
	if len(all) == 0 || !terminal(a.in) || c.Bool("json") {
		return []string{}, nil
	}
	whose := all[0]
	if len(all) > 1 {
		whose = fmt.Sprintf("all %d sites", len(all))
	}
	answer, err := a.ask(fmt.Sprintf("Shall the archives of %s go to %s, too? [Y/n] ", whose, name))
	if err != nil {
		return nil, err
	}
	if answer = strings.ToLower(answer); answer == "" || answer == "y" || answer == "yes" {
		return all, nil
	}
	return []string{}, nil
}

func (a *app) linkStore(ctx context.Context, c *cli.Command) error {
	name, err := oneArg(c, "STORE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	if c.Bool("end") {
		if err := goesWith(c, "--end"); err != nil {
			return err
		}
		told, err := a.jobs.UnlinkStore(ctx, name)
		if err != nil {
			return err
		}
		if c.Bool("json") {
			return a.PrintJSON(map[string]any{"store": name, "linked": false, "told": told})
		}
		a.ShowUnlinked(name, told)
		return nil
	}
	t, err := a.jobs.LinkStore(ctx, name, a.showConsent(c))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"store": name, "linked": true, "test": t})
	} else {
		fmt.Fprintf(a.Out, "%s %s may be used from now on; what was given for it is kept in the state folder.\n", a.Good("Linked:"), name)
		a.ShowTested([]jobs.StoreTest{t})
	}
	if err == nil && !t.OK {
		return &exitError{code: exitFailed}
	}
	return err
}

// showConsent shows the page on which somebody is to say yes.
func (a *app) showConsent(c *cli.Command) func(*link.Consent) {
	out := a.Out
	if c.Bool("json") {
		out = a.err
	}
	return func(asked *link.Consent) {
		fmt.Fprintf(out, "Open this page, on any device, and say yes there:\n\n  %s\n  code: %s\n\n", render.Printable(asked.Page), a.Bold(render.Printable(asked.Code)))
		if asked.Whole != "" {
			fmt.Fprintf(out, "Or, with the code in the address:\n\n  %s\n\n", render.Printable(asked.Whole))
		}
		fmt.Fprintf(out, "Waiting for that until %s …\n", asked.Until.Format("15:04"))
	}
}

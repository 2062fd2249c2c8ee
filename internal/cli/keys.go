package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/reason"
)

var keyFlag = &cli.StringFlag{Name: "key", Usage: "the key `FILE` that opens encrypted archives (default: $REVLET_KEY_FILE)"}

func (a *app) keysCommand() *cli.Command {
	return &cli.Command{
		Name: "keys", Usage: "make and check encryption keys",
		Commands: []*cli.Command{{
			Name: "new", Usage: "make a key and write it to FILE, to be kept elsewhere", ArgsUsage: "FILE",
			Description: "Whoever has the key file can read every archive that is encrypted for it; without\n" +
				"it nobody can, you neither. Keep it on another machine and on paper, not on the\n" +
				"site's. --passphrase locks the file with words that you choose; a copy of it may\n" +
				"then lie in the stores, and the words alone open the archives.",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "passphrase", Usage: "lock the key with a passphrase (asked for, or in the file $REVLET_PASSPHRASE_FILE)"},
				&cli.BoolFlag{Name: "use", Usage: "have new archives encrypted for it: write that into the configuration"}, jsonFlag},
			Action: a.newKey,
		}, {
			Name: "check", Usage: "does the key in FILE open the newest archive of each site?", ArgsUsage: "FILE",
			Flags: []cli.Flag{jsonFlag}, Action: a.checkKey,
		}, {
			Name: "signers", Usage: "whose archives are taken: this machine's key, and those of others by site",
			Description: "Every archive is signed by the machine that takes it. Archives by keys that this machine\n" +
				"does not know are not taken: a key is known if it stands in `signed_by:` of the site, or\n" +
				"was there when this machine saw the site's archives for the first time.",
			Flags: []cli.Flag{jsonFlag}, Action: a.signers,
		}},
	}
}

func (a *app) newKey(ctx context.Context, c *cli.Command) error {
	file, err := oneArg(c, "FILE for the new key")
	if err != nil {
		return err
	}
	if c.Bool("use") { // before anything is made
		if err := a.open(ctx, c); err != nil {
			return err
		}
		if a.jobs.Config.Encrypt != nil {
			return usageError("%s says already whom archives are encrypted for; make the key without --use, and change `encrypt:` there", a.jobs.Config.Path)
		}
	}
	if a.jobs.Config == nil {
		a.jobs.Config = a.localConfig([]string{"--config", c.String("config")}) // it may be faulty, or not there
	}
	if err := a.jobs.NotInSites(file); err != nil {
		return err
	}
	text, recipient, err := encryption.NewKey("Revlet key, made " + a.Now().Format("2006-01-02 15:04"))
	if err != nil {
		return err
	}
	data := []byte(text)
	if c.Bool("passphrase") {
		words, err := a.newPassphrase()
		if err != nil {
			return err
		}
		if data, err = encryption.Lock(text, words); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("write the key: %w", err)
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("write the key: %w", err)
	}
	entry, locked := fmt.Sprintf("encrypt: {to: [%s]}", recipient), ""
	if c.Bool("passphrase") {
		if locked, err = filepath.Abs(file); err != nil {
			return err
		}
		entry = fmt.Sprintf("encrypt: {to: [%s], passphrase_key: %s}", recipient, locked)
	}
	if c.Bool("use") {
		if err := a.jobs.EncryptFor(recipient, locked); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"file": file, "recipient": recipient, "locked": c.Bool("passphrase"), "used": c.Bool("use")})
	}
	a.showNewKey(c, file, entry)
	return nil
}

func (a *app) showNewKey(c *cli.Command, file, entry string) {
	if c.Bool("use") {
		fmt.Fprintf(a.Out, "%s the key is in %s\n\nNew archives are encrypted for it; %s says so:\n\n  %s\n\n", a.Good("Made:"), file, a.jobs.Config.Path, entry)
	} else {
		fmt.Fprintf(a.Out, "%s the key is in %s\n\nTo encrypt new archives for it, put this into the configuration (--use does that at once):\n\n  %s\n\n", a.Good("Made:"), file, entry)
	}
	if c.Bool("passphrase") {
		fmt.Fprintf(a.Out, "%s without the passphrase nobody can read those archives, you neither. The locked\nkey is copied into every store; the passphrase must be known away from this machine.\n", a.Bad("Keep the passphrase:"))
	} else {
		fmt.Fprintf(a.Out, "%s without this file nobody can read those archives, you neither. Move it to another\nmachine now and print it; the site's machine needs only the age1… above.\n", a.Bad("Keep it elsewhere:"))
	}
	fmt.Fprintf(a.Out, "After the next backup, try it: `revlet keys check %s`\n", file)
}

func (a *app) checkKey(ctx context.Context, c *cli.Command) error {
	file, err := oneArg(c, "FILE of a key")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	r, err := a.jobs.CheckKey(ctx, file)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"named_in_configuration": r.Named, "archives": render.NonNil(r.Archives)})
	} else {
		a.ShowKeyChecks(file, r.Archives, r.Named)
	}
	if err == nil && !r.Opens {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *app) signers(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	own, sites, err := a.jobs.Signers()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"own": own, "sites": sites})
	}
	a.ShowSigners(own, sites)
	return nil
}

// findKeys notes where keys come from. Nothing is read or asked until one is
// needed.
func (a *app) findKeys(c *cli.Command) {
	file := c.String("key")
	if file == "" {
		file = a.env("REVLET_KEY_FILE")
	}
	a.jobs.UseKey(file)
}

// passphrase asks for the words that open a locked key.
func (a *app) passphrase() (string, error) {
	if file := a.env("REVLET_PASSPHRASE_FILE"); file != "" {
		data, err := os.ReadFile(file)
		return strings.TrimRight(string(data), "\r\n"), err
	}
	if !terminal(a.in) {
		return "", reason.New(reason.NoPassphrase, nil, "the key is locked with a passphrase")
	}
	return a.askSecret("Passphrase of the key: ")
}

// leastPassphrase is the length below which a passphrase is refused.
const leastPassphrase = 12

func (a *app) newPassphrase() (string, error) {
	words, err := a.passphrase()
	if err != nil {
		return "", err
	}
	if len(words) < leastPassphrase {
		return "", usageError("the passphrase has %d characters; a stolen store could be tried at leisure, so take at least %d: four or five words that nobody would put together", len(words), leastPassphrase)
	}
	if a.env("REVLET_PASSPHRASE_FILE") == "" {
		fmt.Fprintln(a.err, "Once more, to be sure.")
		again, err := a.passphrase()
		if err != nil {
			return "", err
		}
		if again != words {
			return "", usageError("the two passphrases differ; nothing was made")
		}
	}
	return words, nil
}

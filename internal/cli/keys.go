package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"revlet/internal/archive"
	"revlet/internal/backup"
	"revlet/internal/catalog"
	"revlet/internal/seal"
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
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "passphrase", Usage: "lock the key with a passphrase (asked for, or in the file $REVLET_PASSPHRASE_FILE)"}, jsonFlag},
			Action: a.newKey,
		}, {
			Name: "check", Usage: "does the key in FILE open the newest archive of each site?", ArgsUsage: "FILE",
			Flags: []cli.Flag{jsonFlag}, Action: a.checkKey,
		}},
	}
}

func (a *app) newKey(_ context.Context, c *cli.Command) error {
	file, err := oneArg(c, "FILE for the new key")
	if err != nil {
		return err
	}
	text, recipient, err := seal.NewKey("Revlet key, made " + a.now().Format("2006-01-02 15:04"))
	if err != nil {
		return err
	}
	data := []byte(text)
	if c.Bool("passphrase") {
		words, err := a.newPassphrase()
		if err != nil {
			return err
		}
		if data, err = seal.Lock(text, words); err != nil {
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
	if c.Bool("json") {
		return a.printJSON(map[string]any{"file": file, "recipient": recipient, "locked": c.Bool("passphrase")})
	}
	entry := fmt.Sprintf("encrypt: {to: [%s]}", recipient)
	if c.Bool("passphrase") {
		absolute, err := filepath.Abs(file)
		if err != nil {
			return err
		}
		entry = fmt.Sprintf("encrypt: {to: [%s], passphrase_key: %s}", recipient, absolute)
	}
	fmt.Fprintf(a.out, "%s the key is in %s\n\nTo encrypt new archives for it, put this into the configuration:\n\n  %s\n\n", a.good("Made:"), file, entry)
	if c.Bool("passphrase") {
		fmt.Fprintf(a.out, "%s without the passphrase nobody can read those archives, you neither. The locked\nkey is copied into every store; the passphrase must be known away from this machine.\n", a.bad("Keep the passphrase:"))
	} else {
		fmt.Fprintf(a.out, "%s without this file nobody can read those archives, you neither. Move it to another\nmachine now and print it; the site's machine needs only the age1… above.\n", a.bad("Keep it elsewhere:"))
	}
	fmt.Fprintf(a.out, "After the next backup, try it: `revlet keys check %s`\n", file)
	return nil
}

// keyCheck is what a key did with one site.
type keyCheck struct {
	Site    string `json:"site"`
	Archive string `json:"archive"`
	Opens   bool   `json:"opens"`
	Why     string `json:"why,omitempty"`
}

func (a *app) checkKey(ctx context.Context, c *cli.Command) error {
	file, err := oneArg(c, "FILE of a key")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	ids, err := seal.ReadKeyFile(file, a.passphrase)
	if err != nil {
		return err
	}
	keys := seal.NewKeys(ids...)
	var checks []keyCheck
	opens, proved := true, false
	for _, name := range a.config.SiteNames() {
		l, err := catalog.List(ctx, a.stores(a.config.Sites[name]), name, catalog.Options{})
		if err != nil {
			return err
		}
		i := slices.IndexFunc(l.Archives, func(h catalog.Held) bool { return h.Encrypted })
		if i < 0 {
			continue
		}
		h := l.Archives[i]
		h.Keys = keys
		k := keyCheck{Site: name, Archive: h.Name, Opens: true}
		if err := errors.Join(h.Unseal(keys), h.ReadList(ctx, func(archive.Entry) error { return nil })); err != nil {
			k.Opens, k.Why, opens = false, strings.SplitN(err.Error(), "\n", 2)[0], false
		}
		proved = proved || k.Opens
		checks = append(checks, k)
	}
	named := a.config.Encrypt != nil && slices.ContainsFunc(seal.Publics(ids), func(p string) bool { return slices.Contains(a.config.Encrypt.To, p) })
	if proved {
		for _, public := range seal.Publics(ids) {
			if err := a.history.KeyChecked(ctx, public, a.now()); err != nil {
				return err
			}
		}
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"named_in_configuration": named, "archives": nonNil(checks)})
	} else {
		a.showKeyChecks(file, checks, named)
	}
	if err == nil && !opens {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *app) showKeyChecks(file string, checks []keyCheck, named bool) {
	for _, k := range checks {
		if k.Opens {
			fmt.Fprintf(a.out, "%s %s opens %s\n", a.good("Works:"), file, k.Archive)
		} else {
			fmt.Fprintf(a.out, "%s %s\n", a.bad("Does not open:"), k.Why)
		}
	}
	if len(checks) == 0 {
		fmt.Fprintln(a.out, "No encrypted archive yet; after the next backup, check again.")
	}
	if !named {
		fmt.Fprintln(a.out, "Note: new archives are not encrypted for this key: it is not in `encrypt:` in the configuration.")
	}
}

// recipients are those whom new archives are encrypted for.
type recipients struct {
	all    seal.Recipients
	names  []string
	locked []byte
}

func (a *app) recipients() (recipients, error) {
	e := a.config.Encrypt
	if e == nil {
		return recipients{}, nil
	}
	all, err := seal.ParseRecipients(e.To)
	if err != nil {
		return recipients{}, err
	}
	to := recipients{all: all, names: e.To}
	if e.PassphraseKey == "" {
		return to, nil
	}
	if to.locked, err = os.ReadFile(e.PassphraseKey); err != nil {
		return to, fmt.Errorf("`passphrase_key:`: %w", err)
	}
	if !seal.Locked(to.locked) {
		return to, usageError("`passphrase_key: %s` is not locked with a passphrase: a copy of it in the stores would open every archive to anyone", e.PassphraseKey)
	}
	return to, nil
}

// untriedKey tells whether archives are encrypted for a key that was never seen
// to open one.
func (a *app) untriedKey(ctx context.Context) (bool, error) {
	if a.config.Encrypt == nil {
		return false, nil
	}
	tried, err := a.history.IsKeyChecked(ctx, a.config.Encrypt.To)
	return !tried, err
}

// findKeys notes where keys come from. Nothing is read or asked until one is
// needed.
func (a *app) findKeys(c *cli.Command) {
	if a.keyFile = c.String("key"); a.keyFile == "" {
		a.keyFile = os.Getenv("REVLET_KEY_FILE")
	}
	a.keys = &seal.Keys{Find: a.identities, Ready: a.keyFile != ""}
}

// identities reads the key file, or opens the locked key that lies in a store
// with a passphrase.
func (a *app) identities() ([]age.Identity, error) {
	if a.keyFile != "" {
		return seal.ReadKeyFile(a.keyFile, a.passphrase)
	}
	for _, name := range a.config.SiteNames() {
		for _, s := range a.stores(a.config.Sites[name]) {
			in, err := s.Open(context.Background(), backup.KeyName, 0)
			if err != nil {
				continue
			}
			data, err := io.ReadAll(io.LimitReader(in, 1<<16))
			_ = in.Close()
			if err == nil {
				return seal.ParseKey(data, a.passphrase)
			}
		}
	}
	return nil, seal.ErrNoKey
}

// passphrase asks for the words that open a locked key.
func (a *app) passphrase() (string, error) {
	if file := os.Getenv("REVLET_PASSPHRASE_FILE"); file != "" {
		data, err := os.ReadFile(file)
		return strings.TrimRight(string(data), "\r\n"), err
	}
	in, ok := a.in.(*os.File)
	if !ok || !terminal(a.in) {
		return "", usageError("the key is locked with a passphrase and nobody can be asked here; name a file that holds it in $REVLET_PASSPHRASE_FILE")
	}
	fmt.Fprint(a.err, "Passphrase of the key: ")
	words, err := term.ReadPassword(int(in.Fd()))
	fmt.Fprintln(a.err)
	return string(words), err
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
	if os.Getenv("REVLET_PASSPHRASE_FILE") == "" {
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

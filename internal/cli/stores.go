package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/catalog"
	"revlet/internal/marks"
	"revlet/internal/replicate"
	"revlet/internal/store"
)

func (a *app) storesCommand() *cli.Command {
	return &cli.Command{
		Name: "stores", Usage: "list, test, copy to, discover and heal the places where archives are held",
		Commands: []*cli.Command{{
			Name: "list", Usage: "the stores of the configuration and who uses them", Flags: []cli.Flag{jsonFlag}, Action: a.listStores,
		}, {
			Name: "test", Usage: "write, read back, compare, list and delete something in a store", ArgsUsage: "[STORE…]",
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "trust", Usage: "accept the key of an SSH machine that is not known yet"},
				&cli.BoolFlag{Name: "forget-host", Usage: "drop the accepted key of the store's SSH machine first"},
				jsonFlag,
			},
			Action: a.testStores,
		}, {
			Name: "copy", Usage: "bring a store up to date from the others", ArgsUsage: "[SITE…]",
			Description: "Without --to, every archive that is pending in a store is sent there. With --to,\n" +
				"every archive that the store lacks. Only what is missing is sent.",
			Flags:  []cli.Flag{&cli.StringFlag{Name: "to", Usage: "the `STORE` to bring up to date"}, jsonFlag},
			Action: a.copyStores,
		}, {
			Name: "discover", Usage: "find archives in a store that this machine has never seen", ArgsUsage: "ADDRESS|STORE",
			Description: "ADDRESS is a folder, or begins with sftp://, https:// (WebDAV), s3://, ftp:// or\n" +
				"plain-ftp://. Sites that are found there are written into the configuration, so\n" +
				"that `revlet restore` works from there on.",
			Flags: append([]cli.Flag{
				&cli.StringFlag{Name: "name", Value: "found", Usage: "what to call the store in the configuration"},
				&cli.BoolFlag{Name: "trust", Usage: "accept the key of an SSH machine that is not known yet"},
				keyFlag, dryRunFlag, jsonFlag,
			}, storeFlags...),
			Action: a.discover,
		}, {
			Name: "heal", Usage: "replace what is damaged or missing in a store from the others", ArgsUsage: "STORE [SITE…]",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "quick", Usage: "compare lengths only, instead of every byte"}, jsonFlag},
			Action: a.healStore,
		}},
	}
}

// knownStore refuses a name that no store has.
func (a *app) knownStore(name string) error {
	if _, ok := a.config.Stores[name]; !ok {
		return usageError("there is no store %q in %s; the stores are: %s", name, a.config.Path, strings.Join(a.storeNames(), ", "))
	}
	return nil
}

func (a *app) storeNames() []string {
	var names []string
	for name := range a.config.Stores {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// describedStore is a store in a listing.
type describedStore struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind"`
	Where   string   `json:"where"`
	Offsite bool     `json:"offsite"`
	Sites   []string `json:"sites"`
	Pending int      `json:"pending"`
}

func (a *app) listStores(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	waiting := map[string]int{}
	for _, site := range a.config.SiteNames() {
		pending, err := a.history.Pending(ctx, site)
		if err != nil {
			return err
		}
		for _, p := range pending {
			waiting[p.Store]++
		}
	}
	var all []describedStore
	for _, name := range a.storeNames() {
		s := a.store(name)
		d := describedStore{Name: name, Kind: a.config.Stores[name].Kind(), Where: s.Where(), Offsite: s.Offsite(), Sites: []string{}, Pending: waiting[name]}
		for _, site := range a.config.SiteNames() {
			if slices.Contains(a.config.Sites[site].Stores, name) {
				d.Sites = append(d.Sites, site)
			}
		}
		all = append(all, d)
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"stores": nonNil(all)})
	}
	var rows [][]string
	for _, d := range all {
		place := "this machine"
		if d.Offsite {
			place = "offsite"
		}
		pending := ""
		if d.Pending > 0 {
			pending = a.bad(count(int64(d.Pending), "archive PENDING", "archives PENDING"))
		}
		rows = append(rows, []string{d.Name, d.Kind, place, d.Where, strings.Join(d.Sites, ", "), pending})
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.out, "No store is configured yet.")
		return nil
	}
	a.table([]string{"store", "kind", "place", "where", "sites", ""}, rows)
	return nil
}

// tested is what a test of a store found.
type tested struct {
	Store string `json:"store"`
	Where string `json:"where"`
	OK    bool   `json:"ok"`
	Why   string `json:"why,omitempty"`
	// Write and Read are bytes a second.
	Write int64 `json:"write_bytes_per_second"`
	Read  int64 `json:"read_bytes_per_second"`
}

func (a *app) testStores(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	names := c.Args().Slice()
	if len(names) == 0 {
		names = a.storeNames()
	}
	if (c.Bool("trust") || c.Bool("forget-host")) && len(c.Args().Slice()) != 1 {
		return usageError("--trust and --forget-host need the name of one store")
	}
	var all []tested
	ok := true
	for _, name := range names {
		if err := a.knownStore(name); err != nil {
			return err
		}
		cfg := a.config.Stores[name]
		o := a.opener()
		if c.Bool("forget-host") {
			if err := o.Forget(cfg); err != nil {
				return err
			}
		}
		o.Trust = c.Bool("trust")
		o.Trusted = a.sayTrusted
		s, err := o.Open(name, cfg)
		t := tested{Store: name}
		if err == nil {
			t.Where = s.Where()
			err = testStore(ctx, s, &t)
			_ = s.Close()
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if t.OK = err == nil; err != nil {
			t.Why, ok = err.Error(), false
		}
		all = append(all, t)
	}
	if c.Bool("json") {
		if err := a.printJSON(map[string]any{"stores": nonNil(all)}); err != nil {
			return err
		}
	} else {
		a.showTested(all)
	}
	if !ok {
		return &exitError{code: exitFailed}
	}
	return nil
}

func (a *app) sayTrusted(host, fingerprint string) {
	fmt.Fprintf(a.err, "note: the key %s of %s is accepted from now on.\n", fingerprint, host)
}

func (a *app) showTested(all []tested) {
	for _, t := range all {
		if t.OK {
			fmt.Fprintf(a.out, "%s %s (%s): written, read back, compared, listed, deleted; %s/s there, %s/s back\n", a.good("Works:"), a.bold(t.Store), t.Where, size(t.Write), size(t.Read))
		} else {
			fmt.Fprintf(a.out, "%s %s: %s\n", a.bad("Does not work:"), a.bold(t.Store), printableText(t.Why))
		}
	}
	if len(all) == 0 {
		fmt.Fprintln(a.out, "No store is configured yet.")
	}
}

// testBytes is how much a test sends and reads.
const testBytes = 4 << 20

func testStore(ctx context.Context, s store.Named, t *tested) error {
	if err := s.Check(ctx); err != nil {
		return err
	}
	sent := make([]byte, testBytes)
	_, _ = rand.Read(sent)
	name := fmt.Sprintf("revlet-test/%x", sent[:8])
	began := time.Now()
	if err := s.Put(ctx, name, bytes.NewReader(sent), testBytes); err != nil {
		return fmt.Errorf("write: %w", err)
	}
	t.Write = perSecond(began)
	defer func() { _ = s.Remove(context.WithoutCancel(ctx), name) }()
	began = time.Now()
	in, err := s.Open(ctx, name, 0)
	if err != nil {
		return fmt.Errorf("read back: %w", err)
	}
	got, err := io.ReadAll(in)
	_ = in.Close()
	if err != nil {
		return fmt.Errorf("read back: %w", err)
	}
	t.Read = perSecond(began)
	if !bytes.Equal(sent, got) {
		return errors.New("what was read back is not what was written")
	}
	infos, err := s.List(ctx, path.Dir(name))
	if err != nil {
		return fmt.Errorf("list: %w", err)
	}
	if !slices.ContainsFunc(infos, func(i store.Info) bool { return i.Name == name && i.Bytes == testBytes }) {
		return errors.New("its listing lags behind: what was just written is not in it. Archives are safe there, for Revlet asks again, but give it time before you judge by `archives`")
	}
	if err := s.Remove(ctx, name); err != nil {
		return fmt.Errorf("delete: %w", err)
	}
	if _, err := s.Stat(ctx, name); !errors.Is(err, store.ErrNotFound) {
		return errors.Join(errors.New("what was deleted is still there"), err)
	}
	return nil
}

func perSecond(began time.Time) int64 {
	return int64(float64(testBytes) / max(time.Since(began).Seconds(), 1e-6))
}

// copied is one archive that was brought into a store.
type copied struct {
	Archive string `json:"archive"`
	Store   string `json:"store"`
	Objects int    `json:"objects"`
	Bytes   int64  `json:"bytes"`
	Why     string `json:"failed,omitempty"`
}

func (a *app) copyStores(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	to := c.String("to")
	if to != "" {
		if err := a.knownStore(to); err != nil {
			return err
		}
	}
	names := c.Args().Slice()
	if len(names) == 0 {
		names = a.config.SiteNames()
	}
	var all []copied
	for _, name := range names {
		if _, err := a.siteConfig(name); err != nil {
			return err
		}
		done, err := a.copySite(ctx, c, name, to)
		if err != nil {
			return err
		}
		all = append(all, done...)
	}
	if c.Bool("json") {
		if err := a.printJSON(map[string]any{"copied": nonNil(all)}); err != nil {
			return err
		}
	} else {
		a.showCopied(all)
	}
	if slices.ContainsFunc(all, func(c copied) bool { return c.Why != "" }) {
		return &exitError{code: exitGaps}
	}
	return nil
}

func (a *app) copySite(ctx context.Context, c *cli.Command, name, to string) ([]copied, error) {
	unlock, err := a.state.Lock(name)
	if err != nil {
		return nil, err
	}
	defer unlock()
	l, err := a.list(ctx, name)
	if err != nil {
		return nil, err
	}
	pending, err := a.pending(ctx, name)
	if err != nil {
		return nil, err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	defer done()
	var all []copied
	for _, h := range slices.Backward(l.Archives) {
		targets := pending[h.Name]
		if to != "" {
			targets = []string{to}
		}
		for _, target := range targets {
			if slices.Contains(storeNames(h), target) {
				continue
			}
			r, err := a.copyTo(ctx, &h, target, watch)
			if ctx.Err() != nil {
				return all, ctx.Err()
			}
			one := copied{Archive: h.Name, Store: target, Objects: r.Objects, Bytes: r.Bytes}
			if err != nil {
				one.Why = err.Error()
			}
			all = append(all, one)
		}
	}
	return all, nil
}

func (a *app) showCopied(all []copied) {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "Nothing to copy: every archive is where it should be.")
		return
	}
	for _, d := range all {
		if d.Why != "" {
			fmt.Fprintf(a.out, "%s %s to %s: %s\n", a.bad("Not copied:"), d.Archive, d.Store, printableText(d.Why))
			continue
		}
		fmt.Fprintf(a.out, "%s %s is in %s: %s sent in %s\n", a.good("Copied:"), d.Archive, d.Store, size(d.Bytes), count(int64(d.Objects), "object", "objects"))
	}
}

func (a *app) healStore(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return usageError("`revlet stores heal` needs the STORE to heal")
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	if err := a.knownStore(args[0]); err != nil {
		return err
	}
	names := args[1:]
	if len(names) == 0 {
		names = slices.DeleteFunc(a.config.SiteNames(), func(site string) bool {
			return !slices.Contains(a.config.Sites[site].Stores, args[0])
		})
	}
	healed := map[string][]replicate.Healed{}
	for _, name := range names {
		found, err := a.healSite(ctx, c, args[0], name)
		if err != nil {
			return err
		}
		healed[name] = nonNil(found)
	}
	if c.Bool("json") {
		if err := a.printJSON(map[string]any{"store": args[0], "sites": healed}); err != nil {
			return err
		}
	} else {
		a.showHealed(args[0], names, healed)
	}
	for _, found := range healed {
		if slices.ContainsFunc(found, func(h replicate.Healed) bool { return h.Left != "" }) {
			return &exitError{code: exitDamage}
		}
	}
	return nil
}

func (a *app) healSite(ctx context.Context, c *cli.Command, target, name string) ([]replicate.Healed, error) {
	cfg, err := a.siteConfig(name)
	if err != nil {
		return nil, err
	}
	unlock, err := a.state.Lock(name)
	if err != nil {
		return nil, err
	}
	defer unlock()
	l, err := a.list(ctx, name)
	if err != nil {
		return nil, err
	}
	mine := wantedIn(l, target)
	others := slices.DeleteFunc(a.stores(cfg), func(s store.Named) bool { return s.Name == target })
	scratch, err := a.state.Spool(name + ".copy")
	if err != nil {
		return nil, err
	}
	defer func() { _ = a.disk.RemoveAll(scratch) }()
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	defer done()
	job := replicate.Job{Machine: marks.Machine(a.state.Dir), Site: name, To: a.store(target), From: others, Disk: a.disk, Scratch: scratch, Observer: watch}
	healed, err := job.Heal(ctx, mine, c.Bool("quick"))
	for _, h := range healed {
		if h.Left == "" {
			err = errors.Join(err, a.history.Mended(ctx, target, h.Object))
		}
	}
	return healed, err
}

// wantedIn are the archives that a store has, or has lost the record of: one
// that a record there cannot be read of, and that another store has.
func wantedIn(l *catalog.Listing, target string) []catalog.Held {
	lost := map[string]bool{}
	for _, b := range l.Broken {
		lost[b.Name] = lost[b.Name] || b.Store == target
	}
	return slices.DeleteFunc(slices.Clone(l.Archives), func(h catalog.Held) bool {
		return !slices.Contains(storeNames(h), target) && !lost[h.Name]
	})
}

func (a *app) showHealed(target string, names []string, healed map[string][]replicate.Healed) {
	for _, name := range names {
		if len(healed[name]) == 0 {
			fmt.Fprintf(a.out, "%s everything of %s in %s is sound.\n", a.good("Nothing to heal:"), name, target)
		}
		for _, h := range healed[name] {
			if h.Left != "" {
				fmt.Fprintf(a.out, "%s %s (%s): %s\n", a.bad("Still damaged:"), h.Object, h.Why, printableText(h.Left))
			} else {
				fmt.Fprintf(a.out, "%s %s (%s)\n", a.good("Healed:"), h.Object, h.Why)
			}
		}
	}
}

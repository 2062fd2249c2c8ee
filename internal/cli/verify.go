package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/history"
	"revlet/internal/verify"
)

func (a *app) verifyCommand() *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "prove archives whole", ArgsUsage: "[ARCHIVE…]",
		Description: "Without ARCHIVE, every archive of every site is verified. --full (the default) reads\n" +
			"and compares every byte, every file and every table; --digests every stored byte;\n" +
			"--quick looks whether every part is there with the right length. Of encrypted\n" +
			"archives, --full needs the key; without one, their digests are compared. The exit\n" +
			"code is 4 when damage is found.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "full", Usage: "read everything (the default)"},
			&cli.BoolFlag{Name: "digests", Usage: "compare the stored bytes with what was written"},
			&cli.BoolFlag{Name: "quick", Usage: "compare lengths only"},
			&cli.StringFlag{Name: "store", Usage: "in this `STORE` only"},
			beforeFlag, keyFlag, jsonFlag,
		},
		Action: a.verify,
	}
}

func (a *app) verify(ctx context.Context, c *cli.Command) error {
	level, err := verifyLevel(c)
	if err != nil {
		return err
	}
	chosen, trouble, err := a.toVerify(ctx, c)
	if err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	v := &verify.Verifier{Observer: watch}
	reports, err := a.verifyAll(ctx, v, chosen, c.String("store"), level)
	done()
	if err != nil {
		return err
	}
	sound := len(trouble) == 0
	for _, r := range reports {
		sound = sound && r.Sound()
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"sound": sound, "reports": nonNil(reports), "trouble": nonNil(trouble)})
	} else {
		a.showReports(reports, trouble)
	}
	if err == nil && !sound {
		return &exitError{code: exitDamage}
	}
	return err
}

// verifyLevel is the level that was asked for, or none.
func verifyLevel(c *cli.Command) (chosen verify.Level, err error) {
	for _, level := range []verify.Level{verify.Quick, verify.Digests, verify.Full} {
		if !c.Bool(string(level)) {
			continue
		}
		if chosen != "" {
			return "", usageError("choose one of --quick, --digests and --full")
		}
		chosen = level
	}
	return chosen, nil
}

// levelFor is the level for one archive: full unless another was asked for, or
// unless it is encrypted and no key was given.
func (a *app) levelFor(h *catalog.Held, asked verify.Level) verify.Level {
	switch {
	case asked != "":
		return asked
	case h.Encrypted && !a.keys.Given():
		return verify.Digests
	default:
		return verify.Full
	}
}

// toVerify resolves the archives that were named, or all there are, with what
// is wrong with records that cannot be read.
func (a *app) toVerify(ctx context.Context, c *cli.Command) (all []*catalog.Held, trouble []string, err error) {
	if err := a.open(ctx, c); err != nil {
		return nil, nil, err
	}
	limit, err := before(c)
	if err != nil {
		return nil, nil, err
	}
	for _, typed := range c.Args().Slice() {
		h, err := a.find(ctx, typed, limit)
		if err != nil {
			return nil, nil, err
		}
		all = append(all, h)
	}
	if c.Args().Present() {
		return all, nil, nil
	}
	for _, name := range a.config.SiteNames() {
		l, err := a.list(ctx, name)
		if err != nil {
			return nil, nil, err
		}
		for i := range l.Archives {
			all = append(all, &l.Archives[i])
		}
		for _, b := range append(l.Broken, l.Silent...) {
			trouble = append(trouble, fmt.Sprintf("store %s: %v", b.Store, b.Err))
		}
	}
	return all, trouble, nil
}

// verifyAll begins with the oldest archive, since later ones share its parts,
// and reports on the newest first.
func (a *app) verifyAll(ctx context.Context, v *verify.Verifier, chosen []*catalog.Held, only string, asked verify.Level) ([]*verify.Report, error) {
	var reports []*verify.Report
	met := false
	for _, h := range slices.Backward(chosen) {
		for _, s := range slices.Backward(h.Stores) {
			if only != "" && s.Name != only {
				continue
			}
			met = true
			level := a.levelFor(h, asked)
			r, err := v.Archive(ctx, h, s, level)
			if err != nil {
				return reports, err
			}
			reports = append(reports, r)
			if err := a.noteDamage(ctx, h, r); err != nil {
				return reports, err
			}
			if err := a.history.AddProof(ctx, history.Proof{Archive: h.Name, Store: s.Name, At: a.now(), Level: string(level), Sound: r.Sound()}); err != nil {
				return reports, err
			}
		}
	}
	slices.Reverse(reports)
	if only != "" && !met && len(chosen) > 0 {
		return nil, usageError("none of the archives is in a store %q", only)
	}
	return reports, nil
}

// noteDamage remembers which parts were found damaged, so that the next backup
// writes them again if it needs them, and which were not.
func (a *app) noteDamage(ctx context.Context, h *catalog.Held, r *verify.Report) error {
	known, err := a.history.DamagedIn(ctx, r.Store)
	if err != nil {
		return err
	}
	bad := map[string]bool{}
	for _, d := range r.Damage {
		bad[d.Object] = true
	}
	for _, p := range h.Parts {
		object := archive.PartPath(h.Site, p.Name)
		switch {
		case bad[p.Name]:
			err = a.history.Damaged(ctx, r.Store, object)
		case known[object] && r.Level != verify.Quick:
			err = a.history.Mended(ctx, r.Store, object)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (a *app) showReports(reports []*verify.Report, trouble []string) {
	if len(reports) == 0 && len(trouble) == 0 {
		fmt.Fprintln(a.out, "No archives to verify. `revlet backup` takes one.")
		return
	}
	var rows [][]string
	for _, r := range reports {
		verdict := a.good("sound")
		if !r.Sound() {
			verdict = a.bad("DAMAGED")
		}
		rows = append(rows, []string{r.Archive, r.Store, string(r.Level), fmt.Sprint(r.Parts), size(r.Bytes), took(r.Took), verdict})
	}
	if len(rows) > 0 {
		a.table([]string{"archive", "store", "level", "parts", "size", "took", "verdict"}, rows, 4, 5, 6)
	}
	damaged := false
	for _, r := range reports {
		a.showDamage(r)
		damaged = damaged || !r.Sound()
	}
	if damaged {
		fmt.Fprintln(a.out, "\nNext: `revlet stores heal STORE` puts sound copies from other stores in their place; if there is\nno other store, take a new archive now with `revlet backup`, and look at the disk under that one.")
	}
	for _, t := range trouble {
		fmt.Fprintf(a.out, "%s %s\n", a.bad("trouble:"), t)
	}
}

func (a *app) showDamage(r *verify.Report) {
	if r.Sound() {
		return
	}
	fmt.Fprintf(a.out, "\n%s in store %s:\n", a.bad("Damage to "+r.Archive), r.Store)
	for _, d := range r.Damage {
		what := "part " + d.Object
		if d.Object == "list" {
			what = "the list of contents"
		}
		fmt.Fprintf(a.out, "  %s\n    %s\n", what, d.Why)
		for _, name := range d.Held {
			fmt.Fprintf(a.out, "    held %s\n", printable(name))
		}
		if more := d.HeldTotal - len(d.Held); more > 0 {
			fmt.Fprintf(a.out, "    and %d more\n", more)
		}
	}
}

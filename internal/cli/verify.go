package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/catalog"
	"revlet/internal/jobs"
	"revlet/internal/work/verify"
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
	limit, err := before(c)
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	proof, err := a.jobs.Verify(ctx, jobs.VerifyOrder{Archives: c.Args().Slice(), Before: limit, Store: c.String("store"), Level: level, Observer: watch})
	done()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"verdict": proof.Verdict(), "sound": proof.Sound(), "reports": nonNil(proof.Reports), "trouble": nonNil(troubleTexts(proof.Trouble))})
	} else {
		a.showReports(proof)
	}
	if err != nil {
		return err
	}
	return verdictCode(proof.Verdict())
}

// verdictCode is the exit code for a verdict: what was not reached is not damaged.
func verdictCode(v catalog.Verdict) error {
	switch v {
	case catalog.Damaged:
		return &exitError{code: exitDamage}
	case catalog.NotReached:
		return &exitError{code: exitGaps}
	}
	return nil
}

// troubleTexts words stores and records that could not be read.
func troubleTexts(all []jobs.Trouble) []string {
	var texts []string
	for _, t := range all {
		texts = append(texts, fmt.Sprintf("store %s: %s", t.Store, inline(t.Err)))
	}
	return texts
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

func (a *printer) showReports(proof *jobs.Proof) {
	reports, trouble := proof.Reports, troubleTexts(proof.Trouble)
	if len(reports) == 0 && len(trouble) == 0 {
		fmt.Fprintln(a.out, "No archives to verify. `revlet backup` takes one.")
		return
	}
	var rows [][]string
	for _, r := range reports {
		verdict := a.good(string(catalog.Sound))
		if !r.Sound() {
			verdict = a.bad(strings.ToUpper(string(r.Verdict())))
		}
		rows = append(rows, []string{r.Archive, r.Store, string(r.Level), fmt.Sprint(r.Parts), size(r.Bytes), took(r.Took), verdict})
	}
	if len(rows) > 0 {
		a.table([]string{"archive", "store", "level", "parts", "size", "took", "verdict"}, rows, 4, 5, 6)
	}
	damaged := false
	for _, r := range reports {
		a.showDamage(r)
		a.showNotReached(r)
		damaged = damaged || len(r.Damage) > 0
	}
	if damaged {
		fmt.Fprintln(a.out, "\nNext: `revlet stores heal STORE` puts sound copies from other stores in their place; if there is\nno other store, take a new archive now with `revlet backup`, and look at the disk under that one.")
	}
	for _, t := range trouble {
		fmt.Fprintf(a.out, "%s %s\n", a.bad("trouble:"), t)
	}
}

func (a *printer) showDamage(r *verify.Report) {
	if len(r.Damage) == 0 {
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

// missedShown is how many objects that were not reached are listed.
const missedShown = 3

// showNotReached lists what could not be read, of which nothing is known.
func (a *printer) showNotReached(r *verify.Report) {
	if len(r.NotReached) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s in store %s: nothing is known of %s\n", a.bad("Not reached: "+r.Archive), r.Store, count(int64(len(r.NotReached)), "object", "objects"))
	for _, m := range r.NotReached[:min(len(r.NotReached), missedShown)] {
		fmt.Fprintf(a.out, "  %s\n    %s\n", m.Object, printableText(m.Why))
	}
	if more := len(r.NotReached) - missedShown; more > 0 {
		fmt.Fprintf(a.out, "  … and %d more\n", more)
	}
}

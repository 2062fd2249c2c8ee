package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/catalog"
	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/work/verify"
)

func (a *app) verifyCommand() *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "prove archives whole", ArgsUsage: "[ARCHIVE…]",
		Description: "Without ARCHIVE, every archive of every site is verified. --full (the default) reads\n" +
			"and compares every byte, every file and every table; --digests every stored byte;\n" +
			"--quick looks whether every part and list is there with the right length. Of encrypted\n" +
			"archives, --full needs the key; without one, their digests are compared. The exit\n" +
			"code is 4 when damage is found.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "full", Usage: "read everything (the default)"},
			&cli.BoolFlag{Name: "digests", Usage: "compare the stored bytes with what was written"},
			&cli.BoolFlag{Name: "quick", Usage: "compare lengths only"},
			&cli.StringFlag{Name: "store", Usage: "in this `STORE` only"},
			beforeFlag, keyFlag, signedByFlag, jsonFlag,
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
		err = a.PrintJSON(map[string]any{"verdict": proof.Verdict(), "sound": proof.Sound(), "reports": render.NonNil(proof.Reports), "signers": render.NonNil(proof.Signers), "trouble": render.NonNil(render.TroubleTexts(proof.Trouble))})
	} else {
		a.ShowReports(proof)
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

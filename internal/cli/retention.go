package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/catalog"
	"revlet/internal/cli/render"
	"revlet/internal/jobs"
)

func (a *app) retentionCommand() *cli.Command {
	return &cli.Command{
		Name: "retention", Usage: "show which archives stay and why, and which go", ArgsUsage: "[SITE…]",
		Description: "Explains each archive by the keep rules of its site, or of the store. --apply removes\n" +
			"those that go; every backup does so by itself. Holds, pending archives and the newest\n" +
			"good archive of each scope always stay, and an alarm stops removal until somebody has\n" +
			"looked (`revlet status`).",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "apply", Usage: "remove what goes"},
			&cli.StringFlag{Name: "store", Usage: "in this `STORE` only"},
			jsonFlag,
		},
		Action: a.retention,
	}
}

func (a *app) retention(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	store := c.String("store")
	if store != "" {
		if err := a.jobs.KnownStore(store); err != nil {
			return err
		}
	}
	all := []jobs.StoreRetention{}
	for _, name := range names {
		one, failed := a.jobs.Retain(ctx, name, store, c.Bool("apply"))
		all = append(all, one...)
		err = errors.Join(err, failed)
	}
	// What was removed is said, whatever failed then.
	if c.Bool("json") {
		err = errors.Join(err, a.PrintJSON(map[string]any{"retention": all}))
	} else {
		a.ShowRetention(all, c.Bool("apply"))
	}
	if err == nil && slices.ContainsFunc(all, func(s jobs.StoreRetention) bool { return len(s.Stopped) > 0 }) {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *app) holdCommand() *cli.Command {
	return &cli.Command{
		Name: "hold", Usage: "exempt an archive from retention until it is released", ArgsUsage: "ARCHIVE",
		Description: "The hold is kept in the stores beside the archive, so every machine respects it.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "why", Usage: "`TEXT`: the reason, which is kept"}, beforeFlag, keyFlag, signedByFlag, jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.changeHold(ctx, c, "does not know of the hold", func(ctx context.Context, h *catalog.Held) ([]jobs.Trouble, error) {
				left, err := a.jobs.Hold(ctx, h, c.String("why"))
				if err == nil && !c.Bool("json") {
					fmt.Fprintf(a.Out, "%s %s; it stays until `revlet release %s`\n", a.Good("Held:"), h.Name, h.Name)
				}
				return left, err
			})
		},
	}
}

func (a *app) releaseCommand() *cli.Command {
	return &cli.Command{
		Name: "release", Usage: "lift a hold", ArgsUsage: "ARCHIVE", Flags: []cli.Flag{beforeFlag, keyFlag, signedByFlag, jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.changeHold(ctx, c, "still holds it", func(ctx context.Context, h *catalog.Held) ([]jobs.Trouble, error) {
				left, err := a.jobs.Release(ctx, h)
				if err == nil && len(left) == 0 && !c.Bool("json") {
					fmt.Fprintf(a.Out, "%s %s; the keep rules decide about it again\n", a.Good("Released:"), h.Name)
				}
				return left, err
			})
		},
	}
}

// changeHold sets or lifts a hold, and says in which stores that is still to do.
func (a *app) changeHold(ctx context.Context, c *cli.Command, untold string, change func(context.Context, *catalog.Held) ([]jobs.Trouble, error)) error {
	typed, err := oneArg(c, "ARCHIVE")
	if err != nil {
		return err
	}
	limit, err := a.openBefore(ctx, c)
	if err != nil {
		return err
	}
	h, err := a.jobs.Find(ctx, typed, limit)
	if err != nil {
		return err
	}
	left, err := change(ctx, h)
	if err != nil {
		return err
	}
	for _, l := range left {
		fmt.Fprintf(a.err, "warning: store %s %s: %s; run the command again when it answers\n", l.Store, untold, render.Inline(l.Err))
	}
	if c.Bool("json") {
		stores := []string{}
		for _, l := range left {
			stores = append(stores, l.Store)
		}
		if err := a.PrintJSON(map[string]any{"archive": h.Name, "held": c.Name == "hold", "not_told": stores}); err != nil {
			return err
		}
	}
	if len(left) > 0 {
		return &exitError{code: exitGaps}
	}
	return nil
}

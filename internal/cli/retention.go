package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/catalog"
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
		err = errors.Join(err, a.printJSON(map[string]any{"retention": all}))
	} else {
		a.showRetention(all, c.Bool("apply"))
	}
	if err == nil && slices.ContainsFunc(all, func(s jobs.StoreRetention) bool { return len(s.Stopped) > 0 }) {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *printer) showRetention(all []jobs.StoreRetention, applied bool) {
	for i, r := range all {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		rules := strings.Join(r.Rules, "; ")
		if rules == "" {
			rules = "everything, there are no rules (`keep:`)"
		}
		fmt.Fprintf(a.out, "%s in store %s\n  %s  %s\n", a.bold(r.Site), a.bold(r.Store), a.dim("keep"), rules)
		if len(r.Archives) > 0 {
			fmt.Fprintln(a.out)
			a.table([]string{"archive", "taken", "scope", "", "why"}, a.retentionRows(r))
		}
		fmt.Fprintln(a.out)
		a.showVerdict(r, applied)
	}
}

func (a *printer) retentionRows(r jobs.StoreRetention) [][]string {
	var rows [][]string
	for _, d := range r.Archives {
		verdict := a.good("stays")
		switch {
		case !d.Keep && slices.Contains(r.Removed, d.Name):
			verdict = a.bad("gone")
		case !d.Keep:
			verdict = a.bad("goes")
		}
		rows = append(rows, []string{d.Name, when(d.Taken), d.Scope, verdict, printableText(strings.Join(d.Why, "; "))})
	}
	return rows
}

func (a *printer) showVerdict(r jobs.StoreRetention, applied bool) {
	going := len(r.Going())
	switch {
	case len(r.Stopped) > 0:
		fmt.Fprintf(a.out, "%s nothing is removed until this is settled:\n", a.bad("Stopped:"))
		for _, why := range r.Stopped {
			fmt.Fprintf(a.out, "  %s\n", printableText(why))
		}
		fmt.Fprintln(a.out, "`revlet status` says what each alarm means, and how to accept one.")
	case applied:
		a.showRemoved([]jobs.StoreRetention{r})
		if len(r.Removed) == 0 {
			fmt.Fprintln(a.out, "Nothing was to be removed.")
		}
	case going > 0:
		fmt.Fprintf(a.out, "%s would go with the next backup, or now with --apply.\n", count(int64(going), "archive", "archives"))
	default:
		fmt.Fprintln(a.out, "Nothing goes.")
	}
}

// showRemoved prints what was removed, or why space was not given back.
func (a *printer) showRemoved(all []jobs.StoreRetention) {
	for _, r := range all {
		if len(r.Removed) > 0 {
			fmt.Fprintf(a.out, "\nBy the keep rules %s went from %s, %s given back:\n  %s\n", count(int64(len(r.Removed)), "archive", "archives"), r.Store, size(r.Freed), abbreviate(r.Removed, 3))
		}
		if r.Left != "" {
			fmt.Fprintf(a.out, "\nNothing was removed from %s this time: %s\n", r.Store, printableText(r.Left))
		}
		if len(r.Stopped) > 0 {
			fmt.Fprintf(a.out, "\n%s nothing goes from %s: %s\n", a.bad("Removal is stopped:"), r.Store, printableText(strings.Join(r.Stopped, "; ")))
		}
	}
}

func (a *app) holdCommand() *cli.Command {
	return &cli.Command{
		Name: "hold", Usage: "exempt an archive from retention until it is released", ArgsUsage: "ARCHIVE",
		Description: "The hold is kept in the stores beside the archive, so every machine respects it.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "why", Usage: "`TEXT` that says why"}, beforeFlag, keyFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.changeHold(ctx, c, "does not know of the hold", func(ctx context.Context, h *catalog.Held) ([]jobs.Trouble, error) {
				left, err := a.jobs.Hold(ctx, h, c.String("why"))
				if err == nil {
					fmt.Fprintf(a.out, "%s %s; it stays until `revlet release %s`\n", a.good("Held:"), h.Name, h.Name)
				}
				return left, err
			})
		},
	}
}

func (a *app) releaseCommand() *cli.Command {
	return &cli.Command{
		Name: "release", Usage: "lift a hold", ArgsUsage: "ARCHIVE", Flags: []cli.Flag{beforeFlag, keyFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.changeHold(ctx, c, "still holds it", func(ctx context.Context, h *catalog.Held) ([]jobs.Trouble, error) {
				left, err := a.jobs.Release(ctx, h)
				if err == nil && len(left) == 0 {
					fmt.Fprintf(a.out, "%s %s; the keep rules decide about it again\n", a.good("Released:"), h.Name)
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
	if err := a.open(ctx, c); err != nil {
		return err
	}
	limit, err := before(c)
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
		fmt.Fprintf(a.err, "warning: store %s %s: %s; run the command again when it answers\n", l.Store, untold, inline(l.Err))
	}
	if len(left) > 0 {
		return &exitError{code: exitGaps}
	}
	return nil
}

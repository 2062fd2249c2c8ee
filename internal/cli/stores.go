package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/store/contract"
)

func (a *app) storesCommand() *cli.Command {
	return &cli.Command{
		Name: "stores", Usage: "add, list, test, copy to, discover and heal the places where archives are held",
		Commands: []*cli.Command{a.storesAddCommand(), a.storesLinkCommand(), {
			Name: "list", Usage: "the stores of the configuration and who uses them", Flags: []cli.Flag{jsonFlag}, Action: a.listStores,
		}, {
			Name: "test", Usage: "write, read back, compare, list and delete something in a store", ArgsUsage: "[STORE…]",
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "trust", Usage: "accept the key of an SSH machine that is not known yet"},
				&cli.BoolFlag{Name: "accept", Usage: "take what is there as the store from now on, after its disk or account was changed on purpose"},
				&cli.BoolFlag{Name: "forget-host", Usage: "drop the accepted key of the store's SSH machine first"},
				&cli.BoolFlag{Name: "contract", Usage: "try one store point by point, such as one behind a helper program of your own"},
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
				"plain-ftp://, plain-http:// or plain-s3://. How to get in is asked for on a terminal. Sites that are found there are written into the configuration, so\n" +
				"that `revlet restore` works from there on.",
			Flags: append([]cli.Flag{
				&cli.StringFlag{Name: "name", Value: "found", Usage: "the store's `NAME` in the configuration"},
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

func (a *app) listStores(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	all, err := a.jobs.ListStores(ctx)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"stores": render.NonNil(all)})
	}
	var rows [][]string
	for _, d := range all {
		place := "this machine"
		if d.Offsite {
			place = "offsite"
		}
		pending := ""
		if d.Pending > 0 {
			pending = a.Bad(render.Count(int64(d.Pending), "archive PENDING", "archives PENDING"))
		}
		rows = append(rows, []string{d.Name, d.Kind, place, d.Where, strings.Join(d.Sites, ", "), pending})
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.Out, "No store is configured yet.")
		return nil
	}
	a.Table([]string{"store", "kind", "place", "where", "sites", ""}, rows)
	return nil
}

func (a *app) testStores(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	names := c.Args().Slice()
	if len(names) == 0 {
		names = a.jobs.StoreNames()
	}
	if (c.Bool("trust") || c.Bool("forget-host") || c.Bool("accept")) && len(c.Args().Slice()) != 1 {
		return usageError("--trust, --forget-host and --accept need the name of one store")
	}
	if c.Bool("contract") {
		if err := goesWith(c, "--contract"); err != nil {
			return err
		}
		return a.storeContract(ctx, c)
	}
	var all []jobs.StoreTest
	ok := true
	for _, name := range names {
		t, err := a.jobs.TestStore(ctx, name, c.Bool("trust"), c.Bool("forget-host"), c.Bool("accept"))
		if err != nil {
			return err
		}
		ok = ok && t.OK
		all = append(all, t)
	}
	if c.Bool("json") {
		if err := a.PrintJSON(map[string]any{"stores": render.NonNil(all)}); err != nil {
			return err
		}
	} else {
		a.ShowTested(all)
	}
	if !ok {
		return &exitError{code: exitFailed}
	}
	return nil
}

// storeContract tries one store point by point.
func (a *app) storeContract(ctx context.Context, c *cli.Command) error {
	name, err := oneArg(c, "STORE")
	if err != nil {
		return err
	}
	points := []map[string]any{}
	kept, err := a.jobs.StoreContract(ctx, name, func(r contract.Result) {
		points = append(points, map[string]any{"point": r.Point, "kept": r.Err == nil, "why": errText(r.Err)})
		switch {
		case c.Bool("json"):
		case r.Err == nil:
			fmt.Fprintf(a.Out, "%s  %s\n", a.Good("kept"), r.Point)
		default:
			fmt.Fprintf(a.Out, "%s %s\n      %s\n", a.Bad("NOT: "), r.Point, render.ErrText(r.Err))
		}
	})
	if err == nil && c.Bool("json") {
		err = a.PrintJSON(map[string]any{"store": name, "kept": kept, "points": points})
	}
	if err == nil && !kept {
		return &exitError{code: exitFailed}
	}
	return err
}

func (a *app) copyStores(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	to := c.String("to")
	if to != "" {
		if err := a.jobs.KnownStore(to); err != nil {
			return err
		}
	}
	names, err := a.jobs.SitesNamed(c.Args().Slice())
	if err != nil {
		return err
	}
	watch, stop := a.observer(c.Bool("quiet") || c.Bool("json"))
	defer stop()
	var all []jobs.Copied
	var failed error
	for _, name := range names {
		done, err := a.jobs.CopyArchives(ctx, name, to, watch)
		all = append(all, done...)
		if failed = errors.Join(failed, err); ctx.Err() != nil {
			break
		}
	}
	stop()
	if c.Bool("json") {
		if err := a.PrintJSON(map[string]any{"copied": render.NonNil(all)}); err != nil {
			return err
		}
	} else if failed == nil || len(all) > 0 {
		a.ShowCopied(all, to)
	}
	if failed != nil {
		return failed
	}
	if slices.ContainsFunc(all, func(c jobs.Copied) bool { return c.Why != "" }) {
		return &exitError{code: exitGaps}
	}
	return nil
}

func (a *app) healStore(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return usageError("`revlet stores heal` needs the STORE to heal")
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	if err := a.jobs.KnownStore(args[0]); err != nil {
		return err
	}
	names := args[1:]
	if len(names) == 0 {
		names = slices.DeleteFunc(a.jobs.Config.SiteNames(), func(site string) bool {
			return !slices.Contains(a.jobs.Config.Sites[site].Stores, args[0])
		})
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	defer done()
	healed := map[string]*jobs.HealedSite{}
	var failed error
	for _, name := range names {
		site, err := a.jobs.Heal(ctx, args[0], name, c.Bool("quick"), watch)
		if site != nil && (err == nil || len(site.Objects) > 0) {
			healed[name] = site
		}
		if failed = errors.Join(failed, err); ctx.Err() != nil {
			break
		}
	}
	done() // before anything is printed: it clears its line
	if c.Bool("json") {
		if err := a.PrintJSON(map[string]any{"store": args[0], "sites": healed}); err != nil {
			return err
		}
	} else {
		a.ShowHealed(args[0], healed, c.Bool("quick"))
	}
	if failed != nil {
		return failed
	}
	for _, site := range healed {
		if site.Left() {
			return &exitError{code: exitDamage}
		}
	}
	return nil
}

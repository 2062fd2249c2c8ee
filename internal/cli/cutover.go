package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/signal"
	"slices"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/config"
	"revlet/internal/jobs"
	"revlet/internal/work/cutover"
	"revlet/internal/work/preview"
)

func (a *app) cutoverCommand() *cli.Command {
	names := []cli.Flag{
		&cli.StringSliceFlag{Name: "to", Usage: "the new machine's `IP` address; given again for its other one, of IPv6", Required: true},
		&cli.StringSliceFlag{Name: "name", Usage: "a further host `NAME` of the site; may be given again"},
		&cli.StringSliceFlag{Name: "resolver", Usage: "the `IP` of a resolver to ask, in place of this machine's and well-known public ones; may be given again"},
		&cli.StringSliceFlag{Name: "name-server", Usage: "the `IP` of the domain's own name server, in place of looking for it; may be given again"},
		jsonFlag,
	}
	return &cli.Command{
		Name: "cutover", Usage: "from the old host to the new one: what to change in the DNS, and who knows already",
		Description: "After `revlet move`, or a move by hand: what has to change at the registrar, how the new\n" +
			"host looks under the site's name, and when all the world agrees. Nothing here changes a\n" +
			"record. See docs/MOVING.md.",
		Commands: []*cli.Command{
			{Name: "plan", Usage: "which records have to change, which have to stay, and what would go wrong", ArgsUsage: "SITE",
				Description: "Asks the domain's own name servers and the new machine. The exit code is 4 when\n" +
					"something has to be dealt with first.",
				Flags: append([]cli.Flag{
					&cli.StringSliceFlag{Name: "new-name-server", Usage: "the `IP` of a name server that is to answer for the whole domain; may be given again"},
				}, names...), Action: a.cutoverPlan},
			a.lookCommand(names[1]), a.matchCommand(names[1]), a.finishCommand(),
			{Name: "watch", Usage: "ask name servers and resolvers until all of them lead to the new machine", ArgsUsage: "SITE",
				Description: "Ends with 0 when all have agreed several times in a row, with 4 at the limit. A resolver\n" +
					"that does not answer does not agree.",
				Flags: append([]cli.Flag{
					&cli.StringSliceFlag{Name: "from", Usage: "an `IP` of the old machine, where the records no longer say it; may be given again"},
					&cli.IntFlag{Name: "times", Value: 3, Usage: "how often in a row all have to agree, `N`"},
					&cli.StringFlag{Name: "every", Value: "5 minutes", Usage: "how long to wait in between, a `SPAN`"},
					&cli.StringFlag{Name: "limit", Value: "2 days", Usage: "when to give up, a `SPAN`"},
					&cli.BoolFlag{Name: "no-pages", Usage: "do not ask the two machines for the site"},
				}, names...), Action: a.cutoverWatch},
		},
	}
}

// lookCommand looks at the new machine; name is the option for further names of the site.
func (a *app) lookCommand(name cli.Flag) *cli.Command {
	return &cli.Command{Name: "look", Usage: "look at the new machine under the site's name, in one browser", ArgsUsage: "SITE",
		Description: "Runs a proxy on this machine: what a browser that uses it asks of the site's names goes to\n" +
			"the new machine, whatever the DNS says. Nobody else sees a difference. With --hosts it\n" +
			"prints the line for a hosts file instead, and with --check besides whether one is there.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "at", Usage: "the new machine's `IP` address"},
			name,
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8118", Usage: "where the proxy is to be, a loopback `ADDRESS`"},
			&cli.BoolFlag{Name: "nothing-else", Usage: "pass on nothing but the site itself"},
			&cli.BoolFlag{Name: "browser", Usage: "start a browser that uses it, with an empty profile of its own"},
			&cli.StringFlag{Name: "program", Usage: "which `PROGRAM` that is (default: the first that is found)"},
			&cli.BoolFlag{Name: "hosts", Usage: "print the line for a hosts file"},
			&cli.BoolFlag{Name: "check", Usage: "with --hosts: tell whether the hosts file leads the site's names somewhere"},
			&cli.StringFlag{Name: "hosts-file", Usage: "which `FILE` that is (default: the system's)"},
		}, Action: a.cutoverLook}
}

// matchCommand compares the two machines.
func (a *app) matchCommand(name cli.Flag) *cli.Command {
	return &cli.Command{Name: "match", Usage: "compare the old and the new host page by page", ArgsUsage: "SITE", Description: "Asks both for the same pages, found from the front page, the site map and links, and tells in\n" +
		"what they differ: status, title, text, menus, pictures, errors. What changes from one call to\n" +
		"the next is learnt from the old host. The exit code is 4 when pages differ, 3 when some did\n" +
		"not answer.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "at", Usage: "the new machine's `IP` address"},
			&cli.StringFlag{Name: "old", Usage: "the old machine's `IP` address (default: where the DNS leads)"},
			&cli.StringFlag{Name: "with", Usage: "the `SITE` at its new place, if it has an entry and another address there"},
			name,
			&cli.IntFlag{Name: "pages", Value: 200, Usage: "ask for `N` pages at most"},
			&cli.IntFlag{Name: "rate", Value: 10, Usage: "ask for `N` pages a second at most"},
			&cli.StringFlag{Name: "page", Usage: "write it as a page into `FILE`, both sides beside each other"},
			jsonFlag,
		}, Action: a.cutoverMatch}
}

// finishCommand brings the last changes over.
func (a *app) finishCommand() *cli.Command {
	return &cli.Command{Name: "finish", Usage: "close the old place, and bring its last changes to the new one", ArgsUsage: "SITE",
		Description: "Takes an archive while the site is open, closes it, takes the last one, and moves that to the\n" +
			"new place, as it was moved before; the old one stays closed, and its duties stop. If\n" +
			"anything fails, it is opened again. --back takes it all back, until the records change: it takes\n" +
			"an archive of the new place first, which then is what it was. Once the names lead to the new\n" +
			"machine both are refused: visitors would not find what they wrote there.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "the `SITE` at its new place, where an archive has come up already"},
			&cli.StringFlag{Name: "leave", Value: string(jobs.LeaveClosed), Usage: "leave the old place `HOW`: closed, redirect (to another address), or open"},
			&cli.BoolFlag{Name: "back", Usage: "take it back: the new place is what it was before, the old one is open"},
			&cli.BoolFlag{Name: "anyway", Usage: "even though the names lead to the new machine already; with --back, too, if its archive or its last move cannot be had"},
			keyFlag, dryRunFlag, yesFlag, jsonFlag,
		}, Action: a.cutoverFinish}
}

func (a *app) cutoverFinish(ctx context.Context, c *cli.Command) error {
	name, err := oneArg(c, "SITE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	if c.Bool("back") {
		return a.cutoverBack(ctx, c, name)
	}
	o := jobs.FinishOrder{Site: name, To: c.String("to"), Leave: jobs.Leave(c.String("leave")), Look: c.Bool("dry-run"), Anyway: c.Bool("anyway")}
	if o.To == "" {
		return usageError("--to is needed: the site's entry at its new place")
	}
	if !slices.Contains([]jobs.Leave{jobs.LeaveClosed, jobs.LeaveRedirect, jobs.LeaveOpen}, o.Leave) {
		return usageError("--leave %s: it is closed, redirect or open", o.Leave)
	}
	if err := a.canAsk(c); err != nil {
		return err
	}
	quiet := c.Bool("quiet") || c.Bool("json")
	watch, hush := a.observer(quiet)
	o.Observer = watch
	o.Told = func(step jobs.FinishStep) {
		if !quiet {
			hush()
			fmt.Fprintf(a.err, "%s  %s\n", a.Now().Local().Format("15:04:05"), step)
		}
	}
	m, err := a.jobs.PlanFinish(ctx, o)
	hush()
	if err != nil {
		return err
	}
	if !c.Bool("json") {
		a.ShowFinishPlan(o, m)
	}
	if o.Look {
		if c.Bool("json") {
			return a.PrintJSON(map[string]any{"site": name, "to": o.To, "archive": m.Order.Archive.Name, "replaces": render.NonNil(m.Replaces), "names_lead_new": leadNew(m.Names), "dry_run": true})
		}
		fmt.Fprintln(a.Out, "Dry run: nothing was changed.")
		return nil
	}
	if err := a.confirmed(c, fmt.Sprintf("Close %s, and bring it up as %s as it is then?", name, o.To)); err != nil {
		return err
	}
	o.First = m.Order.Archive.Name
	r, err := a.jobs.FinishCutover(ctx, o)
	hush()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"site": name, "to": r.To, "leave": r.Leave, "archive": r.Archive, "shut_seconds": r.Shut.Seconds(), "checks": render.NonNil(r.Move.Answers)})
	}
	a.ShowFinished(name, r)
	return nil
}

// leadNew is whether names lead to the new machine, or nil if that is not known.
func leadNew(l jobs.NamesLead) *bool {
	if !l.Known() {
		return nil
	}
	return &l.New
}

func (a *app) cutoverBack(ctx context.Context, c *cli.Command, name string) error {
	if err := goesWith(c, "--back", "to", "anyway", "dry-run", "yes"); err != nil {
		return err
	}
	if err := a.canAsk(c); err != nil {
		return err
	}
	watch, hush := a.observer(c.Bool("quiet") || c.Bool("json"))
	o := jobs.BackOrder{Site: name, To: c.String("to"), Anyway: c.Bool("anyway"), Observer: watch}
	b, err := a.jobs.PlanBack(ctx, o)
	if err != nil {
		return err
	}
	dry := c.Bool("dry-run")
	if !c.Bool("json") {
		a.ShowBack(name, b, dry)
	}
	if !dry {
		if err := a.confirmed(c, fmt.Sprintf("Take the cutover of %s back?", name)); err != nil {
			return err
		}
		b, err = a.jobs.TakeBackCutover(ctx, o)
		hush()
		if err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"site": name, "to": b.To, "taken_back": !dry, "moves": render.NonNil(b.Takes), "left": b.Left, "archive": b.Saved, "dry_run": dry})
	}
	if !dry {
		a.ShowTakenBack(name, b)
	}
	return nil
}

// addresses reads options that are addresses of machines.
func addresses(c *cli.Command, option string) (all []netip.Addr, err error) {
	for _, text := range c.StringSlice(option) {
		addr, err := netip.ParseAddr(text)
		if err != nil {
			return nil, usageError("--%s %q is no address of a machine, such as 203.0.113.9", option, text)
		}
		all = append(all, addr.Unmap().WithZone(""))
	}
	return all, nil
}

func (a *app) cutoverOrder(ctx context.Context, c *cli.Command) (o jobs.CutoverOrder, err error) {
	if o.Site, err = oneArg(c, "SITE"); err != nil {
		return o, err
	}
	if o.To, err = addresses(c, "to"); err != nil {
		return o, err
	}
	o.Names, o.Resolvers, o.NameServers = c.StringSlice("name"), c.StringSlice("resolver"), c.StringSlice("name-server")
	o.NewServers = c.StringSlice("new-name-server")
	return o, a.open(ctx, c)
}

func (a *app) cutoverPlan(ctx context.Context, c *cli.Command) error {
	o, err := a.cutoverOrder(ctx, c)
	if err != nil {
		return err
	}
	p, err := a.jobs.PlanCutover(ctx, o)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		p.Rows, p.Findings, p.Hosts = render.NonNil(p.Rows), render.NonNil(p.Findings), render.NonNil(p.Hosts)
		err = a.PrintJSON(p)
	} else {
		a.ShowCutoverPlan(o, p)
	}
	if err == nil && render.Grave(p) {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *app) cutoverWatch(ctx context.Context, c *cli.Command) error {
	order, err := a.cutoverOrder(ctx, c)
	if err != nil {
		return err
	}
	o := jobs.CutoverWatch{CutoverOrder: order, Times: c.Int("times"), Pages: !c.Bool("no-pages")}
	if o.Old, err = addresses(c, "from"); err != nil {
		return err
	}
	for option, to := range map[string]*time.Duration{"every": &o.Every, "limit": &o.Limit} {
		if *to, err = config.ParseSpan(c.String(option)); err != nil {
			return usageError("--%s %w", option, err)
		}
	}
	show := a.rounds(c.Bool("json"), order.To)
	last, err := a.jobs.WatchCutover(ctx, o, show)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(last)
	} else {
		a.ShowWatchEnd(order.Site, last)
	}
	if err == nil && !last.Done {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *app) cutoverLook(ctx context.Context, c *cli.Command) error {
	site, err := oneArg(c, "SITE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	if c.Bool("check") {
		if err := goesWith(c, "--check", "hosts", "name", "hosts-file", "at"); err != nil {
			return err
		}
		return a.hostsCheck(c, site)
	}
	at, err := netip.ParseAddr(c.String("at"))
	if err != nil {
		return usageError("--at is to be the new machine's address, such as 203.0.113.9")
	}
	if c.Bool("hosts") {
		if err := goesWith(c, "--hosts", "at", "name", "hosts-file"); err != nil {
			return err
		}
		line, err := a.jobs.HostsLine(site, c.StringSlice("name"), at)
		if err == nil {
			a.ShowHostsLine(site, line, cmp.Or(c.String("hosts-file"), jobs.HostsFile(a.env("SystemRoot"))))
		}
		return err
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	heard := a.passed()
	l, err := a.jobs.StartLook(ctx, jobs.LookOrder{Site: site, At: at, Names: c.StringSlice("name"), Only: c.Bool("nothing-else"), Listen: c.String("listen"),
		Browser: c.Bool("browser") || c.String("program") != "", Program: c.String("program")}, heard)
	if err != nil {
		return err
	}
	a.ShowLook(l, at, c.Bool("nothing-else"))
	return l.Wait()
}

// passed tells of each host once, and of all that is refused.
func (a *app) passed() func(preview.Request) {
	var mu sync.Mutex
	said := map[preview.Request]bool{}
	return func(r preview.Request) {
		mu.Lock()
		defer mu.Unlock()
		if !said[r] && len(said) < mostSaid {
			said[r] = true
			a.ShowPassed(r)
		}
	}
}

// mostSaid is of how many hosts it is told.
const mostSaid = 500

// hostsCheck tells whether a hosts file leads a site's names somewhere: by then that is forgotten.
func (a *app) hostsCheck(c *cli.Command, site string) error {
	file := cmp.Or(c.String("hosts-file"), jobs.HostsFile(a.env("SystemRoot")))
	left, err := a.jobs.HostsLeft(site, c.StringSlice("name"), file)
	if err != nil {
		return err
	}
	a.ShowHostsLeft(site, file, left)
	if len(left) > 0 {
		return &exitError{code: exitDamage}
	}
	return nil
}

func (a *app) cutoverMatch(ctx context.Context, c *cli.Command) (err error) {
	o := jobs.MatchOrder{With: c.String("with"), Names: c.StringSlice("name"), Pages: c.Int("pages"), Rate: c.Int("rate")}
	if o.Site, err = oneArg(c, "SITE"); err != nil {
		return err
	}
	for option, to := range map[string]*netip.Addr{"at": &o.At, "old": &o.Old} {
		if c.String(option) == "" {
			continue
		}
		if *to, err = netip.ParseAddr(c.String(option)); err != nil {
			return usageError("--%s %q is no address of a machine, such as 203.0.113.9", option, c.String(option))
		}
	}
	if o.Pages < 1 || o.Rate < 1 {
		return usageError("--pages and --rate are to be 1 or more")
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	if terminal(a.err) && !c.Bool("quiet") {
		o.Told = func(done, known int) { fmt.Fprintf(a.err, "\r%d of %d pages \x1b[K", done, known) }
		defer fmt.Fprint(a.err, "\r\x1b[K")
	}
	m, err := a.jobs.ComparePages(ctx, o)
	if err != nil {
		return err
	}
	if file := c.String("page"); file != "" {
		var page bytes.Buffer
		err := m.WritePage(&page, m.Old, m.New, a.Now())
		if err == nil {
			err = a.jobs.Disk.WriteFile(file, page.Bytes(), 0o600)
		}
		if err != nil {
			return fmt.Errorf("write the page: %w", err)
		}
	}
	if c.Bool("json") {
		err = a.PrintJSON(m.Report)
	} else {
		a.ShowMatch(m)
	}
	switch {
	case err != nil:
		return err
	case m.Differ > 0:
		return &exitError{code: exitDamage}
	case m.Unknown > 0:
		return &exitError{code: exitGaps}
	}
	return nil
}

// rounds shows each round: in place of the one before on a terminal, elsewhere what differs.
func (a *app) rounds(quiet bool, to []netip.Addr) func(cutover.Round) {
	if quiet {
		return func(cutover.Round) {}
	}
	if !terminal(a.Out) {
		var last cutover.Round
		return func(r cutover.Round) {
			a.ShowRoundChanges(last, r)
			last = r
		}
	}
	above := 0
	return func(r cutover.Round) { above = a.Redraw(above, func(p *render.Printer) { p.ShowRound(r, to) }) }
}

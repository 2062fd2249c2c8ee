package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/alarm"
	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/config"
	"revlet/internal/history"
	"revlet/internal/marks"
	"revlet/internal/removal"
	"revlet/internal/restore"
	"revlet/internal/retention"
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

// decided is the decision about one archive, as JSON too.
type decided struct {
	Name  string    `json:"name"`
	Taken time.Time `json:"taken"`
	Scope string    `json:"scope"`
	Keep  bool      `json:"keep"`
	Why   []string  `json:"why"`
}

// storeRetention is what the keep rules make of a site's archives in one store.
type storeRetention struct {
	Site  string   `json:"site"`
	Store string   `json:"store"`
	Rules []string `json:"rules"`
	// Archives are newest first.
	Archives []decided `json:"archives"`
	// Stopped says why nothing is removed; Removed names what was.
	Stopped []string `json:"stopped"`
	Removed []string `json:"removed"`
	// Freed is the space that was given back, Left why it was not.
	Freed int64  `json:"freed_bytes"`
	Left  string `json:"left"`
}

func (s storeRetention) going() (names []string) {
	for _, d := range s.Archives {
		if !d.Keep {
			names = append(names, d.Name)
		}
	}
	return names
}

func (a *app) retention(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	if store := c.String("store"); store != "" {
		if err := a.knownStore(store); err != nil {
			return err
		}
	}
	all := []storeRetention{}
	for _, name := range names {
		unlock, err := a.state.Lock(name)
		if err != nil {
			return err
		}
		started := a.now()
		one, err := a.retain(ctx, name, c.String("store"), c.Bool("apply"))
		all = append(all, one...)
		if c.Bool("apply") {
			a.rememberRemoval(ctx, name, started, one, err)
		}
		unlock()
		if err != nil {
			return err
		}
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"retention": all})
	} else {
		a.showRetention(all, c.Bool("apply"))
	}
	if err == nil && slices.ContainsFunc(all, func(s storeRetention) bool { return len(s.Stopped) > 0 }) {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *app) rememberRemoval(ctx context.Context, site string, started time.Time, all []storeRetention, err error) {
	run := history.Run{Site: site, Command: "retention", Started: started, Outcome: history.Done, Log: a.plain(func() { a.showRemoved(all) })}
	if err != nil {
		run.Outcome, run.Detail = history.Failed, err.Error()
	}
	a.remember(ctx, run)
}

// hasRules tells whether anything of a site is ever removed.
func (a *app) hasRules(cfg config.Site) bool {
	return len(cfg.KeepRules) > 0 || slices.ContainsFunc(cfg.Stores, func(s string) bool { return len(a.config.Stores[s].KeepRules) > 0 })
}

// retain decides about a site's archives in each of its stores, or in one only,
// and removes what goes if apply is set. The caller holds the site's lock. A store that
// fails does not keep the others from being cleared.
func (a *app) retain(ctx context.Context, site, only string, apply bool) ([]storeRetention, error) {
	l, err := a.list(ctx, site)
	if err != nil {
		return nil, err
	}
	k, err := a.keeping(ctx, site, l)
	if err != nil {
		return nil, err
	}
	var all []storeRetention
	var failed error
	for _, name := range a.config.Sites[site].Stores {
		if only != "" && name != only {
			continue
		}
		r := k.decide(ctx, name)
		if going := r.going(); apply && len(a.config.KeepIn(site, name)) > 0 && len(r.Stopped) == 0 {
			if err := a.remove(ctx, &r, k, going); err != nil {
				failed = errors.Join(failed, err)
			}
		}
		all = append(all, r)
	}
	return all, failed
}

// keeping is what decisions about a site's archives depend on.
type keeping struct {
	app      *app
	site     string
	listing  *catalog.Listing
	holds    map[string]archive.Hold
	pending  map[string][]string
	bad      map[string][]string
	busy     map[string]string
	stopped  []string
	silences []retention.Silence
}

func (a *app) keeping(ctx context.Context, site string, l *catalog.Listing) (*keeping, error) {
	k := &keeping{app: a, site: site, listing: l, busy: map[string]string{}}
	var err error
	if k.holds, err = a.history.Holds(ctx); err != nil {
		return nil, err
	}
	if k.pending, err = a.pending(ctx, site); err != nil {
		return nil, err
	}
	if k.bad, err = a.damagedCopies(ctx); err != nil {
		return nil, err
	}
	journals, err := restore.Journals(a.state, site)
	if err != nil {
		return nil, err
	}
	for _, j := range journals {
		if j.Phase != restore.Done {
			k.busy[j.Archive] = "a restore from it has not come to its end"
		}
	}
	if k.stopped, err = a.stopped(ctx, site, k.bad); err != nil {
		return nil, err
	}
	k.silences, err = a.silences(ctx, site)
	return k, err
}

// damagedCopies maps archives to the stores in which the last proof found them damaged.
func (a *app) damagedCopies(ctx context.Context) (map[string][]string, error) {
	proofs, err := a.history.Proofs(ctx)
	bad := map[string][]string{}
	for name, list := range proofs {
		for _, p := range list {
			if !p.Sound && !slices.Contains(bad[name], p.Store) {
				bad[name] = append(bad[name], p.Store)
			}
		}
	}
	return bad, err
}

// stopped are the reasons for which nothing of a site is removed now: alarms
// that nobody has accepted.
func (a *app) stopped(ctx context.Context, site string, bad map[string][]string) ([]string, error) {
	open, err := a.history.Alarms(ctx, site)
	var reasons []string
	accepted := false
	for _, o := range open {
		m, _ := alarm.Meant(o.Kind)
		if o.Kind == alarm.Damaged {
			accepted = !o.Accepted.IsZero()
			continue
		}
		if m.Stops && o.Accepted.IsZero() {
			reasons = append(reasons, fmt.Sprintf("alarm %s: %s", o.Kind, o.Detail))
		}
	}
	archives, listErr := a.history.Archives(ctx, site)
	for _, h := range archives {
		if stores := bad[h.Name]; len(stores) > 0 && h.Exists() && !accepted {
			reasons = append(reasons, fmt.Sprintf("%s is damaged in %s; see `revlet stores heal`", h.Name, strings.Join(stores, ", ")))
		}
	}
	return reasons, errors.Join(err, listErr)
}

const (
	// quietDays is the least time without a run that counts as a silence for a
	// site with a schedule, quietSeason for one that is backed up by hand.
	quietDays   = 3 * 24 * time.Hour
	quietSeason = 100 * 24 * time.Hour
)

// silences are the times in which a site's archives do not age: far longer than
// its rhythm, with no run. The machine was off, or its clock has jumped.
func (a *app) silences(ctx context.Context, site string) ([]retention.Silence, error) {
	known, err := a.history.Silences(ctx)
	cfg := a.config.Sites[site]
	rhythm := time.Duration(0)
	for _, d := range cfg.Duties {
		if d.Work.Takes() {
			rhythm = max(rhythm, d.Longest(a.now(), a.config.Zone(cfg)))
		}
	}
	usual := quietSeason
	if rhythm > 0 {
		usual = max(quietDays, 2*rhythm)
	}
	var all []retention.Silence
	for _, s := range known {
		if s.Ended.Sub(s.Began) > usual {
			all = append(all, retention.Silence{From: s.Began, To: s.Ended})
		}
	}
	return all, err
}

// decide judges a site's archives in one store.
func (k *keeping) decide(ctx context.Context, store string) storeRetention {
	r := storeRetention{Site: k.site, Store: store, Rules: []string{}, Archives: []decided{}, Stopped: slices.Clone(k.stopped), Removed: []string{}}
	rules := k.app.config.KeepIn(k.site, store)
	for _, rule := range rules {
		r.Rules = append(r.Rules, rule.String())
	}
	for _, b := range append(slices.Clone(k.listing.Silent), k.listing.Broken...) {
		if b.Store == store {
			r.Stopped = append(r.Stopped, b.Err.Error())
		}
	}
	holds := maps.Clone(k.holds)
	if len(r.Stopped) == 0 {
		there, err := catalog.Holds(ctx, k.app.store(store), k.site)
		if err != nil {
			r.Stopped = append(r.Stopped, err.Error())
		} else {
			k.tellHolds(ctx, store, there)
		}
		maps.Copy(holds, there)
	}
	var archives []retention.Archive
	for _, h := range k.listing.Archives {
		if slices.Contains(storeNames(h), store) {
			archives = append(archives, k.candidate(h.Record, store, holds))
		}
	}
	r.Archives, r.Stopped = k.app.plan(k.site, archives, rules, k.silences, r.Stopped)
	return r
}

// tellHolds sets the holds in a store that could not be told of them before.
func (k *keeping) tellHolds(ctx context.Context, store string, there map[string]archive.Hold) {
	for _, h := range k.listing.Archives {
		hold, held := k.holds[h.Name]
		if _, known := there[h.Name]; !held || known || !slices.Contains(storeNames(h), store) {
			continue
		}
		if err := catalog.PutHold(ctx, k.app.store(store), k.site, hold); err != nil {
			fmt.Fprintf(k.app.err, "warning: store %s does not know of the hold on %s: %v\n", store, h.Name, err)
		}
	}
}

// candidate is what the decision about an archive depends on.
func (k *keeping) candidate(rec *archive.Record, store string, holds map[string]archive.Hold) retention.Archive {
	c := retention.Archive{Name: rec.Name, Scope: string(rec.Scope), Taken: rec.Taken, Bad: slices.Contains(k.bad[rec.Name], store)}
	switch hold, held := holds[rec.Name]; {
	case held:
		c.Protected = "it is held"
		if hold.Why != "" {
			c.Protected += ": " + hold.Why
		}
	case len(k.pending[rec.Name]) > 0:
		c.Protected = "it has yet to come to " + strings.Join(k.pending[rec.Name], ", ")
	case k.busy[rec.Name] != "":
		c.Protected = k.busy[rec.Name]
	}
	return c
}

// plan applies keep rules. Reasons to remove nothing are returned only when
// something would go without them.
func (a *app) plan(site string, archives []retention.Archive, rules []retention.Rule, silences []retention.Silence, stopped []string) ([]decided, []string) {
	p := retention.Policy{Rules: rules, Now: a.now(), Zone: a.config.Zone(a.config.Sites[site]), Silences: silences, Stopped: stopped}
	all := []decided{}
	held := false
	for _, d := range retention.Plan(archives, p) {
		all = append(all, decided{Name: d.Name, Taken: d.Taken, Scope: d.Scope, Keep: d.Keep, Why: d.Why})
		held = held || len(stopped) > 0 && strings.HasPrefix(d.Why[0], "removal is stopped: ")
	}
	if !held {
		stopped = []string{}
	}
	return all, stopped
}

// remove takes archives out of a store.
func (a *app) remove(ctx context.Context, r *storeRetention, k *keeping, going []string) error {
	var recent []string
	known, err := a.history.Archives(ctx, r.Site)
	if err != nil {
		return err
	}
	for _, h := range known {
		if h.In(r.Store) {
			recent = append(recent, h.Name)
		}
	}
	job := removal.Job{Site: r.Site, Store: a.store(r.Store), Archives: going, Recent: recent, Machine: marks.Machine(a.state.Dir)}
	result, err := job.Run(ctx)
	r.Removed, r.Freed, r.Left = nonNil(result.Archives), result.Bytes, result.Left
	for _, name := range result.Archives {
		err = errors.Join(err, a.history.WentFrom(ctx, name, r.Store, a.now(), "no keep rule kept it"))
	}
	return errors.Join(err, a.forgetOpen(ctx, r.Site))
}

// forgetOpen removes the open copies of records whose archives are gone.
func (a *app) forgetOpen(ctx context.Context, site string) error {
	names, err := a.disk.ReadNames(a.state.Records(site))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	known, err := a.history.Archives(ctx, site)
	if err != nil {
		return err
	}
	for _, h := range known {
		if file := h.Name + ".json"; !h.Exists() && slices.Contains(names, file) {
			err = errors.Join(err, a.disk.Remove(filepath.Join(a.state.Records(site), file)))
		}
	}
	return err
}

func (a *app) showRetention(all []storeRetention, applied bool) {
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

func (a *app) retentionRows(r storeRetention) [][]string {
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

func (a *app) showVerdict(r storeRetention, applied bool) {
	going := len(r.going())
	switch {
	case len(r.Stopped) > 0:
		fmt.Fprintf(a.out, "%s nothing is removed until this is settled:\n", a.bad("Stopped:"))
		for _, why := range r.Stopped {
			fmt.Fprintf(a.out, "  %s\n", printableText(why))
		}
		fmt.Fprintln(a.out, "`revlet status` says what each alarm means, and how to accept one.")
	case applied:
		a.showRemoved([]storeRetention{r})
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
func (a *app) showRemoved(all []storeRetention) {
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
			return a.changeHold(ctx, c, func(ctx context.Context, h *catalog.Held) ([]string, error) {
				left, err := a.hold(ctx, h.Site, h.Name, c.String("why"))
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
			return a.changeHold(ctx, c, func(ctx context.Context, h *catalog.Held) ([]string, error) {
				left, err := a.release(ctx, h.Site, h.Name)
				if err == nil && len(left) == 0 {
					fmt.Fprintf(a.out, "%s %s; the keep rules decide about it again\n", a.good("Released:"), h.Name)
				}
				return left, err
			})
		},
	}
}

// changeHold sets or lifts a hold, and says in which stores that is still to do.
func (a *app) changeHold(ctx context.Context, c *cli.Command, change func(context.Context, *catalog.Held) ([]string, error)) error {
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
	h, err := a.find(ctx, typed, limit)
	if err != nil {
		return err
	}
	unlock, err := a.state.Lock(h.Site)
	if err != nil {
		return err
	}
	defer unlock()
	left, err := change(ctx, h)
	if err != nil {
		return err
	}
	for _, l := range left {
		fmt.Fprintf(a.err, "warning: %s; run the command again when it answers\n", l)
	}
	if len(left) > 0 {
		return &exitError{code: exitGaps}
	}
	return nil
}

// hold sets a hold, here and in every store of the site; it returns those in
// which that failed. On this machine it counts all the same.
func (a *app) hold(ctx context.Context, site, name, why string) (left []string, err error) {
	h := archive.Hold{Archive: name, Since: a.now().UTC().Truncate(time.Second), Who: person(), Why: why}
	if err := a.history.SetHold(ctx, h); err != nil {
		return nil, err
	}
	for _, s := range a.stores(a.config.Sites[site]) {
		if err := catalog.PutHold(ctx, s, site, h); err != nil {
			left = append(left, fmt.Sprintf("store %s does not know of the hold: %v", s.Name, err))
		}
	}
	return left, nil
}

// release lifts a hold. While a store could not be told, it still counts there.
func (a *app) release(ctx context.Context, site, name string) (left []string, err error) {
	for _, s := range a.stores(a.config.Sites[site]) {
		if err := catalog.RemoveHold(ctx, s, site, name); err != nil {
			left = append(left, fmt.Sprintf("it is still held in store %s: %v", s.Name, err))
		}
	}
	return left, a.history.DropHold(ctx, name)
}

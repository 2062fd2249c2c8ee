package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/history"
	"revlet/internal/observe"
	"revlet/internal/schedule"
	"revlet/internal/state"
	"revlet/internal/store"
	"revlet/internal/verify"
)

func (a *app) dutiesCommand() *cli.Command {
	return &cli.Command{
		Name: "duties", Usage: "show what is scheduled, how it last went and when it is next", ArgsUsage: "[SITE…]",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "ahead", Value: 1, Usage: "show the next `N` times of each"},
			jsonFlag,
		},
		Action: a.duties,
	}
}

// dutyLine is one duty, as JSON too.
type dutyLine struct {
	Site string `json:"site"`
	Duty string `json:"duty"`
	// Last is when its last turn began, nil before the first.
	Last    *time.Time  `json:"last"`
	Outcome string      `json:"outcome"`
	Detail  string      `json:"detail"`
	Next    []time.Time `json:"next"`
	// Due tells that it waits to be carried out.
	Due bool `json:"due"`
}

func (a *app) duties(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	ahead := c.Int("ahead")
	if ahead < 1 || ahead > 1000 {
		return usageError("--ahead %d: it is 1 to 1000", ahead)
	}
	all := []dutyLine{}
	for _, name := range names {
		lines, err := a.dutyLines(ctx, name, ahead)
		if err != nil {
			return err
		}
		all = append(all, lines...)
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"duties": all})
	}
	a.showDuties(all)
	return nil
}

// dutyLines tells of each duty of a site how it went and when it is next.
func (a *app) dutyLines(ctx context.Context, name string, ahead int) ([]dutyLine, error) {
	cfg := a.config.Sites[name]
	states, err := a.dutyStates(ctx, name)
	lines := []dutyLine{}
	for _, d := range cfg.Duties {
		s := states[d.String()]
		l := dutyLine{Site: name, Duty: d.String(), Outcome: s.Outcome, Detail: s.Detail}
		if !s.Started.IsZero() {
			l.Last = &s.Started
		}
		zone, spread := a.config.Zone(cfg), schedule.SpreadOf(name)
		next := turn{Duty: d, state: s}.next(zone, spread)
		l.Due = !next.IsZero() && !next.After(a.now())
		l.Next = nonNil(d.Times(a.now(), zone, spread, ahead))
		lines = append(lines, l)
	}
	return lines, err
}

// dutyStates is what is known of a site's duties. One that is new is remembered:
// its first turn is the next one from now.
func (a *app) dutyStates(ctx context.Context, name string) (map[string]history.DutyState, error) {
	states, err := a.history.Duties(ctx, name)
	if err != nil {
		return nil, err
	}
	now := a.now()
	for _, d := range a.config.Sites[name].Duties {
		s, known := states[d.String()]
		switch {
		case !known:
			s = history.DutyState{Site: name, Duty: d.String(), Seen: now}
		case s.Since().After(now.Add(time.Hour)):
			s.Started, s.Seen = time.Time{}, now // the clock was set back: count from now
		default:
			continue
		}
		states[d.String()] = s
		if err := a.history.SetDuty(ctx, s); err != nil {
			return nil, err
		}
	}
	return states, nil
}

func (a *app) showDuties(all []dutyLine) {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "Nothing is scheduled. A site's `schedule:` lists its duties, such as `full, every day at 03:20`.")
		return
	}
	var rows [][]string
	for _, l := range all {
		last, next := "not yet", ""
		if l.Last != nil {
			last = when(*l.Last)
		}
		for _, t := range l.Next {
			next += when(t) + "\n"
		}
		if l.Due {
			next = a.bad("due now") + "\n" + next
		}
		rows = append(rows, []string{l.Site, l.Duty, last, a.outcome(l.Outcome), strings.TrimSpace(next), printableText(firstLine(l.Detail))})
	}
	a.table([]string{"site", "duty", "last", "outcome", "next", ""}, rows)
	fmt.Fprintln(a.out, "\n`revlet due`, started by cron every few minutes, or `revlet serve` carries them out: see `revlet schedule install`.")
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return line
}

// outcome colours the outcome of a run.
func (a *app) outcome(o string) string {
	switch o {
	case history.Done:
		return a.good(o)
	case "":
		return ""
	default:
		return a.bad(o)
	}
}

func (a *app) dueCommand() *cli.Command {
	return &cli.Command{
		Name: "due", Usage: "do what is due now, and return (for cron)",
		Description: "Carries out the duties whose time has come, one after the other; one that was missed\n" +
			"while the machine was off is made up for once. Says nothing when nothing is due, or when\n" +
			"another run is at it; with --quiet, nothing but what is wrong. Sends waiting messages.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "dry-run", Usage: "only say what is due"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := a.open(ctx, c); err != nil {
				return err
			}
			a.sayClock(c)
			a.hush = c.Bool("quiet")
			if c.Bool("dry-run") {
				return a.sayDue(ctx)
			}
			return a.doDue(ctx, "due")
		},
	}
}

func (a *app) sayDue(ctx context.Context) error {
	any := false
	for _, name := range a.config.SiteNames() {
		lines, err := a.dutyLines(ctx, name, 1)
		if err != nil {
			return err
		}
		for _, l := range lines {
			if l.Due {
				any = true
				fmt.Fprintf(a.out, "%s: %s\n", name, l.Duty)
			}
		}
	}
	if !any {
		fmt.Fprintln(a.out, "Nothing is due.")
	}
	return nil
}

// log says what was done, with the time, unless only what is wrong is to be said.
func (a *app) log(format string, args ...any) {
	if !a.hush {
		fmt.Fprintf(a.out, "%s  %s\n", when(a.now()), fmt.Sprintf(format, args...))
	}
}

// dueLock keeps two runs from carrying out duties at a time; no site can be
// called so.
const dueLock = ".due"

// doDue carries out what is due. Its exit code is that of the worst outcome.
func (a *app) doDue(ctx context.Context, origin string) error {
	unlock, err := a.state.Lock(dueLock)
	if errors.Is(err, state.ErrBusy) {
		return nil
	}
	if err != nil {
		return err
	}
	defer unlock()
	worst := exitDone
	var failed error
	for _, name := range a.config.SiteNames() {
		code, err := a.dueSite(ctx, name, origin)
		worst = worse(worst, code)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		failed = errors.Join(failed, err)
	}
	failed = errors.Join(failed, a.sendDigests(ctx))
	a.sendWaiting(ctx)
	switch {
	case failed != nil:
		return failed
	case worst != exitDone:
		return &exitError{code: worst}
	}
	return nil
}

// worse chooses the exit code to report of two.
func worse(x, y int) int {
	order := []int{exitDone, exitGaps, exitDamage, exitUsage, exitFailed}
	if slices.Index(order, y) > slices.Index(order, x) {
		return y
	}
	return x
}

// turn is a duty whose time has come.
type turn struct {
	schedule.Duty
	// state is what was known of the duty before.
	state history.DutyState
	due   time.Time
	// run is what came of it; nil when nothing was to do.
	run *history.Run
}

// retryAfter is how long after a turn that failed it is tried again.
const retryAfter = time.Hour

// next is when the duty is due: at its next time, or sooner after a failure. A
// rehearsal waits: what keeps it from being made is seldom over in an hour.
func (t turn) next(zone *time.Location, spread time.Duration) time.Time {
	next := t.Next(t.state.Since(), zone, spread)
	if again := t.state.Finished.Add(retryAfter); t.failedBefore() && t.Work != schedule.Rehearse && again.Before(next) {
		return again
	}
	return next
}

// failed tells whether the turn failed, failedBefore whether the one before did.
func (t turn) failed() bool       { return t.run.Outcome == history.Failed }
func (t turn) failedBefore() bool { return t.state.Outcome == history.Failed }

// dueSite carries out the duties of one site whose time has come.
func (a *app) dueSite(ctx context.Context, name, origin string) (code int, err error) {
	cfg := a.config.Sites[name]
	states, err := a.dutyStates(ctx, name)
	if err != nil {
		return exitFailed, err
	}
	var done []turn
	for _, d := range cfg.Duties {
		t := turn{Duty: d, state: states[d.String()]}
		t.due = t.next(a.config.Zone(cfg), schedule.SpreadOf(name))
		if t.due.IsZero() || t.due.After(a.now()) {
			continue
		}
		one, err := a.carryOut(ctx, name, &t, origin)
		code = worse(code, one)
		if err != nil || ctx.Err() != nil {
			return code, err
		}
		if t.run != nil {
			done = append(done, t)
		}
	}
	if len(done) == 0 {
		return code, nil
	}
	return code, a.tell(ctx, name, done)
}

// carryOut takes one turn of a duty.
func (a *app) carryOut(ctx context.Context, name string, t *turn, origin string) (code int, err error) {
	covered, err := a.coveredBy(ctx, name, *t)
	if err != nil {
		return exitFailed, err
	}
	s := t.state
	s.Started, s.Detail = a.now(), ""
	if covered != "" {
		s.Finished, s.Outcome, s.Detail = a.now(), history.Done, "done by "+covered
		return exitDone, a.history.SetDuty(ctx, s)
	}
	a.ping(ctx, name, pingStart)
	work := a.dutyVerify
	switch {
	case t.Work.Takes():
		work = a.dutyBackup
	case t.Work == schedule.Rehearse:
		work = a.dutyRehearse
	}
	run, workErr := work(ctx, name, *t, origin)
	if errors.Is(workErr, state.ErrBusy) || ctx.Err() != nil {
		return exitDone, nil // its turn stays due
	}
	if workErr != nil {
		fmt.Fprintf(a.err, "revlet: %s: %s: %v\n", name, t.Duty, workErr)
	}
	if run == nil {
		run = &history.Run{Site: name, Command: t.command(), Duty: t.Duty.String(), Origin: origin, Started: s.Started, Finished: a.now(), Outcome: history.Done}
	}
	if workErr != nil {
		run.Outcome, run.Detail = history.Failed, workErr.Error()
	}
	t.run = run
	s.Finished, s.Outcome, s.Detail = a.now(), run.Outcome, run.Detail
	code = codeOf(run.Outcome)
	if code == exitFailed || code == exitDamage {
		a.ping(ctx, name, pingFailure)
	} else {
		a.ping(ctx, name, pingSuccess)
	}
	return code, a.history.SetDuty(ctx, s)
}

// command is the one that does the same by hand.
func (t turn) command() string {
	if t.Work.Takes() {
		return "backup"
	}
	return string(t.Work)
}

// codeOf is the exit code for an outcome.
func codeOf(outcome string) int {
	switch outcome {
	case history.Failed:
		return exitFailed
	case history.Gaps, history.Waiting:
		return exitGaps
	case history.Damage:
		return exitDamage
	default:
		return exitDone
	}
}

// coveredBy names a full archive that was taken since the turn was due, and so
// has done what the duty asks for.
func (a *app) coveredBy(ctx context.Context, name string, t turn) (string, error) {
	if !t.Work.Takes() || t.Work == schedule.Full {
		return "", nil
	}
	archives, err := a.history.Archives(ctx, name)
	for _, h := range archives {
		if h.Scope == string(archive.Full) && h.Exists() && !h.Taken.Before(t.due) && !h.Taken.After(a.now()) {
			return h.Name, err
		}
	}
	return "", err
}

// dutyBackup takes an archive for a duty.
func (a *app) dutyBackup(ctx context.Context, name string, t turn, origin string) (*history.Run, error) {
	d, err := a.backupSite(ctx, name, order{scope: archive.Scope(t.Work), quiet: true, origin: origin, duty: t.Duty.String()})
	if err != nil {
		return nil, err
	}
	a.log("%s: %s, %s, %s new", name, d.Record.Name, count(d.Record.Totals.Files, "file", "files"), size(d.Record.Totals.NewBytes))
	return a.runNumbered(ctx, d.Run)
}

// runNumbered reads a run from the history, or nil.
func (a *app) runNumbered(ctx context.Context, id int64) (*history.Run, error) {
	runs, err := a.history.Runs(ctx, history.RunFilter{ID: id, Most: 1})
	if err != nil || len(runs) == 0 || id == 0 {
		return nil, err
	}
	return &runs[0], nil
}

// readAgain is how long a proof is enough for a duty: what was read since is not
// read again, but for the newest archive.
const readAgain = 27 * 24 * time.Hour

// unproved are a site's archives with the stores in which they are to be read
// again by a duty: the newest, and those that were not for weeks.
func (a *app) unproved(ctx context.Context, l *catalog.Listing) ([]*catalog.Held, error) {
	proofs, err := a.history.Proofs(ctx)
	var all []*catalog.Held
	for i, h := range l.Archives {
		chosen := h
		chosen.Stores = slices.DeleteFunc(slices.Clone(h.Stores), func(s store.Named) bool {
			return i > 0 && slices.ContainsFunc(proofs[h.Name], func(p history.Proof) bool {
				return p.Store == s.Name && p.Sound && p.Level != string(verify.Quick) && a.now().Sub(p.At) < readAgain
			})
		})
		if len(chosen.Stores) > 0 {
			all = append(all, &chosen)
		}
	}
	return all, err
}

// dutyVerify reads a site's archives again in each store.
func (a *app) dutyVerify(ctx context.Context, name string, t turn, origin string) (*history.Run, error) {
	unlock, err := a.state.Lock(name)
	if err != nil {
		return nil, err
	}
	defer unlock()
	run := history.Run{Site: name, Command: "verify", Started: a.now(), Outcome: history.Done, Origin: origin, Duty: t.Duty.String()}
	l, err := a.list(ctx, name)
	if err != nil {
		run.Outcome, run.Detail = history.Failed, err.Error()
		a.remember(ctx, run)
		return nil, err
	}
	chosen, err := a.unproved(ctx, l)
	if err != nil {
		return nil, err
	}
	reports, err := a.verifyAll(ctx, &verify.Verifier{Observer: observe.Silent{}}, chosen, "", "")
	if err != nil {
		return nil, err
	}
	var bad []string
	for _, r := range reports {
		if !r.Sound() {
			bad = append(bad, fmt.Sprintf("%s in %s", r.Archive, r.Store))
		}
	}
	var trouble []string
	for _, b := range append(slices.Clone(l.Broken), l.Silent...) {
		trouble = append(trouble, fmt.Sprintf("store %s: %v", b.Store, b.Err))
	}
	switch {
	case len(bad) > 0 || len(l.Broken) > 0:
		run.Outcome, run.Detail = history.Damage, strings.Join(append(bad, trouble...), "\n")
	case len(trouble) > 0:
		run.Outcome, run.Detail = history.Waiting, strings.Join(trouble, "\n")
	}
	run.Log = a.plain(func() { a.showReports(reports, trouble) })
	a.log("%s: %s verified", name, count(int64(len(reports)), "copy", "copies"))
	id := a.remember(ctx, run)
	return a.runNumbered(ctx, id)
}

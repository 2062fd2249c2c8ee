package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/rules/schedule"
	"revlet/internal/store"
	"revlet/internal/watch/history"
	"revlet/internal/work/verify"
)

// Duty is one duty of a site.
type Duty struct {
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

// Duties tells of each duty of a site how it went and when it is next.
func (a *Agent) Duties(ctx context.Context, name string, ahead int) ([]Duty, error) {
	cfg := a.Config.Sites[name]
	states, err := a.dutyStates(ctx, name)
	lines := []Duty{}
	for _, d := range a.duties(name) {
		s := states[d.String()]
		l := Duty{Site: name, Duty: d.String(), Outcome: s.Outcome, Detail: s.Detail}
		if !s.Started.IsZero() {
			l.Last = &s.Started
		}
		zone, spread := a.Config.Zone(cfg), schedule.SpreadOf(name)
		next := turn{Duty: d, state: s}.next(zone, spread)
		l.Due = !next.IsZero() && !next.After(a.Now())
		l.Next = nonNil(d.Times(a.Now(), zone, spread, ahead))
		lines = append(lines, l)
	}
	return lines, err
}

// dutyStates is what is known of a site's duties. One that is new is remembered:
// its first turn is the next one from now.
func (a *Agent) dutyStates(ctx context.Context, name string) (map[string]history.DutyState, error) {
	states, err := a.History.Duties(ctx, name)
	if err != nil {
		return nil, err
	}
	now := a.Now()
	for _, d := range a.duties(name) {
		s, known := states[d.String()]
		switch {
		case !known:
			s = history.DutyState{Site: name, Duty: d.String(), Seen: now}
		case s.Since().After(now.Add(time.Hour)):
			// The clock was set back: count from now.
			s.Started, s.Finished, s.Seen = time.Time{}, time.Time{}, now
		default:
			continue
		}
		states[d.String()] = s
		if err := a.History.SetDuty(ctx, s); err != nil {
			return nil, err
		}
	}
	return states, nil
}

// dueLock keeps two runs from carrying out duties at a time; no site can be
// called so.
const dueLock = ".due"

// DutyDone is what came of a duty that was carried out.
type DutyDone struct {
	Site, Duty string
	// Archive is the one that was taken or tried, if any.
	Archive string
	// Outcome is one of the history's; Detail says why, where it is not done.
	Outcome, Detail string
	Took            time.Duration
}

// turns are the sites whose duties are carried out just now, and what came of those that were.
type turns struct {
	mu sync.Mutex
	at map[string]bool
	// done and failed have not been returned yet.
	done   []DutyDone
	failed error
	// all is done when no site is at it any more; end ends their work.
	all sync.WaitGroup
	end map[<-chan struct{}]context.CancelFunc
}

// free are the sites that are not at it.
func (t *turns) free(names []string) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool { return t.at[name] })
}

// begin notes that a site is at it, until over is called.
func (t *turns) begin(name string) (over func(some []DutyDone, err error)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.at == nil {
		t.at = map[string]bool{}
	}
	t.at[name] = true
	return func(some []DutyDone, err error) {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.done, t.failed = append(t.done, some...), errors.Join(t.failed, err)
		delete(t.at, name)
	}
}

// endBy has end end some of the work, until done is closed.
func (t *turns) endBy(done <-chan struct{}, end context.CancelFunc) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.end == nil {
		t.end = map[<-chan struct{}]context.CancelFunc{}
	}
	t.end[done] = end
	t.all.Go(func() {
		<-done
		end()
		t.mu.Lock()
		defer t.mu.Unlock()
		delete(t.end, done)
	})
}

// taken gives what came of those that are done, by site, once.
func (t *turns) taken() (all []DutyDone, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	all, err = t.done, t.failed
	t.done, t.failed = nil, nil
	slices.SortStableFunc(all, func(x, y DutyDone) int { return strings.Compare(x.Site, y.Site) })
	return all, err
}

// Due carries out what is due, and returns what came of it, by site. It does nothing while
// another run is at it. It does not wait for sites that take longer than the others' patience: what comes of them is returned by
// another Due, or by Rest, which has to be called in the end.
func (a *Agent) Due(ctx context.Context, origin string) (all []DutyDone, err error) {
	unlock, err := a.State.Lock(dueLock)
	if errors.Is(err, state.ErrBusy) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer unlock()
	turn, end := context.WithCancel(ctx)
	begun, done := a.beginEach(turn, a.turns.free(a.Config.SiteNames()), func(ctx context.Context, name string) {
		defer a.Beat.Begin()()
		a.Beat.Phase(name, 0)
		over := a.turns.begin(name)
		over(a.dueSite(ctx, name, origin))
	})
	a.turns.endBy(done, end)
	<-begun
	if ctx.Err() != nil {
		all, _ = a.Rest()
		return all, ctx.Err()
	}
	all, failed := a.turns.taken()
	failed = errors.Join(failed, a.sendDigests(ctx))
	a.sendWaiting(ctx)
	return all, failed
}

// Rest waits for the sites that Due has not waited for, and returns what came of them.
func (a *Agent) Rest() ([]DutyDone, error) {
	a.turns.all.Wait()
	return a.turns.taken()
}

// EndTurns ends the work on sites that Due has not waited for: their duties stay due.
func (a *Agent) EndTurns() {
	a.turns.mu.Lock()
	for _, end := range a.turns.end {
		end()
	}
	a.turns.mu.Unlock()
	a.turns.all.Wait()
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
func (a *Agent) dueSite(ctx context.Context, name, origin string) (all []DutyDone, err error) {
	cfg := a.Config.Sites[name]
	states, err := a.dutyStates(ctx, name)
	if err != nil {
		return nil, err
	}
	var done []turn
	for _, d := range a.duties(name) {
		t := turn{Duty: d, state: states[d.String()]}
		t.due = t.next(a.Config.Zone(cfg), schedule.SpreadOf(name))
		if t.due.IsZero() || t.due.After(a.Now()) {
			continue
		}
		err := a.carryOut(ctx, name, &t, origin)
		if t.run != nil {
			all = append(all, DutyDone{Site: name, Duty: t.Duty.String(), Archive: t.run.Archive, Outcome: t.run.Outcome, Detail: t.run.Detail, Took: t.run.Finished.Sub(t.run.Started)})
			done = append(done, t)
		}
		if err != nil || ctx.Err() != nil {
			return all, err
		}
	}
	if len(done) == 0 {
		return all, nil
	}
	return all, a.tell(ctx, name, done)
}

// carryOut takes one turn of a duty. A turn that another run stands in the way of,
// or that is interrupted, stays due.
func (a *Agent) carryOut(ctx context.Context, name string, t *turn, origin string) error {
	covered, err := a.coveredBy(ctx, name, *t)
	if err != nil {
		return err
	}
	elsewhere, wait, given, err := a.ours(ctx, name, *t)
	if err != nil || wait {
		return err
	}
	defer given()
	covered = cmp.Or(covered, elsewhere)
	s := t.state
	s.Started, s.Detail = a.Now(), ""
	if covered != "" {
		s.Finished, s.Outcome, s.Detail = a.Now(), history.Done, "done by "+covered
		return a.History.SetDuty(ctx, s)
	}
	run, workErr := a.dutyWork(*t)(ctx, name, *t, origin)
	if errors.Is(workErr, state.ErrBusy) || ctx.Err() != nil {
		return nil
	}
	if workErr != nil {
		a.Tell(DutyFailed{Site: name, Duty: t.Duty.String(), Err: workErr})
	}
	if run == nil {
		run = &history.Run{Site: name, Command: t.command(), Duty: t.Duty.String(), Origin: origin, Started: s.Started, Finished: a.Now(), Outcome: history.Done}
	}
	if workErr != nil {
		run.Outcome, run.Detail = history.Failed, reason.Text(workErr)
	}
	t.run = run
	s.Finished, s.Outcome, s.Detail = a.Now(), run.Outcome, run.Detail
	if run.Outcome == history.Failed || run.Outcome == history.Damage {
		a.ping(ctx, name, pingFailure)
	} else {
		a.ping(ctx, name, pingSuccess)
	}
	return a.History.SetDuty(ctx, s)
}

// dutyWork is what a duty does.
func (a *Agent) dutyWork(t turn) func(context.Context, string, turn, string) (*history.Run, error) {
	switch {
	case t.Work.Takes():
		return a.dutyBackup
	case t.Work == schedule.Rehearse:
		return a.dutyRehearse
	}
	return a.dutyVerify
}

// command names what does the same by hand.
func (t turn) command() string {
	if t.Work.Takes() {
		return "backup"
	}
	return string(t.Work)
}

// coveredBy names a full archive that was taken since the turn was due, and so
// has done what the duty asks for.
func (a *Agent) coveredBy(ctx context.Context, name string, t turn) (string, error) {
	if !t.Work.Takes() || t.Work == schedule.Full {
		return "", nil
	}
	archives, err := a.History.Archives(ctx, name)
	for _, h := range archives {
		if h.Scope == string(archive.Full) && h.Exists() && !h.Taken.Before(t.due) && !h.Taken.After(a.Now()) {
			return h.Name, err
		}
	}
	return "", err
}

// dutyBackup takes an archive for a duty.
func (a *Agent) dutyBackup(ctx context.Context, name string, t turn, origin string) (*history.Run, error) {
	d, err := a.Backup(ctx, name, Order{Scope: archive.Scope(t.Work), Origin: origin, Duty: t.Duty.String(), Observer: &a.Beat})
	if err != nil {
		return nil, err
	}
	a.Tell(ArchiveTaken{d})
	return a.runNumbered(ctx, d.Run)
}

// runNumbered reads a run from the history, or nil.
func (a *Agent) runNumbered(ctx context.Context, id int64) (*history.Run, error) {
	runs, err := a.History.Runs(ctx, history.RunFilter{ID: id, Most: 1})
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
func (a *Agent) unproved(ctx context.Context, l *catalog.Listing) ([]*catalog.Held, error) {
	proofs, err := a.History.Proofs(ctx)
	var all []*catalog.Held
	for i, h := range l.Archives {
		chosen := h
		chosen.Stores = slices.DeleteFunc(slices.Clone(h.Stores), func(s store.Named) bool {
			return i > 0 && slices.ContainsFunc(proofs[h.Name], func(p history.Proof) bool {
				return p.Store == s.Name && p.Sound && p.Level != string(verify.Quick) && a.Now().Sub(p.At) < readAgain
			})
		})
		if len(chosen.Stores) > 0 {
			all = append(all, &chosen)
		}
	}
	return all, err
}

// dutyVerify reads a site's archives again in each store.
func (a *Agent) dutyVerify(ctx context.Context, name string, t turn, origin string) (*history.Run, error) {
	run := history.Run{Site: name, Command: "verify", Origin: origin, Duty: t.Duty.String()}
	err := a.work(ctx, &run, func(ctx context.Context, run *history.Run) error {
		a.records.Forget()
		l, err := a.List(ctx, name)
		if err != nil {
			return err
		}
		chosen, err := a.unproved(ctx, l)
		if err != nil {
			return err
		}
		proof := &Proof{Trouble: troubles(l.Broken, l.Silent)}
		if proof.Reports, err = a.verifyAll(ctx, &verify.Verifier{Observer: &a.Beat}, chosen, "", ""); err != nil {
			return err
		}
		bad := proof.Damaged()
		var trouble []string
		for _, one := range proof.Trouble {
			trouble = append(trouble, fmt.Sprintf("store %s: %v", one.Store, one.Err))
		}
		for _, r := range proof.Reports {
			if r.Verdict() == catalog.NotReached {
				trouble = append(trouble, fmt.Sprintf("store %s: %s was not reached: %s", r.Store, r.Archive, r.NotReached[0].Why))
			}
		}
		switch proof.Verdict() {
		case catalog.Damaged:
			run.Outcome, run.Detail = history.Damage, strings.Join(append(bad, trouble...), "\n")
		case catalog.NotReached:
			run.Outcome, run.Detail = history.Waiting, strings.Join(trouble, "\n")
		}
		run.Log = a.Words(proof)
		a.Tell(CopiesVerified{name, len(proof.Reports)})
		return nil
	})
	if err != nil {
		return nil, err
	}
	return a.runNumbered(ctx, run.ID)
}

// dutyRehearse tries the newest good archive of a site for a duty.
func (a *Agent) dutyRehearse(ctx context.Context, name string, t turn, origin string) (*history.Run, error) {
	h, err := a.FindFull(ctx, name, time.Time{})
	if err != nil {
		return nil, err
	}
	r, id, err := a.rehearse(ctx, h, &a.Beat, origin, t.Duty.String())
	if err != nil {
		return nil, err
	}
	if r.Passed() {
		a.Tell(Rehearsed{h, r})
	}
	return a.runNumbered(ctx, id)
}

// Scheduled tells whether any site has duties.
func (a *Agent) Scheduled() bool {
	return slices.ContainsFunc(a.Config.SiteNames(), func(name string) bool { return len(a.duties(name)) > 0 })
}

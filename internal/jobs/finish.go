package jobs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/rules/schedule"
	"revlet/internal/site"
	"revlet/internal/watch/history"
	"revlet/internal/work/restore"
)

// Leave is what is left at the old place.
type Leave string

// What may be left there.
const (
	// LeaveClosed leaves the page that the CMS shows when it is closed, LeaveRedirect one that leads
	// to the new address, LeaveOpen the site as it is.
	LeaveClosed   Leave = "closed"
	LeaveRedirect Leave = "redirect"
	LeaveOpen     Leave = "open"
)

// FinishStep is how far the end of a cutover has come.
type FinishStep string

// The steps. Each is written down before it is begun, but for FinishDone.
const (
	FinishCopying FinishStep = "bringing over what is there while it is open"
	FinishClosing FinishStep = "closing"
	FinishTaking  FinishStep = "taking the last archive"
	FinishMoving  FinishStep = "bringing over what has changed since"
	FinishDone    FinishStep = "done"
	FinishUndoing FinishStep = "taking it back"
)

// Finish is the end of a cutover, as it is written down.
type Finish struct {
	To     string         `json:"to"`
	Leave  Leave          `json:"leave"`
	Step   FinishStep     `json:"step"`
	Began  time.Time      `json:"began"`
	Closed restore.Closed `json:"closed"`
	// Moves are the archives that were brought over, each written down before it was, Archive the last one
	// of the old place, Ended when the new place had it.
	Moves   []string  `json:"moves"`
	Archive string    `json:"archive,omitempty"`
	Ended   time.Time `json:"ended,omitzero"`
}

// FinishOrder says how a cutover is to end.
type FinishOrder struct {
	Site, To string
	// First is the archive that PlanFinish has taken. Look takes none: the newest one serves.
	First string
	Look  bool
	// Anyway ends it even though the names lead to the new machine already.
	Anyway   bool
	Leave    Leave
	Observer progress.Observer
	// Told hears of each step as it begins.
	Told func(FinishStep)
}

// Finished is what came of it.
type Finished struct {
	Finish
	// Shut is how long neither place took anything from visitors.
	Shut time.Duration
	Move *Moved
	Last *Delivered
}

// closedSince is the moment that a site that is closed for good says it was closed: one that lies ahead,
// for a CMS opens by itself what was closed for too long.
func (a *Agent) closedSince() time.Time { return a.Now().AddDate(10, 0, 0) }

// FinishPlan is what would be done.
type FinishPlan struct {
	*Move
	// Names is where the site's names lead.
	Names NamesLead
}

// PlanFinish makes sure that a cutover can end, as far as that can be told before: an archive is taken
// while the site is open, so that little is left to take when it is closed.
func (a *Agent) PlanFinish(ctx context.Context, o FinishOrder) (*FinishPlan, error) {
	cfg, err := a.SiteConfig(o.Site)
	if err != nil {
		return nil, err
	}
	if _, err := a.SiteConfig(o.To); err != nil {
		return nil, err
	}
	f, err := a.CutoverOf(o.Site)
	if err != nil {
		return nil, err
	}
	if err := o.fits(f); err != nil {
		return nil, err
	}
	p := &FinishPlan{}
	if p.Names, err = a.namesStay(ctx, o.Site, o.Anyway); err != nil {
		return nil, err
	}
	s, err := a.openSite(ctx, o.Site, cfg)
	if err != nil {
		return nil, err
	}
	if f == nil {
		if _, err := restore.PlanClosing(ctx, a.Disk, s); err != nil {
			return nil, reason.New(reason.NoSwitch, reason.Names{"site": o.Site}, "site %s cannot be closed: %w", o.Site, err)
		}
	}
	if o.Leave == LeaveRedirect {
		if _, err := a.redirect(s, o.To); err != nil {
			return nil, err
		}
	}
	name := o.Site
	if !o.Look {
		d, err := a.Backup(ctx, o.Site, Order{Scope: archive.Full, Note: "before the cutover to " + o.To, Observer: o.Observer})
		if err != nil {
			return nil, err
		}
		name = d.Record.Name
	}
	if p.Move, err = a.planLast(ctx, o, name, true); err == nil {
		err = a.CheckMove(ctx, p.Move)
	}
	return p, err
}

// fits makes sure that the end of a cutover may begin, or go on: f is what there is of one.
func (o FinishOrder) fits(f *Finish) error {
	switch {
	case f == nil:
	case f.Step == FinishDone:
		return reason.BadUsage("the cutover of %s to %s was finished on %s", o.Site, f.To, f.Ended.Local().Format("2006-01-02 15:04 MST"))
	case f.To != o.To:
		return reason.BadUsage("a cutover of %s to %s has stopped half-way: go on with that, or take it back", o.Site, f.To)
	}
	return nil
}

// planLast plans the move of an archive to where the site goes, as it was moved before.
func (a *Agent) planLast(ctx context.Context, o FinishOrder, name string, look bool) (*Move, error) {
	held, err := a.FindFull(ctx, name, time.Time{})
	if err != nil {
		return nil, err
	}
	var before movedFrom
	known, err := a.State.ReadNote(a.State.Moved(o.To), &before, "how the site was moved")
	if err != nil {
		return nil, err
	}
	if known && before.From != o.Site {
		return nil, reason.BadUsage("%s came up from an archive of %s, not of %s", o.To, before.From, o.Site)
	}
	if before.Options.Copy {
		return nil, reason.BadUsage("%s is a practice copy; move an archive there without that first, and look at it", o.To)
	}
	return a.PlanMove(ctx, MoveOrder{Archive: held, To: o.To, Options: before.Options, Anyway: true, Look: look})
}

// redirect is a page for the old place that leads to the new address.
func (a *Agent) redirect(s *site.Site, to string) (string, error) {
	m, err := restore.SwitchOf(s)
	if err != nil {
		return "", err
	}
	if m.Redirect == "" || s.Maintenance.File != "" {
		return "", reason.BadUsage("the CMS of %s has no file that leads visitors elsewhere; put a redirect into its web server's settings", s.Name)
	}
	old, err := url.Parse(s.Address)
	if err != nil {
		return "", err
	}
	now, err := url.Parse(a.Config.Sites[to].Address)
	if err != nil {
		return "", err
	}
	if old.Host == now.Host {
		return "", reason.BadUsage("%s and %s have the same address: a redirect would lead back to itself", s.Name, to)
	}
	address := strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(strings.TrimSuffix(now.String(), "/"))
	return strings.NewReplacer("{to}", address, "{skip}", strconv.Itoa(len(strings.TrimSuffix(old.EscapedPath(), "/")))).Replace(m.Redirect), nil
}

// FinishCutover ends a cutover that was planned with PlanFinish: it closes the old place, takes the last
// archive, and brings that up at the new place. Whatever fails before the new place has it, the old one is
// opened again. What was killed half-way goes on with the next call.
func (a *Agent) FinishCutover(ctx context.Context, o FinishOrder) (*Finished, error) {
	unlock, err := a.State.Lock("cutover-" + o.Site)
	if err != nil {
		return nil, err
	}
	defer unlock()
	s, err := a.openSite(ctx, o.Site, a.Config.Sites[o.Site])
	if err != nil {
		return nil, err
	}
	f, err := a.CutoverOf(o.Site)
	if err != nil {
		return nil, err
	}
	if err := o.fits(f); err != nil {
		return nil, err
	}
	r := &Finished{Finish: Finish{To: o.To, Leave: o.Leave, Began: a.Now()}}
	if f != nil { // one that died
		r.Closed, r.Moves = f.Closed, f.Moves
	}
	begin := func(step FinishStep) error {
		r.Step = step
		o.Told(step)
		return a.State.WriteNote(a.State.Finish(o.Site), r.Finish, "how far the cutover has come")
	}
	if err := a.lastMove(ctx, o, s, r, begin); err != nil {
		back := context.WithoutCancel(ctx)
		if left := errors.Join(r.Closed.Open(back, a.Disk, s), a.unmove(back, &r.Finish)); left != nil {
			return nil, errors.Join(err, left) // what is left is said at every command
		}
		return nil, errors.Join(err, a.forgetFinish(o.Site))
	}
	r.Ended = a.Now()
	if err := begin(FinishDone); err != nil {
		return nil, err
	}
	a.remember(ctx, history.Run{Site: o.Site, Command: "cutover finish", Archive: r.Archive, Started: r.Began, Outcome: history.Done, Detail: "it is " + o.To + " now"})
	return r, a.leave(ctx, o, s, r)
}

// lastMove closes the old place, and brings up at the new one what it has now.
func (a *Agent) lastMove(ctx context.Context, o FinishOrder, s *site.Site, r *Finished, begin func(FinishStep) error) (err error) {
	if r.Closed.File == "" {
		if r.Closed, err = restore.PlanClosing(ctx, a.Disk, s); err != nil {
			return err
		}
	}
	r.Moves = append(r.Moves, o.First)
	if err := begin(FinishCopying); err != nil {
		return err
	}
	first, err := a.planLast(ctx, o, o.First, false)
	if err != nil {
		return err
	}
	if _, err = a.Move(ctx, first, o.Observer); err != nil {
		return err
	}
	if _, err := a.namesStay(ctx, o.Site, o.Anyway); err != nil { // it may have taken long until here
		return err
	}
	if err := begin(FinishClosing); err != nil {
		return err
	}
	shut := time.Now()
	if err := r.Closed.Close(ctx, a.Disk, s, a.closedSince()); err != nil {
		return err
	}
	time.Sleep(a.Drain)
	if err := begin(FinishTaking); err != nil {
		return err
	}
	if r.Last, err = a.Backup(ctx, o.Site, Order{Scope: archive.Full, Note: "the last one before the cutover to " + o.To, Hold: true, Observer: o.Observer}); err != nil {
		return err
	}
	if err := withoutGaps(r.Last.Record); err != nil {
		return fmt.Errorf("%w, and would be missing at the new place", err)
	}
	r.Archive = r.Last.Record.Name
	r.Moves = append(r.Moves, r.Archive)
	if err := begin(FinishMoving); err != nil {
		return err
	}
	m, err := a.planLast(ctx, o, r.Archive, false)
	if err != nil {
		return err
	}
	done := false
	if r.Move, done, err = a.moveAgain(ctx, first.Order.Archive, m, o.Observer); err == nil && !done {
		r.Move, err = a.Move(ctx, m, o.Observer)
	}
	r.Shut = time.Since(shut)
	return err
}

// leave does with the old place what is wanted.
func (a *Agent) leave(ctx context.Context, o FinishOrder, s *site.Site, r *Finished) error {
	switch o.Leave {
	case LeaveOpen:
		return r.Closed.Open(ctx, a.Disk, s)
	case LeaveRedirect:
		text, err := a.redirect(s, o.To)
		if err != nil {
			return err
		}
		return r.Closed.Say(ctx, a.Disk, s, text)
	}
	return nil
}

// Back is how the end of a cutover is taken back.
type Back struct {
	Finish
	// Takes are the archives whose moves are taken back at the new place, the last one first. Left tells that it
	// stays as it is. Saves tells that an archive of it is taken before, and Saved names that.
	Takes []string
	Left  bool
	Saves bool
	Saved string
	moves []*restore.Journal
}

// BackOrder says which end of a cutover is to be taken back: To is empty, or has to be where it went.
// With Anyway it is where the domain's name servers lead to the new machine already, where no whole archive of
// the new place can be taken before, and where the last move is not there to be taken back: it stays as it is then.
type BackOrder struct {
	Site, To string
	Anyway   bool
	Observer progress.Observer
}

// PlanBack says what taking the end of a cutover back would do. Nothing is changed.
func (a *Agent) PlanBack(ctx context.Context, o BackOrder) (*Back, error) {
	f, err := a.CutoverOf(o.Site)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, reason.BadUsage("no cutover of %s was finished here", o.Site)
	}
	if o.To != "" && o.To != f.To {
		return nil, reason.BadUsage("the cutover of %s went to %s, not to %s", o.Site, f.To, o.To)
	}
	names, err := a.namesStay(ctx, o.Site, o.Anyway)
	if err != nil {
		return nil, err
	}
	b := &Back{Finish: *f}
	if b.moves, err = a.movesOf(f); err != nil {
		return nil, err
	}
	gone := a.CheckUndo(ctx, b.moves...)
	if gone != nil && !reason.Is(gone, reason.AsideGone) {
		return nil, gone
	}
	if gone != nil {
		b.moves = nil
	}
	for _, j := range b.moves {
		b.Takes = append(b.Takes, j.Archive)
	}
	b.Left = len(b.moves) == 0
	b.Saves = !b.Left && (f.Step == FinishDone || names.New || !names.Known()) // nobody else is led to what was not finished
	if b.Left && f.Step == FinishDone && !o.Anyway {
		why := errors.New("since then it was undone, settled or restored over")
		if gone != nil {
			why = gone
		}
		return nil, reason.New(reason.MoveGone, reason.Names{"site": o.Site, "to": f.To}, "the last move to %s is not there any more to be taken back: %s", f.To, why)
	}
	return b, nil
}

// TakeBackCutover takes the end of a cutover back, or what was done of it: the new place is what it was
// before the last move, and the old one is open again. What was written at the new place since is in an
// archive that is taken before.
func (a *Agent) TakeBackCutover(ctx context.Context, o BackOrder) (*Back, error) {
	unlock, err := a.State.Lock("cutover-" + o.Site)
	if err != nil {
		return nil, err
	}
	defer unlock()
	b, err := a.PlanBack(ctx, o)
	if err != nil {
		return nil, err
	}
	s, err := a.openSite(ctx, o.Site, a.Config.Sites[o.Site])
	if err != nil {
		return nil, err
	}
	if err := a.saveBefore(ctx, o, b); err != nil {
		return nil, err
	}
	// From here on it can be gone on with, wherever it stops.
	b.Step = FinishUndoing
	if err := a.State.WriteNote(a.State.Finish(o.Site), b.Finish, "that the cutover is taken back"); err != nil {
		return nil, err
	}
	if err := errors.Join(b.Closed.Open(ctx, a.Disk, s), a.undoAll(ctx, b.moves)); err != nil {
		return nil, err
	}
	a.remember(ctx, history.Run{Site: o.Site, Command: "cutover finish", Archive: b.Archive, Started: a.Now(), Outcome: history.Done, Detail: "taken back"})
	return b, a.forgetFinish(o.Site)
}

// saveBefore takes an archive of the new place before it is what it was.
func (a *Agent) saveBefore(ctx context.Context, o BackOrder, b *Back) error {
	if !b.Saves {
		return nil
	}
	d, err := a.Backup(ctx, b.To, Order{Scope: archive.Full, Note: "before the cutover of " + o.Site + " was taken back", Hold: true, Observer: o.Observer})
	if err == nil {
		b.Saved = d.Record.Name
		err = withoutGaps(d.Record)
	}
	if err == nil || ctx.Err() != nil {
		return err
	}
	if !o.Anyway {
		return reason.Because(reason.NotSavedBefore, reason.Names{"site": o.Site, "to": b.To}, fmt.Errorf("save what was written at %s since: %w; nothing was taken back", b.To, err))
	}
	a.warnf("what was written at %s since is not saved, or not all of it: %w", b.To, err)
	return nil
}

// withoutGaps refuses an archive in which something is missing.
func withoutGaps(r *archive.Record) error {
	i := slices.IndexFunc(r.Gaps, func(g archive.Gap) bool { return g.Kind != archive.GapSpecial })
	if i < 0 {
		return nil
	}
	return fmt.Errorf("archive %s has gaps: what could not be read, such as %s, is not in it", r.Name, r.Gaps[i].Path)
}

// forgetFinish forgets the end of a cutover that was not reached, or was taken back.
func (a *Agent) forgetFinish(name string) error {
	if err := os.Remove(a.State.Finish(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("forget the cutover of %s: %w", name, err)
	}
	return nil
}

// movesOf are the restores at the new place that are the moves of a cutover and were not taken back, the last
// one first. What was done there after them, or instead, is none.
func (a *Agent) movesOf(f *Finish) ([]*restore.Journal, error) {
	journals, err := restore.Journals(a.State, f.To)
	if err != nil {
		return nil, err
	}
	made := 0
	for _, name := range slices.Backward(f.Moves) {
		if made < len(journals) && journals[made].Archive == name {
			made++
		}
	}
	return journals[:made], nil
}

// unmove takes back what of the moves was made, the last one first.
func (a *Agent) unmove(ctx context.Context, f *Finish) error {
	moves, err := a.movesOf(f)
	if err != nil {
		return err
	}
	return a.undoAll(ctx, moves)
}

// undoAll takes restores back, one after the other.
func (a *Agent) undoAll(ctx context.Context, journals []*restore.Journal) error {
	for _, j := range journals {
		if _, err := a.Undo(ctx, j); err != nil {
			return err
		}
	}
	return nil
}

// CutoverOf is how far the end of a site's cutover has come; nil if it was not begun.
func (a *Agent) CutoverOf(name string) (*Finish, error) {
	f := &Finish{}
	known, err := a.State.ReadNote(a.State.Finish(name), f, "how far the cutover has come")
	if !known {
		return nil, err
	}
	return f, nil
}

// duties are those of a site. One that is elsewhere now, as is looked up each time, has none: a service
// that runs on hears of a cutover that another process finishes, or takes back.
func (a *Agent) duties(name string) []schedule.Duty {
	f, err := a.CutoverOf(name)
	if err != nil {
		a.warn(err)
	}
	if f != nil && f.Step == FinishDone {
		return nil
	}
	return a.Config.Sites[name].Duties
}

// tellOfDeadCutovers tells of those that have died half-way: the site is closed.
func (a *Agent) tellOfDeadCutovers() {
	for name := range a.Config.Sites {
		f, err := a.CutoverOf(name)
		if err != nil || f == nil || f.Step == FinishDone {
			continue // an error is told by what uses it
		}
		if unlock, err := a.State.Lock("cutover-" + name); err == nil {
			unlock()
			a.Tell(CutoverDied{Site: name, To: f.To, Step: f.Step})
		}
	}
}

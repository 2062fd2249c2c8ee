package jobs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/reason"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
)

// Need is what an archive is wanted for. It counts when only a site was named: then the
// newest good archive that serves is chosen, and what is newer is told (PassedOver).
type Need struct {
	// Files and Database are the halves that it must hold. Where no archive of the site
	// holds both, one of either will do.
	Files, Database bool
	// Clean passes over archives since which there are signs of a break-in that nobody
	// has accepted, and plain ones where archives are to be encrypted.
	Clean bool
	// Any takes the newest, good or not: to find out which.
	Any bool
}

// Find resolves an archive as typed: its name, a beginning of it, or a site's name for
// the newest good one, before a moment if that is not zero.
func (a *Agent) Find(ctx context.Context, typed string, before time.Time) (*catalog.Held, error) {
	return a.FindFor(ctx, typed, before, Need{})
}

// FindFull is Find for what needs files and databases.
func (a *Agent) FindFull(ctx context.Context, typed string, before time.Time) (*catalog.Held, error) {
	return a.FindFor(ctx, typed, before, Need{Files: true, Database: true})
}

// FindOpen is FindFor, with the record opened if it is encrypted.
func (a *Agent) FindOpen(ctx context.Context, typed string, before time.Time, need Need) (*catalog.Held, error) {
	h, err := a.FindFor(ctx, typed, before, need)
	if err != nil {
		return nil, err
	}
	return h, h.Unseal(h.Keys)
}

// FindFor is Find for a need.
func (a *Agent) FindFor(ctx context.Context, typed string, before time.Time, need Need) (*catalog.Held, error) {
	if _, isSite := a.Config.Sites[typed]; isSite {
		if a.SignedBy == SignedByNobody {
			return nil, reason.BadUsage("an archive that nobody has signed is taken by its whole name only, not as the newest of %s", typed)
		}
		h, err := a.newest(ctx, typed, before, need)
		if err == nil {
			err = a.accept(h.Record)
		}
		return h, err
	}
	var candidates []string
	for _, name := range a.Config.SiteNames() {
		if strings.HasPrefix(typed, name+"-") || strings.HasPrefix(name, typed) {
			candidates = append(candidates, name)
		}
	}
	if len(candidates) == 0 {
		return nil, reason.BadUsage("there is no site or archive %q%s", typed, a.Config.Suggest(typed))
	}
	var failed error
	for _, name := range candidates {
		l, err := a.listTelling(ctx, name)
		if err != nil {
			return nil, err
		}
		h, err := l.Pick(name, typed, before)
		if err == nil {
			return h, a.accept(h.Record)
		}
		failed = errors.Join(failed, err)
	}
	return nil, failed
}

// listTelling is List, and tells of stores that do not answer.
func (a *Agent) listTelling(ctx context.Context, name string) (*catalog.Listing, error) {
	l, err := a.List(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, silent := range l.Silent {
		a.Tell(StoreSilent{Store: silent.Store, Err: silent.Err})
	}
	return l, nil
}

// clockSlack is how far in the future an archive may be taken, by another clock.
const clockSlack = 10 * time.Minute

// newest chooses the newest good archive of a site that serves a need.
func (a *Agent) newest(ctx context.Context, name string, before time.Time, need Need) (*catalog.Held, error) {
	l, err := a.listTelling(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(l.Archives) == 0 {
		return l.Pick(name, name, before) // it says why
	}
	v, err := a.verdicts(ctx)
	if err != nil {
		a.warn(err)
	}
	signs, err := a.signsOf(ctx, name)
	if err != nil {
		return nil, err
	}
	taken := slices.ContainsFunc(l.Archives, func(h catalog.Held) bool { return !h.Scope.ByHand() })
	whole := slices.ContainsFunc(l.Archives, func(h catalog.Held) bool {
		return h.Scope.HasFiles() && h.Scope.HasDatabase() && !(taken && h.Scope.ByHand())
	})
	var passed []PassedOver
	for i := range l.Archives {
		h := &l.Archives[i]
		why := ""
		switch {
		case !before.IsZero() && !h.Taken.Before(before):
			continue
		case need.Any:
		case taken && h.Scope.ByHand():
			why = "somebody has packed it by hand; such a one is taken by its name only"
		case h.Taken.After(a.Now().Add(clockSlack)):
			why = "its time is in the future"
		case need.Clean && a.Config.Encrypt != nil && !h.Encrypted:
			why = "it is not encrypted, and `encrypt:` says that archives are"
		case !v.goodHeld(*h):
			why = "it is damaged in store " + strings.Join(v.bad[h.Name], ", ")
		case !serves(h.Scope, need, whole):
			why = fmt.Sprintf("it holds only the %s", halfName(h.Scope))
		case need.Clean && len(signs.of(h)) > 0:
			why = "since then there are signs of a break-in: " + strings.Join(signs.of(h), ", ")
		}
		if why == "" {
			a.tellPassed(passed)
			return h, nil
		}
		passed = append(passed, PassedOver{Archive: h.Name, Why: why})
	}
	if len(passed) == 0 {
		return l.Pick(name, name, before)
	}
	return nil, reason.New(reason.NoneServes, reason.Names{"site": name, "archive": passed[0].Archive}, "site %s has no archive to take by itself: %s: %s", name, passed[0].Archive, passed[0].Why)
}

// serves tells whether an archive of a scope holds what is needed; whole, whether any
// of the site holds both halves.
func serves(scope archive.Scope, need Need, whole bool) bool {
	if need.Files && need.Database && !whole {
		return true
	}
	return (!need.Files || scope.HasFiles()) && (!need.Database || scope.HasDatabase())
}

func halfName(scope archive.Scope) string {
	if scope.HasFiles() {
		return "files"
	}
	return "database"
}

// tellPassed tells what is newer than the archive that was chosen: of those that hold
// only a half, the newest.
func (a *Agent) tellPassed(passed []PassedOver) {
	told := map[string]bool{}
	for _, p := range passed {
		if !told[p.Why] {
			a.Tell(p)
		}
		told[p.Why] = true
	}
}

// intrusion are the kinds of alarms that somebody who got in leaves.
var intrusion = []string{alarm.Planted, alarm.CoreChanged, alarm.MassChange, alarm.Scrambled}

// signs are the open alarms of an intrusion in a site, and when its files were put back.
type signs struct {
	alarms   []history.Alarm
	restores []history.Run
}

// onlyShare is what the history says of a restore that did not put all files back.
const onlyShare = "a share of it"

func (a *Agent) signsOf(ctx context.Context, site string) (s signs, err error) {
	open, err := a.History.Alarms(ctx, site)
	if err != nil {
		return s, err
	}
	for _, o := range open {
		if slices.Contains(intrusion, o.Kind) && o.Accepted.IsZero() && o.Archive != "" {
			s.alarms = append(s.alarms, o)
		}
	}
	if len(s.alarms) == 0 {
		return s, nil
	}
	runs, err := a.History.Runs(ctx, history.RunFilter{Site: site, Outcome: history.Done})
	for _, r := range runs { // the newest first
		if r.Command == "undo" {
			break // what it has brought back was there before all older restores, too
		}
		if r.Command == "restore" && r.Detail != onlyShare {
			s.restores = append(s.restores, r)
		}
	}
	return s, err
}

// of are the kinds of alarms that cast doubt on an archive: what was found in it or in one
// before it, unless all files were put back from an even older one in between.
func (s signs) of(h *catalog.Held) (kinds []string) {
	for _, o := range s.alarms {
		cleaned := slices.ContainsFunc(s.restores, func(r history.Run) bool {
			return r.Archive < o.Archive && r.Started.After(o.Since) && !r.Finished.After(h.Taken)
		})
		if o.Archive <= h.Name && !cleaned && !slices.Contains(kinds, o.Kind) {
			kinds = append(kinds, o.Kind)
		}
	}
	return kinds
}

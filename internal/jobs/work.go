package jobs

import (
	"context"
	"errors"
	"fmt"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/signing"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/watch/history"
	"revlet/internal/work/restore"
)

// work takes the lock of a site, brings an interrupted restore to its end, runs do
// and remembers what came of it under run.Command; without a command nothing is
// remembered. do may fill in run; the number of the run in the history is set
// when work returns.
//
// A site that another run works on gives an error that wraps state.ErrBusy, and is
// not remembered.
func (a *Agent) work(ctx context.Context, run *history.Run, do func(ctx context.Context, run *history.Run) error) error {
	return a.workUnder(ctx, run.Site, run, func(ctx context.Context, run *history.Run) error {
		if err := a.importJournals(ctx, run.Site); err != nil {
			return err
		}
		if err := a.recover(ctx, run.Site); err != nil {
			return err
		}
		return do(ctx, run)
	})
}

// workUnder is work under a lock of another name, and without bringing interrupted
// restores to their end: for what touches no live site, and for what takes a
// restore back.
func (a *Agent) workUnder(ctx context.Context, lock string, run *history.Run, do func(ctx context.Context, run *history.Run) error) error {
	unlock, err := a.State.Lock(lock)
	if err != nil {
		return err
	}
	defer unlock()
	run.Started, run.Outcome = a.Now(), history.Done
	if run.Duty != "" {
		a.ping(ctx, run.Site, pingStart)
	}
	err = do(ctx, run)
	switch {
	case err != nil && ctx.Err() != nil:
		run.Outcome, run.Detail = history.Interrupted, "stopped before it was done"
	case err != nil:
		run.Outcome, run.Detail = history.Failed, reason.Text(err)
	}
	if run.Command != "" {
		a.onTrouble(ctx, run)
		run.ID = a.remember(ctx, *run)
	}
	return err
}

// remember adds a run to the history and returns its number; that this fails
// is no reason for the run to fail.
func (a *Agent) remember(ctx context.Context, r history.Run) int64 {
	r.Finished = a.Now()
	if r.Origin == "" {
		r.Origin = a.Person
	}
	id, err := a.History.AddRun(context.WithoutCancel(ctx), r)
	if err != nil {
		a.warn(err)
	}
	return id
}

// finishInterrupted brings a restore to an end whose process has died: a site must
// not stay closed, or half exchanged, until somebody thinks of it. What cannot be
// finished is told, and is no reason to refuse another job.
func (a *Agent) finishInterrupted(ctx context.Context, name string) {
	if !restore.Interrupted(a.State, name) {
		return
	}
	unlock, err := a.State.Lock(name)
	if err != nil {
		return // one that is at work is not interrupted
	}
	defer unlock()
	if err := a.recover(ctx, name); err != nil {
		a.warn(err)
	}
}

// recover finishes or reverts a restore of a site that died half-way, and tells of
// it. The caller holds the site's lock.
func (a *Agent) recover(ctx context.Context, name string) error {
	if !restore.Interrupted(a.State, name) {
		return nil
	}
	journals, err := restore.Journals(a.State, name)
	if err != nil || len(journals) == 0 {
		return err
	}
	done, err := a.recoverer(a.siteIfKnown(ctx, journals[0])).Recover(ctx)
	for _, o := range done {
		a.Tell(Recovered{Site: o.Journal.Site, Archive: o.Journal.Archive, Did: o.Did, Left: o.Left})
	}
	return reason.Because(reason.HalfRestored, reason.Names{"site": name, "archive": journals[0].Archive}, err)
}

// importJournals takes over what other computers have restored of a site that lives elsewhere.
// The caller holds the site's lock.
func (a *Agent) importJournals(ctx context.Context, name string) error {
	cfg, ok := a.Config.Sites[name]
	if !ok || !cfg.Far() {
		return nil
	}
	place, err := a.place(cfg)
	if err != nil {
		return err
	}
	r := a.recoverer(&site.Site{Name: name, Root: cfg.Root, Roots: cfg.Roots, Place: place})
	switch err := r.Import(ctx); {
	case errors.Is(err, tree.ErrUnreachable):
		return ofSite(name, fmt.Errorf("site %s: %w", name, err))
	case err != nil:
		return ofSite(name, fmt.Errorf("site %s: look for what other computers have restored: %w", name, err))
	}
	return nil
}

// mirror signs the journals of a site's restores on another machine, and takes those of the
// computers whose archives of the site are taken.
func (a *Agent) mirror(name string) *restore.Mirror {
	return &restore.Mirror{
		Sign: func(text []byte) (string, error) {
			key, err := a.signingKey()
			if err != nil {
				return "", err
			}
			return key.Sign(restore.Namespace, text)
		},
		Check: func(text []byte, signature string) error {
			signer, err := signing.Verify(restore.Namespace, text, signature)
			if err != nil {
				return err
			}
			s, err := a.trust(context.Background(), name)
			if err == nil && !s.takes(signer) {
				err = fmt.Errorf("%w: the key is %s", archive.ErrSigner, signer.Fingerprint())
			}
			return err
		},
		Unknown: func(box string) {
			a.warnf("%s is there of a restore of %s, and none of the computers whose archives of it are taken has signed that: it is left alone", box, name)
		},
	}
}

// recoverer finishes or reverts restores of a site that died half-way.
func (a *Agent) recoverer(s *site.Site) restore.Recoverer {
	return restore.Recoverer{Site: s, State: a.State, Open: a.openTarget, Drain: a.Drain, Place: a.placeOn, Mirror: a.mirror(s.Name)}
}

// halfRestored adds to an error about a site that cannot be opened that a
// restore of it stopped half-way, if one did.
func (a *Agent) halfRestored(name string, err error) error {
	half, readErr := a.HalfRestored(name)
	if half != "" {
		return reason.New(reason.HalfRestored, reason.Names{"site": name, "archive": half}, "%w\na restore of %s from %s stopped half-way", err, name, half)
	}
	return errors.Join(err, readErr)
}

// HalfRestored names the archive whose restore of a site has stopped half-way, or
// nothing.
func (a *Agent) HalfRestored(name string) (string, error) {
	journals, err := restore.Journals(a.State, name)
	for _, j := range journals {
		if j.Phase != restore.Done {
			return j.Archive, err
		}
	}
	return "", err
}

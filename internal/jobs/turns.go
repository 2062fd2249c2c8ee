package jobs

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/platform/signing"
	"revlet/internal/rules/schedule"
	"revlet/internal/store"
)

// Machines that keep the same site, each taking the others' archives, do not take the same turn twice: whoever takes
// one says so in a store that all of them see. What is said there counts only by a key whose archives are taken.

// turnNamespace is what claims are signed for.
const turnNamespace = "revlet-turn"

// ours takes a turn of a duty for this machine. covered names an archive of another machine's that has done what the
// duty asks for; wait tells that another is at it. done is to be called after the work, if there is any.
func (a *Agent) ours(ctx context.Context, name string, t turn) (covered string, wait bool, done func(), err error) {
	done = func() {}
	s, err := a.signersOf(name)
	if err != nil || !t.Work.Takes() || !slices.ContainsFunc(s.Keys, func(k Signer) bool { return k.Key != s.own }) {
		return "", false, done, err
	}
	shared, ok := a.shared(name)
	if !ok {
		return "", false, done, nil
	}
	if covered, err = a.takenElsewhere(ctx, name, t, shared, s); err != nil || covered != "" {
		return covered, false, done, a.turnNotKnown(ctx, shared, err)
	}
	key, err := a.signingKey()
	if err != nil {
		return "", false, done, err
	}
	claim := storelock.Turn{Site: name, Name: t.name(), Machine: storelock.Machine(a.State.Dir)}
	said := func(machine string) []byte { return []byte(name + "\n" + claim.Name + "\n" + machine + "\n") }
	signature, err := key.Sign(turnNamespace, said(claim.Machine))
	if err != nil {
		return "", false, done, err
	}
	claim.Text = []byte(signature)
	claim.Good = func(machine string, text []byte) bool {
		by, err := signing.Verify(turnNamespace, said(machine), string(text))
		return err == nil && s.takes(by)
	}
	won, over, err := claim.Claim(ctx, shared)
	if err != nil {
		return "", false, done, a.turnNotKnown(ctx, shared, err)
	}
	if !won {
		return "", true, done, nil
	}
	done = func() { _ = over(context.WithoutCancel(ctx)) } // a claim that stays counts no more in a while
	// Another may have taken the turn and given it back between the look above and the claim.
	covered, err = a.takenElsewhere(ctx, name, t, shared, s)
	if err != nil || covered != "" {
		done()
		done = func() {}
	}
	return covered, false, done, a.turnNotKnown(ctx, shared, err)
}

// name is the turn's, the same on every machine with the same configuration.
func (t turn) name() string {
	sum := sha256.Sum256([]byte(t.Duty.String() + "\x00" + t.due.UTC().Format(time.RFC3339)))
	return hex.EncodeToString(sum[:8])
}

// turnNotKnown has the work go on where it cannot be told whose turn it is: an archive too many is better than none.
func (a *Agent) turnNotKnown(ctx context.Context, s store.Named, err error) error {
	if err == nil || ctx.Err() != nil {
		return ctx.Err()
	}
	a.warnf("whether another machine takes this turn is not known: store %s: %w", s.Name, err)
	return nil
}

// shared is the store of a site that other machines see, too: the first that is elsewhere, or else the first.
func (a *Agent) shared(name string) (store.Named, bool) {
	all := a.Stores(a.Config.Sites[name])
	if i := slices.IndexFunc(all, func(s store.Named) bool { return s.Offsite() }); i >= 0 {
		return all[i], true
	}
	if len(all) == 0 {
		return store.Named{}, false
	}
	return all[0], true
}

// takenElsewhere names an archive that another machine has taken since a turn was due, and that does what it asks for.
func (a *Agent) takenElsewhere(ctx context.Context, name string, t turn, s store.Named, by *signers) (string, error) {
	l, err := catalog.List(ctx, []store.Named{s}, name, catalog.Options{Keys: a.Keys, Trust: by.check, Cache: &a.records})
	if err != nil {
		return "", err
	}
	for _, h := range l.Archives {
		if h.Signer() != by.own && (string(h.Scope) == string(t.Work) || string(h.Scope) == string(schedule.Full)) && !h.Taken.Before(t.due) && !h.Taken.After(a.Now().Add(time.Minute)) {
			return fmt.Sprintf("%s, on %s", h.Name, h.Host), nil
		}
	}
	return "", nil
}

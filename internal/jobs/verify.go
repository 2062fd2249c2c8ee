package jobs

import (
	"context"
	"fmt"
	"slices"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/store"
	"revlet/internal/watch/history"
	"revlet/internal/work/verify"
)

// levelFor is the level for one archive: full unless another was asked for, or
// unless it is encrypted and no key was given.
func (a *Agent) levelFor(h *catalog.Held, asked verify.Level) verify.Level {
	switch {
	case asked != "":
		return asked
	case h.Encrypted && !a.Keys.Given():
		return verify.Digests
	default:
		return verify.Full
	}
}

// verifyAll begins with the oldest archive, since later ones share its parts,
// and reports on the newest first.
func (a *Agent) verifyAll(ctx context.Context, v *verify.Verifier, chosen []*catalog.Held, only string, asked verify.Level) ([]*verify.Report, error) {
	var reports []*verify.Report
	if asked == verify.Quick {
		surveyed(ctx, v, chosen, only)
	}
	for _, h := range slices.Backward(chosen) {
		for _, s := range slices.Backward(h.Stores) {
			if only != "" && s.Name != only {
				continue
			}
			level := a.levelFor(h, asked)
			r, err := v.Archive(ctx, h, s, level)
			if err != nil {
				return reports, err
			}
			r.SignedBy = h.Signer().Fingerprint()
			reports = append(reports, r)
			if err := a.noteDamage(ctx, h, r); err != nil {
				return reports, err
			}
			if r.Verdict() == catalog.NotReached {
				continue // nothing is known that was not known before
			}
			if err := a.History.AddProof(ctx, history.Proof{Archive: h.Name, Store: s.Name, At: a.Now(), Level: string(level), Sound: r.Sound()}); err != nil {
				return reports, err
			}
		}
	}
	slices.Reverse(reports)
	return reports, nil
}

// surveyed has every store listed that is asked for many objects.
func surveyed(ctx context.Context, v *verify.Verifier, chosen []*catalog.Held, only string) {
	type of struct{ store, site string }
	stores, all := map[of]store.Named{}, map[of][]*catalog.Held{}
	for _, h := range chosen {
		for _, s := range h.Stores {
			if at := (of{s.Name, h.Site}); only == "" || s.Name == only {
				stores[at], all[at] = s, append(all[at], h)
			}
		}
	}
	for at, held := range all {
		v.Survey(ctx, stores[at], at.site, held)
	}
}

// noteDamage remembers which parts were found damaged, so that the next backup
// writes them again if it needs them, and which were not.
func (a *Agent) noteDamage(ctx context.Context, h *catalog.Held, r *verify.Report) error {
	known, err := a.History.DamagedIn(ctx, r.Store)
	if err != nil {
		return err
	}
	bad, unknown := map[string]bool{}, map[string]bool{}
	for _, d := range r.Damage {
		bad[d.Object] = true
	}
	for _, m := range r.NotReached {
		unknown[m.Object] = true
	}
	for _, p := range h.Parts {
		for o := range p.Objects() {
			object := archive.PartPath(h.Site, o.Name)
			switch {
			case bad[o.Name]:
				err = a.History.Damaged(ctx, r.Store, object)
			case known[object] && r.Level != verify.Quick && !unknown[o.Name]:
				err = a.History.Mended(ctx, r.Store, object)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// Proof is what a verification found.
type Proof struct {
	Reports []*verify.Report
	Trouble []Trouble
	// Signers are by whom the archives are signed, each once.
	Signers []Signer
}

// Verdict is damaged if anything was found damaged, not reached if anything could not
// be read, and sound only if every copy was read and is sound.
func (p *Proof) Verdict() catalog.Verdict {
	verdict := worst(p.Trouble)
	for _, r := range p.Reports {
		if v := r.Verdict(); v == catalog.Damaged || v == catalog.NotReached && verdict == catalog.Sound {
			verdict = v
		}
	}
	return verdict
}

// Sound tells that every copy was read, and was found sound.
func (p *Proof) Sound() bool { return p.Verdict() == catalog.Sound }

// Damaged names the copies that were found damaged.
func (p *Proof) Damaged() []string {
	var bad []string
	for _, r := range p.Reports {
		if r.Verdict() == catalog.Damaged {
			bad = append(bad, fmt.Sprintf("%s in %s", r.Archive, r.Store))
		}
	}
	return bad
}

// VerifyOrder says which archives to read, where and how well.
type VerifyOrder struct {
	// Archives are names as typed; none means every archive of every site.
	Archives []string
	Before   time.Time
	// Store limits it to one store; Level is the level, or empty for the best that
	// the keys allow.
	Store    string
	Level    verify.Level
	Observer progress.Observer
}

// Verify reads archives in their stores and remembers which copies are sound.
func (a *Agent) Verify(ctx context.Context, o VerifyOrder) (*Proof, error) {
	if o.Level != verify.Quick {
		a.records.Forget()
	}
	proof := &Proof{}
	var chosen []*catalog.Held
	for _, typed := range o.Archives {
		h, err := a.FindFor(ctx, typed, o.Before, Need{Any: true})
		if err != nil {
			return nil, err
		}
		chosen = append(chosen, h)
	}
	if err := a.troubleOf(ctx, o.Store, chosen, proof); err != nil {
		return nil, err
	}
	if len(o.Archives) == 0 {
		for _, name := range a.Config.SiteNames() {
			l, err := a.List(ctx, name)
			if err != nil {
				return nil, err
			}
			for i := range l.Archives {
				chosen = append(chosen, &l.Archives[i])
			}
			proof.trouble(o.Store, "", l)
		}
	}
	var err error
	for _, h := range chosen {
		if s := a.Signed(h.Record); !slices.ContainsFunc(proof.Signers, func(o Signer) bool { return o.Key == s.Key }) {
			proof.Signers = append(proof.Signers, s)
		}
	}
	proof.Reports, err = a.verifyAll(ctx, &verify.Verifier{Observer: o.Observer}, chosen, o.Store, o.Level)
	if o.Store != "" && err == nil && len(proof.Reports) == 0 && len(proof.Trouble) == 0 && len(chosen) > 0 {
		return nil, reason.BadUsage("none of the archives is in a store %q", o.Store)
	}
	return proof, err
}

// troubleOf notes what archives that were named may have of copies that cannot be looked at.
func (a *Agent) troubleOf(ctx context.Context, store string, chosen []*catalog.Held, proof *Proof) error {
	sites := map[string]bool{}
	for _, h := range chosen {
		if sites[h.Site] {
			continue
		}
		sites[h.Site] = true
		l, err := a.List(ctx, h.Site)
		if err != nil {
			return err
		}
		for _, h := range chosen {
			proof.trouble(store, h.Name, l)
		}
	}
	return nil
}

// trouble notes stores that do not answer, and records of an archive, or of any if name is empty, that cannot be read; in
// one store only, if one is named.
func (p *Proof) trouble(only, name string, l *catalog.Listing) {
	for _, t := range slices.Concat(l.Broken, l.Silent) {
		one := Trouble{t.Store, t.Err}
		told := slices.ContainsFunc(p.Trouble, func(o Trouble) bool { return o.Store == one.Store && o.Err.Error() == one.Err.Error() })
		if !told && (only == "" || t.Store == only) && (name == "" || t.Name == "" || t.Name == name) {
			p.Trouble = append(p.Trouble, one)
		}
	}
}

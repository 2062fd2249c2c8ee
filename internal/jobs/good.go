package jobs

import (
	"context"
	"slices"

	"revlet/internal/archives/catalog"
	"revlet/internal/store"
	"revlet/internal/watch/history"
)

// verdicts are what proofs have found: which copies of archives are damaged.
type verdicts struct {
	// bad maps archives to the stores in which the last proof found them damaged.
	bad    map[string][]string
	proofs map[string][]history.Proof
}

// verdicts reads what the history knows of proofs.
func (a *Agent) verdicts(ctx context.Context) (verdicts, error) {
	proofs, err := a.History.Proofs(ctx)
	v := verdicts{bad: map[string][]string{}, proofs: proofs}
	for name, list := range proofs {
		for _, p := range list {
			if !p.Sound && !slices.Contains(v.bad[name], p.Store) {
				v.bad[name] = append(v.bad[name], p.Store)
			}
		}
	}
	return v, err
}

// damagedIn tells whether the copy of an archive in a store is known to be damaged.
func (v verdicts) damagedIn(name, store string) bool { return slices.Contains(v.bad[name], store) }

// good tells whether an archive can be restored from: one of the stores that have
// it holds a copy that is not damaged, as far as is known. This is what "good"
// means everywhere: for the newest good archive, in the status, and to keep rules.
func (v verdicts) good(name string, stores []string) bool {
	return slices.ContainsFunc(stores, func(s string) bool { return !v.damagedIn(name, s) })
}

// goodHeld and goodKnown are good for what a listing and what the history says.
func (v verdicts) goodHeld(h catalog.Held) bool { return v.good(h.Name, StoreNames(h.Stores)) }

func (v verdicts) goodKnown(h history.Archive) bool { return v.good(h.Name, existing(h)) }

// existing names the stores that have an archive, as far as the history knows.
func existing(h history.Archive) []string {
	var names []string
	for _, c := range h.Copies {
		if c.Gone.IsZero() {
			names = append(names, c.Store)
		}
	}
	return names
}

// StoreNames names stores.
func StoreNames(stores []store.Named) []string {
	var names []string
	for _, s := range stores {
		names = append(names, s.Name)
	}
	return names
}

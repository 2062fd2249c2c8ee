package jobs

import (
	"context"
	"slices"

	"revlet/internal/rules/schedule"
	"revlet/internal/work/preflight"
)

// Preflight looks whether a backup of a site would work, and changes nothing.
func (a *Agent) Preflight(ctx context.Context, name string) ([]preflight.Finding, error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	s, err := a.openSite(ctx, name, cfg)
	if err != nil {
		return nil, err
	}
	untried, err := a.untriedKey(ctx)
	if err != nil {
		return nil, err
	}
	return preflight.Run(ctx, preflight.Job{Site: s, Stores: a.Stores(cfg), State: a.State, Open: a.openSource, Now: a.Now, UntriedKey: untried, Offsite: func(store string) bool { return a.offsite(cfg, store) },
		Scheduled: slices.ContainsFunc(a.duties(name), func(d schedule.Duty) bool { return d.Work.Takes() }), Told: a.Config.Notify != nil, Others: a.otherSites(name)})
}

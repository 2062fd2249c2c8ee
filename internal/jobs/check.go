package jobs

import (
	"context"
	"path/filepath"
	"time"

	"revlet/internal/site"
	"revlet/internal/site/check"
)

// Check asks a configured site; one that cannot be opened is asked without
// what its recipe knows.
func (a *Agent) Check(ctx context.Context, name string) ([]check.Result, error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	s, err := site.Open(name, cfg)
	if err != nil {
		s = &site.Site{Name: name, Address: cfg.Address, Checks: cfg.AllChecks()}
	}
	return checkSite(ctx, s), nil
}

// checkSite asks the site whether it works; it is empty when it has no check.
func checkSite(ctx context.Context, s *site.Site) []check.Result {
	if s.Address == "" {
		return nil
	}
	var broken []string
	if s.Recipe != nil {
		broken = s.Recipe.Broken
	}
	return check.All(ctx, s.Address, s.Checks, broken)
}

// checkRestored asks a site that was just exchanged: for a moment, a server with
// PHP may still answer from scripts that it has kept in memory.
func (a *Agent) checkRestored(ctx context.Context, s *site.Site) []check.Result {
	end := time.Now().Add(2 * cachedScripts)
	if _, err := a.Disk.Stat(filepath.Join(s.Root, "index.php")); err != nil {
		end = time.Now()
	}
	for ; ; time.Sleep(cachedScripts / 5) {
		answers := checkSite(ctx, s)
		if worst := check.Worst(answers); worst == nil || worst.OK() || !time.Now().Before(end) || ctx.Err() != nil {
			return answers
		}
	}
}

// cachedScripts is after how long a server has seen that its scripts differ.
const cachedScripts = 2500 * time.Millisecond

package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"revlet/internal/site"
	"revlet/internal/site/check"
)

// Check asks a configured site; one that cannot be opened is asked without
// what its recipe knows. Pages that have shrunk since the site was last known to work
// are trouble, unless accept says that they are right as they are now.
func (a *Agent) Check(ctx context.Context, name string, accept bool) ([]check.Result, error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	s, err := a.openSite(ctx, name, cfg)
	if err != nil {
		s = &site.Site{Name: name, Address: cfg.Address, Checks: cfg.AllChecks()}
	}
	answers := askSite(ctx, s)
	if accept {
		return answers, a.keepHealthy(name, answers, true)
	}
	return a.beside(name, answers, true), nil
}

// askSite asks the site whether it works; it is empty when it has no check.
func askSite(ctx context.Context, s *site.Site) []check.Result {
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
// PHP may still answer from scripts that it has kept in memory. A page of that day may be
// shorter than today's.
func (a *Agent) checkRestored(ctx context.Context, s *site.Site) []check.Result {
	end := time.Now().Add(2 * cachedScripts)
	if _, err := a.Disk.Stat(filepath.Join(s.Root, "index.php")); err != nil {
		end = time.Now()
	}
	for ; ; time.Sleep(cachedScripts / 5) {
		answers := a.beside(s.Name, askSite(ctx, s), false)
		if worst := check.Worst(answers); worst == nil || worst.OK() || !time.Now().Before(end) || ctx.Err() != nil {
			return answers
		}
	}
}

// cachedScripts is after how long a server has seen that its scripts differ: PHP looks again
// once more than opcache.revalidate_freq, 2 as a rule, whole seconds of its clock are over,
// which takes up to three.
const cachedScripts = 3100 * time.Millisecond

// healthy is what the pages of a site were like, by address.
func (a *Agent) healthy(name string) (map[string]check.Healthy, error) {
	pages := map[string]check.Healthy{}
	data, err := a.Disk.ReadFile(a.State.Healthy(name))
	if errors.Is(err, fs.ErrNotExist) {
		return pages, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &pages)
	}
	if err != nil {
		return nil, fmt.Errorf("read what the site's pages were like: %w", err)
	}
	return pages, nil
}

// beside holds answers against what the pages were like. That this is not known is no
// trouble of the site's.
func (a *Agent) beside(name string, answers []check.Result, strict bool) []check.Result {
	pages, err := a.healthy(name)
	if err != nil {
		a.warn(err)
	}
	for i, r := range answers {
		answers[i] = r.Beside(pages[r.URL], strict)
	}
	return answers
}

const (
	// healthyFor is how long what a page was like holds before it is looked at again,
	// shrunkFor how long one that has shrunk is held against what it was.
	healthyFor = time.Hour
	shrunkFor  = 7 * 24 * time.Hour
)

// keepHealthy notes what the pages of a site are like that works. One that has shrunk
// counts only after some time, or if it is accepted.
func (a *Agent) keepHealthy(name string, answers []check.Result, accept bool) error {
	pages, err := a.healthy(name)
	if err != nil {
		pages = map[string]check.Healthy{} // begun anew
	}
	for _, r := range answers {
		was, known := pages[r.URL]
		if !r.OK() || !accept && known && r.Shrunken(was) && a.Now().Sub(was.At) < shrunkFor {
			continue
		}
		pages[r.URL] = check.Healthy{Bytes: r.Bytes, Title: r.Title, At: a.Now()}
	}
	data, err := json.MarshalIndent(pages, "", "  ")
	if err == nil {
		err = a.Disk.MkdirAll(filepath.Dir(a.State.Healthy(name)), 0o700)
	}
	if err == nil {
		err = a.Disk.WriteFile(a.State.Healthy(name), data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("note what the site's pages are like: %w", err)
	}
	return nil
}

// noteHealthy asks a site, after an archive was taken of it, what its pages are like.
// That it does not answer is no trouble of a backup's.
func (a *Agent) noteHealthy(ctx context.Context, name string) {
	pages, err := a.healthy(name)
	for _, p := range pages {
		if age := a.Now().Sub(p.At); err == nil && age >= 0 && age < healthyFor {
			return
		}
	}
	s, err := a.openSite(ctx, name, a.Config.Sites[name])
	if err != nil || len(s.Checks) == 0 || s.Address == "" {
		return
	}
	if err := a.keepHealthy(name, askSite(ctx, s), false); err != nil {
		a.warn(err)
	}
}

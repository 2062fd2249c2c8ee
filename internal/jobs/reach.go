package jobs

import (
	"context"
	"errors"
	"fmt"
	"runtime"

	"golang.org/x/time/rate"

	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/work/restore"
)

// openSite reads the settings of a configured site, wherever it lives. The context has to
// last as long as the site is used.
func (a *Agent) openSite(ctx context.Context, name string, cfg config.Site) (*site.Site, error) {
	place, err := a.place(cfg)
	if err != nil {
		return nil, fmt.Errorf("site %s: %w", name, err)
	}
	s, err := site.OpenAt(ctx, name, cfg, place)
	if err != nil {
		return nil, ofSite(name, err)
	}
	s.Boxes = restore.BoxesIn(a.State, a.Config.SiteNames(), s)
	return s, nil
}

// ofSite gives an error about the key of a site's machine the advice for sites, of which a
// new one has no name yet.
func ofSite(name string, err error) error {
	switch {
	case reason.Is(err, reason.HostUnknown) && name == "":
		return reason.Because(reason.NewSiteHostUnknown, nil, hideReason{err})
	case reason.Is(err, reason.HostUnknown):
		return reason.Because(reason.SiteHostUnknown, reason.Names{"site": name}, hideReason{err})
	case reason.Is(err, reason.HostChanged):
		return reason.Because(reason.SiteHostChanged, reason.Names{"site": name}, hideReason{err})
	}
	return err
}

// hideReason is an error whose own reason does not count.
type hideReason struct{ error }

// Is implements what errors.Is asks.
func (h hideReason) Is(target error) bool { return errors.Is(h.error, target) }

// hasLocalSites refuses sites of this machine where it cannot be had that nobody who can
// write to one leads a restore astray: that takes calls of Linux.
func hasLocalSites(system string) error {
	if system == "linux" {
		return nil
	}
	return fmt.Errorf("%w; on %s Revlet keeps those of other machines (sftp://…, ftp://…)", ErrNoLocalSites, system)
}

// ErrNoLocalSites is wrapped where sites of this machine cannot be kept.
var ErrNoLocalSites = errors.New("a site on this computer itself needs Linux")

// place is the machine of a site, nil for this one. It is kept until the agent closes, so
// that jobs share its connections.
func (a *Agent) place(cfg config.Site) (tree.Place, error) {
	if !cfg.Far() {
		return nil, hasLocalSites(runtime.GOOS)
	}
	login := cfg.Login()
	key := fmt.Sprintf("%s %+v %v", cfg.Base(), cfg.Reach, a.TrustHosts) // sites of one account share its connections
	a.placesMu.Lock()
	defer a.placesMu.Unlock()
	if p, ok := a.places[key]; ok {
		return p, nil
	}
	u, err := login.URL()
	if err != nil {
		return nil, err
	}
	if a.places == nil {
		a.places = map[string]tree.Place{}
	}
	var limit *rate.Limiter
	if login.BytesPerSecond > 0 {
		limit = rate.NewLimiter(rate.Limit(login.BytesPerSecond), int(max(min(login.BytesPerSecond, reachBurst), 1)))
	}
	if login.Kind() != "sftp" {
		d, err := a.Opener().FTP(u, login)
		if err != nil {
			return nil, err
		}
		d.Silence, d.Limit = login.Patience, limit
		a.places[key] = tree.NewFTP(tree.FTPOptions{Dialer: d, Base: cfg.Base(), Lanes: login.Lanes, Pause: a.RetryPause})
		return a.places[key], nil
	}
	o := a.Opener()
	o.Trust, o.Trusted = a.TrustHosts, a.trusted
	d := o.SSH(u, login)
	d.Silence, d.Limit = login.Patience, limit
	a.places[key] = tree.NewSSH(tree.SSHOptions{Dialer: d, Base: cfg.Base(), Lanes: login.Lanes, Pause: a.RetryPause, NoCommands: cfg.Reach != nil && cfg.Reach.Commands == "no"})
	return a.places[key], nil
}

// placed finds the machine of a database of which only the address is known, as from a
// journal: that of a configured site which lives there.
func (a *Agent) placed(db site.Database) (site.Database, error) {
	if db.On == "" || db.Place != nil {
		return db, nil
	}
	place, err := a.placeOn(db.On)
	if err != nil {
		return db, fmt.Errorf("database %s: %w", db.Label, err)
	}
	db.Place = place
	return db, nil
}

// placeOn finds a machine by its address, as from a journal: that of a configured site which
// lives there.
func (a *Agent) placeOn(base string) (tree.Place, error) {
	for _, name := range a.Config.SiteNames() {
		if cfg := a.Config.Sites[name]; cfg.Far() && cfg.Base() == base {
			return a.place(cfg)
		}
	}
	return nil, fmt.Errorf("it is on %s, where no site of the configuration lives now", base)
}

// reachBurst is how many bytes may come at once where a rate is set.
const reachBurst = 64 << 10

func (a *Agent) closePlaces() {
	a.placesMu.Lock()
	defer a.placesMu.Unlock()
	for _, p := range a.places {
		_ = p.Close()
	}
	a.places = nil
}

// ForgetHosts drops the accepted keys of the machines of sites elsewhere.
func (a *Agent) ForgetHosts(names []string) error {
	for _, name := range names {
		cfg, err := a.SiteConfig(name)
		if err != nil {
			return err
		}
		if cfg.Far() && cfg.Login().Kind() == "sftp" {
			if err := a.Opener().Forget(cfg.Login()); err != nil {
				return err
			}
		}
	}
	return nil
}

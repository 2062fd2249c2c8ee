package jobs

import (
	"context"
	"net"
	"net/netip"
	"net/url"

	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/dnszone"
	"revlet/internal/work/pagematch"
)

// MatchOrder says which two places of a site are compared.
type MatchOrder struct {
	Site string
	// At is the new machine, Old the old one; the zero one is where the DNS leads. With is the entry
	// of the site at its new place, if that has another address.
	At, Old netip.Addr
	With    string
	Names   []string
	// Pages is how many are asked for at most, Rate how many in a second.
	Pages, Rate int
	Told        func(done, known int)
}

// Match is what came of comparing.
type Match struct {
	*pagematch.Report
	Old, New pagematch.Side
}

// ComparePages compares a site at its old and its new place, page by page.
func (a *Agent) ComparePages(ctx context.Context, o MatchOrder) (*Match, error) {
	order := pagematch.Order{Pages: o.Pages, Rate: o.Rate, Told: o.Told}
	var err error
	if order.Old, err = a.matchSide(o.Site, o.Names, o.Old); err != nil {
		return nil, err
	}
	other := o.Site
	if o.With != "" {
		other = o.With
	}
	if order.New, err = a.matchSide(other, o.Names, o.At); err != nil {
		return nil, err
	}
	if o.With == "" && !o.At.IsValid() {
		return nil, reason.BadUsage("the new machine has to be named, by its address or by its entry")
	}
	if same, err := sameMachine(ctx, order.Old, order.New); err != nil || same {
		if err == nil {
			err = reason.BadUsage("%s leads to the new machine already: name the old one by its address, too", order.Old.Base.Hostname())
		}
		return nil, err
	}
	cfg, err := a.SiteConfig(o.Site)
	if err != nil {
		return nil, err
	}
	if recipe := a.recipeIfKnown(ctx, o.Site); recipe != nil {
		order.Special, order.Broken = recipe.Pages, recipe.Broken
	}
	for _, c := range cfg.AllChecks() {
		if c.Path != "" {
			order.Special = append(order.Special, c.Path)
		}
	}
	r, err := pagematch.Match(ctx, order)
	return &Match{Report: r, Old: order.Old, New: order.New}, err
}

// recipeIfKnown is a site's recipe, as far as the site can be opened here.
func (a *Agent) recipeIfKnown(ctx context.Context, name string) *site.Recipe {
	if s, err := a.openSite(ctx, name, a.Config.Sites[name]); err == nil {
		return s.Recipe
	}
	return nil
}

// matchSide is one of the places.
func (a *Agent) matchSide(name string, names []string, at netip.Addr) (s pagematch.Side, err error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return s, err
	}
	if cfg.Address == "" {
		return s, reason.BadUsage("site %s has no address; give it one in %s (`address: https://…`)", name, a.Config.Path)
	}
	if s.Base, err = url.Parse(cfg.Address); err != nil {
		return s, err
	}
	s.At = at
	for _, c := range cfg.AllChecks() { // a machine that is asked under the site's name
		if addr, err := netip.ParseAddr(c.At); err == nil && !s.At.IsValid() {
			s.At = addr
		}
	}
	if host, err := dnszone.FromHost(s.Base.Hostname()); err == nil {
		if port := s.Base.Port(); port != "" { // pages write it as the DNS does
			host = net.JoinHostPort(host, port)
		}
		s.Base.Host = host
		s.Names, err = a.siteNames(name, names)
		return s, err
	}
	return s, nil
}

// sameMachine tells whether both places are the same machine, under the same name.
func sameMachine(ctx context.Context, old, now pagematch.Side) (bool, error) {
	if old.Base.Host != now.Base.Host || old.Base.Path != now.Base.Path {
		return false, nil
	}
	of := func(s pagematch.Side) ([]netip.Addr, error) {
		if s.At.IsValid() {
			return []netip.Addr{s.At.Unmap()}, nil
		}
		addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", s.Base.Hostname())
		for i := range addrs {
			addrs[i] = addrs[i].Unmap()
		}
		return addrs, err
	}
	olds, err := of(old)
	if err != nil {
		return false, err
	}
	news, err := of(now)
	if err != nil {
		return false, err
	}
	for _, x := range olds {
		for _, y := range news {
			if x == y {
				return true, nil
			}
		}
	}
	return false, nil
}

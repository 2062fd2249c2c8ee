package jobs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"revlet/internal/platform/reason"
	"revlet/internal/site/dnszone"
	"revlet/internal/work/cutover"
	"revlet/internal/work/preview"
)

// LookOrder says which machine to look at under a site's names.
type LookOrder struct {
	Site  string
	At    netip.Addr
	Names []string
	// Only leads nowhere but to the site. Listen is where the proxy is to be.
	Only   bool
	Listen string
	// Browser has a browser started, Program names it.
	Browser bool
	Program string
}

// Look is a preview that runs.
type Look struct {
	Names []string
	// Proxy is where it listens, Page what to look at; Hosts is what the machine answers.
	Proxy string
	Page  string
	Hosts []cutover.Host
	// Wait ends with ctx, or when the browser that was started is closed.
	Wait func() error
}

// siteNames are the names of a site: the one in its address, the same with www or without, and those
// that are given.
func (a *Agent) siteNames(site string, more []string) ([]string, error) {
	u, err := a.siteURL(site)
	if err != nil {
		return nil, err
	}
	first, err := dnszone.FromHost(u.Hostname())
	if err != nil {
		return nil, err
	}
	twin := "www." + first
	if bare, ok := strings.CutPrefix(first, "www."); ok {
		twin = bare
	}
	names := []string{first, twin}
	for _, host := range more {
		name, err := dnszone.FromHost(host)
		if err != nil {
			return nil, reason.BadUsage("%w", err)
		}
		names = append(names, name)
	}
	return names, nil
}

// StartLook begins a preview of a site on another machine. It ends with ctx.
func (a *Agent) StartLook(ctx context.Context, o LookOrder, told func(preview.Request)) (*Look, error) {
	u, err := a.siteURL(o.Site)
	if err != nil {
		return nil, err
	}
	l := &Look{Page: u.String()}
	if l.Names, err = a.siteNames(o.Site, o.Names); err != nil {
		return nil, err
	}
	program := ""
	if o.Browser {
		if program, err = preview.FindBrowser(o.Program); err != nil {
			return nil, err
		}
		if a.Account == "root" {
			return nil, reason.BadUsage("a browser is not started as root: give the proxy to your own browser")
		}
	}
	order := cutover.Order{Address: u, To: []netip.Addr{o.At}}
	l.Hosts = order.Pages(ctx, l.Names, nil)
	p, err := preview.Start(preview.Options{Names: l.Names, To: o.At, Only: o.Only, Listen: o.Listen, Told: told})
	if err != nil {
		return nil, err
	}
	l.Proxy = p.Address
	l.Wait = func() error {
		if program == "" {
			<-ctx.Done()
			return p.Close()
		}
		return errors.Join(a.browse(ctx, program, l), p.Close())
	}
	return l, nil
}

// browse runs a browser with a profile of its own until it is closed, or ctx ends.
func (a *Agent) browse(ctx context.Context, program string, l *Look) error {
	profile, err := os.MkdirTemp("", "revlet-browser-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	cmd, err := preview.Browser(program, l.Proxy, l.Page, profile)
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start %s: %w", program, err)
	}
	stop := context.AfterFunc(ctx, func() { _ = cmd.Process.Kill() })
	defer stop()
	if err := cmd.Wait(); err != nil && ctx.Err() == nil {
		return fmt.Errorf("%s: %w", program, err)
	}
	return nil
}

// HostsFile is the system's hosts file; systemRoot is Windows's own folder.
func HostsFile(systemRoot string) string {
	if runtime.GOOS == "windows" {
		return filepath.Join(systemRoot, `System32\drivers\etc\hosts`)
	}
	return "/etc/hosts"
}

// mostHosts is how much of a hosts file is read, in bytes.
const mostHosts = 16 << 20

// HostsLeft are the lines of a hosts file that lead a site's names somewhere.
func (a *Agent) HostsLeft(site string, more []string, file string) ([]preview.Leftover, error) {
	names, err := a.siteNames(site, more)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, mostHosts))
	if err != nil {
		return nil, err
	}
	return preview.Leftovers(string(text), names), nil
}

// HostsLine is the line for a hosts file that leads a site's names to a machine.
func (a *Agent) HostsLine(site string, more []string, at netip.Addr) (string, error) {
	names, err := a.siteNames(site, more)
	return preview.Hosts(names, at), err
}

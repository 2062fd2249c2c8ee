//go:build linux

package main

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"time"
)

// badDay measures what matters when something is wrong: how long it takes to see
// what changed, what guarding an update costs, and for how long visitors find the
// site closed while it is put back.
func (b *bench) badDay() error {
	site := httptest.NewServer(http.FileServer(http.Dir(b.path("htdocs"))))
	defer site.Close()
	config := fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  museum:\n    root: ./htdocs\n    address: %s\n    stores: [here]\n    recipe: none\n    check: {path: /00/00/page-0.html}\n    databases: {main: {mysql: \"museum@127.0.0.1:%d/museum\", password_file: pw}}\n", site.URL, b.server.Port)
	fresh := []error{os.RemoveAll(b.path("archives")), os.RemoveAll(b.path("state")), os.MkdirAll(b.path("archives"), 0o755),
		os.WriteFile(b.path("revlet.yaml"), []byte(config), 0o600), os.WriteFile(b.path("pw"), []byte("x"), 0o600)}
	if err := errorsFirst(fresh...); err != nil {
		return err
	}
	time.Sleep(3 * time.Second)
	if _, err := measure(b.revlet("backup", "museum")); err != nil {
		return err
	}
	nothing := func() error { return nil }
	for _, v := range []versus{
		{"compare files, not read", 1.5, nothing, b.revlet("compare", "museum", "--only", "files"), b.shell("find htdocs -printf '%p %s %T@ %m %U %G %i\\n' > /dev/null")},
		{"compare files, read", 1.0, nothing, b.revlet("compare", "museum", "--only", "files", "--read"), b.shell("find htdocs -type f -print0 | xargs -0 -n 500 -P 2 sha256sum > /dev/null")},
		{"compare rows, unchanged", 1.5, nothing, b.revlet("compare", "museum", "--only", "database"), b.shell("mariadb-dump $C --single-transaction --quick museum > /dev/null")},
	} {
		if err := b.line(v); err != nil {
			return err
		}
	}
	return errorsFirst(b.guardCost(), b.window(site.URL))
}

// guardCost measures a guard around a command that does nothing.
func (b *bench) guardCost() error {
	var cost []float64
	for range *rounds {
		m, err := measure(b.revlet("guard", "museum", "--", "true"))
		if err != nil {
			return err
		}
		cost = append(cost, m.wall.Seconds())
	}
	fmt.Printf("%-26s %6.2f s  at most 3 s: %s\n", "guard around nothing", median(cost), verdict(median(cost), 3))
	return nil
}

// window asks for a page a hundred times a second while the whole site is put back.
func (b *bench) window(address string) error {
	page := "/00/00/page-0.html"
	var closed []float64
	for range *rounds {
		_ = b.revlet("settle", "museum", "--yes").Run()
		stop, told := make(chan struct{}), make(chan time.Duration)
		go func() { told <- unavailable(address+page, stop) }()
		_, err := measure(b.revlet("restore", "museum", "--yes"))
		close(stop)
		closed = append(closed, (<-told).Seconds())
		if err != nil {
			return err
		}
	}
	fmt.Printf("%-26s %6.3f s (%s)  at most 1 s: %s\n", "unavailable while restored", slices.Max(closed), strings.Trim(fmt.Sprintf("%.3f", closed), "[]"), verdict(slices.Max(closed), 1))
	return nil
}

// unavailable asks until it is stopped, and returns how long the page did not
// come, from the first to the last answer that was none.
func unavailable(url string, stop chan struct{}) time.Duration {
	const step = 10 * time.Millisecond
	tick := time.NewTicker(step)
	defer tick.Stop()
	var first, last time.Time
	for {
		select {
		case <-stop:
			if first.IsZero() {
				return 0
			}
			return last.Sub(first) + step
		case <-tick.C:
		}
		resp, err := http.Get(url)
		if err == nil {
			_ = resp.Body.Close()
		}
		if err != nil || resp.StatusCode != http.StatusOK {
			last = time.Now()
			if first.IsZero() {
				first = last
			}
		}
	}
}

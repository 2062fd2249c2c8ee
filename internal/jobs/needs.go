package jobs

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"slices"
	"strings"
	"time"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/check"
	"revlet/internal/site/tree"
)

// The verdicts on a need of a CMS.
const (
	NeedMet     = "met"
	NeedNotMet  = "not met"
	NeedUnknown = "not known"
)

// Requirement is something that the CMS of an archive needs at its new place.
type Requirement struct {
	What    string `json:"what"`
	Wants   string `json:"wants"`
	Has     string `json:"has"`
	Verdict string `json:"verdict"`
}

// php is what is known of the PHP at a new place.
type php struct {
	PHP     string   `json:"php"`
	Modules []string `json:"modules"`
	// from says where that is known from.
	from string
}

// tellPHP is PHP that says what it is.
const tellPHP = `echo json_encode(['php' => PHP_VERSION, 'modules' => get_loaded_extensions()]);`

// askLimit is how long PHP may take to say what it is.
const askLimit = 15 * time.Second

// needs compares what the CMS of the archive declares with what the new place has.
func (a *Agent) needs(ctx context.Context, m *Move) error {
	r := m.Site.Recipe
	if r == nil {
		return nil
	}
	wants := r.NeedsIn(func(rel string) ([]byte, error) { return m.Order.Archive.ReadFile(ctx, path.Join(site.RootLabel, rel)) })
	if wants.PHP != "" || len(wants.Modules) > 0 {
		has, err := a.phpThere(ctx, m)
		if err != nil {
			return err
		}
		m.Needs = append(m.Needs, judgePHP(wants, has)...)
	}
	for _, db := range m.Site.Databases {
		if wants.MySQL != "" && db.Engine == "mysql" {
			m.Needs = append(m.Needs, versionNeed("database server", wants.MySQL, m.servers[db.Label], ""))
		}
	}
	var not []string
	for _, n := range m.Needs {
		if n.Verdict == NeedNotMet {
			not = append(not, fmt.Sprintf("%s (wanted: %s; there: %s)", n.What, n.Wants, n.Has))
		}
	}
	if len(not) > 0 && !m.Order.Anyway {
		return reason.New(reason.NeedsNotMet, nil, "the new place lacks what %s %s needs: %s", r.Title, m.Order.Archive.Origin.Version, strings.Join(not, "; "))
	}
	return nil
}

func versionNeed(what, wants, has, from string) Requirement {
	n := Requirement{What: what, Wants: wants + " or newer", Has: has, Verdict: NeedUnknown}
	if from != "" && has != "" {
		n.Has += ", " + from
	}
	if ok, known := site.AtLeast(has, wants); known {
		n.Verdict = map[bool]string{true: NeedMet, false: NeedNotMet}[ok]
	}
	return n
}

func judgePHP(wants site.Needs, has php) []Requirement {
	var all []Requirement
	if wants.PHP != "" {
		all = append(all, versionNeed("PHP", wants.PHP, has.PHP, has.from))
	}
	if len(wants.Modules) == 0 {
		return all
	}
	n := Requirement{What: "modules of PHP", Wants: strings.Join(wants.Modules, ", "), Verdict: NeedUnknown}
	if has.PHP != "" {
		var missing []string
		for _, name := range wants.Modules {
			if !slices.ContainsFunc(has.Modules, func(m string) bool { return strings.EqualFold(m, name) }) {
				missing = append(missing, name)
			}
		}
		n.Verdict, n.Has = NeedMet, "all of them"
		if len(missing) > 0 {
			n.Verdict, n.Has = NeedNotMet, "not "+strings.Join(missing, ", ")
		}
	}
	return append(all, n)
}

// phpThere asks the PHP that somebody has named, the one of this machine, or the web server
// of the new place. Where none answers, nothing is known.
func (a *Agent) phpThere(ctx context.Context, m *Move) (php, error) {
	if named := m.Order.PHP; named != "" {
		found, err := exec.LookPath(named)
		if err != nil {
			return php{}, reason.BadUsage("%s: %w", named, err)
		}
		has, err := runPHP(ctx, found)
		if err != nil {
			return php{}, reason.BadUsage("%s does not say which PHP it is: %w", named, err)
		}
		has.from = named
		return has, nil
	}
	if found, err := exec.LookPath("php"); err == nil && !m.Site.Far() {
		if has, err := runPHP(ctx, found); err == nil {
			has.from = "as php is called on this machine"
			return has, nil
		}
	}
	if m.Order.Look {
		return php{}, nil
	}
	return a.servedPHP(ctx, m), nil
}

func runPHP(ctx context.Context, program string) (has php, err error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, "-d", "auto_prepend_file=", "-d", "display_errors=0", "-r", tellPHP) // #nosec G204 -- the person's own program
	cmd.WaitDelay = time.Second
	out, err := cmd.Output()
	if err != nil {
		return has, err
	}
	return has, json.Unmarshal(out, &has)
}

// servedPHP asks the web server of the new place by a page with a random name that is there
// for this one request. Whatever goes wrong, nothing is known.
func (a *Agent) servedPHP(ctx context.Context, m *Move) (has php) {
	name := "revlet-" + strings.ToLower(rand.Text()) + ".php"
	remove, err := a.putPage(ctx, m, name, "<?php @unlink(__FILE__); header('Content-Type: application/json'); "+tellPHP)
	if err != nil {
		return has
	}
	defer func() {
		if err := remove(); err != nil && !errors.Is(err, os.ErrNotExist) {
			a.warnf("a page that asked for PHP is left in the webroot: %w", err)
		}
	}()
	at := ""
	for _, c := range m.Site.Checks {
		at = c.At
	}
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	body, err := check.Get(ctx, m.Site.Address, "/"+name, at)
	if err != nil || json.Unmarshal(body, &has) != nil {
		return php{}
	}
	has.from = "as the web server says"
	return has
}

// putPage puts a page into the webroot of the new place, until remove is called.
func (a *Agent) putPage(ctx context.Context, m *Move, name, text string) (remove func() error, err error) {
	if m.Site.Far() {
		w, ok := m.Site.Place.(tree.Writer)
		if !ok {
			return nil, fmt.Errorf("nothing can be written to %s", m.Site.Place.Base())
		}
		page := path.Join(m.Site.PathAt(m.Entry.Root), name)
		if err := w.Create(ctx, page, []byte(text), 0o644); err != nil {
			return nil, err
		}
		return func() error { return w.RemoveAll(context.WithoutCancel(ctx), page) }, nil
	}
	root, err := disk.Way(m.Entry.Root)
	if err != nil {
		return nil, err
	}
	in, err := a.Disk.OpenRootNoLinks(root)
	if err != nil {
		return nil, err
	}
	f, err := in.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return nil, errors.Join(err, in.Close())
	}
	remove = func() error { return errors.Join(in.Remove(name), in.Close()) }
	_, err = f.WriteString(text)
	if err := errors.Join(err, f.Close()); err != nil {
		return nil, errors.Join(err, remove())
	}
	return remove, nil
}

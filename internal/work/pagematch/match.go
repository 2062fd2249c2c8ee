// Package pagematch compares a site on two machines page by page, as a visitor sees it.
//
// Match asks both for the same pages, makes their own addresses alike, and tells in what they differ:
// status, title, text, links, pictures and styles that are missing, errors that are shown. What differs
// from one call of the old machine to the next, such as nonces, times and counters, is learnt by asking
// it twice, and passed over. Pages are found from the front page, the site map and links; how many are
// asked for is bounded, and so is what is read of each.
//
// Both sites are foreign: nothing of them is run, no cookie is kept, no form is sent, no redirect is
// followed to another host, and only pages of the site are asked for. A page that one of them does not
// answer for is neither the same nor different.
package pagematch

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Order says what to compare.
type Order struct {
	Old, New Side
	// Pages is how many are asked for at most.
	Pages int
	// Special are paths that are asked for whatever leads there; Broken are texts that only a page in
	// trouble shows.
	Special, Broken []string
	// Rate is how many pages are asked for in a second at most; 0 is any number.
	Rate int
	// Told hears of each page; nil hears nothing. It is called by one goroutine at a time.
	Told func(done, known int)
}

// Verdict is what is known of a page.
type Verdict string

// The verdicts.
const (
	Same    Verdict = "the same"
	Differs Verdict = "differs"
	Unknown Verdict = "not compared"
)

// Page is one that both were asked for.
type Page struct {
	// Path is relative to the site's address.
	Path        string       `json:"path"`
	Verdict     Verdict      `json:"verdict"`
	Differences []Difference `json:"differences,omitempty"`
	Old         *Answer      `json:"old"`
	New         *Answer      `json:"new"`
}

// Report is what came of it.
type Report struct {
	Pages []Page `json:"pages"`
	// Same, Differ and Unknown count them; Walled are those that both answer with a log-in only.
	Same    int `json:"same"`
	Differ  int `json:"differ"`
	Unknown int `json:"unknown"`
	Walled  int `json:"walled"`
	// Files is how many pictures, styles and scripts were asked for, Left how many pages and files were
	// known and not asked for.
	Files int `json:"files"`
	Left  int `json:"left"`
	// OtherSite tells that the new machine seems to answer with another site altogether.
	OtherSite bool `json:"other_site"`
}

const (
	// lanes are how many pages are asked for at a time, variants how many of one path that differ in
	// their query only, mostQueued how many are remembered.
	lanes      = 2
	variants   = 3
	mostQueued = 20000
	// filesPerPage bounds how many files are asked for in all, by the number of pages.
	filesPerPage = 10
	// longestPath is the longest path that is followed, in bytes.
	longestPath = 1000
)

// ErrOldSilent is returned when the old machine does not answer for the front page: there is nothing to
// compare with.
var ErrOldSilent = errors.New("the old machine does not answer for the site's front page")

// matcher is one comparison.
type matcher struct {
	Order
	queue   []string
	known   set
	byPath  map[string]int
	left    int
	report  *Report
	files   map[string]*file
	ordered []string
}

// file is something that pages need.
type file struct{ pages []string }

// Match compares the two sites.
func Match(ctx context.Context, o Order) (*Report, error) {
	o.Old.open()
	defer o.Old.close()
	o.New.open()
	defer o.New.close()
	m := &matcher{Order: o, known: set{}, byPath: map[string]int{}, files: map[string]*file{}, report: &Report{}}
	front := m.Old.get(ctx, http.MethodGet, here+"/")
	if !front.reached() {
		return nil, fmt.Errorf("%s: %w: %s", m.Old.Base, ErrOldSilent, front.Why)
	}
	m.add(here + "/")
	for _, path := range o.Special {
		m.add(here + "/" + strings.TrimPrefix(path, "/"))
	}
	m.readSiteMaps(ctx)
	for len(m.queue) > 0 && len(m.report.Pages) < o.Pages && ctx.Err() == nil {
		m.next(ctx)
	}
	m.left += len(m.queue)
	m.askFiles(ctx)
	m.count()
	return m.report, ctx.Err()
}

// add remembers a page to be asked for.
func (m *matcher) add(path string) {
	if m.known[path] || len(path) > longestPath {
		return
	}
	bare, query, has := strings.Cut(path, "?")
	if len(m.known) >= mostQueued || has && query != "" && m.byPath[bare] >= variants {
		m.left++
		return
	}
	if has {
		m.byPath[bare]++
	}
	m.known[path] = true
	m.queue = append(m.queue, path)
}

// next compares the next few pages side by side.
func (m *matcher) next(ctx context.Context) {
	began := time.Now()
	n := min(lanes, len(m.queue), m.Order.Pages-len(m.report.Pages))
	paths := m.queue[:n]
	m.queue = m.queue[n:]
	pages := make([]Page, n)
	var all sync.WaitGroup
	for i, path := range paths {
		all.Go(func() { pages[i] = m.compare(ctx, path) })
	}
	all.Wait()
	for _, p := range pages {
		m.report.Pages = append(m.report.Pages, p)
		m.gather(p)
	}
	if m.Told != nil {
		m.Told(len(m.report.Pages), min(len(m.report.Pages)+len(m.queue), m.Order.Pages))
	}
	if m.Rate > 0 && len(m.queue) > 0 {
		select {
		case <-ctx.Done():
		case <-time.After(time.Until(began.Add(time.Duration(n) * time.Second / time.Duration(m.Rate)))):
		}
	}
}

// gather takes the links and files of a page, as the old machine has it, and where it leads.
func (m *matcher) gather(p Page) {
	path := here + "/" + p.Path
	if to := p.Old.Redirect; strings.HasPrefix(to, here+"/") {
		m.add(to)
	}
	if p.Old.page == nil {
		return
	}
	for _, link := range p.Old.page.follow {
		m.add(link)
	}
	names := p.Old.page.files
	if p.New.page != nil {
		names = p.New.page.files
	}
	for _, name := range sorted(names) {
		if !strings.HasPrefix(name, here+"/") {
			continue
		}
		f := m.files[name]
		if f == nil {
			if len(m.files) >= m.Order.Pages*filesPerPage {
				m.left++
				continue
			}
			f = &file{}
			m.files[name] = f
			m.ordered = append(m.ordered, name)
		}
		f.pages = append(f.pages, path)
	}
	p.Old.page, p.New.page, p.Old.body, p.New.body = nil, nil, nil, nil
}

func sorted(s set) []string {
	var all []string
	for text := range s {
		all = append(all, text)
	}
	slices.Sort(all)
	return all
}

// compare asks for one page: the old machine twice, the new one in between. What differs is asked for
// once more, for a page may be at fault for a moment.
func (m *matcher) compare(ctx context.Context, path string) Page {
	p := Page{Path: strings.TrimPrefix(path, here+"/")}
	var two *Answer
	for again := false; ; again = true {
		p.Old = m.ask(ctx, &m.Old, path)
		p.New = m.ask(ctx, &m.New, path)
		two = m.ask(ctx, &m.Old, path)
		p.Verdict, p.Differences = Unknown, nil
		if p.Old.reached() && p.New.reached() && two.reached() {
			p.Differences = m.differences(path, p.Old, two, p.New)
			p.Verdict = Same
			if len(p.Differences) > 0 {
				p.Verdict = Differs
			}
		}
		if p.Verdict == Same || again || ctx.Err() != nil {
			break
		}
	}
	return p
}

// ask asks one side for one page, and reads it.
func (m *matcher) ask(ctx context.Context, s *Side, path string) *Answer {
	a := s.get(ctx, http.MethodGet, path)
	if a.reached() && a.html() {
		if u, err := s.at(path); err == nil {
			a.page = parse(s, u, a.body, m.Broken)
			a.Title = a.page.title
		}
	}
	a.body = nil
	return a
}

// askFiles asks the new machine for what pages need, and the old one for what is missing there: what
// neither has is no difference.
func (m *matcher) askFiles(ctx context.Context) {
	missing := make([]*Difference, len(m.ordered))
	limit := make(chan struct{}, lanes*2)
	var all sync.WaitGroup
	for i, name := range m.ordered {
		limit <- struct{}{}
		all.Go(func() {
			defer func() { <-limit }()
			missing[i] = m.askFile(ctx, name)
		})
	}
	all.Wait()
	m.report.Files = len(m.ordered)
	for i, name := range m.ordered {
		if d := missing[i]; d != nil {
			m.broken(name, d)
		}
	}
}

// askFile returns in what a file differs, or nil. One of which nobody knows is nil, too.
func (m *matcher) askFile(ctx context.Context, name string) *Difference {
	head := func(s *Side) *Answer {
		a := s.get(ctx, http.MethodHead, name)
		if a.Status == http.StatusMethodNotAllowed || a.Status == http.StatusNotImplemented {
			a = s.get(ctx, http.MethodGet, name)
		}
		a.body = nil
		return a
	}
	now := head(&m.New)
	if now.reached() && now.Status < 300 && !now.html() {
		return nil
	}
	old := head(&m.Old)
	if !old.reached() || old.Status >= 400 {
		return nil
	}
	why := fmt.Sprint(now.Status)
	switch {
	case !now.reached():
		why = now.Why
	case now.Status < 300 && old.html() == now.html():
		return nil
	case now.Status < 300:
		why = "a page in its place"
	case now.Status < 400 && now.Redirect == old.Redirect:
		return nil
	}
	return &Difference{Kind: Broken, Old: []string{name}, New: []string{strings.TrimPrefix(name, here+"/") + ": " + why}}
}

// broken notes a file that is missing with every page that needs it.
func (m *matcher) broken(name string, d *Difference) {
	for _, path := range m.files[name].pages {
		i := slices.IndexFunc(m.report.Pages, func(p Page) bool { return here+"/"+p.Path == path })
		p := &m.report.Pages[i]
		if p.Verdict == Unknown {
			continue
		}
		p.Verdict = Differs
		if j := slices.IndexFunc(p.Differences, func(d Difference) bool { return d.Kind == Broken }); j >= 0 {
			p.Differences[j].New = append(p.Differences[j].New, d.New...)
			p.Differences[j].Old = append(p.Differences[j].Old, d.Old...)
		} else {
			p.Differences = append(p.Differences, *d)
		}
	}
}

// count sums up.
func (m *matcher) count() {
	r := m.report
	r.Left = m.left
	for _, p := range r.Pages {
		switch p.Verdict {
		case Same:
			r.Same++
		case Differs:
			r.Differ++
		default:
			r.Unknown++
		}
		walled := func(a *Answer) bool {
			return a.Status == http.StatusUnauthorized || a.Status == http.StatusForbidden
		}
		if walled(p.Old) && walled(p.New) {
			r.Walled++
		}
	}
	if len(r.Pages) > 0 {
		front := r.Pages[0]
		r.OtherSite = front.Verdict == Differs && front.New.Status < 400 && slices.ContainsFunc(front.Differences, func(d Difference) bool { return d.Kind == Title }) && r.Differ*5 >= len(r.Pages)*4
	}
}

// siteMap is a site map, or a list of them (the Sitemaps protocol).
type siteMap struct {
	URLs []struct {
		Loc string `xml:"loc"`
	} `xml:"url"`
	Maps []struct {
		Loc string `xml:"loc"`
	} `xml:"sitemap"`
}

// mostMaps is how many site maps are read.
const mostMaps = 20

// readSiteMaps adds the pages that the site's own maps name: those that robots.txt does, and the usual
// ones.
func (m *matcher) readSiteMaps(ctx context.Context) {
	maps := []string{here + "/sitemap.xml"}
	robots := m.Old.get(ctx, http.MethodGet, here+"/robots.txt")
	if robots.Status == http.StatusOK {
		for line := range strings.Lines(string(robots.body)) {
			key, value, _ := strings.Cut(line, ":")
			if strings.EqualFold(strings.TrimSpace(key), "sitemap") {
				maps = append(maps, m.Old.alike(m.Old.Base, value))
			}
		}
	}
	read := set{}
	for i := 0; i < len(maps) && len(read) < mostMaps && ctx.Err() == nil; i++ {
		if read[maps[i]] || !strings.HasPrefix(maps[i], here+"/") {
			continue
		}
		read[maps[i]] = true
		a := m.Old.get(ctx, http.MethodGet, maps[i])
		var s siteMap
		if a.Status != http.StatusOK || xml.NewDecoder(bytes.NewReader(a.body)).Decode(&s) != nil {
			continue
		}
		for _, u := range s.URLs[:min(len(s.URLs), mostQueued)] {
			if path := m.Old.alike(m.Old.Base, u.Loc); strings.HasPrefix(path, here+"/") {
				m.add(path)
			}
		}
		for _, u := range s.Maps[:min(len(s.Maps), mostMaps)] {
			maps = append(maps, m.Old.alike(m.Old.Base, u.Loc))
		}
	}
}

// URL is the address of a page on one side.
func (s Side) URL(p Page) string {
	u, err := s.at(here + "/" + p.Path)
	if err != nil {
		return ""
	}
	return u.String()
}

package pagematch

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Kind is in what two pages differ.
type Kind string

// In what pages may differ.
const (
	Status    Kind = "status"
	Redirects Kind = "redirect"
	Circle    Kind = "redirects in a circle"
	Type      Kind = "type"
	Title     Kind = "title"
	// MissingText, and MoreText, are paragraphs of one side only; Links are lost, Files are no
	// longer named.
	MissingText Kind = "text missing"
	MoreText    Kind = "text added"
	Links       Kind = "links lost"
	Files       Kind = "files lost"
	// Broken are files that the page names and the new machine does not have; Plainly those that a
	// page over https has over http.
	Broken  Kind = "files missing"
	Plainly Kind = "files over http"
	// Signs are errors that the page shows; Hidden that search engines are asked to leave it out;
	// Canonical that it names another address as its own; OldName that it leads to the old host.
	Signs     Kind = "errors shown"
	Hidden    Kind = "hidden from search engines"
	Canonical Kind = "canonical address"
	OldName   Kind = "leads to the old address"
	// Shrunken is a page that is a fraction of what it was.
	Shrunken Kind = "shrunken"
)

// Difference is one of them.
type Difference struct {
	Kind Kind `json:"kind"`
	// Old and New are what is there on each side.
	Old []string `json:"old,omitempty"`
	New []string `json:"new,omitempty"`
}

// changing is what of a page differs from one call to the next: nonces, times, counters.
type changing struct {
	// forms are texts with what varies in them taken out.
	forms set
	// free is how many texts were there once and not again, and are like nothing else.
	free int
}

// varies matches what may vary in a text: numbers, digests, random tokens.
var varies = regexp.MustCompile(`[0-9A-Fa-f]{8,}|[A-Za-z0-9_-]*[0-9][A-Za-z0-9_-]{11,}|[0-9]+`)

func form(text string) string { return varies.ReplaceAllString(text, "#") }

// learn takes the difference of two calls of the same page, or of two parts of it.
func learn(one, two set) changing {
	c := changing{forms: set{}}
	for _, pair := range [][2]set{{one, two}, {two, one}} {
		free := 0
		for text := range pair[0] {
			if !pair[1][text] {
				c.forms[form(text)] = true
				free++
			}
		}
		c.free = max(c.free, free)
	}
	return c
}

// lost are texts that both calls of the old page have, and the new page has not: but for those of
// which some like it are known to change.
func lost(one, two, now set, c changing) (all []string) {
	have := set{}
	for text := range now {
		have[form(text)] = true
	}
	for text := range one {
		if two[text] && !now[text] && !(c.forms[form(text)] && have[form(text)]) {
			all = append(all, text)
		}
	}
	slices.Sort(all)
	return all
}

// more are texts of the new page that no call of the old page had, but for those that change.
func more(one, two, now set, c changing) (all []string) {
	for text := range now {
		if !one[text] && !two[text] && !c.forms[form(text)] {
			all = append(all, text)
		}
	}
	slices.Sort(all)
	if len(all) <= c.free {
		return nil // in the place of what was there once
	}
	return all
}

const (
	// shrunkTo is the share of a page that is too little, of one that has leastBytes.
	shrunkTo   = 5
	leastBytes = 2 << 10
)

// differences compares the new answer with two calls of the old one.
func (m *matcher) differences(path string, one, two, now *Answer) (all []Difference) {
	add := func(kind Kind, old, new []string) {
		if len(old) > 0 || len(new) > 0 {
			all = append(all, Difference{Kind: kind, Old: old, New: new})
		}
	}
	switch {
	case now.Status != one.Status && now.Status != two.Status:
		return []Difference{{Status, []string{fmt.Sprint(one.Status)}, []string{fmt.Sprint(now.Status)}}}
	case now.Redirect == path && one.Redirect != path:
		return []Difference{{Circle, []string{one.Redirect}, []string{now.Redirect}}}
	case one.Redirect == two.Redirect && form(now.Redirect) != form(one.Redirect):
		return []Difference{{Redirects, []string{one.Redirect}, []string{now.Redirect}}}
	case one.html() != now.html():
		return []Difference{{Type, []string{one.Kind}, []string{now.Kind}}}
	case one.page == nil || two.page == nil || now.page == nil:
		return nil
	}
	o, t, n := one.page, two.page, now.page
	if o.title == t.title && n.title != o.title && form(n.title) != form(o.title) {
		add(Title, []string{o.title}, []string{n.title})
	}
	if signs := more(o.signs, t.signs, n.signs, changing{forms: set{}}); len(signs) > 0 {
		add(Signs, nil, signs)
	}
	texts := learn(o.texts, t.texts)
	add(MissingText, lost(o.texts, t.texts, n.texts, texts), nil)
	add(MoreText, nil, more(o.texts, t.texts, n.texts, texts))
	add(Links, lost(o.links, t.links, n.links, learn(o.links, t.links)), nil)
	add(Files, lost(o.files, t.files, n.files, learn(o.files, t.files)), nil)
	add(Plainly, nil, more(o.plainly, t.plainly, n.plainly, changing{forms: set{}}))
	add(OldName, nil, m.leadsBack(o, n))
	if n.hidden && !o.hidden {
		add(Hidden, nil, []string{"noindex"})
	}
	if o.canonical == t.canonical && n.canonical != o.canonical && n.canonical != "" {
		add(Canonical, []string{o.canonical}, []string{n.canonical})
	}
	if one.Bytes >= leastBytes && now.Bytes*shrunkTo < one.Bytes {
		add(Shrunken, []string{fmt.Sprint(one.Bytes)}, []string{fmt.Sprint(now.Bytes)})
	}
	return all
}

// leadsBack are links and files of the new page that name the old host, where the hosts differ.
func (m *matcher) leadsBack(o, n *page) (all []string) {
	if strings.EqualFold(m.Old.Base.Hostname(), m.New.Base.Hostname()) {
		return nil
	}
	for _, s := range []set{n.links, n.files} {
		for text := range s {
			if _, rest, ok := strings.Cut(text, "://"); ok {
				host, _, _ := strings.Cut(rest, "/")
				if strings.EqualFold(host, m.Old.Base.Host) && !o.links[text] && !o.files[text] {
					all = append(all, text)
				}
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

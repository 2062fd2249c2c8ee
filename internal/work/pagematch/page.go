package pagematch

import (
	"bytes"
	"net/url"
	"regexp"
	"strings"
	"sync"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// page is what of a page is compared.
type page struct {
	title string
	// texts are its paragraphs, links where it leads, files what it needs: pictures, styles, scripts
	// and frames; all made alike. frames of files are left out of what is asked for.
	texts, links, files set
	// plainly are files that a page over https has over http.
	plainly set
	// hidden tells that search engines are asked to leave it out; canonical is the address that it
	// names as its own.
	hidden    bool
	canonical string
	// signs are texts that only a page in trouble shows.
	signs set
	// follow are links that may be gone along, in their order.
	follow []string
}

// set is a set of texts.
type set map[string]bool

func (s set) add(text string) {
	if text != "" && len(s) < mostOfAPage {
		s[text] = true
	}
}

const (
	// mostOfAPage is how many texts, links or files of one page are looked at, mostText how long a
	// text may be in bytes.
	mostOfAPage = 5000
	mostText    = 4000
)

// breaks are elements that end a paragraph.
var breaks = map[atom.Atom]bool{
	atom.P: true, atom.Div: true, atom.Li: true, atom.Ul: true, atom.Ol: true, atom.Dt: true, atom.Dd: true, atom.H1: true, atom.H2: true, atom.H3: true, atom.H4: true, atom.H5: true, atom.H6: true,
	atom.Td: true, atom.Th: true, atom.Tr: true, atom.Table: true, atom.Br: true, atom.Hr: true, atom.Section: true, atom.Article: true, atom.Aside: true, atom.Nav: true, atom.Main: true, atom.Header: true,
	atom.Footer: true, atom.Form: true, atom.Fieldset: true, atom.Legend: true, atom.Option: true, atom.Button: true, atom.Label: true, atom.Blockquote: true, atom.Pre: true, atom.Figure: true, atom.Figcaption: true,
	atom.Body: true, atom.Head: true, atom.Html: true, atom.Title: true, atom.Address: true, atom.Details: true, atom.Summary: true,
}

// unseen are elements whose text nobody reads.
var unseen = map[atom.Atom]bool{atom.Script: true, atom.Style: true, atom.Template: true, atom.Noscript: true, atom.Svg: true, atom.Iframe: true, atom.Textarea: true}

// warnings matches what PHP, and databases, write into pages when something is wrong.
var warnings = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?:Warning|Notice|Deprecated|Fatal error|Parse error|Strict Standards): .{1,1000}? on line \d+|You have an error in your SQL syntax|SQLSTATE\[[0-9A-Z]{5}\]|Error establishing a database connection|Uncaught (?:Error|Exception|TypeError)`)
})

// parse reads a page. It never fails: what is no HTML has no texts and no links.
func parse(side *Side, at *url.URL, body []byte, broken []string) *page {
	r := reader{side: side, base: at, p: &page{texts: set{}, links: set{}, files: set{}, plainly: set{}, signs: set{}}}
	for _, text := range broken {
		if bytes.Contains(body, []byte(text)) {
			r.p.signs.add(text)
		}
	}
	z := html.NewTokenizer(bytes.NewReader(body))
	z.SetMaxBuf(pageMost + 1)
	for {
		switch z.Next() {
		case html.ErrorToken:
			r.flush()
			return r.p
		case html.TextToken:
			r.text(z.Text())
		case html.StartTagToken:
			r.open(z.Token(), false)
		case html.SelfClosingTagToken:
			r.open(z.Token(), true)
		case html.EndTagToken:
			r.end(z.Token().DataAtom)
		}
	}
}

// reader reads a page.
type reader struct {
	side *Side
	base *url.URL
	p    *page
	said strings.Builder
	// inside is the element that nobody reads the text of; title tells that this is the title's.
	inside atom.Atom
	title  bool
}

func (r *reader) text(b []byte) {
	switch {
	case r.title:
		if r.p.title == "" {
			r.p.title = r.neutral(squeeze(string(b)))
		}
	case r.inside == 0 && r.said.Len() < mostText:
		r.said.Write(b[:min(len(b), mostText)])
	}
}

// flush ends a paragraph.
func (r *reader) flush() {
	if r.said.Len() > 0 {
		text := squeeze(html.UnescapeString(r.said.String()))
		for _, found := range warnings().FindAllString(text, -1) {
			r.p.signs.add(found)
			text = squeeze(strings.Replace(text, found, " ", 1))
		}
		r.p.texts.add(r.neutral(text))
		r.said.Reset()
	}
}

// neutral has the site's own host name look alike on both sides.
func (r *reader) neutral(s string) string {
	return strings.ReplaceAll(s, r.side.Base.Hostname(), here)
}

func squeeze(s string) string { return strings.Join(strings.Fields(s), " ") }

func (r *reader) end(a atom.Atom) {
	if breaks[a] {
		r.flush()
	}
	if a == r.inside {
		r.inside = 0
	}
	if a == atom.Title {
		r.title = false
	}
}

func (r *reader) open(t html.Token, closed bool) {
	if breaks[t.DataAtom] {
		r.flush()
	}
	if r.inside != 0 {
		return
	}
	if unseen[t.DataAtom] && !closed {
		r.inside = t.DataAtom
	}
	attr := map[string]string{}
	for _, a := range t.Attr {
		if _, twice := attr[a.Key]; !twice {
			attr[a.Key] = a.Val
		}
	}
	switch t.DataAtom {
	case atom.Title:
		r.title = !closed
	case atom.Base:
		if u, err := r.base.Parse(attr["href"]); err == nil && attr["href"] != "" {
			r.base = u
		}
	case atom.A, atom.Area:
		r.link(attr)
	case atom.Form:
		r.p.links.add(r.side.alike(r.base, attr["action"]))
	case atom.Meta:
		if name := strings.ToLower(attr["name"]); name == "robots" && strings.Contains(strings.ToLower(attr["content"]), "noindex") {
			r.p.hidden = true
		}
	case atom.Link:
		r.linked(attr)
	case atom.Img, atom.Script, atom.Source, atom.Video, atom.Audio, atom.Iframe, atom.Embed, atom.Track, atom.Input:
		r.file(attr["src"])
		r.file(attr["poster"])
		for candidate := range strings.SplitSeq(attr["srcset"], ",") {
			name, _, _ := strings.Cut(strings.TrimSpace(candidate), " ")
			r.file(name)
		}
	}
}

func (r *reader) link(attr map[string]string) {
	to := r.side.alike(r.base, attr["href"])
	if attr["href"] == "" || to == "" {
		return
	}
	r.p.links.add(to)
	if strings.HasPrefix(to, here+"/") && !strings.Contains(attr["rel"], "nofollow") && len(r.p.follow) < mostOfAPage {
		r.p.follow = append(r.p.follow, to)
	}
}

// linked reads a link element: a style, an icon, or the page's own address.
func (r *reader) linked(attr map[string]string) {
	for kind := range strings.FieldsSeq(strings.ToLower(attr["rel"])) {
		switch kind {
		case "stylesheet", "icon", "manifest", "apple-touch-icon":
			r.file(attr["href"])
		case "canonical":
			r.p.canonical = r.side.alike(r.base, attr["href"])
		}
	}
}

func (r *reader) file(ref string) {
	if ref == "" {
		return
	}
	to := r.side.alike(r.base, ref)
	r.p.files.add(to)
	if u, err := r.base.Parse(ref); err == nil && u.Scheme == "http" && r.base.Scheme == "https" {
		r.p.plainly.add(to)
	}
}

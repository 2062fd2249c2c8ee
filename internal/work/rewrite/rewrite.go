// Package rewrite gives the values of a database the addresses and folders of another
// place, whatever they are wrapped in.
//
// An address is found as plain text, with http, https or neither before it, with and
// without `www.`, with slashes that JSON has escaped once or more often, and URL-encoded;
// a folder likewise. Only whole host names and whole path elements count: kestrel.example
// is not in new.kestrel.example, and /srv/kestrel not in /srv/kestrel-old. What PHP has
// serialised is taken apart and put together again with the right lengths, at any depth;
// JSON likewise, and either inside the other. Nothing else changes by a byte.
//
// What cannot be changed without risk stays as it is and is counted: see Left. Two
// functions to begin with are New and Rewriter.Value. A Rewriter is safe for concurrent
// use.
package rewrite

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"revlet/internal/platform/lazy"
)

// Options say what becomes what.
type Options struct {
	// Pairs are tried all at once; where two match, the longer one counts.
	Pairs []Pair
	// Mail has the host name changed in mail addresses, too.
	Mail bool
}

// Pair is an address, or a folder, and what takes its place. Addresses have a scheme, and
// may have a port and a path; folders are absolute paths.
type Pair struct{ Old, New string }

// Left counts what names the old place and was left as it is.
type Left struct {
	// Malformed are values that PHP has serialised and that are damaged, or pieces of such
	// values in a text: another length would damage them for good.
	Malformed int
	// Encoded are values in base64 in which the old place stands.
	Encoded int
	// Custom are objects that serialise themselves, and strings with escapes that no
	// version of PHP since 6 writes.
	Custom int
	// Mail are mail addresses, Keys are keys of arrays that would collide.
	Mail, Keys int
}

// Any tells whether anything was left.
func (l Left) Any() bool { return l != Left{} }

// Add adds another count.
func (l *Left) Add(o Left) {
	l.Malformed += o.Malformed
	l.Encoded += o.Encoded
	l.Custom += o.Custom
	l.Mail += o.Mail
	l.Keys += o.Keys
}

// Rewriter changes values.
type Rewriter struct {
	rules   []rule
	needles []needle
}

// deepest is how many values may lie in each other; PHP itself stops earlier.
const deepest = 200

// New returns a rewriter. An error says which pair is no address and no folder, or has two
// kinds.
func New(o Options) (*Rewriter, error) {
	r := &Rewriter{}
	for _, p := range o.Pairs {
		if strings.TrimRight(p.Old, "/") == strings.TrimRight(p.New, "/") {
			continue // a site that keeps its address keeps all that is said of it
		}
		rule, err := newRule(p, o.Mail)
		if err != nil {
			return nil, err
		}
		r.rules = append(r.rules, rule)
		r.needles = append(r.needles, rule.needle())
	}
	r.needles = fewest(r.needles)
	return r, nil
}

// fewest leaves out what is never there without another one: the names of a network's sites
// end with that of the network.
func fewest(all []needle) (few []needle) {
	for i, n := range all {
		implied := slices.ContainsFunc(all[:i], func(other needle) bool { return other.exact == n.exact && bytes.Equal(other.text, n.text) })
		implied = implied || slices.ContainsFunc(all, func(other needle) bool {
			return other.exact == n.exact && len(other.text) < len(n.text) && bytes.Contains(n.text, other.text)
		})
		if !implied {
			few = append(few, n)
		}
	}
	return few
}

// plainPath is what a new folder, or the path of a new address, may consist of: nothing that
// ends a string of PHP or JSON, or a word in a web server's rules, wherever it comes to
// stand.
var plainPath = lazy.Regexp(`^[\p{L}\p{N}/._~%@+=,:-]*$`)

func newRule(p Pair, mail bool) (rule, error) {
	if path := strings.TrimPrefix(strings.TrimPrefix(p.New, "https://"), "http://"); !plainPath().MatchString(path) {
		return nil, fmt.Errorf("%s has a character that settings and texts could take for something else; choose a name of letters and digits", p.New)
	}
	if strings.HasPrefix(p.Old, "/") != strings.HasPrefix(p.New, "/") {
		return nil, fmt.Errorf("%s and %s: one is a folder, the other none", p.Old, p.New)
	}
	if strings.HasPrefix(p.Old, "/") {
		from, to := elements(p.Old), elements(p.New)
		if len(from) == 0 {
			return nil, errors.New("the folder / is in every path: it cannot be replaced")
		}
		at := longest(from)
		return &folder{old: from, new: to, anchor: at, find: needle{text: []byte(from[at]), exact: true}}, nil
	}
	from, err := parse(p.Old)
	if err != nil {
		return nil, err
	}
	to, err := parse(p.New)
	if err != nil {
		return nil, err
	}
	bare := strings.TrimPrefix(from.host, "www.")
	return &address{bare: bare, port: from.port, path: from.path, to: to, mail: mail, find: newNeedle(bare)}, nil
}

func elements(path string) (all []string) {
	for e := range strings.SplitSeq(path, "/") {
		if e != "" {
			all = append(all, e)
		}
	}
	return all
}

// longest is the place of the longest element: the rarest text to look for.
func longest(all []string) (at int) {
	for i, e := range all {
		if len(e) > len(all[at]) {
			at = i
		}
	}
	return at
}

// place is an address in its pieces.
type place struct {
	scheme, host, port string
	path               []string
}

func parse(text string) (place, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return place{}, fmt.Errorf("%s is no address of a site: it is to be like https://kestrelpoint.example/visit", text)
	}
	return place{u.Scheme, strings.TrimSuffix(strings.ToLower(u.Hostname()), "."), u.Port(), elements(u.EscapedPath())}, nil
}

// Value returns a value for the new place, how often the old place was in it, and what was
// left. A value that does not change is returned as it is.
func (r *Rewriter) Value(v []byte) (out []byte, n int, left Left) {
	j := &job{Rewriter: r}
	out = j.value(v, 0)
	return out, j.n, j.left
}

// Mentions tells whether the old place may stand in a text; it errs to the safe side.
func (r *Rewriter) Mentions(v []byte) bool {
	for i := range r.needles {
		if r.needles[i].index(v, 0) >= 0 {
			return true
		}
	}
	return false
}

// job is the work on one value.
type job struct {
	*Rewriter
	n    int
	left Left
}

func (j *job) value(v []byte, depth int) []byte {
	if !j.Mentions(v) {
		if j.hidden(v) {
			j.left.Encoded++
		}
		return v
	}
	switch {
	case depth > deepest:
		j.left.Malformed++
		return v
	case serialised().Match(v):
		return j.serialised(v, depth)
	case isJSON(v):
		return j.json(v, depth)
	}
	return j.text(v)
}

// serialised matches how values begin that PHP has serialised and that hold text.
var serialised = lazy.Regexp(`^(?:[aO]:\+?\d+:[{"]|[sSCE]:\d+:")`)

// embedded matches how a string begins in what PHP has serialised, with a quote that JSON,
// HTML or an address may have escaped.
var embedded = lazy.Regexp(`[sS](?::|%3[aA])(\d{1,10})(?::|%3[aA])(?:"|\\+(?:"|u0022)|&quot;|&#0?34;|%22)`)

// hidden tells whether the old place stands in a value that is base64 as a whole.
func (j *job) hidden(v []byte) bool {
	if len(v) < 16 || len(v)%4 != 0 || bytes.IndexFunc(v[:16], func(r rune) bool { return !base64Digit(r) }) >= 0 {
		return false
	}
	if bytes.IndexFunc(bytes.TrimRight(v, "="), func(r rune) bool { return !base64Digit(r) }) >= 0 {
		return false
	}
	plain := make([]byte, base64.StdEncoding.DecodedLen(len(v)))
	n, err := base64.StdEncoding.Decode(plain, v)
	return err == nil && j.Mentions(plain[:n])
}

func base64Digit(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '+' || r == '/'
}

// text changes a text that is in no form of which Revlet knows the lengths.
func (j *job) text(v []byte) []byte {
	var out []byte
	from := 0
	spans := stringSpans(v)
	found := make([]match, len(j.rules))
	for i, rule := range j.rules {
		found[i] = rule.next(v, 0)
	}
	for {
		best := match{start: -1}
		for i, rule := range j.rules {
			if m := found[i]; m.start >= 0 && m.start < from {
				found[i] = rule.next(v, from)
			}
			if m := found[i]; m.start >= 0 && (best.start < 0 || m.start < best.start || m.start == best.start && m.end > best.end) {
				best = m
			}
		}
		switch {
		case best.start < 0:
			if out == nil {
				return v
			}
			return append(out, v[from:]...)
		case best.mail:
			j.left.Mail++
		case spans.hold(best.start):
			j.left.Malformed++
		default:
			out = append(append(out, v[from:best.start]...), best.to...)
			from = best.end
			j.n++
			continue
		}
		out = append(out, v[from:best.end]...)
		from = best.end
	}
}

// spans are where strings of what PHP has serialised lie in a text: in each, where one
// begins, and the furthest end of those that begin there or before.
type spans [][2]int

func stringSpans(v []byte) (all spans) {
	if !bytes.ContainsAny(v, `"\&%`) || !bytes.Contains(v, []byte("s:")) && !bytes.Contains(v, []byte("S:")) && !bytes.Contains(v, []byte("%3")) {
		return nil // quickly, for the expression below is slow
	}
	furthest := 0
	for _, m := range embedded().FindAllSubmatchIndex(v, -1) {
		length := 0
		for _, c := range v[m[2]:m[3]] {
			length = length*10 + int(c-'0')
		}
		if m[1]-m[3] > len(`:"`) {
			length *= 6 // what it holds is escaped as well, each byte by up to six
		}
		furthest = max(furthest, m[1]+length)
		all = append(all, [2]int{m[1], furthest})
	}
	return all
}

func (s spans) hold(at int) bool {
	i, found := slices.BinarySearchFunc(s, at, func(span [2]int, at int) int { return span[0] - at })
	if !found {
		i--
	}
	return i >= 0 && at < s[i][1]
}

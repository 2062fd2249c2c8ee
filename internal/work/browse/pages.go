package browse

import (
	"bytes"
	"context"
	_ "embed" // the page
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"

	"revlet/internal/archives/archive"
	"revlet/internal/work/compare"
)

//go:embed page.html
var pageText string

const (
	// mostListed is how many entries of a folder, or differences, are shown on a page.
	mostListed = 5000
	// mostPreviewed is up to how many bytes a text is shown, mostPictured a picture.
	mostPreviewed, mostPictured = 256 << 10, 20 << 20
	// rowsShown are on one page of a table; longestCell is how much of a value is shown.
	rowsShown, longestCell = 50, 300
)

// pictures are what browsers show without running anything of it, by the ends of names.
var pictures = map[string]string{".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif", ".webp": "image/webp", ".avif": "image/avif"}

// shown is what a page shows: one of Facts, Folder, Text or Picture, Table, and Report.
type shown struct {
	Title, Archive, Top string
	Trail               []link
	Facts               [][2]string
	Tables              []archive.Entry
	Others              []string
	Folder              []listed
	More                int
	File                *listed
	Text                string
	Picture             string
	NoPreview           string
	Columns             []string
	Rows                [][]cell
	Search              string
	Before, After       string
	Count               string
	Other               string
	Report              *compare.Report
}

type link struct{ Name, URL string }

// listed is a path in a folder.
type listed struct {
	Name, URL, Raw, Target string
	Folder                 bool
	Size                   int64
	MTime                  time.Time
	Mode, Owner            string
}

type cell struct {
	Text string
	// Cut is a value that is longer, Odd one that is no text.
	Cut, Odd bool
}

var page = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("browse").Funcs(template.FuncMap{
		"bytes": func(n int64) string { return humanize.Bytes(uint64(max(n, 0))) },
		"count": func(n int64) string { return humanize.Comma(n) },
		"when":  func(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") },
		"table": tableURL,
	}).Parse(pageText))
})

func tableURL(e archive.Entry) string {
	return "table/" + url.PathEscape(e.Database) + "/" + url.PathEscape(e.Table)
}

// page answers for one path below the token.
func (s *Server) page(w http.ResponseWriter, r *http.Request, rest string) {
	kind, in, _ := strings.Cut(rest, "/")
	var p *shown
	var err error
	switch {
	case rest == "":
		p = &shown{Title: s.Archive.Name, Facts: s.Facts, Tables: s.tree.tables, Others: s.Others}
	case kind == "files":
		p, err = s.files(r.Context(), strings.Trim(in, "/"))
	case kind == "raw":
		if err = s.raw(w, r, in); err == nil {
			return
		}
	case kind == "table":
		p, err = s.table(r, in)
	case kind == "changes":
		p, err = s.changes(r)
	default:
		err = fs.ErrNotExist
	}
	if err != nil {
		status := http.StatusInternalServerError
		if errors.Is(err, fs.ErrNotExist) {
			status = http.StatusNotFound
		}
		http.Error(w, "It cannot be shown: "+err.Error(), status)
		return
	}
	p.Archive, p.Top = s.Archive.Name, "/"+s.token+"/"
	var b bytes.Buffer
	if err := page().Execute(&b, p); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(b.Bytes())
}

// escaped is a path in an address.
func escaped(p string) string {
	parts := strings.Split(p, "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return strings.Join(parts, "/")
}

func (s *Server) listed(n *node) listed {
	l := listed{Name: n.name, URL: "files/" + escaped(n.Path), Raw: "raw/" + escaped(n.Path), Folder: n.folder(), MTime: n.MTime, Mode: n.Mode, Owner: strings.Trim(n.User+" "+n.Group, " "), Target: n.Target}
	if c, ok := s.tree.content(n); ok {
		l.Size = c.Size
	} else if !n.folder() {
		l.URL, l.Raw = "", ""
	}
	return l
}

// files shows a folder or a file.
func (s *Server) files(ctx context.Context, in string) (*shown, error) {
	n := s.tree.nodes[in]
	if n == nil {
		return nil, fmt.Errorf("%q: %w", in, fs.ErrNotExist)
	}
	p := &shown{Title: in}
	if in == "" {
		p.Title = "Files"
	}
	for at := in; at != "" && at != "."; at = path.Dir(at) {
		p.Trail = append([]link{{path.Base(at), "files/" + escaped(at)}}, p.Trail...)
	}
	if n.folder() {
		children := s.tree.children[in]
		for _, child := range children[:min(len(children), mostListed)] {
			p.Folder = append(p.Folder, s.listed(child))
		}
		p.More = len(children) - len(p.Folder)
		if p.Folder == nil {
			p.NoPreview = "It is empty."
		}
		return p, nil
	}
	l := s.listed(n)
	p.File = &l
	return p, s.preview(ctx, n, p)
}

// preview shows a text or a picture; what else a file is is only offered to be saved.
func (s *Server) preview(ctx context.Context, n *node, p *shown) error {
	c, ok := s.tree.content(n)
	switch {
	case !ok:
		p.NoPreview = "It leads to " + n.Target + "."
		return nil
	case pictures[strings.ToLower(path.Ext(n.name))] != "" && c.Size <= mostPictured:
		p.Picture = p.File.Raw + "?shown"
		return nil
	case c.Size > mostPreviewed:
		p.NoPreview = "It is too long to be shown here."
		return nil
	}
	f, err := s.open(ctx, n)
	if err != nil {
		return err
	}
	defer f.Close()
	data, err := io.ReadAll(f)
	if err != nil {
		return err
	}
	if bytes.IndexByte(data, 0) >= 0 || !utf8.Valid(data) {
		p.NoPreview = "It is no text."
		return nil
	}
	p.Text = string(data)
	return nil
}

// raw gives a file's bytes: to be saved, but for pictures, which a page shows.
func (s *Server) raw(w http.ResponseWriter, r *http.Request, in string) error {
	n := s.tree.nodes[in]
	if n == nil || n.folder() {
		return fmt.Errorf("%q: %w", in, fs.ErrNotExist)
	}
	f, err := s.open(r.Context(), n)
	if err != nil {
		return err
	}
	defer f.Close()
	kind := pictures[strings.ToLower(path.Ext(n.name))]
	if _, show := r.URL.Query()["shown"]; !show || kind == "" {
		kind = "application/octet-stream"
		w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": n.name}))
	}
	w.Header().Set("Content-Type", kind)
	http.ServeContent(w, r, "", n.MTime, f)
	return nil
}

// textsOf are the archive's tables; their index is read once.
func (s *Server) textsOf(ctx context.Context) (compare.Texts, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.texts == nil {
		texts, err := compare.TextsOf(context.WithoutCancel(ctx), s.Archive)
		if err != nil {
			return nil, err
		}
		s.texts = texts
	}
	return s.texts, nil
}

// errEnough ends the reading of a table whose page is full.
var errEnough = errors.New("enough")

// table shows rows of a table, those that hold a text if one is looked for.
func (s *Server) table(r *http.Request, in string) (*shown, error) {
	database, table, _ := strings.Cut(in, "/")
	i := slices.IndexFunc(s.tree.tables, func(e archive.Entry) bool { return e.Database == database && e.Table == table })
	if i < 0 {
		return nil, fmt.Errorf("table %q: %w", in, fs.ErrNotExist)
	}
	select {
	case s.reading <- struct{}{}:
		defer func() { <-s.reading }()
	case <-r.Context().Done():
		return nil, r.Context().Err()
	}
	texts, err := s.textsOf(r.Context())
	if err != nil {
		return nil, err
	}
	from, _ := strconv.Atoi(r.URL.Query().Get("from"))
	p := &shown{Title: "Table " + table, Search: r.URL.Query().Get("q"), Rows: [][]cell{}}
	seen, more := 0, false
	err = compare.EachRecord(r.Context(), texts, compare.TableName{Database: database, Table: table}, s.Archive.Origin.Databases[database].Engine, func(columns, values []string) error {
		p.Columns = columns
		if p.Search != "" && !slices.ContainsFunc(values, func(v string) bool { return strings.Contains(strings.ToLower(v), strings.ToLower(p.Search)) }) {
			return nil
		}
		if seen++; seen <= from {
			return nil
		}
		if len(p.Rows) == rowsShown {
			more = true
			return errEnough
		}
		p.Rows = append(p.Rows, cells(values))
		return nil
	})
	if err != nil && !more {
		return nil, err
	}
	at := func(from int) string {
		return tableURL(s.tree.tables[i]) + "?" + url.Values{"q": {p.Search}, "from": {strconv.Itoa(from)}}.Encode()
	}
	if from > 0 {
		p.Before = at(max(from-rowsShown, 0))
	}
	if more {
		p.After = at(from + rowsShown)
	}
	p.Count = fmt.Sprintf("%s rows in all; shown are %d from %d on", humanize.Comma(s.tree.tables[i].Rows), len(p.Rows), from+1)
	return p, nil
}

// cells are values as a page shows them, without what SQL has around them.
func cells(values []string) (all []cell) {
	for _, v := range values {
		c := cell{Text: v}
		if !utf8.ValidString(v) || strings.ContainsFunc(v, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' && r != '\r' }) {
			all = append(all, cell{Text: fmt.Sprintf("%d bytes", len(v)), Odd: true})
			continue
		}
		if text := []rune(c.Text); len(text) > longestCell {
			c.Text, c.Cut = string(text[:longestCell]), true
		}
		all = append(all, c)
	}
	return all
}

// changes shows what differs in another archive.
func (s *Server) changes(r *http.Request) (*shown, error) {
	other := r.URL.Query().Get("with")
	if !slices.Contains(s.Others, other) {
		return nil, fmt.Errorf("archive %q: %w", other, fs.ErrNotExist)
	}
	report, err := s.Compare(r.Context(), other)
	if err != nil {
		return nil, err
	}
	p := &shown{Title: "What differs in " + other, Other: other, Report: report}
	if len(report.Files) > mostListed {
		p.More = len(report.Files) - mostListed
		report.Files = report.Files[:mostListed]
	}
	return p, nil
}

package move

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"revlet/internal/database/rowvalues"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/compare"
	"revlet/internal/work/rewrite"
)

// RowChange counts the rows of a table in which a column got another value because of what
// the row is.
type RowChange struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	Column   string `json:"column"`
	// What says for people what is done, Rows to how many rows.
	What string `json:"what"`
	Rows int64  `json:"rows"`
	// TooLong are rows in which the value would not fit.
	TooLong int64 `json:"too_long"`
}

type tableName struct{ database, table string }

// values gives the values of a row: see rowvalues.RowChanger.
type values func(column string) ([]byte, bool)

// rowRule gives rows another value in a column.
type rowRule struct {
	count *RowChange
	// change returns the new value; false leaves the row.
	change func(row values) ([]byte, bool)
}

// rule adds a rule for a table.
func (p *Plan) rule(label, table, column, what string, change func(row values) ([]byte, bool)) {
	r := rowRule{&RowChange{Database: label, Table: table, Column: column, What: what}, change}
	name := tableName{label, table}
	p.rules[name] = append(p.rules[name], r)
	p.rowChanges = append(p.rowChanges, r.count)
}

// Looks implements rowvalues.RowChanger.
func (c *changer) Looks(table string) bool { return len(c.rules[tableName{c.label, table}]) > 0 }

var _ rowvalues.RowChanger = (*changer)(nil)

// Row implements rowvalues.RowChanger.
func (c *changer) Row(table string, row func(string) ([]byte, bool)) map[string][]byte {
	set := map[string][]byte{}
	for _, r := range c.rules[tableName{c.label, table}] {
		if c.keep[table+"."+r.count.Column] {
			continue
		}
		own := func(column string) ([]byte, bool) { // what another rule has made of it
			if v, ok := set[column]; ok && column == r.count.Column {
				return v, true
			}
			return row(column)
		}
		now, ok := r.change(own)
		was, there := own(r.count.Column)
		if !ok || there && bytes.Equal(was, now) {
			continue
		}
		w := c.widths[table][r.count.Column]
		c.mu.Lock()
		if w.Bytes > 0 && (int64(len(now)) > w.Bytes || w.Characters > 0 && int64(utf8.RuneCount(now)) > w.Characters) {
			r.count.TooLong++
			c.mu.Unlock()
			continue
		}
		r.count.Rows++
		c.writeDown(table, r.count.Column, was, now)
		c.mu.Unlock()
		set[r.count.Column] = now
	}
	return set
}

// is tells whether a column of a row has a value.
func is(row values, column, value string) bool {
	v, ok := row(column)
	return ok && string(v) == value
}

// own is the database that the recipe describes, with its tables in the archive.
type own struct {
	label, engine, prefix string
	tables                []string
}

// ownDatabase is the database in which the CMS keeps itself; false if no recipe says.
func (p *Plan) ownDatabase() (o own, ok bool) {
	if p.recipe == nil || len(p.recipe.Databases) != 1 {
		return o, false
	}
	for o.label = range p.recipe.Databases {
	}
	db, ok := p.to.Database(o.label)
	o.prefix, o.engine = db.Prefix, db.Engine
	for _, part := range p.archive.Parts {
		if part.Database == o.label && part.Table != "" && !slices.Contains(o.tables, part.Table) {
			o.tables = append(o.tables, part.Table)
		}
	}
	return o, ok
}

// each names a table of the CMS for each site of a network.
func (p *Plan) each(o own, table string) (all []string) {
	for _, sub := range p.recipe.SubPrefixes(o.prefix, o.tables) {
		if name := p.recipe.TableOf(o.prefix, sub, table); !slices.Contains(all, name) {
			all = append(all, name)
		}
	}
	return all
}

// setRow adds a rule for a recipe's row, in the tables of each site of a network.
func (p *Plan) setRow(o own, row site.Row, what string, change func(was []byte) ([]byte, bool)) {
	for _, table := range p.each(o, row.Table) {
		p.rule(o.label, table, row.Column, what, func(v values) ([]byte, bool) {
			if row.Where != "" && !is(v, row.Where, row.Is) {
				return nil, false
			}
			was, _ := v(row.Column)
			return change(was)
		})
	}
}

// host is the name, with its port, of an address.
func host(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return strings.ToLower(u.Host)
}

// rebased is a path of the old address at the new one.
func (p *Plan) rebased(path string) (string, bool) {
	from, to := basePath(p.from), basePath(p.to.Address)
	if rest, ok := strings.CutPrefix(path, from); ok {
		return to + rest, true
	}
	if path != "" && path+"/" == from {
		return strings.TrimSuffix(to, "/"), true
	}
	return path, false
}

// network adds what a network of sites needs: pairs for the addresses of sites that have a
// name of their own below the network's, and rules for the rows that say where each is.
func (p *Plan) network(ctx context.Context, o own) (pairs []rewrite.Pair, err error) {
	if len(p.recipe.Move.Network) == 0 || p.from == "" || p.to.Address == "" {
		return nil, nil
	}
	texts, err := compare.TextsOf(ctx, p.archive)
	if err != nil {
		return nil, err
	}
	for _, of := range p.recipe.Move.Network {
		table := o.prefix + of.Table
		if !slices.Contains(o.tables, table) {
			continue
		}
		err := compare.EachRow(ctx, texts, compare.TableName{Database: o.label, Table: table}, o.engine, func(r compare.Row) error {
			more, err := p.siteOfNetwork(strings.ToLower(r[of.Domain]), r[of.Path])
			pairs = append(pairs, more...)
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("the sites of the network in %s: %w", table, err)
		}
		p.rule(o.label, table, of.Domain, "the name of a site of the network", func(v values) ([]byte, bool) {
			domain, _ := v(of.Domain)
			now, ok := p.domains[strings.ToLower(string(domain))]
			return []byte(now), ok
		})
		p.rule(o.label, table, of.Path, "the path of a site of the network", func(v values) ([]byte, bool) {
			domain, _ := v(of.Domain)
			path, _ := v(of.Path)
			if _, moves := p.domains[strings.ToLower(string(domain))]; !moves {
				return nil, false
			}
			now, ok := p.rebased(string(path))
			return []byte(now), ok
		})
	}
	return pairs, nil
}

// mostSites bounds how many sites of a network are moved.
const mostSites = 5000

// siteOfNetwork notes what becomes of a site's domain, and returns the pairs that go with
// it.
func (p *Plan) siteOfNetwork(domain, path string) (pairs []rewrite.Pair, err error) {
	if _, known := p.domains[domain]; known || domain == "" || p.stays[domain] {
		return nil, nil
	}
	if len(p.domains)+len(p.stays) > mostSites {
		return nil, reason.New(reason.CannotMove, nil, "there are more than %d sites in the network", mostSites)
	}
	from, to := host(p.from), host(p.to.Address)
	for _, pair := range p.also {
		if host(pair.Old) == domain {
			p.domains[domain] = host(pair.New)
			return nil, nil
		}
	}
	under := "." + strings.TrimPrefix(from, "www.")
	label, below := strings.CutSuffix(domain, under)
	switch {
	case domain == from:
		p.domains[domain] = to
	case below:
		if basePath(p.to.Address) != "/" {
			return nil, reason.New(reason.CannotMove, nil, "the site %s of the network has a name of its own; such a network comes up at an address without a path, not at %s", domain, p.to.Address)
		}
		now := label + "." + strings.TrimPrefix(to, "www.")
		p.domains[domain] = now
		scheme, _, _ := strings.Cut(p.to.Address, "://")
		pairs = append(pairs, rewrite.Pair{Old: scheme + "://" + domain, New: scheme + "://" + now})
	default:
		p.stays[domain] = true
		p.notes = append(p.notes, Note{Host: strings.Clone(domain), Text: fmt.Sprintf("a site of the network has an address of its own, %s%s, and keeps it", domain, path)})
	}
	return pairs, nil
}

// extensionFile is an entry of the list of extensions that are loaded, extensionKey one of
// a table with the files as keys.
var (
	extensionFile = regexp.MustCompile(`i:\d+;s:\d+:"([^"]*)";`)
	extensionKey  = regexp.MustCompile(`s:\d+:"([^"]*)";i:\d+;`)
)

// withoutExtensions takes extensions out of a value that says which are loaded: those that
// are named by their folder or file, or all of them. false is a value of another form.
func withoutExtensions(v []byte, keys bool, names []string) ([]byte, bool) {
	entry := extensionFile
	if keys {
		entry = extensionKey
	}
	all := entry.FindAllSubmatch(v, -1)
	length := 0
	for _, m := range all {
		length += len(m[0])
	}
	if string(v) != fmt.Sprintf("a:%d:{%s}", len(all), bytes.Join(entry.FindAll(v, -1), nil)) || length == 0 && string(v) != "a:0:{}" {
		return nil, false
	}
	var kept []string
	for _, m := range all {
		file := string(m[1])
		folder, _, _ := strings.Cut(file, "/")
		if slices.Contains(names, AllExtensions) || slices.Contains(names, file) || slices.Contains(names, folder) || slices.Contains(names, strings.TrimSuffix(file, ".php")) {
			continue
		}
		one := fmt.Sprintf(`i:%d;s:%d:"%s";`, len(kept), len(file), file)
		if keys {
			one = string(m[0])
		}
		kept = append(kept, one)
	}
	return []byte(fmt.Sprintf("a:%d:{%s}", len(kept), strings.Join(kept, ""))), true
}

// withExtensions adds extensions to a list of those that are loaded. false is a value of
// another form.
func withExtensions(v []byte, more []string) ([]byte, bool) {
	all, ok := withoutExtensions(v, false, nil)
	if !ok {
		return nil, false
	}
	var files []string
	for _, m := range extensionFile.FindAllSubmatch(all, -1) {
		files = append(files, string(m[1]))
	}
	for _, file := range more {
		if !slices.Contains(files, file) {
			files = append(files, file)
		}
	}
	var out strings.Builder
	for i, file := range files {
		fmt.Fprintf(&out, `i:%d;s:%d:"%s";`, i, len(file), file)
	}
	return fmt.Appendf(nil, "a:%d:{%s}", len(files), out.String()), true
}

// AllExtensions stands, in Options.ExtensionsOff, for every one.
const AllExtensions = "all"

// seeExtensions remembers which of the extensions that are to be switched off are loaded.
func (p *Plan) seeExtensions(list []byte, names []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, name := range names {
		quoted := "\"" + name
		for _, end := range []string{"/", ".php\"", "\""} {
			p.seen[name] = p.seen[name] || bytes.Contains(list, []byte(quoted+end))
		}
	}
}

// unseen says which extensions were to be switched off, and are not loaded.
func (p *Plan) unseen() (all []Note) {
	if p.Dumped() && len(p.seen) == 0 { // each is noted, seen or not, when a list is read
		return nil // its rows are not read before it is moved
	}
	for _, name := range p.off {
		if name != AllExtensions && !p.seen[name] {
			all = append(all, Note{Text: "no extension called " + name + " is loaded, so that none was switched off"})
		}
	}
	return all
}

// noteOnce adds a note, if it is not there yet.
func (p *Plan) noteOnce(n Note) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !slices.Contains(p.notes, n) {
		p.notes = append(p.notes, n)
	}
}

// ownRows adds the rules for the rows that the recipe knows.
func (p *Plan) ownRows(o own, opt Options) error {
	for _, row := range p.recipe.Move.Anew {
		p.setRow(o, row, "emptied, for the CMS makes it anew", func([]byte) ([]byte, bool) { return nil, true })
	}
	if len(opt.ExtensionsOff) > 0 {
		if len(p.recipe.Move.Extensions) == 0 {
			return reason.BadUsage("how extensions of %s are switched off is not known", p.recipe.Title)
		}
		for _, list := range p.recipe.Move.Extensions {
			p.setRow(o, list.Row, "extensions switched off", func(was []byte) ([]byte, bool) {
				p.seeExtensions(was, opt.ExtensionsOff)
				now, ok := withoutExtensions(was, list.Keys, opt.ExtensionsOff)
				if !ok && len(was) > 0 {
					p.noteOnce(Note{Text: "a list of extensions is in a form that is not known, and they stay switched on: " + list.Table + "." + list.Column})
				}
				return now, ok
			})
		}
	}
	if !opt.Copy {
		return nil
	}
	if t := p.recipe.SiteTitle; t.Table != "" {
		p.setRow(o, t.Row, "the title says that it is a copy", func(was []byte) ([]byte, bool) {
			if bytes.HasPrefix(was, []byte(copyTitle)) {
				return nil, false
			}
			return slices.Concat([]byte(copyTitle), was), true
		})
	}
	for _, step := range p.recipe.Move.Copy {
		if step.Row != nil {
			p.setRow(o, *step.Row, step.What, func([]byte) ([]byte, bool) { return []byte(step.To), true })
		}
	}
	return nil
}

// copyTitle begins the title of a practice copy.
const copyTitle = "Copy of "

// RowChanges are the rows that were changed for what they are, where there were any.
func (p *Plan) changedRows() (all []RowChange) {
	for _, one := range p.rowChanges {
		if one.Rows+one.TooLong > 0 {
			all = append(all, *one)
		}
	}
	slices.SortStableFunc(all, func(a, b RowChange) int { return cmp.Compare(a.Table+a.Column, b.Table+b.Column) })
	return all
}

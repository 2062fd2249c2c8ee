package move

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/compare"
)

// goodPrefix is what may begin the names of tables: it goes into settings and names.
var goodPrefix = regexp.MustCompile(`^[A-Za-z0-9_]{1,20}$`)

// rename has the tables come under another prefix, and the values that begin with the old
// one change with them; of one site of a network, subRules does that.
func (p *Plan) rename(ctx context.Context, o own, prefix string, oneSite bool) error {
	if prefix == "" || prefix == o.prefix {
		return nil
	}
	switch {
	case !goodPrefix.MatchString(prefix):
		return reason.BadUsage("%q cannot begin the names of tables: letters, digits and _ can, 20 at most", prefix)
	case o.engine != "mysql" || p.recipe.Databases[o.label].Prefix == "":
		return reason.New(reason.CannotMove, nil, "the tables of a %s site in %s keep their prefix", p.recipe.Title, o.engine)
	case o.prefix == "":
		return reason.New(reason.CannotMove, nil, "the tables of archive %s have no prefix, so which of them are the site's cannot be told", p.archive.Name)
	}
	if err := p.onlyTables(ctx, o.label); err != nil {
		return err
	}
	p.prefix = prefix
	p.to = withPrefix(p.to, o.label, prefix)
	if oneSite {
		return nil
	}
	for _, of := range p.recipe.Move.Prefixed {
		for _, sub := range p.recipe.SubPrefixes(o.prefix, o.tables) {
			table := p.recipe.TableOf(o.prefix, sub, of.Table)
			if sub != "" && of.Is == "" {
				continue // a table that all sites share
			}
			p.rule(o.label, table, of.Column, "begins with the prefix of the tables", func(v values) ([]byte, bool) {
				was, _ := v(of.Column)
				rest, ok := strings.CutPrefix(string(was), o.prefix)
				return []byte(prefix + rest), ok && (of.Is == "" || rest == sub+of.Is)
			})
		}
	}
	return nil
}

// withPrefix is a site whose tables have another prefix.
func withPrefix(s *site.Site, label, prefix string) *site.Site {
	now := *s
	now.Databases = slices.Clone(s.Databases)
	for i := range now.Databases {
		if now.Databases[i].Label == label {
			now.Databases[i].Prefix = prefix
		}
	}
	return &now
}

// otherObjects are definitions that name tables, and which are not rewritten.
var otherObjects = regexp.MustCompile(`(?i)^\s*CREATE\b[^(]*?\b(VIEW|TRIGGER|FUNCTION|PROCEDURE|EVENT)\b|\bFOREIGN KEY\b`)

// onlyTables refuses a database in which something names tables: views, triggers and the
// like, and foreign keys.
func (p *Plan) onlyTables(ctx context.Context, label string) error {
	all, err := compare.Archive{Held: p.archive}.Definitions(ctx)
	if err != nil {
		return err
	}
	for _, stmt := range all[label] {
		if m := otherObjects.FindString(stmt); m != "" {
			return reason.New(reason.CannotMove, nil, "the database of archive %s has views, triggers, routines or foreign keys, which name its tables: %.80q…", p.archive.Name, strings.TrimSpace(stmt))
		}
	}
	return nil
}

// longestName is how many characters the name of a table may have.
const longestName = 64

// distinct refuses names that two tables would get, or that no table can have.
func (p *Plan) distinct() error {
	from := map[string]string{}
	for _, t := range p.own.tables {
		now, comes := p.table(p.own.label, t)
		if !comes {
			continue
		}
		if other, taken := from[strings.ToLower(now)]; taken {
			return reason.New(reason.CannotMove, nil, "two tables would be called %s: %s and %s", now, other, t)
		}
		if utf8.RuneCountInString(now) > longestName {
			return reason.New(reason.CannotMove, nil, "%s would be called %s, which is longer than %d characters", t, now, longestName)
		}
		from[strings.ToLower(now)] = t
	}
	return nil
}

// empty tells whether a table comes without its rows.
func (p *Plan) empty(label, name string) bool {
	if p.recipe == nil || label != p.own.label {
		return false
	}
	rest, ok := strings.CutPrefix(name, p.own.prefix)
	return ok && slices.ContainsFunc(p.recipe.Move.Empty, func(pattern string) bool {
		match, err := path.Match(pattern, rest)
		return err == nil && match
	})
}

// emptied are the tables that come without rows, with the rows that they had.
func (p *Plan) emptied() (all []Emptied) {
	for _, part := range p.archive.Parts {
		if part.Kind != archive.KindRows || part.Entries == 0 || !p.empty(part.Database, part.Table) {
			continue
		}
		if n := len(all); n > 0 && all[n-1].Table == part.Table && all[n-1].Database == part.Database {
			all[n-1].Rows += part.Entries
			continue
		}
		all = append(all, Emptied{part.Database, part.Table, part.Entries})
	}
	return all
}

// table is the name that a table of the archive gets; false if it does not come.
func (p *Plan) table(label, name string) (string, bool) {
	if label != p.own.label {
		return name, true
	}
	rest, ok := strings.CutPrefix(name, p.own.prefix)
	switch {
	case !ok:
		return name, true // of another program
	case p.sub != nil:
		return p.sub.table(p, rest)
	}
	return p.newPrefix(p.own) + rest, true
}

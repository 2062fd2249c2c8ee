package compare

import (
	"bytes"
	"context"
	"regexp"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/site/engine"
)

// Definition is something in a database whose definition differs: a table, an
// index, a view, a trigger, a routine.
type Definition struct {
	Database string `json:"database"`
	// Object is its kind and name.
	Object string `json:"object"`
	How    string `json:"how"`
	// Suspect says why a person should look at it.
	Suspect string `json:"suspect"`
}

var (
	// counter is where a table says which number comes next: that is of its rows.
	counter = regexp.MustCompile(` AUTO_INCREMENT=\d+`)
	// object matches what a statement makes, and its name as the servers quote it.
	object = regexp.MustCompile("(?is)^(?:CREATE|ALTER)\\s+(?:OR\\s+REPLACE\\s+)?(?:ALGORITHM=\\S+\\s+|SQL\\s+SECURITY\\s+\\S+\\s+|UNIQUE\\s+|UNLOGGED\\s+|TEMPORARY\\s+|VIRTUAL\\s+|CONSTRAINT\\s+|MATERIALIZED\\s+)*" +
		"(TABLE|INDEX|VIEW|TRIGGER|FUNCTION|PROCEDURE|EVENT|SEQUENCE|TYPE|DOMAIN|EXTENSION|RULE)\\s+(?:IF\\s+NOT\\s+EXISTS\\s+|ONLY\\s+)*([`\"][^`\"]*[`\"]|[^\\s(]+)")
	// runsByItself are kinds of objects that hold code.
	runsByItself = []string{"trigger", "function", "procedure", "event", "rule"}
)

// objectOf names what a statement defines; empty for those that define nothing.
func objectOf(stmt string) string {
	m := object.FindStringSubmatch(stmt)
	if m == nil {
		return ""
	}
	return strings.ToLower(m[1]) + " " + strings.Trim(m[2], "`\"")
}

// definitions compares the structure of the databases.
func (j Job) definitions(ctx context.Context, r *Report) error {
	before, err := j.A.Definitions(ctx)
	if err != nil {
		return err
	}
	after, err := j.B.Definitions(ctx)
	if err != nil {
		return err
	}
	for label := range after {
		if slices.Contains(r.NotCompared, label) {
			continue
		}
		r.Definitions = append(r.Definitions, differ(label, collect(before[label]), collect(after[label]))...)
	}
	// Tables that came or went are listed with their rows.
	r.Definitions = slices.DeleteFunc(r.Definitions, func(d Definition) bool {
		return d.How != Changed && slices.ContainsFunc(r.Tables, func(t Table) bool {
			return t.Database == d.Database && t.How == d.How && d.Object == "table "+t.Table
		})
	})
	return nil
}

// collect sorts statements by what they define; a table's constraints, say, are
// several, and servers do not list them in an order that lasts.
func collect(statements []string) map[string]string {
	by := map[string][]string{}
	for _, s := range statements {
		if name := objectOf(s); name != "" {
			by[name] = append(by[name], counter.ReplaceAllString(strings.TrimSpace(s), ""))
		}
	}
	all := map[string]string{}
	for name, of := range by {
		slices.Sort(of)
		all[name] = strings.Join(of, ";\n")
	}
	return all
}

func differ(label string, before, after map[string]string) []Definition {
	var all []Definition
	add := func(name, how string) {
		kind, _, _ := strings.Cut(name, " ")
		d := Definition{Database: label, Object: name, How: how}
		if how != Removed && slices.Contains(runsByItself, kind) {
			d.Suspect = "code that the database server runs"
		}
		all = append(all, d)
	}
	for name, text := range before {
		switch now, there := after[name]; {
		case !there:
			add(name, Removed)
		case now != text:
			add(name, Changed)
		}
	}
	for name := range after {
		if _, there := before[name]; !there {
			add(name, Added)
		}
	}
	slices.SortFunc(all, func(a, b Definition) int { return strings.Compare(a.Object, b.Object) })
	return all
}

// Definitions implements Side.
func (a Archive) Definitions(ctx context.Context) (map[string][]string, error) {
	ix, err := a.ReadDatabaseIndex(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string][]string{}
	for _, p := range a.Parts {
		if p.Kind != archive.KindSchema && p.Kind != archive.KindObjects {
			continue
		}
		var text bytes.Buffer
		if err := copyPart(ctx, a.Held, ix, p, &text); err != nil {
			return nil, err
		}
		statements, err := engine.Statements(a.Origin.Databases[p.Database].Engine, &text)
		if err != nil {
			return nil, err
		}
		all[p.Database] = append(all[p.Database], statements...)
	}
	return all, nil
}

// Keyed tells whether a table has a primary key, by which its rows are told
// apart, as far as the statements of its database say.
func Keyed(statements []string, table string) bool {
	return strings.Contains(strings.ToUpper(collect(statements)["table "+table]), "PRIMARY KEY")
}

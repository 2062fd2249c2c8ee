package compare

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"revlet/internal/site"
)

// SuspectRow is a row that a person should look at: an account that may do
// everything, or an option that loads code.
type SuspectRow struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	// How is added or changed.
	How string `json:"how"`
	// Name tells the row to people; Suspect says why it is here.
	Name    string `json:"name"`
	Suspect string `json:"suspect"`
	Sighting

	engine string
	// is finds the row in archives.
	is func(Row) bool
}

// Watcher judges the rows of a database by a recipe's rules.
type Watcher struct {
	Recipe *site.Recipe
	// Database labels the database; Engine and Prefix are its make and the prefix
	// of its tables.
	Database, Engine, Prefix string
	// Count is how many rows a table has on the larger side.
	Count func(table string) int64
	// Before and After give the rows of both sides.
	Before, After Texts
	// Tables are all tables of the database.
	Tables []string
	// sub is what begins the tables of a sub-site after the prefix.
	sub string
}

// Suspects judges the rows that differ in some tables.
func (w Watcher) Suspects(ctx context.Context, changed []string) ([]SuspectRow, error) {
	if w.Recipe == nil {
		return nil, nil
	}
	var all []SuspectRow
	for _, w.sub = range w.Recipe.SubPrefixes(w.Prefix, w.Tables) {
		for _, rule := range w.Recipe.Watch {
			table := w.Recipe.TableOf(w.Prefix, w.sub, rule.Table)
			if !slices.Contains(changed, table) || w.sub != "" && w.Recipe.Shares(rule.Table) && !rule.OfEach() {
				continue
			}
			found, err := w.judge(ctx, rule, table)
			if err != nil {
				return nil, fmt.Errorf("look at the rows of %s: %w", table, err)
			}
			for _, one := range found {
				if !slices.ContainsFunc(all, func(s SuspectRow) bool { return s.Table == one.Table && s.Name == one.Name && s.Suspect == one.Suspect }) {
					all = append(all, one)
				}
			}
		}
	}
	return all, nil
}

func (w Watcher) judge(ctx context.Context, rule site.Watch, table string) ([]SuspectRow, error) {
	j := &judge{rule: rule, is: w.named(rule.Is)}
	var err error
	if rule.Pick != "" {
		if j.pick, err = regexp.Compile(rule.Pick); err != nil {
			return nil, err
		}
	}
	if rule.Among != nil {
		if j.members, err = w.members(ctx, *rule.Among); err != nil {
			return nil, err
		}
	}
	name := TableName{w.Database, table}
	r := &rowComparison{name: name, engine: w.Engine, before: w.Before, after: w.After}
	r.matters = func(columns []string, row string) bool { return j.concerns(rowOf(columns, row, w.Engine)) }
	rows, err := r.run(ctx, w.Count(table))
	if err != nil {
		return nil, err
	}
	var all []SuspectRow
	add := func(how, before, after string) {
		was, is := Row(nil), rowOf(r.columns, after, w.Engine)
		if before != "" {
			was = rowOf(r.columns, before, w.Engine)
		}
		if why, picked := j.suspect(was, is); why != "" {
			all = append(all, SuspectRow{Database: w.Database, Table: table, How: how, Name: j.label(is, picked), Suspect: why,
				engine: w.Engine, is: j.again(r.columns, was, is, picked)})
		}
	}
	for _, p := range rows.Changed {
		add(Changed, p.Before, p.After)
	}
	for _, row := range rows.Added {
		add(Added, "", row)
	}
	return all, nil
}

// named puts the tables' prefix into a rule's values.
func (w Watcher) named(values []string) []string {
	var all []string
	for _, v := range values {
		all = append(all, strings.ReplaceAll(v, "{prefix}", w.Prefix+w.sub))
	}
	return all
}

// members collects, on the second side, the rows that a rule's condition names.
func (w Watcher) members(ctx context.Context, of site.Members) (map[string]bool, error) {
	j := &judge{rule: site.Watch{Where: of.Where, Column: of.In, Contains: of.Contains}, is: w.named(of.Is)}
	all := map[string]bool{}
	var columns []string
	head := func(line string) { columns = columnsOf(line) }
	err := eachRow(ctx, w.After, TableName{w.Database, w.Recipe.TableOf(w.Prefix, w.sub, of.Table)}, w.Engine, head, func(row []byte) error {
		if r := rowOf(columns, string(row), w.Engine); j.concerns(r) {
			all[r[of.Column]] = true
		}
		return nil
	})
	return all, err
}

// judge applies one rule.
type judge struct {
	rule    site.Watch
	is      []string
	pick    *regexp.Regexp
	members map[string]bool
}

// concerns tells whether a rule is about a row.
func (j *judge) concerns(r Row) bool {
	if j.rule.Where != "" && !slices.Contains(j.is, r[j.rule.Where]) {
		return false
	}
	if j.members != nil && !j.members[r[j.rule.Key]] {
		return false
	}
	return len(j.rule.Contains) == 0 || slices.ContainsFunc(j.rule.Contains, func(s string) bool { return strings.Contains(r[j.rule.Column], s) })
}

// suspect says why a row should be looked at, and what of it is new. was is nil
// for a row that is.
func (j *judge) suspect(was, is Row) (why string, picked []string) {
	switch {
	case !j.concerns(is):
		return "", nil
	case j.pick != nil:
		if picked = j.newMatches(was[j.rule.Column], is[j.rule.Column]); len(picked) == 0 {
			return "", nil
		}
	case was != nil && len(j.rule.Columns) > 0:
		var differ []string
		for _, c := range j.rule.Columns {
			if was[c] != is[c] {
				differ = append(differ, c)
			}
		}
		if len(differ) == 0 {
			return "", nil
		}
		return j.rule.What + ": " + strings.Join(differ, ", ") + " differs", nil
	case was != nil && j.rule.Column != "" && was[j.rule.Column] == is[j.rule.Column]:
		return "", nil
	}
	return j.rule.What, picked
}

// newMatches are the matches that only the second text has.
func (j *judge) newMatches(was, is string) []string {
	matches := func(s string) []string {
		var all []string
		for _, m := range j.pick.FindAllStringSubmatch(s, -1) {
			all = append(all, m[len(m)-1])
		}
		return all
	}
	old := matches(was)
	return slices.Compact(slices.Sorted(slices.Values(slices.DeleteFunc(matches(is), func(m string) bool { return slices.Contains(old, m) }))))
}

// again finds a suspect row in an archive: by its first column, and by what is
// suspect of it.
func (j *judge) again(columns []string, was, is Row, picked []string) func(Row) bool {
	if len(columns) == 0 {
		return func(Row) bool { return false }
	}
	key := columns[0]
	same := slices.Clone(j.rule.Columns)
	if j.rule.Column != "" {
		same = append(same, j.rule.Column)
	}
	return func(r Row) bool {
		switch {
		case r[key] != is[key]:
			return false
		case len(picked) > 0:
			return len(j.newMatches("", r[j.rule.Column])) > 0 && !slices.ContainsFunc(picked, func(p string) bool { return !slices.Contains(j.newMatches("", r[j.rule.Column]), p) })
		case was == nil:
			return true
		}
		return !slices.ContainsFunc(same, func(c string) bool { return r[c] != is[c] })
	}
}

// label tells a row to people.
func (j *judge) label(r Row, picked []string) string {
	name := r[j.rule.Name]
	switch {
	case len(picked) > 0 && name != "":
		return name + ": " + strings.Join(picked, ", ")
	case len(picked) > 0:
		return strings.Join(picked, ", ")
	case name == "":
		return j.rule.Table
	}
	return name
}

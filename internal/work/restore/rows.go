package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/site"
)

// TablesByLabel names the tables of each database of an archive that have rows in it.
// The tables of a database that is held as text of another program stand in that text:
// dumped names them.
func TablesByLabel(h *catalog.Held, dumped func(archive.Part) ([]string, error)) (map[string][]string, error) {
	all := h.Tables()
	for _, p := range h.Parts {
		if p.Kind == archive.KindDump {
			made, err := dumped(p)
			if err != nil {
				return nil, err
			}
			all[p.Database] = made
		}
	}
	return all, nil
}

// RowShares makes shares of databases, by label, out of names of tables and of
// rows as a person gives them: with or without the site's prefix. held are the archive's
// tables by label. What belongs to a row is said by the site's recipe.
func RowShares(s *site.Site, h *catalog.Held, held map[string][]string, tables []string, rows []database.RowPick) (map[string]*database.RowSelection, error) {
	shares := map[string]*database.RowSelection{}
	share := func(label string) *database.RowSelection {
		if shares[label] == nil {
			shares[label] = &database.RowSelection{Archived: held[label], Relations: relations(s, h.Origin.Databases[label].Prefix, held[label])}
		}
		return shares[label]
	}
	for _, name := range tables {
		label, table, err := h.FindTable(held, name)
		if err != nil {
			return nil, err
		}
		if of := share(label); !slices.Contains(of.Tables, table) {
			of.Tables = append(of.Tables, table)
		}
	}
	for _, r := range rows {
		label, table, err := h.FindTable(held, r.Table)
		if err != nil {
			return nil, err
		}
		r.Table = table
		of := share(label)
		if slices.Contains(of.Tables, table) {
			return nil, fmt.Errorf("table %s is asked for whole and by its rows: choose one", table)
		}
		of.Rows = append(of.Rows, r)
	}
	return shares, nil
}

// relations are the recipe's, with the tables' complete names.
func relations(s *site.Site, prefix string, tables []string) []database.Relation {
	if s.Recipe == nil {
		return nil
	}
	var all []database.Relation
	for _, sub := range s.Recipe.SubPrefixes(prefix, tables) {
		for _, r := range s.Recipe.Relations {
			for _, one := range relationsOf(s.Recipe, r, prefix, sub, tables) {
				if !slices.Contains(all, one) { // between tables that all sub-sites share
					all = append(all, one)
				}
			}
		}
	}
	return all
}

// relationsOf are the relations that a rule means in one sub-site.
func relationsOf(recipe *site.Recipe, r site.Relation, prefix, sub string, tables []string) (all []database.Relation) {
	to := r.To
	if r.Parent != "" {
		to = r.Parent
	}
	from, fromColumn, _ := strings.Cut(r.From, ".")
	table, column, _ := strings.Cut(to, ".")
	one := database.Relation{From: recipe.TableOf(prefix, sub, from), FromColumn: fromColumn, Column: column, Where: r.Where, Is: r.Is, Keep: r.Keep, Parent: r.Parent != ""}
	begin := prefix + sub
	if recipe.Shares(table) {
		begin = prefix
	}
	for _, name := range tables {
		rest, ours := strings.CutPrefix(name, begin)
		if ok, err := doublestar.Match(table, rest); ours && ok && err == nil {
			one.Table = name
			all = append(all, one)
		}
	}
	return all
}

// selectRows picks the rows of every share and counts them.
func (r *run) selectRows(ctx context.Context) error {
	if r.Rows == nil {
		return nil
	}
	var total int64
	for _, p := range r.journal.Databases {
		if err := r.targets[p.Label].Select(ctx, p, *r.Rows[p.Label]); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
		r.result.Moves = append(r.result.Moves, p.Rows.Moves...)
		for _, m := range p.Rows.Moves {
			total += m.Put
			if m.Put > 0 {
				r.result.Tables++
			}
			if m.Triggers {
				p.Notes = append(p.Notes, "table "+m.Table+" has triggers, which run for each row")
			}
			if m.Made {
				p.Notes = append(p.Notes, "table "+m.Table+" was gone and is made again, without triggers and foreign keys; restoring the whole database brings those back")
			}
		}
		r.caveats(p, r.Rows[p.Label])
	}
	r.result.Rows = total
	if total == 0 && !slices.ContainsFunc(r.journal.Databases, func(p *database.Plan) bool { return len(p.Rows.Moves) > 0 }) {
		return errors.New("nothing of that is missing")
	}
	return r.journal.save()
}

// caveats notes what rows do not bring along by themselves.
func (r *run) caveats(p *database.Plan, share *database.RowSelection) {
	if r.Site.Recipe == nil || r.Files {
		return
	}
	prefix := r.Archive.Origin.Databases[p.Label].Prefix
	seen := map[string]bool{}
	for _, pick := range share.Rows {
		name := strings.TrimPrefix(pick.Table, prefix)
		for _, sub := range r.Site.Recipe.SubPrefixes(prefix, []string{pick.Table}) {
			name = strings.TrimPrefix(name, sub)
		}
		text := r.Site.Recipe.Caveats[name]
		if text != "" && !seen[text] {
			seen[text] = true
			p.Notes = append(p.Notes, text)
		}
	}
}

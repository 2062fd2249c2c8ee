package database

import "slices"

// RowSelection limits a restore to some of a database: tables, or rows with what
// belongs to them.
type RowSelection struct {
	// Tables come back whole. Their definitions stay those of the live tables; a
	// table that is gone is made again.
	Tables []string
	Rows   []RowPick
	// Archived are the tables that the archive has.
	Archived []string
	// Relations say which other rows belong to a row.
	Relations []Relation
	// Fill puts back only rows that are missing.
	Fill bool
	// Anyway puts back rows whose parents are gone.
	Anyway bool
}

// RowPick names the rows of a table in which a column has a value, compared as
// text.
type RowPick struct{ Table, Column, Value string }

// Relation says which rows belong to a row of From: those of Table whose Column
// is the row's FromColumn and, if Where is given, whose Where is Is.
type Relation struct {
	From, FromColumn string
	Table, Column    string
	Where, Is        string
	// Keep leaves what is live as it is and adds only what is missing; otherwise
	// the rows of a relation become exactly the archive's.
	Keep bool
	// Parent is set when the other row must be there already: it is not put back.
	// A FromColumn that is empty or 0 refers to none.
	Parent bool
}

// Staged names every table that a share reads from the archive, in the order in which
// relations lead to them.
func (s RowSelection) Staged() []string {
	var all []string
	seen := map[string]bool{}
	add := func(table string) {
		if !seen[table] && slices.Contains(s.Archived, table) {
			seen[table] = true
			all = append(all, table)
		}
	}
	for _, t := range s.Tables {
		add(t)
	}
	for _, r := range s.Rows {
		add(r.Table)
	}
	if len(s.Rows) == 0 {
		return all
	}
	for i := 0; i < len(all); i++ {
		for _, r := range s.Relations {
			if r.From == all[i] && !r.Parent {
				add(r.Table)
			}
		}
	}
	return all
}

// RowPlan is how a share is put into live tables.
type RowPlan struct {
	// Staged are the tables that are loaded for it.
	Staged []string `json:"staged"`
	// Moves stand in the order in which rows are put in: parents first.
	Moves []RowMove `json:"moves,omitempty"`
}

// RowMove is one table of a RowPlan.
type RowMove struct {
	Table string `json:"table"`
	// Columns are those of the archive's table; Key is the live one's primary key.
	Columns []string `json:"columns"`
	Key     []string `json:"key"`
	// Picked and Aside are the tables, in the plan's aside place, of the rows
	// that come and of those that go.
	Picked string `json:"picked"`
	Aside  string `json:"aside"`
	// Goes are conditions on live rows, named l, that go.
	Goes []string `json:"goes,omitempty"`
	// Made is set when the live table was gone and is made again.
	Made bool `json:"made,omitempty"`
	// Put counts the rows that come.
	Put int64 `json:"put"`
	// Triggers tells that the live table has some, which run.
	Triggers bool `json:"triggers,omitempty"`
}

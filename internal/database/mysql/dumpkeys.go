package mysql

import (
	"fmt"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
)

// This file takes the foreign keys out of a dump's definitions. It is for tables that are
// staged in the live database under other names: a foreign key's name is unique in a
// database, and the table it refers to would be the live one. The keys are made once the
// tables bear their right names.

// takeKeys takes the foreign keys out of the rest of a statement about a table: the
// columns and keys of CREATE TABLE, the clauses of ALTER TABLE. left tells whether
// anything is left to run; false for ok means a key that is not understood.
func (g *dumpGate) takeKeys(r *tokenReader, table string) (left, ok bool) {
	inParens := r.Take("(")
	if !inParens && !r.Peek().Is("ADD") && !r.Peek().Is("MODIFY") {
		return true, true
	}
	comma := -1 // the place of the one before this clause
	for {
		from := r.Place()
		key, ok := r.foreignKey(table)
		switch {
		case !ok:
			return false, false
		case key == nil:
			left = true
			if !r.passClause() {
				return false, false
			}
		default:
			if key.Name == "" {
				key.Name = fmt.Sprintf("%s_ibfk_%d", table, len(g.keys)+1)
			}
			g.keys = append(g.keys, *key)
		}
		until, more := r.Place(), r.Take(",")
		if key != nil {
			g.blankClause(r, comma, from, until, more, left)
		}
		if !more {
			return left, true
		}
		if key == nil || left {
			comma = until
		}
	}
}

// blankClause takes a clause out, with one of the commas beside it.
func (g *dumpGate) blankClause(r *tokenReader, comma, from, until int, more, left bool) {
	switch {
	case left && comma >= 0:
		from = comma
	case more:
		until++
	}
	r.Blank(from, until)
}

// passClause passes over what is no foreign key, up to the comma or parenthesis that
// ends it. A column that refers to another table by itself, as no dump writes it, is
// none that may pass.
func (r *tokenReader) passClause() bool {
	for !r.End() {
		switch t := r.Peek(); {
		case t.Is(","), t.Is(")"):
			return true
		case t.Is("REFERENCES"):
			return false
		case t.Is("("):
			if _, ok := r.Parens(); ok {
				continue
			}
		}
		r.Next()
	}
	return true
}

// foreignKey passes over [ADD] [CONSTRAINT [name]] FOREIGN KEY …; nil means that none
// stands here, false for ok that one does which is not understood. Its definition is
// written anew from what was looked at.
func (r *tokenReader) foreignKey(table string) (key *database.ForeignKey, ok bool) {
	start := r.Mark()
	r.Take("ADD")
	key = &database.ForeignKey{Table: table}
	if r.Take("CONSTRAINT") && !r.Peek().Is("FOREIGN") {
		if key.Name, ok = r.Name(); !ok {
			r.Reset(start)
			return nil, true // a check without a name
		}
	}
	if !r.Take("FOREIGN", "KEY") {
		r.Reset(start)
		return nil, true
	}
	if r.Take("IF", "NOT", "EXISTS"); !r.Peek().Is("(") {
		r.Name() // that of an index: the server makes one anyway
	}
	from := r.Place()
	if !r.columnList() || !r.Take("REFERENCES") {
		return nil, false
	}
	// One to another database would reach beyond what is restored.
	if _, ok = r.Name(); !ok || r.Peek().Is(".") {
		return nil, false
	}
	if !r.columnList() {
		return nil, false
	}
	for r.Take("MATCH") || r.Take("ON", "DELETE") || r.Take("ON", "UPDATE") {
		if !r.TakeOne("RESTRICT", "CASCADE", "FULL", "PARTIAL", "SIMPLE") && !r.Take("SET", "NULL") && !r.Take("SET", "DEFAULT") && !r.Take("NO", "ACTION") {
			return nil, false
		}
	}
	key.Definition = "FOREIGN KEY " + sqltext.Write(r.Tokens[from:r.Place()], false)
	return key, r.End() || r.Peek().Is(",") || r.Peek().Is(")")
}

// columnList passes over names in parentheses.
func (r *tokenReader) columnList() bool {
	inner, ok := r.Parens()
	list := newTokenReader(inner)
	for ok && !list.End() {
		_, ok = list.Name()
		ok = ok && (list.End() || list.Take(","))
	}
	return ok && len(inner) > 0
}

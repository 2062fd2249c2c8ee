package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"revlet/internal/database"
)

// table is one table as the dump needs to know it.
type table struct {
	name string
	// kind is BASE TABLE, SYSTEM VERSIONED or SEQUENCE.
	kind    string
	engine  string
	bytes   int64
	create  string
	columns []column
	// key orders the rows: the primary key, another unique key, or all columns.
	key []string
	// period names the columns that bound a row's time, for tables that keep
	// their past.
	period [2]string
	// unchanged is set when the server vouches for its rows, so that they are not read.
	unchanged bool
	// intKey is set when key is one integer column, by which it can be sliced.
	intKey bool
}

// transactional tells whether a snapshot covers the table.
func (t *table) transactional() bool {
	return strings.EqualFold(t.engine, "InnoDB") || strings.EqualFold(t.engine, "RocksDB") || strings.EqualFold(t.engine, "TokuDB")
}

// elsewhere tells whether the table's rows are not in the database.
func (t *table) elsewhere() bool {
	return t.kind != "SEQUENCE" && t.engine != "" && !slices.ContainsFunc(engines, func(e string) bool { return strings.EqualFold(e, t.engine) })
}

// form is how a column's values are written as SQL.
type form int

const (
	formNumber form = iota // as the server writes it
	formFloat              // read as double, so that no digit is lost
	formBytes              // 0x…
	formText               // '…' in the column's own bytes
	formTyped              // _utf8mb4'…': types that a binary literal does not suit
)

type column struct {
	name string
	form form
}

// StagingPattern matches names of tables that a restore stages or sets aside.
const stagePrefix, asidePrefix = "rv_new_", "rv_old_"

// listTables finds the tables of the database and its views' names.
func (db *Database) listTables(ctx context.Context, conn *sql.Conn) (tables []*table, views []string, err error) {
	rows, err := conn.QueryContext(ctx, `SELECT TABLE_NAME, TABLE_TYPE, COALESCE(ENGINE, ''), COALESCE(DATA_LENGTH, 0)
		FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() ORDER BY TABLE_NAME`)
	if err != nil {
		return nil, nil, fmt.Errorf("list tables: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		t := &table{}
		if err := rows.Scan(&t.name, &t.kind, &t.engine, &t.bytes); err != nil {
			return nil, nil, err
		}
		switch {
		case db.c.only != "":
			if strings.HasPrefix(t.name, db.c.only) && t.kind != "VIEW" {
				tables = append(tables, t)
			}
		case strings.HasPrefix(t.name, stagePrefix), strings.HasPrefix(t.name, asidePrefix), t.kind == "TEMPORARY":
		case t.kind == "VIEW", t.kind == "SYSTEM VIEW":
			views = append(views, t.name)
		default:
			tables = append(tables, t)
		}
	}
	slices.SortFunc(tables, func(a, b *table) int { return strings.Compare(a.name, b.name) })
	return tables, views, rows.Err()
}

// neighbours splits off the tables and views of other sites: those under
// another prefix with which all of the recipe's own tables exist as well.
func (db *Database) neighbours(tables []*table, views []string) (mine []*table, myViews, others []string) {
	prefix, own := db.c.Prefix, db.c.OwnTables
	if len(own) == 0 {
		return tables, views, nil
	}
	names := map[string]bool{}
	for _, t := range tables {
		names[t.name] = true
	}
	var foreign []string
	for name := range names {
		p, ok := strings.CutSuffix(name, own[0])
		if !ok || p == prefix || slices.ContainsFunc(own, func(o string) bool { return !names[p+o] }) {
			continue
		}
		// The tables of a network of sites in one installation (kp_2_posts)
		// begin with its own prefix and have no users of their own.
		foreign = append(foreign, p)
	}
	theirs := func(name string) bool {
		p := longest(name, append(foreign, prefix))
		return p != prefix && p != ""
	}
	for _, t := range tables {
		if theirs(t.name) {
			others = append(others, t.name)
		} else {
			mine = append(mine, t)
		}
	}
	return mine, slices.DeleteFunc(slices.Clone(views), theirs), others
}

// longest returns the longest of the prefixes that name begins with.
func longest(name string, prefixes []string) string {
	best := ""
	for _, p := range prefixes {
		if strings.HasPrefix(name, p) && len(p) >= len(best) {
			best = p
		}
	}
	return best
}

// describe fills in a table's definition, columns and order.
func (t *table) describe(ctx context.Context, conn *sql.Conn) error {
	var name string
	what := "TABLE"
	if t.kind == "SEQUENCE" {
		what = "SEQUENCE"
	}
	err := conn.QueryRowContext(ctx, "SHOW CREATE "+what+" "+quote(t.name)).Scan(&name, &t.create)
	if isCode(err, errNoTable) {
		err = fmt.Errorf("%w: %w", database.ErrChanged, err)
	}
	if err != nil {
		return fmt.Errorf("table %s: %w", t.name, err)
	}
	if t.kind == "SEQUENCE" {
		return nil
	}
	if err := t.readColumns(ctx, conn); err != nil {
		return fmt.Errorf("table %s: columns: %w", t.name, err)
	}
	if t.kind == "SYSTEM VERSIONED" {
		t.keepPast()
	}
	if err := t.readKey(ctx, conn); err != nil {
		return fmt.Errorf("table %s: keys: %w", t.name, err)
	}
	return nil
}

func (t *table) readColumns(ctx context.Context, conn *sql.Conn) error {
	rows, err := conn.QueryContext(ctx, `SELECT COLUMN_NAME, DATA_TYPE, COALESCE(CHARACTER_SET_NAME, ''), EXTRA,
		COALESCE(GENERATION_EXPRESSION, '') FROM information_schema.COLUMNS
		WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION`, t.name)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, kind, charset, extra, generated string
		if err := rows.Scan(&name, &kind, &charset, &extra, &generated); err != nil {
			return err
		}
		switch generated {
		case "ROW START":
			t.period[0] = name
			continue
		case "ROW END":
			t.period[1] = name
			continue
		}
		if generated != "" || strings.Contains(extra, "GENERATED") && !strings.Contains(extra, "DEFAULT_GENERATED") {
			continue
		}
		t.columns = append(t.columns, column{name, formOf(strings.ToLower(kind), charset)})
	}
	return rows.Err()
}

// keepPast adds the columns that bound a row's time to those that are saved.
func (t *table) keepPast() {
	for i, hidden := range []string{"row_start", "row_end"} {
		if t.period[i] == "" {
			t.period[i] = hidden
		}
		t.columns = append(t.columns, column{t.period[i], formText})
	}
}

func formOf(kind, charset string) form {
	switch kind {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "double", "year":
		return formNumber
	case "float":
		return formFloat
	case "char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set":
		switch charset {
		case "utf16", "utf16le", "utf32", "ucs2", "binary":
			return formBytes
		}
		return formText
	case "date", "time", "datetime", "timestamp":
		return formText
	case "bit", "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "vector",
		"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection", "geomcollection":
		return formBytes
	default: // json, uuid, inet4, inet6 and what may come
		return formTyped
	}
}

func (t *table) readKey(ctx context.Context, conn *sql.Conn) error {
	if t.kind == "SYSTEM VERSIONED" {
		defer func() { t.key = append(t.key, t.period[1], t.period[0]); t.intKey = false }()
	}
	rows, err := conn.QueryContext(ctx, `SELECT s.INDEX_NAME, s.COLUMN_NAME, s.NULLABLE = 'YES' OR s.SUB_PART IS NOT NULL,
		c.DATA_TYPE IN ('tinyint','smallint','mediumint','int','bigint')
		FROM information_schema.STATISTICS s JOIN information_schema.COLUMNS c USING (TABLE_SCHEMA, TABLE_NAME, COLUMN_NAME)
		WHERE s.TABLE_SCHEMA = DATABASE() AND s.TABLE_NAME = ? AND s.NON_UNIQUE = 0
		ORDER BY s.INDEX_NAME <> 'PRIMARY', s.INDEX_NAME, s.SEQ_IN_INDEX`, t.name)
	if err != nil {
		return err
	}
	defer rows.Close()
	type index struct {
		columns  []string
		unusable bool
		integer  bool
	}
	var order []string
	all := map[string]*index{}
	for rows.Next() {
		var name, col string
		var unusable, integer bool
		if err := rows.Scan(&name, &col, &unusable, &integer); err != nil {
			return err
		}
		ix := all[name]
		if ix == nil {
			ix = &index{}
			all[name] = ix
			order = append(order, name)
		}
		ix.columns = append(ix.columns, col)
		ix.unusable = ix.unusable || unusable && name != "PRIMARY"
		ix.integer = integer
	}
	for _, name := range order {
		if ix := all[name]; !ix.unusable {
			t.key = ix.columns
			t.intKey = len(ix.columns) == 1 && ix.integer
			return rows.Err()
		}
	}
	for _, c := range t.columns {
		t.key = append(t.key, c.name)
	}
	return rows.Err()
}

// Tables implements database.Source.
func (db *Database) Tables(ctx context.Context) ([]database.TableInfo, error) {
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return nil, db.c.explain(err)
	}
	defer conn.Close()
	listed, _, err := db.listTables(ctx, conn)
	if err != nil {
		return nil, err
	}
	mine, _, _ := db.neighbours(listed, nil)
	var all []database.TableInfo
	for _, t := range mine {
		all = append(all, database.TableInfo{Name: t.name, Bytes: t.bytes, Plain: t.kind != "SEQUENCE" && !t.transactional()})
	}
	return all, nil
}

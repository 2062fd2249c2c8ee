package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"revlet/internal/database"
	"revlet/internal/platform/lazy"
)

// delimiter ends statements that have semicolons inside.
const delimiter = ";;"

// object is a view, trigger, routine or event.
type object struct {
	kind    string // VIEW, TRIGGER, FUNCTION, PROCEDURE, EVENT
	name    string
	create  string
	sqlMode string
	// charset is the client's character set that it was made under, and for a dump's the
	// one that the text is in; collation is the connection's.
	charset, collation string
	// zone is the time zone of an event.
	zone string
}

// definer matches the account that an object is tied to. It is left out, so
// that the account that loads the object becomes its definer: the old one may
// not exist on the new server.
var definer = lazy.Regexp("DEFINER\\s*=\\s*(`(?:[^`]|``)*`@`(?:[^`]|``)*`|'[^']*'@'[^']*'|\\S+)\\s+")

func (o object) statement() string {
	return strings.TrimSpace(definer().ReplaceAllString(o.create, ""))
}

// dumpObjects writes views, triggers, routines and events as SQL text that the
// plain client loads. tables limits triggers to those of the site's own tables.
func (db *Database) dumpObjects(ctx context.Context, conn *sql.Conn, views []string, tables map[string]*table) (string, []database.Gap, error) {
	objects, gaps, err := db.readObjects(ctx, conn, views, tables)
	if err != nil {
		return "", nil, err
	}
	return objectsText(objects), gaps, nil
}

func objectsText(objects []object) string {
	var b strings.Builder
	b.WriteString(schemaHeader)
	if len(objects) == 0 {
		return b.String()
	}
	b.WriteString("DELIMITER " + delimiter + "\n")
	now := object{sqlMode: dumpMode, charset: "utf8mb4", zone: "+00:00"}
	for _, o := range objects {
		if o.kind == "VIEW" {
			o.sqlMode = dumpMode // what the server tells of views is in the mode of the asking session
		}
		if o.sqlMode != now.sqlMode {
			b.WriteString("SET SESSION sql_mode = " + text(o.sqlMode) + delimiter + "\n")
			now.sqlMode = o.sqlMode
		}
		if o.kind == "EVENT" && o.zone != "" && o.zone != now.zone {
			b.WriteString("SET SESSION time_zone = " + text(o.zone) + delimiter + "\n")
			now.zone = o.zone
		}
		if client := o.client(); client != now.charset {
			b.WriteString("SET SESSION character_set_client = " + client + delimiter + "\n")
			now.charset = client
		}
		if o.collation != now.collation && word().MatchString(o.collation) {
			b.WriteString("SET SESSION collation_connection = " + o.collation + delimiter + "\n")
			now.collation = o.collation
		}
		b.WriteString(o.statement() + "\n" + delimiter + "\n")
	}
	b.WriteString("DELIMITER ;\n")
	return b.String()
}

// word is what names of character sets and collations consist of.
var word = lazy.Regexp(`^[a-z0-9_]+$`)

// client is the character set under which the object is made again: the one that it was
// made under, as long as its text, which is UTF-8, means the same in that.
func (o object) client() string {
	ascii := strings.IndexFunc(o.create, func(c rune) bool { return c > unicode.MaxASCII }) < 0
	three := strings.IndexFunc(o.create, func(c rune) bool { return c > 0xffff }) < 0
	utf8mb3 := o.charset == "utf8" || o.charset == "utf8mb3"
	if safeCharset(o.charset) && o.charset != "binary" && (ascii || three && utf8mb3) {
		return o.charset
	}
	return "utf8mb4"
}

// readObjects reads the definitions of what it may, and says what it may not.
func (db *Database) readObjects(ctx context.Context, conn *sql.Conn, views []string, tables map[string]*table) ([]object, []database.Gap, error) {
	var all []object
	var gaps []database.Gap
	for _, kind := range []struct{ what, list string }{
		{"FUNCTION", "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = 'FUNCTION' ORDER BY 1"},
		{"PROCEDURE", "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = 'PROCEDURE' ORDER BY 1"},
		{"VIEW", ""},
		{"TRIGGER", "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE() ORDER BY EVENT_OBJECT_TABLE, ACTION_TIMING, EVENT_MANIPULATION, ACTION_ORDER"},
		{"EVENT", "SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE() ORDER BY 1"},
	} {
		names := views
		if kind.list != "" {
			var err error
			if names, err = queryStrings(ctx, conn, kind.list); err != nil {
				return nil, nil, fmt.Errorf("list each %s: %w", strings.ToLower(kind.what), err)
			}
		}
		var of []object
		for _, name := range names {
			o, err := showCreate(ctx, conn, kind.what, name)
			if errors.Is(err, errUnreadable) || isCode(err, errTableAccess, errSpecific, errDBAccess, errNoSuchRoutine, errInvalidView) {
				gaps = append(gaps, database.Gap{Object: strings.ToLower(kind.what) + " " + name, Why: err.Error()})
				continue
			}
			if err != nil {
				return nil, nil, err
			}
			if err := db.wouldBeMade(o); err != nil {
				gaps = append(gaps, database.Gap{Object: strings.ToLower(kind.what) + " " + name, Why: "a restore would not make it: " + err.Error()})
				continue
			}
			of = append(of, o)
		}
		if kind.what == "VIEW" {
			of = orderViews(of, db.c.Name)
		}
		all = append(all, of...)
	}
	return slices.DeleteFunc(all, func(o object) bool {
		return o.kind == "TRIGGER" && tables != nil && !onOwnTable(o, tables)
	}), gaps, nil
}

// wouldBeMade tells whether what is written of an object passes the gate that a restore
// reads it through: what does not would keep all else from being restored.
func (db *Database) wouldBeMade(o object) error {
	made := 0
	err := eachObject(objectsText([]object{o}), parseVersion(db.info.Version), func(kind, _ string) error {
		if kind != "" {
			made++
		}
		return nil
	})
	if err == nil && made != 1 {
		err = foreign(o.create)
	}
	return err
}

// errUnreadable is wrapped when the server hides an object's definition.
var errUnreadable = errors.New("the account may not read its definition")

var triggerTable = lazy.Regexp("(?is)\\sON\\s+(?:`(?:[^`]|``)*`\\.)?(`(?:[^`]|``)*`|\\S+)\\s+FOR\\s+EACH\\s+ROW")

func onOwnTable(o object, tables map[string]*table) bool {
	m := triggerTable().FindStringSubmatch(o.create)
	if m == nil {
		return true
	}
	_, ok := tables[unquote(m[1])]
	return ok
}

func unquote(name string) string {
	if strings.HasPrefix(name, "`") && strings.HasSuffix(name, "`") && len(name) > 1 {
		return strings.ReplaceAll(name[1:len(name)-1], "``", "`")
	}
	return name
}

// showCreate reads an object's definition; the column that holds it differs
// from kind to kind, so it is found by name.
func showCreate(ctx context.Context, conn *sql.Conn, kind, name string) (object, error) {
	o := object{kind: kind, name: name}
	rows, err := conn.QueryContext(ctx, "SHOW CREATE "+kind+" "+quote(name))
	if err != nil {
		return o, fmt.Errorf("%s %s: %w", strings.ToLower(kind), name, err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil || !rows.Next() {
		return o, fmt.Errorf("%s %s: no definition: %w", strings.ToLower(kind), name, rows.Err())
	}
	values := make([]sql.NullString, len(columns))
	pointers := make([]any, len(values))
	for i := range values {
		pointers[i] = &values[i]
	}
	if err := rows.Scan(pointers...); err != nil {
		return o, err
	}
	for i, c := range columns {
		switch c = strings.ToLower(c); {
		case strings.HasPrefix(c, "create ") || c == "sql original statement":
			o.create = values[i].String
		case c == "sql_mode":
			o.sqlMode = values[i].String
		case c == "character_set_client":
			o.charset = values[i].String
		case c == "collation_connection":
			o.collation = values[i].String
		case c == "time_zone":
			o.zone = values[i].String
		}
	}
	if o.create == "" {
		return o, fmt.Errorf("%w: it belongs to another account", errUnreadable)
	}
	return o, nil
}

// orderViews puts a view after the views it reads from, and takes the
// database's name out of the definitions.
func orderViews(views []object, db string) []object {
	for i := range views {
		views[i].create = withoutDatabase(views[i].create, db)
	}
	var out []object
	placed := map[string]bool{}
	var place func(o object, depth int)
	place = func(o object, depth int) {
		if placed[o.name] || depth > len(views) {
			return
		}
		for _, other := range views {
			if other.name != o.name && strings.Contains(o.create, quote(other.name)) {
				place(other, depth+1)
			}
		}
		if !placed[o.name] {
			placed[o.name] = true
			out = append(out, o)
		}
	}
	for _, o := range views {
		place(o, 0)
	}
	return out
}

// withoutDatabase removes "`db`." outside string literals.
func withoutDatabase(s, db string) string {
	q := quote(db) + "."
	var b strings.Builder
	for i := 0; i < len(s); {
		switch {
		case s[i] == '\'':
			end := i + 1
			for end < len(s) && s[end] != '\'' {
				if s[end] == '\\' {
					end++
				}
				end++
			}
			end = min(end+1, len(s))
			b.WriteString(s[i:end])
			i = end
		case strings.HasPrefix(s[i:], q):
			i += len(q)
		default:
			b.WriteByte(s[i])
			i++
		}
	}
	return b.String()
}

// dropObjects removes the same kinds of objects that dumpObjects writes.
func (db *Database) dropObjects(ctx context.Context, conn *sql.Conn, name string, objects []object) error {
	for _, o := range objects {
		if _, err := conn.ExecContext(ctx, "DROP "+o.kind+" IF EXISTS "+in(name, o.name)); err != nil {
			return fmt.Errorf("set aside %s %s: %w", strings.ToLower(o.kind), o.name, err)
		}
	}
	return nil
}

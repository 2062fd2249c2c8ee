package mysql

import (
	"context"
	"database/sql"
	driverapi "database/sql/driver"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	driver "github.com/go-sql-driver/mysql"
	"golang.org/x/sync/errgroup"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
	"revlet/internal/platform/lazy"
	"revlet/internal/platform/reason"
)

// Plan implements database.Target.
func (db *Database) Plan(id string) *database.Plan {
	return &database.Plan{ID: id, Engine: "mysql", Live: db.c.Name, Stage: database.StageOf(db.c.Name) + id, Aside: database.AsideOf(db.c.Name) + id}
}

// Prepare implements database.Target. It makes a staging database where the
// account may; otherwise the staged tables stand under other names in the
// live database.
func (db *Database) Prepare(ctx context.Context, p *database.Plan, tables []string) error {
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return db.c.explain(err)
	}
	defer conn.Close()
	if p.Rows != nil {
		return db.prepareShare(ctx, conn, p)
	}
	live, views, err := db.own(ctx, conn)
	if err != nil {
		return err
	}
	if p.OldObjects, _, err = db.dumpObjects(ctx, conn, nil, live); err != nil {
		return err
	}
	if err := db.makeStage(ctx, conn, p); err != nil {
		return db.c.letIn(ctx, sayDenied(err))
	}
	if err := db.tryObjects(ctx, conn, p, p.OldObjects); err != nil {
		return err
	}
	p.Tables = moves(p, tables, live)
	for i, v := range views {
		p.Views = append(p.Views, database.TableMove{Name: v, Aside: fmt.Sprintf("%s%s_v%d", asidePrefix, p.ID, i)})
	}
	// A foreign key whose parent is missing would take hold of the restored one.
	p.OldKeys, err = liveKeys(ctx, conn, live)
	return err
}

// makeStage creates the staging and aside databases, or settles for the live one when the
// account may not make them, or not work in them.
func (db *Database) makeStage(ctx context.Context, conn *sql.Conn, p *database.Plan) (err error) {
	var made []string
	for _, name := range []string{p.Stage, p.Aside} {
		if _, err = conn.ExecContext(ctx, db.createDatabase(name)); err != nil {
			err = fmt.Errorf("make the staging database %s: %w", name, err)
			break
		}
		made = append(made, name)
	}
	if err == nil {
		err = tryPlaces(ctx, conn, p)
	}
	if !denied(err) {
		return err
	}
	for _, name := range made {
		if _, failed := conn.ExecContext(ctx, "DROP DATABASE "+quote(name)); failed != nil {
			p.Notes = append(p.Notes, "the empty database "+name+" stays, for the account may make databases and not drop them")
		}
	}
	p.Stage, p.Aside = p.Live, p.Live
	return tryPlaces(ctx, conn, p)
}

func (db *Database) createDatabase(name string) string {
	return fmt.Sprintf("CREATE DATABASE IF NOT EXISTS %s CHARACTER SET %s COLLATE %s", quote(name), db.info.Charset, db.info.Collation)
}

func moves(p *database.Plan, tables []string, live map[string]*table) []database.TableMove {
	apart := p.Stage != p.Live
	var all []database.TableMove
	name := func(prefix, table string) string {
		if apart {
			return table
		}
		return fmt.Sprintf("%s%s_%d", prefix, p.ID, len(all))
	}
	comes := map[string]bool{}
	for _, t := range tables {
		m := database.TableMove{Name: t, Staged: name(stagePrefix, t)}
		if now, ok := p.Renamed[t]; ok {
			m.Name, m.From = now, t
		}
		if live[m.Name] != nil {
			m.Aside = name(asidePrefix, m.Name)
		}
		comes[m.Name] = true
		all = append(all, m)
	}
	for _, t := range slices.Sorted(mapKeys(live)) {
		if !comes[t] && !slices.Contains(p.Stay, t) {
			all = append(all, database.TableMove{Name: t, Aside: name(asidePrefix, t)})
		}
	}
	return all
}

func mapKeys(m map[string]*table) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// Lanes implements database.Target.
func (db *Database) Lanes() int { return 2 * lanes }

// onConn runs work on a connection of its own that uses database name, and
// throws the connection away: the text that ran on it may have changed its
// settings.
func (db *Database) onConn(ctx context.Context, name string, work func(*sql.Conn) error) error {
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return db.c.explain(err)
	}
	defer conn.Close()
	defer conn.Raw(func(any) error { return driverapi.ErrBadConn })
	if err := session(ctx, conn, "utf8mb4"); err != nil {
		return err
	}
	if _, err := conn.ExecContext(ctx, "USE "+quote(name)); err != nil {
		return fmt.Errorf("use database %s: %w", name, err)
	}
	return work(conn)
}

// Load implements database.Target.
func (db *Database) Load(ctx context.Context, p *database.Plan, u database.Unit, r io.Reader) (rows int64, err error) {
	err = db.onConn(ctx, p.Stage, func(conn *sql.Conn) error {
		switch u.Kind {
		case database.Schema:
			return loadSchema(ctx, conn, p, parseVersion(db.info.Version), r)
		case database.Rows:
			rows, err = db.loadRows(ctx, conn, p, u.Table, r)
			return err
		default:
			if p.Rows != nil {
				return nil // the live ones stay
			}
			return db.loadObjects(ctx, p, r)
		}
	})
	if err != nil {
		return rows, fmt.Errorf("load %s %s: %w", u.Kind, u.Table, db.sayPacket(err))
	}
	return rows, nil
}

// sayPacket words that a statement is longer than the server takes, as no server and no driver does.
func (db *Database) sayPacket(err error) error {
	if !errors.Is(err, driver.ErrPktTooLarge) && !isCode(err, errPacket) {
		return err
	}
	most := "less"
	var bytes int64
	if db.pool.QueryRow("SELECT @@max_allowed_packet").Scan(&bytes) == nil {
		most = fmt.Sprintf("%d MiB (max_allowed_packet)", bytes>>20)
	}
	return reason.New(reason.PacketLimit, nil, "a row is larger than what the server takes at once, %s", most)
}

func staged(p *database.Plan, table string) (string, error) {
	for _, m := range p.Tables {
		if m.Archived() == table && m.Staged != "" {
			return m.Staged, nil
		}
	}
	return "", fmt.Errorf("table %s is not in the archive's list", table)
}

// Widths tells how long values may be in the staged tables. Revlet's rows are loaded as
// they were, in a mode in which the server cuts off what is longer.
func (db *Database) Widths(ctx context.Context, p *database.Plan) (database.Widths, error) {
	rows, err := db.pool.QueryContext(ctx, "SELECT TABLE_NAME, COLUMN_NAME, CHARACTER_MAXIMUM_LENGTH, CHARACTER_OCTET_LENGTH, CHARACTER_SET_NAME IS NOT NULL FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND CHARACTER_MAXIMUM_LENGTH IS NOT NULL", p.Stage)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names := map[string]string{}
	for _, m := range p.Tables {
		names[m.Staged] = m.Archived()
	}
	all := database.Widths{}
	for rows.Next() {
		var table, column string
		var characters, bytes int64
		var text bool
		if err := rows.Scan(&table, &column, &characters, &bytes, &text); err != nil {
			return nil, err
		}
		name, staged := names[table]
		if !staged {
			continue
		}
		if !text {
			characters = 0
		}
		if all[name] == nil {
			all[name] = map[string]database.Width{}
		}
		all[name][column] = database.Width{Characters: characters, Bytes: bytes}
	}
	return all, rows.Err()
}

// collation matches where a definition names one.
var collation = lazy.Regexp(`\bCOLLATE([ =])(\w+)`)

// knownCollations replaces collations that this server lacks by the nearest one
// it has, and notes each: another version or make has others.
func knownCollations(stmt string, known map[string]bool, note func(string)) string {
	return collation().ReplaceAllStringFunc(stmt, func(m string) string {
		parts := collation().FindStringSubmatch(m)
		if known[parts[2]] {
			return m
		}
		charset, rest, _ := strings.Cut(parts[2], "_")
		for _, nearest := range []string{charset + "_unicode_ci", charset + "_general_ci"} {
			if strings.HasSuffix(rest, "_bin") || strings.HasSuffix(rest, "_cs") {
				nearest = charset + "_bin"
			}
			if known[nearest] {
				note(fmt.Sprintf("collation %s is unknown to this server and became %s", parts[2], nearest))
				return "COLLATE" + parts[1] + nearest
			}
		}
		return m
	})
}

// engineOption matches a table's storage engine, and ariaOption what only one
// make's engine understands.
var (
	engineOption = lazy.Regexp(`\) ENGINE=(\w+)`)
	ariaOption   = lazy.Regexp(` (?:PAGE_CHECKSUM|TRANSACTIONAL)=\d`)
)

// knownEngine replaces a storage engine that this server lacks by InnoDB, and
// notes it.
func knownEngine(stmt string, known map[string]bool, note func(string)) string {
	m := engineOption().FindStringSubmatchIndex(stmt)
	if m == nil || known[strings.ToLower(stmt[m[2]:m[3]])] {
		return stmt
	}
	note(fmt.Sprintf("storage engine %s is unknown to this server and became InnoDB", stmt[m[2]:m[3]]))
	return stmt[:m[2]] + "InnoDB" + ariaOption().ReplaceAllString(stmt[m[3]:], "")
}

// namesOf collects the first column of a query, in small letters.
func namesOf(ctx context.Context, conn *sql.Conn, q string) (map[string]bool, error) {
	names, err := queryStrings(ctx, conn, q)
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, name := range names {
		known[strings.ToLower(name)] = true
	}
	return known, nil
}

func loadSchema(ctx context.Context, conn *sql.Conn, p *database.Plan, version serverVersion, r io.Reader) error {
	known, err := namesOf(ctx, conn, "SELECT COLLATION_NAME FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY")
	if err != nil {
		return fmt.Errorf("list collations: %w", err)
	}
	engines, err := namesOf(ctx, conn, "SELECT ENGINE FROM information_schema.ENGINES WHERE SUPPORT IN ('YES', 'DEFAULT')")
	if err != nil {
		return fmt.Errorf("list storage engines: %w", err)
	}
	note := func(text string) {
		if !slices.Contains(p.Notes, text) {
			p.Notes = append(p.Notes, text)
		}
	}
	s := sqltext.NewSplitter(r, sqltext.MySQL)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		table, stmt, err := checkSchema(stmt, version)
		if err != nil {
			return err
		}
		stmt = knownEngine(knownCollations(stmt, known, note), engines, note)
		if table != "" {
			to, err := staged(p, table)
			if err != nil && (p.Rows != nil || p.Partial) {
				continue // not one of those that come
			}
			if err != nil {
				return err
			}
			if slices.Contains(p.Large, table) {
				var late string
				if stmt, late = splitPlainKeys(stmt); late != "" {
					p.LateKeys = append(p.LateKeys, database.LateKey{Table: to, Add: late})
				}
			}
			stmt = strings.Replace(stmt, quote(table), quote(to), 1)
			if p.Stage == p.Live {
				var keys []database.ForeignKey
				stmt, keys = splitKeys(table, stmt)
				p.NewKeys = append(p.NewKeys, keys...)
			}
		}
		if _, err := conn.ExecContext(ctx, stmt); err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}
	}
}

func (db *Database) loadRows(ctx context.Context, conn *sql.Conn, p *database.Plan, table string, r io.Reader) (int64, error) {
	to, err := staged(p, table)
	if err != nil {
		return 0, err
	}
	return db.insertRows(ctx, conn, table, to, r)
}

// insertRows puts rows of a table, as Dump has written them, into a table that may have
// another name.
func (db *Database) insertRows(ctx context.Context, conn *sql.Conn, table, to string, r io.Reader) (int64, error) {
	head := "INSERT INTO " + quote(to)
	var count int64
	err := rowStatements(r, func(s rowStatement) error {
		stmt := s.text()
		if len(stmt) < 200 && sessionStatement().Match(stmt) && !unsafeMode().Match(stmt) {
			_, err := conn.ExecContext(ctx, string(stmt))
			return err
		}
		end, err := checkInsert(stmt, table)
		if err != nil {
			return err
		}
		text := s.sql()
		if to != table {
			text = s.sqlInto(head, end)
		}
		res, err := conn.ExecContext(ctx, text)
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		count += n
		if err == nil {
			err = db.heed(ctx, conn, table, to)
		}
		return err
	})
	return count, err
}

// heed notes what the server warned of when it took rows: it runs in a mode in which it
// takes something else in the place of a value that it cannot take.
func (db *Database) heed(ctx context.Context, conn *sql.Conn, table, to string) error {
	n := 1
	var refused *driver.MySQLError
	err := conn.QueryRowContext(ctx, "SELECT @@warning_count").Scan(&n)
	if err != nil && !errors.As(err, &refused) || err == nil && n == 0 {
		return err
	}
	warnings, err := warningsOf(ctx, conn) // of a server that does not count them, too
	if err != nil || len(warnings) == 0 {
		return err
	}
	// A value that an ENUM does not have is an empty text in it, and comes back as one.
	enums, err := queryStrings(ctx, conn, "SELECT COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = "+text(to)+" AND DATA_TYPE = 'enum'")
	if err != nil {
		return err
	}
	warnings = slices.DeleteFunc(warnings, func(w string) bool {
		return slices.ContainsFunc(enums, func(column string) bool { return strings.HasPrefix(w, "Data truncated for column '"+column+"' ") })
	})
	if len(warnings) == 0 {
		return nil
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	if !slices.ContainsFunc(db.altered, func(s string) bool { return strings.HasPrefix(s, "values of table "+table+",") }) {
		db.altered = append(db.altered, fmt.Sprintf("values of table %s, which this server took otherwise: %s", table, warnings[0]))
	}
	return nil
}

// warningsOf are the texts of what the server has warned of last, as far as it keeps them.
func warningsOf(ctx context.Context, conn *sql.Conn) (texts []string, err error) {
	rows, err := conn.QueryContext(ctx, "SHOW WARNINGS")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var level, text string
		var code int
		if err := rows.Scan(&level, &code, &text); err != nil {
			return nil, err
		}
		if level != "Note" {
			texts = append(texts, text)
		}
	}
	return texts, rows.Err()
}

// Altered tells what of what was loaded is not as it was saved.
func (db *Database) Altered() []string {
	db.mu.Lock()
	defer db.mu.Unlock()
	return slices.Clone(db.altered)
}

// longestDefinitions bounds what is kept of views, triggers and routines.
const longestDefinitions = 32 << 20

// loadObjects keeps views, triggers and routines in the plan until the swap,
// once it has seen that they are what Revlet writes.
func (db *Database) loadObjects(ctx context.Context, p *database.Plan, r io.Reader) error {
	if err := db.addLateKeys(ctx, p); err != nil {
		return err
	}
	text, err := io.ReadAll(io.LimitReader(r, longestDefinitions+1))
	if err == nil && len(text) > longestDefinitions {
		err = fmt.Errorf("views, triggers and routines of more than %d MiB", longestDefinitions>>20)
	}
	if err != nil {
		return err
	}
	p.NewObjects = string(text)
	if err := eachObject(string(text), parseVersion(db.info.Version), func(_, stmt string) error { return db.knowsZone(ctx, p, stmt) }); err != nil {
		return err
	}
	return db.onConn(ctx, p.Live, func(conn *sql.Conn) error { return db.tryObjects(ctx, conn, p, p.NewObjects) })
}

// zoneStatement matches the setting of the time zone that an event is made under.
var zoneStatement = lazy.Regexp(`^SET SESSION time_zone = ('[^']*')$`)

// knowsZone replaces a time zone that the server does not know, in what is made when the
// tables are exchanged, by the server's own, and notes it.
func (db *Database) knowsZone(ctx context.Context, p *database.Plan, stmt string) error {
	m := zoneStatement().FindStringSubmatch(stmt)
	if m == nil {
		return nil
	}
	var known bool
	if err := db.pool.QueryRowContext(ctx, "SELECT "+m[1]+" = 'SYSTEM' OR CONVERT_TZ('2026-01-01 00:00:00', '+00:00', "+m[1]+") IS NOT NULL").Scan(&known); err != nil || known {
		return err
	}
	p.NewObjects = strings.ReplaceAll(p.NewObjects, stmt+delimiter+"\n", "SET SESSION time_zone = 'SYSTEM'"+delimiter+"\n")
	p.Notes = append(p.Notes, "time zone "+m[1]+" is unknown to this server: events that run by it run by the server's own")
	return nil
}

// plainKey matches a key that is neither primary nor unique, full-text or
// spatial, in SHOW CREATE TABLE, which gives each a line.
var plainKey = lazy.Regexp("^  (KEY `(?:[^`]|``)*` \\(`((?:[^`]|``)*)`.*?),?$")

// unsplittable matches tables whose keys are better left alone: others depend
// on them or stand behind them.
var unsplittable = lazy.Regexp(`(?m)^  (?:CONSTRAINT|FULLTEXT KEY|SPATIAL KEY|PERIOD FOR)|WITH SYSTEM VERSIONING|PARTITION BY`)

// splitPlainKeys takes the plain keys out of a table's definition: making them
// at once over all rows is several times faster than row by row. The key of an
// automatic number has to be there from the start.
func splitPlainKeys(create string) (string, string) {
	if unsplittable().MatchString(create) {
		return create, ""
	}
	var lines, late []string
	for line := range strings.SplitSeq(create, "\n") {
		m := plainKey().FindStringSubmatch(line)
		if m != nil && !strings.Contains(create, "\n  `"+m[2]+"` ") {
			return create, ""
		}
		if m != nil && !automatic(create, m[2]) {
			late = append(late, "ADD "+m[1])
			continue
		}
		if strings.HasPrefix(line, ")") && len(lines) > 0 {
			lines[len(lines)-1] = strings.TrimSuffix(lines[len(lines)-1], ",")
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n"), strings.Join(late, ", ")
}

// automatic tells whether a column, quoted as in the text, numbers itself.
func automatic(create, column string) bool {
	for line := range strings.SplitSeq(create, "\n") {
		if strings.HasPrefix(line, "  `"+column+"` ") {
			return strings.Contains(withoutLiterals(line), "AUTO_INCREMENT")
		}
	}
	return false
}

// addLateKeys makes the keys that were left out of the staged tables.
func (db *Database) addLateKeys(ctx context.Context, p *database.Plan) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(lanes)
	for _, k := range p.LateKeys {
		g.Go(func() error {
			return db.onConn(ctx, p.Stage, func(conn *sql.Conn) error {
				if _, err := conn.ExecContext(ctx, "ALTER TABLE "+quote(k.Table)+" "+k.Add); err != nil {
					return fmt.Errorf("make the keys of table %s: %w", k.Table, err)
				}
				return nil
			})
		})
	}
	return g.Wait()
}

// eachObject calls visit for every statement of a part of kind objects, with the kind of
// what it makes, none for a setting. Each is read as
// the server will, in the SQL mode that those before it have set.
func eachObject(text string, version serverVersion, visit func(kind, stmt string) error) error {
	s := sqltext.NewSplitter(strings.NewReader(text), sqltext.MySQL)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		kind, stmt, err := checkObject(stmt, version)
		if err != nil {
			return err
		}
		if mode, ok := modeSet(stmt); ok {
			version = version.under(mode)
			s.Under(version.dialect)
		}
		if err := visit(kind, stmt); err != nil {
			return err
		}
	}
}

// DropStage implements database.Target.
func (db *Database) DropStage(ctx context.Context, p *database.Plan) error {
	return db.onConn(ctx, p.Live, func(conn *sql.Conn) error {
		e, err := db.existing(ctx, conn, p)
		if err != nil {
			return err
		}
		// A run that died before it had chosen may have left there what it tried.
		dropTriedObject(ctx, conn, p)
		if err := dropNamed(ctx, conn, p, e, stagePrefix); err != nil || p.Stage == p.Live {
			return err
		}
		return dropPlace(ctx, conn, p, p.Stage, e, func(m database.TableMove) string { return m.Staged })
	})
}

// DropAside implements database.Target.
func (db *Database) DropAside(ctx context.Context, p *database.Plan) error {
	return db.onConn(ctx, p.Live, func(conn *sql.Conn) error {
		e, err := db.existing(ctx, conn, p)
		if err != nil {
			return err
		}
		for _, v := range p.Views {
			if !e.has(p.Live, v.Aside) {
				continue
			}
			if _, err := conn.ExecContext(ctx, "DROP VIEW IF EXISTS "+in(p.Live, v.Aside)); err != nil {
				return err
			}
		}
		if p.Rows != nil && p.Aside == p.Live {
			return dropNamed(ctx, conn, p, e, asidePrefix)
		}
		return dropPlace(ctx, conn, p, p.Aside, e, func(m database.TableMove) string { return m.Aside })
	})
}

// dropPlace deletes a staging or aside database, or, when there is none, the
// tables under their other names. Only what exists is touched: an account that
// could not make a table may not drop one either, not even one that is absent.
func dropPlace(ctx context.Context, conn *sql.Conn, p *database.Plan, place string, e exists, name func(database.TableMove) string) error {
	if place != p.Live {
		_, err := conn.ExecContext(ctx, "DROP DATABASE IF EXISTS "+quote(place))
		if isCode(err, errDBAccess) {
			return nil // an account that may not touch it has not made it
		}
		return err
	}
	for _, m := range p.Tables {
		n := name(m)
		if n == "" || !e.has(place, n) {
			continue
		}
		if _, err := conn.ExecContext(ctx, "DROP TABLE IF EXISTS "+in(place, n)); err != nil {
			return err
		}
	}
	return nil
}

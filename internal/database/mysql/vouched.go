package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"revlet/internal/database"
	"revlet/internal/platform/steady"
)

// What MariaDB itself vouches for. Of an InnoDB table it knows since when it has been what it is (information_schema.TABLES,
// UPDATE_TIME): the moment of the last commit that changed a row of it, by whatever way, cascades and triggers included. It knows
// that in memory only: a table that it has put away since, or that was there before it began, has none, and is read. What
// it does not note there are definitions (CREATE_TIME tells), and that a table was truncated or its tablespace imported: how many
// TRUNCATE and ALTER TABLE there were on all of the server tells. All times are of whole seconds, of a clock that can be set, by
// which the server also says how long it runs: that it was set shows by the clock of this machine that nobody sets.

// doubtful is how long before a snapshot a table must have been left alone, in seconds: times are cut to whole ones, and a
// clock that was set by less than clockSlack does not show.
const doubtful, clockSlack = 3, 1

// vouches tells whether the server is of a kind that is known to note all changes.
func (db *Database) vouches() bool {
	v := parseVersion(db.info.Version)
	return v.maria && v.version >= 100300
}

// askServer asks for what has to be as it was for any table to be.
func askServer(ctx context.Context, conn *sql.Conn) (m database.Marks, err error) {
	var now float64
	asked, boot, known := steady.Now()
	if !known {
		return m, errors.New("this machine has no clock that nobody sets")
	}
	if err := conn.QueryRowContext(ctx, "SELECT UNIX_TIMESTAMP(SYSDATE(6)), CONCAT_WS(' ', @@version, @@hostname, @@port, @@datadir)").Scan(&now, &m.Server); err != nil {
		return m, err
	}
	answered, _, _ := steady.Now()
	m.Taken, m.Boot = int64(now), boot
	m.Ahead = int64(now*1000) - (asked + (answered-asked)/2).Milliseconds()
	var name, cluster string
	switch err := conn.QueryRowContext(ctx, "SHOW GLOBAL VARIABLES LIKE 'wsrep_on'").Scan(&name, &cluster); {
	case errors.Is(err, sql.ErrNoRows):
	case err != nil:
		return m, err
	case !strings.EqualFold(cluster, "OFF"):
		return m, errors.New("other servers of a cluster write, whatever is locked here")
	}
	rows, err := conn.QueryContext(ctx, "SHOW GLOBAL STATUS WHERE Variable_name IN ('Uptime', 'Uptime_since_flush_status', 'Com_alter_table', 'Com_truncate')")
	if err != nil {
		return m, err
	}
	told, err := database.Texts(rows)
	if err != nil {
		return m, err
	}
	found := 0
	for _, row := range told {
		n, err := strconv.ParseInt(row[1], 10, 64)
		if err != nil {
			return m, fmt.Errorf("%s is %q", row[0], row[1])
		}
		found++
		switch strings.ToLower(row[0]) {
		case "uptime":
			m.Began = m.Taken - n
		case "uptime_since_flush_status":
			m.Counted = m.Taken - n
		case "com_alter_table", "com_truncate":
			m.Altered += n
		}
	}
	if found != 4 {
		return m, errors.New("the server does not say since when it runs")
	}
	return m, nil
}

// longestAsked is for how many seconds the server may look up the times of all tables: writers wait meanwhile.
const longestAsked = 5

// askTables asks since when tables are what they are. Nobody may be writing to them.
func askTables(ctx context.Context, conn *sql.Conn, tables []*table) (map[string]database.Mark, error) {
	rows, err := conn.QueryContext(ctx, fmt.Sprintf("SET STATEMENT max_statement_time = %d FOR ", longestAsked)+`SELECT TABLE_NAME, TIMESTAMPDIFF(SECOND, '1970-01-01', CREATE_TIME), TIMESTAMPDIFF(SECOND, '1970-01-01', UPDATE_TIME)
		FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE' AND ENGINE = 'InnoDB'
		AND CREATE_TIME IS NOT NULL AND UPDATE_TIME IS NOT NULL AND COALESCE(CREATE_OPTIONS, '') NOT LIKE '%partitioned%'`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[string]database.Mark{}
	for rows.Next() {
		var name string
		var m database.Mark
		if err := rows.Scan(&name, &m.Made, &m.Changed); err != nil {
			return nil, err
		}
		all[name] = m
	}
	marks := map[string]database.Mark{}
	for _, t := range tables {
		if m, ok := all[t.name]; ok && t.kind == "BASE TABLE" {
			marks[t.name] = m
		}
	}
	return marks, rows.Err()
}

// askBefore asks the server before the tables are locked: an ALTER TABLE that is waiting for them has been counted then.
func (s *snapshot) askBefore(ctx context.Context) {
	if !s.db.vouches() {
		return
	}
	m, err := askServer(ctx, s.plain)
	if err != nil {
		s.unvouched() // it tells less than it could, and all is read
		return
	}
	s.marks = &m
}

// unvouched has all tables be read.
func (s *snapshot) unvouched() { s.marks, s.before = nil, nil }

// askLocked asks about the tables while nobody writes to them, and finds those that need not be read.
func (s *snapshot) askLocked(ctx context.Context, mine []*table) {
	if s.marks == nil {
		return
	}
	now, err := askServer(ctx, s.plain)
	if err == nil {
		s.marks.Tables, err = askTables(ctx, s.plain, mine)
	}
	if err != nil {
		s.unvouched()
		return
	}
	s.marks.Taken = now.Taken
	if !now.Continues(s.marks, clockSlack) { // the clock was set while the lock was waited for
		s.unvouched()
		return
	}
	for _, t := range mine {
		t.unchanged = s.before != nil && now.Continues(s.before, clockSlack) && s.marks.Tables[t.name].Same(s.before.Tables[t.name], s.before.Taken-doubtful)
	}
}

// SnapshotSince implements database.Voucher.
func (db *Database) SnapshotSince(ctx context.Context, before *database.Marks) (database.Snapshot, error) {
	return db.snapshot(ctx, before)
}

// Marks implements database.Vouched.
func (s *snapshot) Marks() *database.Marks { return s.marks }

// Unchanged implements database.Vouched.
func (s *snapshot) Unchanged() []string {
	var names []string
	for name, t := range s.tables {
		if t.unchanged {
			names = append(names, name)
		}
	}
	return names
}

// Package history remembers, on this machine, what was run and what was proved.
package history

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"strings"
	"time"

	"modernc.org/sqlite" // the driver that the history file is read with
	sqlite3 "modernc.org/sqlite/lib"
)

// History is the file of what happened.
type History struct {
	db   *sql.DB
	file string
	// SetAside is where a file that could not be used has been put, and Fault
	// why; both are empty as a rule. The history has then begun anew.
	SetAside string
	Fault    error
}

// steps are the forms of the file, one after the other; user_version counts
// those that were taken.
var steps = []string{`
CREATE TABLE runs (
	id INTEGER PRIMARY KEY, site TEXT NOT NULL, command TEXT NOT NULL, archive TEXT NOT NULL,
	started TEXT NOT NULL, finished TEXT NOT NULL, outcome TEXT NOT NULL, detail TEXT NOT NULL);
CREATE TABLE proofs (
	archive TEXT NOT NULL, store TEXT NOT NULL, at TEXT NOT NULL, level TEXT NOT NULL, sound INTEGER NOT NULL,
	PRIMARY KEY (archive, store, level));`, `
CREATE TABLE pending (
	site TEXT NOT NULL, archive TEXT NOT NULL, store TEXT NOT NULL, since TEXT NOT NULL, why TEXT NOT NULL,
	PRIMARY KEY (archive, store));
CREATE TABLE damaged (store TEXT NOT NULL, object TEXT NOT NULL, PRIMARY KEY (store, object));
CREATE TABLE keychecks (recipient TEXT PRIMARY KEY, at TEXT NOT NULL);`, `
ALTER TABLE runs ADD COLUMN origin TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN duty TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN new_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN gaps INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN stores TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN log TEXT NOT NULL DEFAULT '';
CREATE INDEX runs_by_site ON runs (site, started);
CREATE TABLE archives (
	name TEXT PRIMARY KEY, site TEXT NOT NULL, taken TEXT NOT NULL, finished TEXT NOT NULL, scope TEXT NOT NULL, note TEXT NOT NULL,
	files INTEGER NOT NULL, file_bytes INTEGER NOT NULL, database_bytes INTEGER NOT NULL, stored_bytes INTEGER NOT NULL,
	new_bytes INTEGER NOT NULL, gaps INTEGER NOT NULL, version TEXT NOT NULL, changes TEXT NOT NULL DEFAULT '');
CREATE INDEX archives_by_site ON archives (site, taken);
CREATE TABLE copies (
	archive TEXT NOT NULL, store TEXT NOT NULL, since TEXT NOT NULL, gone TEXT NOT NULL DEFAULT '', why TEXT NOT NULL DEFAULT '',
	PRIMARY KEY (archive, store));
CREATE TABLE holds (archive TEXT PRIMARY KEY, since TEXT NOT NULL, who TEXT NOT NULL, why TEXT NOT NULL);
CREATE TABLE duties (
	site TEXT NOT NULL, duty TEXT NOT NULL, seen TEXT NOT NULL, started TEXT NOT NULL DEFAULT '', finished TEXT NOT NULL DEFAULT '',
	outcome TEXT NOT NULL DEFAULT '', detail TEXT NOT NULL DEFAULT '', PRIMARY KEY (site, duty));
CREATE TABLE alarms (
	id INTEGER PRIMARY KEY, site TEXT NOT NULL, kind TEXT NOT NULL, since TEXT NOT NULL, detail TEXT NOT NULL, archive TEXT NOT NULL DEFAULT '',
	cleared TEXT NOT NULL DEFAULT '', accepted TEXT NOT NULL DEFAULT '', who TEXT NOT NULL DEFAULT '', why TEXT NOT NULL DEFAULT '');
CREATE INDEX alarms_open ON alarms (site, kind, cleared);
CREATE TABLE outbox (
	id INTEGER PRIMARY KEY, channel TEXT NOT NULL, title TEXT NOT NULL, body BLOB NOT NULL, created TEXT NOT NULL,
	tries INTEGER NOT NULL DEFAULT 0, tried TEXT NOT NULL DEFAULT '', error TEXT NOT NULL DEFAULT '', sent TEXT NOT NULL DEFAULT '');
CREATE TABLE marks (name TEXT PRIMARY KEY, at TEXT NOT NULL);
CREATE TABLE silences (began TEXT NOT NULL, ended TEXT NOT NULL);
CREATE TABLE rehearsals (archive TEXT NOT NULL, at TEXT NOT NULL, passed INTEGER NOT NULL, seconds REAL NOT NULL, detail TEXT NOT NULL);`,
}

// errNewer tells that a newer Revlet has written the file.
var errNewer = errors.New("it was written by a newer Revlet")

// Open opens the history file, making it when it is missing. A file that is
// damaged, or that a newer Revlet has written, is set aside and a new one begun.
func Open(ctx context.Context, file string) (*History, error) {
	h, err := open(ctx, file)
	if err == nil || !unusable(err) || ctx.Err() != nil {
		return h, explain(err)
	}
	aside := fmt.Sprintf("%s.unusable-%s", file, time.Now().UTC().Format("20060102-150405"))
	for _, ending := range []string{"-wal", "-shm", ""} {
		if moveErr := os.Rename(file+ending, aside+ending); moveErr != nil && !errors.Is(moveErr, fs.ErrNotExist) {
			return nil, fmt.Errorf("%w; and it cannot be set aside: %w", err, moveErr)
		}
	}
	fault := err
	if h, err = open(ctx, file); err != nil {
		return nil, err
	}
	h.SetAside, h.Fault = aside, fault
	return h, nil
}

// unusable tells of an error whether it is the file's content that is wrong.
func unusable(err error) bool {
	var e *sqlite.Error
	if errors.Is(err, errNewer) || errors.Is(err, errDamaged) {
		return true
	}
	if !errors.As(err, &e) {
		return false
	}
	code := e.Code() & 0xff
	return code == sqlite3.SQLITE_CORRUPT || code == sqlite3.SQLITE_NOTADB
}

// explain adds the next step to what the file system would not do.
func explain(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR:
		return fmt.Errorf("%w; is the disk of the state folder full? Make room there, or name another with `state:`", err)
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_PERM:
		return fmt.Errorf("%w; the state folder cannot be written to: mend that, or name another with `state:`", err)
	}
	return err
}

var errDamaged = errors.New("it is damaged")

func open(ctx context.Context, file string) (*History, error) {
	// It names sites, files and commands: its owner reads it, and nobody else.
	if f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o600); err == nil {
		if info, err := f.Stat(); err == nil && info.Mode().Perm()&0o077 != 0 {
			_ = f.Chmod(0o600)
		}
		_ = f.Close()
	} // what is wrong with the file is told below
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath()+"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_txlock=immediate")
	if err != nil {
		return nil, fmt.Errorf("history: %w", err)
	}
	h := &History{db: db, file: file}
	if err := h.settle(ctx); err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("history %s: %w", file, err)
	}
	return h, nil
}

// settle brings the file to its newest form.
func (h *History) settle(ctx context.Context) error {
	if err := h.check(ctx); err != nil {
		return err
	}
	taken, err := h.version(ctx)
	if err != nil || taken == len(steps) {
		return err
	}
	if taken > len(steps) {
		return errNewer
	}
	return h.change(ctx, func(tx *sql.Tx) error {
		// Another process may have done so meanwhile.
		if err := tx.QueryRowContext(ctx, "PRAGMA user_version").Scan(&taken); err != nil || taken >= len(steps) {
			return err
		}
		_, err := tx.ExecContext(ctx, strings.Join(steps[taken:], "")+fmt.Sprintf("PRAGMA user_version = %d;", len(steps)))
		return err
	})
}

// alwaysChecked is the size up to which the file is gone through each time it is
// opened; a larger one is when it is opened first on a day.
const alwaysChecked = 8 << 20

// check goes through the file's structure.
func (h *History) check(ctx context.Context) error {
	now := time.Now()
	if info, err := os.Stat(h.file); err == nil && info.Size() > alwaysChecked {
		last, err := h.Marked(ctx, checkedMark)
		if err == nil && now.Sub(last).Abs() < 24*time.Hour {
			return nil
		}
	}
	var said string
	if err := h.db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&said); err != nil {
		return err
	}
	if said != "ok" {
		return fmt.Errorf("%w: %s", errDamaged, said)
	}
	return nil
}

// checkedMark is when the file was last gone through and old logs dropped.
const checkedMark = "checked"

// logsKept is how long the logs of runs are kept; their lines stay.
const logsKept = 400 * 24 * time.Hour

// Tidy drops the logs of old runs, once a day.
func (h *History) Tidy(ctx context.Context, now time.Time) error {
	last, err := h.Marked(ctx, checkedMark)
	if err != nil || now.Sub(last).Abs() < 24*time.Hour {
		return err
	}
	if _, err := h.exec(ctx, "UPDATE runs SET log = '' WHERE log <> '' AND started < ?", stamp(now.Add(-logsKept))); err != nil {
		return err
	}
	return h.Mark(ctx, checkedMark, now)
}

func (h *History) version(ctx context.Context) (taken int, err error) {
	err = h.db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&taken)
	return taken, err
}

// change carries out work as a whole or not at all.
func (h *History) change(ctx context.Context, work func(*sql.Tx) error) error {
	tx, err := h.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := work(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// exec runs one statement.
func (h *History) exec(ctx context.Context, statement string, values ...any) (sql.Result, error) {
	result, err := h.db.ExecContext(ctx, statement, values...)
	if err != nil {
		return nil, fmt.Errorf("history %s: %w", h.file, explain(err))
	}
	return result, nil
}

// query scans every row of an answer.
func query[T any](ctx context.Context, h *History, scan func(*sql.Rows, *T) error, statement string, values ...any) ([]T, error) {
	rows, err := h.db.QueryContext(ctx, statement, values...)
	if err != nil {
		return nil, fmt.Errorf("history: %w", err)
	}
	defer rows.Close()
	var all []T
	for rows.Next() {
		var one T
		if err := scan(rows, &one); err != nil {
			return nil, fmt.Errorf("history: %w", err)
		}
		all = append(all, one)
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("history: %w", err)
	}
	return all, nil
}

// moment scans and writes a time; the zero time is an empty text.
type moment struct{ *time.Time }

// Scan implements sql.Scanner.
func (m moment) Scan(src any) (err error) {
	text, _ := src.(string)
	if text == "" {
		*m.Time = time.Time{}
		return nil
	}
	*m.Time, err = time.Parse(time.RFC3339Nano, text)
	return err
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02T15:04:05.000000000Z")
}

// Close closes the file.
func (h *History) Close() error { return h.db.Close() }

// Proof is the last verification of an archive in a store.
type Proof struct {
	Archive, Store string
	At             time.Time
	// Level is quick, digests or full.
	Level string
	Sound bool
}

// AddProof remembers a verification in place of an earlier one of its level; a
// full one stands for a quick one as well. A quick one that finds nothing does
// not take back what a full one has found.
func (h *History) AddProof(ctx context.Context, p Proof) error {
	if p.Level == "full" {
		if _, err := h.exec(ctx, "DELETE FROM proofs WHERE archive = ? AND store = ?", p.Archive, p.Store); err != nil {
			return err
		}
	}
	_, err := h.exec(ctx, "INSERT OR REPLACE INTO proofs (archive, store, at, level, sound) VALUES (?, ?, ?, ?, ?)",
		p.Archive, p.Store, stamp(p.At), p.Level, p.Sound)
	return err
}

// Healed puts a proof in the place of what was found damaged of a copy of an archive before it was mended.
func (h *History) Healed(ctx context.Context, p Proof) error {
	found, err := h.exec(ctx, "DELETE FROM proofs WHERE archive = ? AND store = ? AND NOT sound", p.Archive, p.Store)
	if err != nil {
		return err
	}
	if n, err := found.RowsAffected(); err != nil || n == 0 {
		return err
	}
	return h.AddProof(ctx, p)
}

// Proofs returns what is known of archives, newest proof first.
func (h *History) Proofs(ctx context.Context) (map[string][]Proof, error) {
	list, err := query(ctx, h, func(r *sql.Rows, p *Proof) error {
		return r.Scan(&p.Archive, &p.Store, moment{&p.At}, &p.Level, &p.Sound)
	}, "SELECT archive, store, at, level, sound FROM proofs ORDER BY at DESC")
	all := map[string][]Proof{}
	for _, p := range list {
		all[p.Archive] = append(all[p.Archive], p)
	}
	return all, err
}

// Pending is an archive that has yet to come to a store.
type Pending struct {
	Site, Archive, Store string
	Since                time.Time
	Why                  string
}

// AddPending remembers that an archive has yet to come to a store.
func (h *History) AddPending(ctx context.Context, p Pending) error {
	_, err := h.exec(ctx, "INSERT INTO pending (site, archive, store, since, why) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET why = excluded.why",
		p.Site, p.Archive, p.Store, stamp(p.Since), p.Why)
	return err
}

// Arrived forgets that an archive was pending in a store.
func (h *History) Arrived(ctx context.Context, archive, store string) error {
	_, err := h.exec(ctx, "DELETE FROM pending WHERE archive = ? AND store = ?", archive, store)
	return err
}

// Pending returns what is pending for a site, oldest archive first.
func (h *History) Pending(ctx context.Context, site string) ([]Pending, error) {
	return query(ctx, h, func(r *sql.Rows, p *Pending) error {
		return r.Scan(&p.Site, &p.Archive, &p.Store, moment{&p.Since}, &p.Why)
	}, "SELECT site, archive, store, since, why FROM pending WHERE site = ? ORDER BY archive, store", site)
}

// KeyChecked remembers that the key of a recipient was seen to work.
func (h *History) KeyChecked(ctx context.Context, recipient string, at time.Time) error {
	_, err := h.exec(ctx, "INSERT OR REPLACE INTO keychecks (recipient, at) VALUES (?, ?)", recipient, stamp(at))
	return err
}

// IsKeyChecked tells whether the key of one of the recipients was ever seen to
// work.
func (h *History) IsKeyChecked(ctx context.Context, recipients []string) (bool, error) {
	for _, r := range recipients {
		found, err := query(ctx, h, func(r *sql.Rows, at *string) error { return r.Scan(at) }, "SELECT at FROM keychecks WHERE recipient = ?", r)
		if err != nil || len(found) > 0 {
			return err == nil, err
		}
	}
	return false, nil
}

// Damaged remembers that an object in a store was found damaged.
func (h *History) Damaged(ctx context.Context, store, object string) error {
	_, err := h.exec(ctx, "INSERT OR REPLACE INTO damaged (store, object) VALUES (?, ?)", store, object)
	return err
}

// Mended forgets damage in a store: to one object, or, with an empty name, to
// all of them.
func (h *History) Mended(ctx context.Context, store, object string) error {
	_, err := h.exec(ctx, "DELETE FROM damaged WHERE store = ? AND (object = ? OR ? = '')", store, object, object)
	return err
}

// DamagedIn returns the objects in a store that were found damaged.
func (h *History) DamagedIn(ctx context.Context, store string) (map[string]bool, error) {
	list, err := query(ctx, h, func(r *sql.Rows, object *string) error { return r.Scan(object) }, "SELECT object FROM damaged WHERE store = ?", store)
	all := map[string]bool{}
	for _, object := range list {
		all[object] = true
	}
	return all, err
}

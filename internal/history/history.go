// Package history remembers, on this machine, what was run and what was proved.
package history

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	_ "modernc.org/sqlite" // the driver that the history file is read with
)

// History is the file of runs and proofs.
type History struct{ db *sql.DB }

const schema = `
CREATE TABLE IF NOT EXISTS runs (
	id INTEGER PRIMARY KEY, site TEXT NOT NULL, command TEXT NOT NULL, archive TEXT NOT NULL,
	started TEXT NOT NULL, finished TEXT NOT NULL, outcome TEXT NOT NULL, detail TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS proofs (
	archive TEXT NOT NULL, store TEXT NOT NULL, at TEXT NOT NULL, level TEXT NOT NULL, sound INTEGER NOT NULL,
	PRIMARY KEY (archive, store, level));
CREATE TABLE IF NOT EXISTS pending (
	site TEXT NOT NULL, archive TEXT NOT NULL, store TEXT NOT NULL, since TEXT NOT NULL, why TEXT NOT NULL,
	PRIMARY KEY (archive, store));
CREATE TABLE IF NOT EXISTS damaged (store TEXT NOT NULL, object TEXT NOT NULL, PRIMARY KEY (store, object));
CREATE TABLE IF NOT EXISTS keychecks (recipient TEXT PRIMARY KEY, at TEXT NOT NULL);
PRAGMA user_version = 2;`

const version = 2

// Open opens the history file, making it when it is missing.
func Open(ctx context.Context, file string) (*History, error) {
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)")
	if err != nil {
		return nil, fmt.Errorf("history: %w", err)
	}
	var found int
	err = db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&found)
	if err == nil && found > version {
		err = errors.New("it was written by a newer Revlet")
	}
	if err == nil && found < version {
		_, err = db.ExecContext(ctx, schema)
	}
	if err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("history %s: %w", file, err)
	}
	return &History{db}, nil
}

// Close closes the file.
func (h *History) Close() error { return h.db.Close() }

// Run is one command that was run on a site.
type Run struct {
	Site, Command, Archive string
	Started, Finished      time.Time
	// Outcome is done, gaps, failed or damage.
	Outcome string
	Detail  string
}

// AddRun remembers a run.
func (h *History) AddRun(ctx context.Context, r Run) error {
	_, err := h.db.ExecContext(ctx, "INSERT INTO runs (site, command, archive, started, finished, outcome, detail) VALUES (?, ?, ?, ?, ?, ?, ?)",
		r.Site, r.Command, r.Archive, stamp(r.Started), stamp(r.Finished), r.Outcome, r.Detail)
	if err != nil {
		return fmt.Errorf("history: %w", err)
	}
	return nil
}

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
		if _, err := h.db.ExecContext(ctx, "DELETE FROM proofs WHERE archive = ? AND store = ?", p.Archive, p.Store); err != nil {
			return fmt.Errorf("history: %w", err)
		}
	}
	_, err := h.db.ExecContext(ctx, "INSERT OR REPLACE INTO proofs (archive, store, at, level, sound) VALUES (?, ?, ?, ?, ?)",
		p.Archive, p.Store, stamp(p.At), p.Level, p.Sound)
	if err != nil {
		return fmt.Errorf("history: %w", err)
	}
	return nil
}

// Proofs returns what is known of archives, newest proof first.
func (h *History) Proofs(ctx context.Context) (map[string][]Proof, error) {
	rows, err := h.db.QueryContext(ctx, "SELECT archive, store, at, level, sound FROM proofs ORDER BY at DESC")
	if err != nil {
		return nil, fmt.Errorf("history: %w", err)
	}
	defer rows.Close()
	all := map[string][]Proof{}
	for rows.Next() {
		var p Proof
		var at string
		if err := rows.Scan(&p.Archive, &p.Store, &at, &p.Level, &p.Sound); err != nil {
			return nil, fmt.Errorf("history: %w", err)
		}
		if p.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, fmt.Errorf("history: %w", err)
		}
		all[p.Archive] = append(all[p.Archive], p)
	}
	return all, rows.Err()
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000000000Z") }

// Pending is an archive that has yet to come to a store.
type Pending struct {
	Site, Archive, Store string
	Since                time.Time
	Why                  string
}

// AddPending remembers that an archive has yet to come to a store.
func (h *History) AddPending(ctx context.Context, p Pending) error {
	_, err := h.db.ExecContext(ctx, "INSERT OR REPLACE INTO pending (site, archive, store, since, why) VALUES (?, ?, ?, ?, ?)",
		p.Site, p.Archive, p.Store, stamp(p.Since), p.Why)
	if err != nil {
		return fmt.Errorf("history: %w", err)
	}
	return nil
}

// Arrived forgets that an archive was pending in a store.
func (h *History) Arrived(ctx context.Context, archive, store string) error {
	if _, err := h.db.ExecContext(ctx, "DELETE FROM pending WHERE archive = ? AND store = ?", archive, store); err != nil {
		return fmt.Errorf("history: %w", err)
	}
	return nil
}

// Pending returns what is pending for a site, oldest archive first.
func (h *History) Pending(ctx context.Context, site string) ([]Pending, error) {
	rows, err := h.db.QueryContext(ctx, "SELECT site, archive, store, since, why FROM pending WHERE site = ? ORDER BY archive, store", site)
	if err != nil {
		return nil, fmt.Errorf("history: %w", err)
	}
	defer rows.Close()
	var all []Pending
	for rows.Next() {
		var p Pending
		var since string
		if err := rows.Scan(&p.Site, &p.Archive, &p.Store, &since, &p.Why); err != nil {
			return nil, fmt.Errorf("history: %w", err)
		}
		if p.Since, err = time.Parse(time.RFC3339Nano, since); err != nil {
			return nil, fmt.Errorf("history: %w", err)
		}
		all = append(all, p)
	}
	return all, rows.Err()
}

// KeyChecked remembers that the key of a recipient was seen to work.
func (h *History) KeyChecked(ctx context.Context, recipient string, at time.Time) error {
	if _, err := h.db.ExecContext(ctx, "INSERT OR REPLACE INTO keychecks (recipient, at) VALUES (?, ?)", recipient, stamp(at)); err != nil {
		return fmt.Errorf("history: %w", err)
	}
	return nil
}

// IsKeyChecked tells whether the key of one of the recipients was ever seen to
// work.
func (h *History) IsKeyChecked(ctx context.Context, recipients []string) (bool, error) {
	for _, r := range recipients {
		var at string
		err := h.db.QueryRowContext(ctx, "SELECT at FROM keychecks WHERE recipient = ?", r).Scan(&at)
		if err == nil {
			return true, nil
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return false, fmt.Errorf("history: %w", err)
		}
	}
	return false, nil
}

// Damaged remembers that an object in a store was found damaged.
func (h *History) Damaged(ctx context.Context, store, object string) error {
	if _, err := h.db.ExecContext(ctx, "INSERT OR REPLACE INTO damaged (store, object) VALUES (?, ?)", store, object); err != nil {
		return fmt.Errorf("history: %w", err)
	}
	return nil
}

// Mended forgets damage in a store: to one object, or, with an empty name, to
// all of them.
func (h *History) Mended(ctx context.Context, store, object string) error {
	_, err := h.db.ExecContext(ctx, "DELETE FROM damaged WHERE store = ? AND (object = ? OR ? = '')", store, object, object)
	if err != nil {
		return fmt.Errorf("history: %w", err)
	}
	return nil
}

// DamagedIn returns the objects in a store that were found damaged.
func (h *History) DamagedIn(ctx context.Context, store string) (map[string]bool, error) {
	rows, err := h.db.QueryContext(ctx, "SELECT object FROM damaged WHERE store = ?", store)
	if err != nil {
		return nil, fmt.Errorf("history: %w", err)
	}
	defer rows.Close()
	all := map[string]bool{}
	for rows.Next() {
		var object string
		if err := rows.Scan(&object); err != nil {
			return nil, fmt.Errorf("history: %w", err)
		}
		all[object] = true
	}
	return all, rows.Err()
}

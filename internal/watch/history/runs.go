package history

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Run is one command that was run on a site.
type Run struct {
	ID                     int64
	Site, Command, Archive string
	Started, Finished      time.Time
	// Outcome is done, gaps, pending, failed, interrupted, damage or missed.
	Outcome string
	// Detail says why, where the outcome is not done.
	Detail string
	// Origin is who or what started it: a person's account, or the scheduler.
	Origin string
	// Duty is the one that was carried out, if any.
	Duty string
	// Bytes is what the archive takes in a store, NewBytes the new share of it.
	Bytes, NewBytes int64
	Gaps            int
	// Stores are those that it has come to.
	Stores []string
	// Log is what was said meanwhile.
	Log string
}

// The outcomes of runs.
const (
	Done    = "done"
	Gaps    = "gaps"
	Waiting = "pending"
	Failed  = "failed"
	Damage  = "damage"
	// Interrupted is a run that a person, or the machine going down, has stopped.
	Interrupted = "interrupted"
)

// AddRun remembers a run and returns its number.
func (h *History) AddRun(ctx context.Context, r Run) (int64, error) {
	result, err := h.exec(ctx, `INSERT INTO runs (site, command, archive, started, finished, outcome, detail, origin, duty, bytes, new_bytes, gaps, stores, log)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.Site, r.Command, r.Archive, stamp(r.Started), stamp(r.Finished), r.Outcome, r.Detail, r.Origin, r.Duty, r.Bytes, r.NewBytes, r.Gaps, strings.Join(r.Stores, " "), r.Log)
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
}

// RunFilter limits which runs are returned; zero fields do not.
type RunFilter struct {
	Site, Command, Outcome string
	// Trouble leaves only runs that were not all right.
	Trouble       bool
	Since, Before time.Time
	ID            int64
	// Most is how many, the newest; 0 means all.
	Most int
}

// Runs returns runs, newest first.
func (h *History) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	var where []string
	var values []any
	limit := func(condition string, on bool, value any) {
		if on {
			where, values = append(where, condition), append(values, value)
		}
	}
	limit("site = ?", f.Site != "", f.Site)
	limit("command = ?", f.Command != "", f.Command)
	limit("outcome = ?", f.Outcome != "", f.Outcome)
	limit("outcome <> ?", f.Trouble, Done)
	limit("started >= ?", !f.Since.IsZero(), stamp(f.Since))
	limit("started < ?", !f.Before.IsZero(), stamp(f.Before))
	limit("id = ?", f.ID != 0, f.ID)
	text := "SELECT id, site, command, archive, started, finished, outcome, detail, origin, duty, bytes, new_bytes, gaps, stores, log FROM runs"
	if len(where) > 0 {
		text += " WHERE " + strings.Join(where, " AND ")
	}
	text += " ORDER BY id DESC"
	if f.Most > 0 {
		text += fmt.Sprintf(" LIMIT %d", f.Most)
	}
	return query(ctx, h, func(rows *sql.Rows, r *Run) error {
		var stores string
		err := rows.Scan(&r.ID, &r.Site, &r.Command, &r.Archive, moment{&r.Started}, moment{&r.Finished}, &r.Outcome, &r.Detail, &r.Origin, &r.Duty,
			&r.Bytes, &r.NewBytes, &r.Gaps, &stores, &r.Log)
		r.Stores = strings.Fields(stores)
		return err
	}, text, values...)
}

// DutyState is what is known of a duty.
type DutyState struct {
	Site, Duty string
	// Seen is when the duty was first met: turns before then are nobody's.
	Seen time.Time
	// Started and Finished are of its last turn; zero before the first.
	Started, Finished time.Time
	Outcome, Detail   string
}

// Since is the moment after which its next turn is due.
func (d DutyState) Since() time.Time {
	if d.Started.IsZero() {
		return d.Seen
	}
	return d.Started
}

// LastDone returns when a turn of each of a site's duties was last done without trouble.
func (h *History) LastDone(ctx context.Context, site string) (map[string]time.Time, error) {
	type done struct {
		duty string
		at   time.Time
	}
	all, err := query(ctx, h, func(r *sql.Rows, d *done) error { return r.Scan(&d.duty, moment{&d.at}) },
		"SELECT duty, MAX(finished) FROM runs WHERE site = ? AND duty <> '' AND outcome = ? GROUP BY duty UNION ALL SELECT duty, finished FROM duties WHERE site = ? AND outcome = ?", site, Done, site, Done)
	last := map[string]time.Time{}
	for _, d := range all {
		if d.at.After(last[d.duty]) {
			last[d.duty] = d.at
		}
	}
	return last, err
}

// Duties returns what is known of a site's duties, by their wording.
func (h *History) Duties(ctx context.Context, site string) (map[string]DutyState, error) {
	list, err := query(ctx, h, func(r *sql.Rows, d *DutyState) error {
		return r.Scan(&d.Site, &d.Duty, moment{&d.Seen}, moment{&d.Started}, moment{&d.Finished}, &d.Outcome, &d.Detail)
	}, "SELECT site, duty, seen, started, finished, outcome, detail FROM duties WHERE site = ?", site)
	all := map[string]DutyState{}
	for _, d := range list {
		all[d.Duty] = d
	}
	return all, err
}

// SetDuty remembers what is known of a duty.
func (h *History) SetDuty(ctx context.Context, d DutyState) error {
	_, err := h.exec(ctx, "INSERT OR REPLACE INTO duties (site, duty, seen, started, finished, outcome, detail) VALUES (?, ?, ?, ?, ?, ?, ?)",
		d.Site, d.Duty, stamp(d.Seen), stamp(d.Started), stamp(d.Finished), d.Outcome, d.Detail)
	return err
}

// Mark remembers a moment by a name, such as the last digest of a channel.
func (h *History) Mark(ctx context.Context, name string, at time.Time) error {
	_, err := h.exec(ctx, "INSERT OR REPLACE INTO marks (name, at) VALUES (?, ?)", name, stamp(at))
	return err
}

// Marked returns a moment that was remembered, or the zero time.
func (h *History) Marked(ctx context.Context, name string) (time.Time, error) {
	var at time.Time
	err := h.db.QueryRowContext(ctx, "SELECT at FROM marks WHERE name = ?", name).Scan(moment{&at})
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return at, fmt.Errorf("history: %w", err)
	}
	return at, nil
}

// Silence is a time in which no Revlet ran on this machine.
type Silence struct{ Began, Ended time.Time }

const (
	clockMark = "clock"
	// longSilence is how long nothing must have run for it to be remembered.
	longSilence = 3 * 24 * time.Hour
	// setBack is by how much a clock must be behind what it showed before for
	// that to be no mere adjustment.
	setBack = time.Hour
)

// SeeClock remembers that the clock shows now. A long time since the last look
// is remembered as a silence: the machine was off, or the clock has jumped. A
// clock that was set back takes back the silences that it had jumped over.
func (h *History) SeeClock(ctx context.Context, now time.Time) error {
	last, err := h.Marked(ctx, clockMark)
	if err != nil {
		return err
	}
	switch {
	case last.IsZero():
		newest, err := query(ctx, h, func(r *sql.Rows, at *time.Time) error { return r.Scan(moment{at}) }, "SELECT taken FROM archives ORDER BY taken DESC LIMIT 1")
		if err != nil {
			return err
		}
		if len(newest) > 0 && now.Sub(newest[0]) > longSilence {
			err = h.addSilence(ctx, Silence{newest[0], now})
		}
		if err != nil {
			return err
		}
	case now.Sub(last) > longSilence:
		if err := h.addSilence(ctx, Silence{last, now}); err != nil {
			return err
		}
	case last.Sub(now) > setBack:
		if _, err := h.exec(ctx, "UPDATE silences SET ended = ? WHERE ended > ?", stamp(now), stamp(now)); err != nil {
			return err
		}
		if _, err := h.exec(ctx, "DELETE FROM silences WHERE began >= ended"); err != nil {
			return err
		}
	case !now.After(last):
		return nil
	}
	return h.Mark(ctx, clockMark, now)
}

func (h *History) addSilence(ctx context.Context, s Silence) error {
	_, err := h.exec(ctx, "INSERT INTO silences (began, ended) VALUES (?, ?)", stamp(s.Began), stamp(s.Ended))
	return err
}

// Silences returns them, oldest first.
func (h *History) Silences(ctx context.Context) ([]Silence, error) {
	return query(ctx, h, func(r *sql.Rows, s *Silence) error { return r.Scan(moment{&s.Began}, moment{&s.Ended}) }, "SELECT began, ended FROM silences ORDER BY began")
}

package history

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/changes"
)

// Archive is the line of an archive. It stays when the archive is gone.
type Archive struct {
	Name, Site      string
	Taken, Finished time.Time
	Scope, Note     string
	Files           int64
	FileBytes       int64
	DatabaseBytes   int64
	StoredBytes     int64
	NewBytes        int64
	Gaps            int
	// Version is that of the CMS.
	Version string
	// Changes are what differs from the archive before; nil when not known.
	Changes *changes.Changes
	// Copies are the stores that have or had it.
	Copies []Copy
}

// Copy is an archive in a store.
type Copy struct {
	Store string
	Since time.Time
	// Gone is when it was removed or found missing, zero while it is there; Why
	// is the reason; of one that is there, why it is to go.
	Gone time.Time
	Why  string
}

// Going says why a copy that is there is to be deleted, if it is: see WillGo.
func (a *Archive) Going(store string) string {
	for _, c := range a.Copies {
		if c.Store == store && c.Gone.IsZero() {
			return c.Why
		}
	}
	return ""
}

// In tells whether the archive is in a store now, as far as is known.
func (a *Archive) In(store string) bool {
	for _, c := range a.Copies {
		if c.Store == store && c.Gone.IsZero() {
			return true
		}
	}
	return false
}

// Exists tells whether any store still has it.
func (a *Archive) Exists() bool {
	for _, c := range a.Copies {
		if c.Gone.IsZero() {
			return true
		}
	}
	return false
}

// SetArchive remembers an archive; what is known of its changes stays if a has
// none. The note and gaps of an archive whose record is sealed here stay too.
func (h *History) SetArchive(ctx context.Context, a Archive) error {
	changed := ""
	if a.Changes != nil {
		data, err := json.Marshal(a.Changes)
		if err != nil {
			return err
		}
		changed = string(data)
	}
	_, err := h.exec(ctx, `INSERT INTO archives (name, site, taken, finished, scope, note, files, file_bytes, database_bytes, stored_bytes, new_bytes, gaps, version, changes)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET
		note = CASE excluded.note WHEN '' THEN note ELSE excluded.note END, gaps = max(gaps, excluded.gaps),
		version = CASE excluded.version WHEN '' THEN version ELSE excluded.version END, changes = CASE excluded.changes WHEN '' THEN changes ELSE excluded.changes END`,
		a.Name, a.Site, stamp(a.Taken), stamp(a.Finished), a.Scope, a.Note, a.Files, a.FileBytes, a.DatabaseBytes, a.StoredBytes, a.NewBytes, a.Gaps, a.Version, changed)
	return err
}

// Archives returns the archives of a site, newest first, those that are gone
// included.
func (h *History) Archives(ctx context.Context, site string) ([]Archive, error) {
	all, err := query(ctx, h, func(r *sql.Rows, a *Archive) error {
		var changed string
		err := r.Scan(&a.Name, &a.Site, moment{&a.Taken}, moment{&a.Finished}, &a.Scope, &a.Note, &a.Files, &a.FileBytes, &a.DatabaseBytes, &a.StoredBytes, &a.NewBytes, &a.Gaps, &a.Version, &changed)
		if err == nil && changed != "" {
			err = json.Unmarshal([]byte(changed), &a.Changes)
		}
		return err
	}, "SELECT name, site, taken, finished, scope, note, files, file_bytes, database_bytes, stored_bytes, new_bytes, gaps, version, changes FROM archives WHERE site = ? ORDER BY name DESC", site)
	if err != nil {
		return nil, err
	}
	type copyOf struct {
		archive string
		Copy
	}
	copies, err := query(ctx, h, func(r *sql.Rows, c *copyOf) error {
		return r.Scan(&c.archive, &c.Store, moment{&c.Since}, moment{&c.Gone}, &c.Why)
	}, "SELECT archive, store, since, gone, why FROM copies WHERE archive IN (SELECT name FROM archives WHERE site = ?) ORDER BY since, store", site)
	at := map[string]*Archive{}
	for i := range all {
		at[all[i].Name] = &all[i]
	}
	for _, c := range copies {
		if a := at[c.archive]; a != nil { // nil: another run added it between the two reads
			a.Copies = append(a.Copies, c.Copy)
		}
	}
	return all, err
}

// CameTo remembers that an archive is in a store.
func (h *History) CameTo(ctx context.Context, archive, store string, at time.Time) error {
	_, err := h.exec(ctx, "INSERT INTO copies (archive, store, since) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET gone = '', why = ''", archive, store, stamp(at))
	return err
}

// WentFrom remembers that an archive is no longer in a store, and why.
func (h *History) WentFrom(ctx context.Context, archive, store string, at time.Time, why string) error {
	_, err := h.exec(ctx, "UPDATE copies SET gone = ?, why = ? WHERE archive = ? AND store = ? AND gone = ''", stamp(at), why, archive, store)
	if err != nil {
		return err
	}
	_, err = h.exec(ctx, "DELETE FROM proofs WHERE archive = ? AND store = ?", archive, store)
	return err
}

// WillGo notes, before it is done, that a copy is about to be deleted, and why; without a reason, that it is not.
// A copy that is missing and was to go has been deleted by this machine, whatever kept it from saying so.
func (h *History) WillGo(ctx context.Context, archive, store, why string) error {
	_, err := h.exec(ctx, "UPDATE copies SET why = ? WHERE archive = ? AND store = ? AND gone = ''", why, archive, store)
	return err
}

// SetHold remembers a hold.
func (h *History) SetHold(ctx context.Context, hold archive.Hold) error {
	_, err := h.exec(ctx, "INSERT OR REPLACE INTO holds (archive, since, who, why) VALUES (?, ?, ?, ?)", hold.Archive, stamp(hold.Since), hold.Who, hold.Why)
	return err
}

// DropHold forgets a hold.
func (h *History) DropHold(ctx context.Context, name string) error {
	_, err := h.exec(ctx, "DELETE FROM holds WHERE archive = ?", name)
	return err
}

// Holds returns all holds, by archive.
func (h *History) Holds(ctx context.Context) (map[string]archive.Hold, error) {
	list, err := query(ctx, h, func(r *sql.Rows, x *archive.Hold) error { return r.Scan(&x.Archive, moment{&x.Since}, &x.Who, &x.Why) }, "SELECT archive, since, who, why FROM holds")
	all := map[string]archive.Hold{}
	for _, x := range list {
		all[x.Archive] = x
	}
	return all, err
}

// Alarm is a finding that a person should look at, with when it was first made.
type Alarm struct {
	ID         int64
	Site, Kind string
	Since      time.Time
	Detail     string
	// Archive is the one that it is about, for findings about one.
	Archive string
	// Accepted is when a person said that it may be so, zero before; Who and Why
	// are that person and the reason.
	Accepted time.Time
	Who, Why string
}

// Finding is what was found now; Archive is empty for what holds at this moment
// and not of one archive.
type Finding struct{ Kind, Detail, Archive string }

// SetAlarms replaces what holds at this moment for a site: what is found again
// keeps its beginning and whether it was accepted, and what is not is over.
func (h *History) SetAlarms(ctx context.Context, site string, found []Finding, now time.Time) error {
	open, err := h.Alarms(ctx, site)
	if err != nil {
		return err
	}
	return h.change(ctx, func(tx *sql.Tx) error {
		still := map[string]bool{}
		for _, f := range found {
			still[f.Kind] = true
			if err := setAlarm(ctx, tx, site, f, open, now); err != nil {
				return err
			}
		}
		for _, a := range open {
			if a.Archive != "" || still[a.Kind] {
				continue
			}
			if _, err := tx.ExecContext(ctx, "UPDATE alarms SET cleared = ? WHERE id = ?", stamp(now), a.ID); err != nil {
				return fmt.Errorf("history: %w", err)
			}
		}
		return nil
	})
}

func setAlarm(ctx context.Context, tx *sql.Tx, site string, f Finding, open []Alarm, now time.Time) error {
	for _, a := range open {
		if a.Kind == f.Kind && a.Archive == f.Archive {
			_, err := tx.ExecContext(ctx, "UPDATE alarms SET detail = ? WHERE id = ?", f.Detail, a.ID)
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO alarms (site, kind, since, detail, archive) VALUES (?, ?, ?, ?, ?)", site, f.Kind, stamp(now), f.Detail, f.Archive)
	return err
}

// Raise adds findings about one archive. They stay until a person accepts them.
func (h *History) Raise(ctx context.Context, site string, found []Finding, now time.Time) error {
	open, err := h.Alarms(ctx, site)
	if err != nil {
		return err
	}
	return h.change(ctx, func(tx *sql.Tx) error {
		for _, f := range found {
			if err := setAlarm(ctx, tx, site, f, open, now); err != nil {
				return err
			}
		}
		return nil
	})
}

// Clear ends an alarm about an archive: it was a false one.
func (h *History) Clear(ctx context.Context, site, kind, archive string, now time.Time) error {
	_, err := h.exec(ctx, "UPDATE alarms SET cleared = ? WHERE site = ? AND kind = ? AND archive = ? AND cleared = ''", stamp(now), site, kind, archive)
	return err
}

// Alarms returns a site's alarms that are not over, oldest first, accepted ones
// that still hold included.
func (h *History) Alarms(ctx context.Context, site string) ([]Alarm, error) {
	return query(ctx, h, func(r *sql.Rows, a *Alarm) error {
		return r.Scan(&a.ID, &a.Site, &a.Kind, moment{&a.Since}, &a.Detail, &a.Archive, moment{&a.Accepted}, &a.Who, &a.Why)
	}, "SELECT id, site, kind, since, detail, archive, accepted, who, why FROM alarms WHERE site = ? AND cleared = '' ORDER BY since, id", site)
}

// Accept remembers that a person looked at alarms of one kind and found them all
// right. Those about an archive are over with it; the others stay accepted as
// long as they hold. It returns how many there were.
func (h *History) Accept(ctx context.Context, site, kind, who, why string, now time.Time) (int64, error) {
	result, err := h.exec(ctx, `UPDATE alarms SET accepted = ?, who = ?, why = ?, cleared = CASE archive WHEN '' THEN '' ELSE ? END
		WHERE site = ? AND kind = ? AND cleared = '' AND accepted = ''`, stamp(now), who, why, stamp(now), site, kind)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// Message is one that is to be sent, or was.
type Message struct {
	ID int64
	// Channel is mail or webhook.
	Channel, Title string
	Body           []byte
	Created        time.Time
	Tries          int
	Tried          time.Time
	// Error is what the last try failed with.
	Error string
}

// Queue adds a message to those that are to be sent.
func (h *History) Queue(ctx context.Context, m Message) error {
	_, err := h.exec(ctx, "INSERT INTO outbox (channel, title, body, created) VALUES (?, ?, ?, ?)", m.Channel, m.Title, m.Body, stamp(m.Created))
	return err
}

// Unsent returns the messages that are to be sent, oldest first.
func (h *History) Unsent(ctx context.Context) ([]Message, error) {
	return query(ctx, h, func(r *sql.Rows, m *Message) error {
		return r.Scan(&m.ID, &m.Channel, &m.Title, &m.Body, moment{&m.Created}, &m.Tries, moment{&m.Tried}, &m.Error)
	}, "SELECT id, channel, title, body, created, tries, tried, error FROM outbox WHERE sent = '' ORDER BY id")
}

// Sent remembers how sending a message went; nil means well.
func (h *History) Sent(ctx context.Context, id int64, at time.Time, failure error) error {
	if failure == nil {
		_, err := h.exec(ctx, "DELETE FROM outbox WHERE id = ?", id)
		return err
	}
	_, err := h.exec(ctx, "UPDATE outbox SET tries = tries + 1, tried = ?, error = ? WHERE id = ?", stamp(at), failure.Error(), id)
	return err
}

// Drop gives a message up.
func (h *History) Drop(ctx context.Context, id int64) error {
	_, err := h.exec(ctx, "DELETE FROM outbox WHERE id = ?", id)
	return err
}

// Rehearsal is how putting an archive back into scratch space went.
type Rehearsal struct {
	Archive string
	At      time.Time
	Passed  bool
	Took    time.Duration
	Detail  string
}

// AddRehearsal remembers one.
func (h *History) AddRehearsal(ctx context.Context, r Rehearsal) error {
	_, err := h.exec(ctx, "INSERT INTO rehearsals (archive, at, passed, seconds, detail) VALUES (?, ?, ?, ?, ?)", r.Archive, stamp(r.At), r.Passed, r.Took.Seconds(), r.Detail)
	return err
}

// LastRehearsal returns the newest one of a site's archives, or nil.
func (h *History) LastRehearsal(ctx context.Context, site string) (*Rehearsal, error) {
	all, err := h.rehearsals(ctx, "WHERE archive IN (SELECT name FROM archives WHERE site = ?) ORDER BY at DESC LIMIT 1", site)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// Rehearsals returns the newest one of each archive that was ever rehearsed.
func (h *History) Rehearsals(ctx context.Context) (map[string]Rehearsal, error) {
	all, err := h.rehearsals(ctx, "ORDER BY at")
	newest := map[string]Rehearsal{}
	for _, r := range all {
		newest[r.Archive] = r
	}
	return newest, err
}

func (h *History) rehearsals(ctx context.Context, which string, args ...any) ([]Rehearsal, error) {
	return query(ctx, h, func(r *sql.Rows, x *Rehearsal) error {
		var seconds float64
		err := r.Scan(&x.Archive, moment{&x.At}, &x.Passed, &seconds, &x.Detail)
		x.Took = time.Duration(seconds * float64(time.Second))
		return err
	}, "SELECT archive, at, passed, seconds, detail FROM rehearsals "+which, args...)
}

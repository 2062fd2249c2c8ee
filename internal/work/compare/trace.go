package compare

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
)

// Sighting says in which archives something was seen.
type Sighting struct {
	// FirstSeen is the oldest archive that has it, Clean the newest that has not;
	// empty when none is known. AsItIs is the oldest that has it as it is now.
	FirstSeen string `json:"first_seen"`
	Clean     string `json:"clean"`
	AsItIs    string `json:"as_it_is_since"`
	// Last is the newest archive that has it, where that was looked for.
	Last string `json:"last,omitempty"`
	// Seen, CleanAt and LastAt are when those archives were taken.
	Seen    time.Time `json:"-"`
	CleanAt time.Time `json:"-"`
	LastAt  time.Time `json:"-"`
}

// Subject is something to look for in archives: a file, or a row.
type Subject struct {
	// Path is a file's, in the list; Digest is its SHA-256 now.
	Path, Digest string
	// Changed tells that the file as it is now is meant, not whichever is there.
	Changed bool
	// Row finds a row; nil for a file.
	Row *RowSubject
	// Gone tells that it is not there any more: archives without it that are newer than all that have it say nothing.
	Gone bool
}

// RowSubject finds a row.
type RowSubject struct {
	Table  TableName
	Engine string
	// Is tells whether a row is the one, in whatever state.
	Is func(r Row) bool
	// Now is its text now; empty when only whether it is there matters.
	Now string
}

// errEnoughSeen ends the reading of a list or table.
var errEnoughSeen = errors.New("enough")

// Trace walks back through archives, newest first and open, and tells when each
// subject first appeared. It stops once an archive without it was found for each.
func Trace(ctx context.Context, archives []*catalog.Held, subjects []Subject) ([]Sighting, error) {
	t := &tracer{seen: make([]Sighting, len(subjects)), subjects: subjects, rows: map[string][2]bool{}}
	for _, h := range archives {
		if err := t.look(ctx, h); err != nil {
			return nil, err
		}
	}
	return t.seen, nil
}

type tracer struct {
	subjects []Subject
	seen     []Sighting
	// rows remembers what was found in tables, by their parts: archives share
	// those that did not change.
	rows map[string][2]bool
}

func (t *tracer) look(ctx context.Context, h *catalog.Held) error {
	wanted := map[string]int{}
	for i, s := range t.subjects {
		if s.Row == nil && t.seen[i].Clean == "" && h.Scope.HasFiles() {
			wanted[s.Path] = i
		}
	}
	found := map[int]string{}
	if len(wanted) > 0 {
		err := h.ReadList(ctx, func(e archive.Entry) error {
			if i, ok := wanted[e.Path]; ok && e.Type == archive.TypeFile {
				if found[i] = e.SHA256; len(found) == len(wanted) {
					return errEnoughSeen
				}
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnoughSeen) {
			return err
		}
	}
	for _, i := range wanted {
		digest, there := found[i]
		same := there && digest == t.subjects[i].Digest
		t.note(i, h, there && (same || !t.subjects[i].Changed), same)
	}
	for i, s := range t.subjects {
		if s.Row == nil || t.seen[i].Clean != "" || !h.Scope.HasDatabase() {
			continue
		}
		there, same, err := t.findRow(ctx, h, i)
		if err != nil {
			return err
		}
		t.note(i, h, there, same)
	}
	return nil
}

func (t *tracer) note(i int, h *catalog.Held, there, same bool) {
	s := &t.seen[i]
	if !there && t.subjects[i].Gone && s.FirstSeen == "" {
		return
	}
	if !there {
		s.Clean, s.CleanAt = h.Name, h.Taken
		return
	}
	if t.subjects[i].Gone && s.Last == "" {
		s.Last, s.LastAt = h.Name, h.Taken
	}
	if same && (s.AsItIs == s.FirstSeen) {
		s.AsItIs = h.Name
	}
	s.FirstSeen, s.Seen = h.Name, h.Taken
}

// findRow looks for a row in an archive's table.
func (t *tracer) findRow(ctx context.Context, h *catalog.Held, i int) (there, same bool, err error) {
	s := t.subjects[i].Row
	key := strconv.Itoa(i)
	for _, p := range h.Parts {
		if p.Kind == archive.KindRows && p.Database == s.Table.Database && p.Table == s.Table.Table {
			key += " " + p.Name
		}
	}
	if known, ok := t.rows[key]; ok {
		return known[0], known[1], nil
	}
	texts, err := TextsOf(ctx, h)
	if err != nil {
		return false, false, err
	}
	var columns []string
	err = eachRow(ctx, texts, s.Table, s.Engine, func(head string) { columns = columnsOf(head) }, func(row []byte) error {
		if s.Is(rowOf(columns, string(row), s.Engine)) {
			there, same = true, s.Now == "" || string(row) == s.Now
			return errEnoughSeen
		}
		return nil
	})
	if errors.Is(err, errEnoughSeen) {
		err = nil
	}
	t.rows[key] = [2]bool{there, same}
	return there, same, err
}

// ColumnsOf are the columns of a table in an archive, in order; nil if it is not there,
// or has no rows.
func ColumnsOf(ctx context.Context, h *catalog.Held, table TableName) (columns []string, err error) {
	i := slices.IndexFunc(h.Parts, func(p archive.Part) bool {
		return p.Kind == archive.KindRows && p.Database == table.Database && p.Table == table.Table
	})
	if i < 0 {
		return nil, nil
	}
	texts, err := TextsOf(ctx, h)
	if err != nil {
		return nil, err
	}
	err = eachRow(ctx, texts, table, h.Origin.Databases[table.Database].Engine, func(head string) { columns = columnsOf(head) }, func([]byte) error { return errEnoughSeen })
	if errors.Is(err, errEnoughSeen) {
		err = nil
	}
	return columns, err
}

// Trace tells of everything suspect when it first appeared in archives, newest
// first.
func (r *Report) Trace(ctx context.Context, archives []*catalog.Held) error {
	var subjects []Subject
	var into []*Sighting
	for i := range r.Files {
		f := &r.Files[i]
		if f.Suspect == "" || f.digest == nil {
			continue
		}
		if sum, err := f.digest(); err == nil { // else it is a gap already
			subjects = append(subjects, Subject{Path: f.Path, Digest: sum, Changed: f.How == Changed})
			into = append(into, &f.Sighting)
		}
	}
	for i := range r.Rows {
		s := &r.Rows[i]
		subjects = append(subjects, Subject{Row: &RowSubject{Table: TableName{s.Database, s.Table}, Engine: s.engine, Is: s.is}})
		into = append(into, &s.Sighting)
	}
	seen, err := Trace(ctx, archives, subjects)
	for i := range seen {
		*into[i] = seen[i]
	}
	r.traced = seen
	return err
}

// CleanArchive is the newest full archive that is older than everything suspect,
// of archives newest first; empty when there is none, or nothing was traced.
func (r *Report) CleanArchive(archives []*catalog.Held) string {
	var oldest time.Time
	for _, s := range r.traced {
		if s.Clean == "" {
			return ""
		}
		if oldest.IsZero() || s.CleanAt.Before(oldest) {
			oldest = s.CleanAt
		}
	}
	i := slices.IndexFunc(archives, func(h *catalog.Held) bool { return !h.Taken.After(oldest) && h.Scope == archive.Full })
	if len(r.traced) == 0 || i < 0 {
		return ""
	}
	return archives[i].Name
}

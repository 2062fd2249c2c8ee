package backup

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/database"
	"revlet/internal/platform/progress"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// openDatabases begins a snapshot of every database, so that all of them, and
// the files, are saved as of about the same moment.
func (r *run) openDatabases(ctx context.Context) error {
	if !r.Scope.HasDatabase() {
		return nil
	}
	if len(r.Site.Databases) == 0 && r.Scope == archive.Database {
		return fmt.Errorf("no database is known for the site; name one under `databases:` in the configuration")
	}
	scratch, err := r.scratchIn()
	if err != nil {
		return err
	}
	r.record.Origin.Databases = map[string]archive.DBOrigin{}
	for _, db := range r.Site.Databases {
		if db.Dump != "" {
			if err := r.takeDump(ctx, db); err != nil {
				return err
			}
			continue
		}
		_, done := r.patience(db.Label)
		source, err := r.Open(ctx, db, scratch)
		if err != nil {
			done()
			return err
		}
		r.sources = append(r.sources, openDatabase{db: db, source: source})
		d := &r.sources[len(r.sources)-1]
		d.snapshot, err = r.snapshot(ctx, d)
		if done(); err != nil {
			return err
		}
		r.record.Origin.Databases[db.Label] = r.origin(ctx, d)
		if err := r.keepUnchanged(d); err != nil {
			return err
		}
		if r.record.Origin.Address == "" {
			r.record.Origin.Address = cmp.Or(r.Site.AddressInSettings(), r.Site.StoredAddress(ctx, source))
		}
		for _, g := range d.snapshot.Gaps() {
			r.addGap(archive.Gap{Path: "database/" + db.Label + "/" + g.Object, Kind: archive.GapDatabase, Why: g.Why})
		}
		r.neighbours = append(r.neighbours, d.snapshot.Neighbours()...)
	}
	return nil
}

// snapshot begins one, of which those tables are left out that the server vouches for and that the last archive holds.
func (r *run) snapshot(ctx context.Context, d *openDatabase) (database.Snapshot, error) {
	v, ok := d.source.(database.Voucher)
	if !ok {
		return d.source.Snapshot(ctx)
	}
	return v.SnapshotSince(ctx, r.marksOf(d))
}

// marksOf are those of the last archive, for the tables of which every store still has all parts.
func (r *run) marksOf(d *openDatabase) *database.Marks {
	if r.lastSQL == nil || r.lastSQL.Marks[d.db.Label] == nil {
		return nil
	}
	then, now := r.lastSQL.Record.Origin.Databases[d.db.Label], d.source.Info()
	if then.Engine != now.Engine || then.Version != now.Version || then.Name != now.Name || then.Where != d.db.Where() || then.Prefix != d.db.Prefix {
		return nil
	}
	marks := *r.lastSQL.Marks[d.db.Label]
	marks.Tables = maps.Clone(marks.Tables)
	held, entries := map[string]bool{}, map[string]int64{}
	for _, p := range r.lastSQL.Record.Parts {
		if p.Kind == archive.KindRows && p.Database == d.db.Label {
			was, seen := held[p.Table]
			held[p.Table] = (was || !seen) && p.ContentSHA256 != "" && r.present(p)
			entries[p.Table] += p.Entries
		}
	}
	maps.DeleteFunc(marks.Tables, func(table string, _ database.Mark) bool { return !held[table] })
	for table, m := range marks.Tables {
		m.Rows = entries[table]
		marks.Tables[table] = m
	}
	return &marks
}

// keepUnchanged names the parts of the last archive again for tables that the server vouches for.
func (r *run) keepUnchanged(d *openDatabase) error {
	v, ok := d.snapshot.(database.Vouched)
	if !ok {
		return nil
	}
	if m := v.Marks(); m != nil {
		if r.marks == nil {
			r.marks = map[string]*database.Marks{}
		}
		r.marks[d.db.Label] = m
	}
	tables := map[string]bool{}
	for _, name := range v.Unchanged() {
		tables[name] = true
	}
	if len(tables) == 0 {
		return nil
	}
	for _, p := range r.lastSQL.Record.Parts {
		if p.Kind != archive.KindRows || p.Database != d.db.Label || !tables[p.Table] {
			continue
		}
		if err := r.addUnit(d, database.Unit{Kind: database.Rows, Table: p.Table, Slice: p.Slice}, p, p.Entries); err != nil {
			return err
		}
		d.kept = append(d.kept, p)
	}
	o := r.record.Origin.Databases[d.db.Label]
	o.NotRead, o.NotReadSince = len(tables), r.lastSQL.Record.Name
	r.record.Origin.Databases[d.db.Label] = o
	return nil
}

// inOrder are the parts of a database, table by table.
func (d *openDatabase) inOrder() []archive.Part {
	all := slices.Concat(d.parts, d.kept)
	kinds := []string{archive.KindSchema, archive.KindRows, archive.KindObjects}
	slices.SortStableFunc(all, func(a, b archive.Part) int {
		return cmp.Or(cmp.Compare(slices.Index(kinds, a.Kind), slices.Index(kinds, b.Kind)), strings.Compare(a.Table, b.Table), cmp.Compare(a.Slice, b.Slice))
	})
	return all
}

// silence is after how long without a byte a person is told that a database is waited for.
const silence = 30 * time.Second

// patience has a person told when a database says nothing.
func (r *run) patience(label string) (heard, done func()) {
	return progress.Patience(r.observer, silence, fmt.Sprintf("note: database %s has said nothing for %s; it is waited for", label, silence))
}

func (r *run) origin(ctx context.Context, d *openDatabase) archive.DBOrigin {
	info := d.source.Info()
	o := archive.DBOrigin{Engine: info.Engine, Version: info.Version, Name: info.Name, Where: d.db.Where(), Prefix: d.db.Prefix,
		Charset: info.Charset, Collation: info.Collation, Consistency: d.snapshot.Consistency(), Sequences: d.snapshot.Sequences(), Neighbours: len(d.snapshot.Neighbours())}
	if d.db.Path == "" {
		return o
	}
	o.Where, o.Name = r.Site.PathAt(d.db.Path), path.Base(d.db.Path) // a copy has another name
	in := r.Site.At(r.disk).Anywhere(ctx)
	if fi, err := in.Lstat(o.Where); err == nil {
		o.Mode = fmt.Sprintf("%04o", unixMode(fi.Mode()))
		if st, ok := tree.StatOf(fi); ok {
			user, group := in.Owner(st.UID, st.GID)
			o.Owner = archive.NewOwner(st.UID, st.GID, user, group)
		}
	}
	return o
}

// dumpDatabase starts one goroutine per lane that turns units into parts.
func (r *run) dumpDatabase(ctx context.Context, g *errgroup.Group, d *openDatabase) {
	units := d.snapshot.Units()
	d.parts = make([]archive.Part, len(units))
	next := make(chan int)
	g.Go(func() error {
		defer close(next)
		for i := range units {
			select {
			case next <- i:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	for range d.snapshot.Lanes() {
		g.Go(func() error {
			for i := range next {
				part, err := r.dumpUnit(ctx, d, units[i])
				if err != nil {
					return err
				}
				d.parts[i] = part
			}
			return nil
		})
	}
}

// dumpUnit makes a part of a unit. One that the last archive has is first written
// as it is: when it is the same, nothing need be compressed.
func (r *run) dumpUnit(ctx context.Context, d *openDatabase, u database.Unit) (archive.Part, error) {
	heard, done := r.patience(d.db.Label)
	defer done()
	pace := pacer(func(n int64) { heard(); r.observer.Advance(n) })
	old, known := r.lastUnit(d, u)
	if !known {
		return r.packUnit(d, u, func(w io.Writer) (int64, error) {
			return d.snapshot.Dump(ctx, u, io.MultiWriter(w, pace))
		})
	}
	plain, err := r.spool.create()
	if err != nil {
		return old, err
	}
	defer r.spool.discard(plain)
	digest := sha256.New()
	rows, err := d.snapshot.Dump(ctx, u, io.MultiWriter(plain, digest, pace))
	if err != nil {
		return old, fmt.Errorf("database %s: %w", d.db.Label, err)
	}
	if hex.EncodeToString(digest.Sum(nil)) == old.ContentSHA256 {
		return old, r.addUnit(d, u, old, rows)
	}
	if _, err := plain.Seek(0, io.SeekStart); err != nil {
		return old, err
	}
	return r.packUnit(d, u, func(w io.Writer) (int64, error) {
		_, err := io.Copy(w, plain)
		return rows, err
	})
}

// lastUnit is the part of a unit in the last archive, as long as every store still
// has it.
func (r *run) lastUnit(d *openDatabase, u database.Unit) (archive.Part, bool) {
	if r.lastSQL == nil {
		return archive.Part{}, false
	}
	for _, p := range r.lastSQL.Record.Parts {
		if p.Kind == u.Kind && p.Database == d.db.Label && p.Table == u.Table && p.Slice == u.Slice && p.ContentSHA256 != "" && r.present(p) {
			return p, true
		}
	}
	return archive.Part{}, false
}

// packUnit compresses a unit's text into a part, and sends it.
func (r *run) packUnit(d *openDatabase, u database.Unit, text func(io.Writer) (rows int64, err error)) (archive.Part, error) {
	out, err := r.spool.create()
	if err != nil {
		return archive.Part{}, err
	}
	part, rows, err := r.compressUnit(d, u, out, text)
	if err != nil {
		r.spool.discard(out)
		return part, fmt.Errorf("database %s: %w", d.db.Label, err)
	}
	if err := r.addUnit(d, u, part, rows); err != nil {
		return part, err
	}
	return part, r.sendPart(part, out)
}

func (r *run) compressUnit(d *openDatabase, u database.Unit, out io.Writer, text func(io.Writer) (int64, error)) (part archive.Part, rows int64, err error) {
	enc, err := archive.NewEncoder()
	if err != nil {
		return part, 0, err
	}
	pw, err := archive.NewPartWriter(out, archive.SQLZstd, enc, r.To)
	if err != nil {
		return part, 0, err
	}
	digest := sha256.New()
	if rows, err = text(io.MultiWriter(pw, digest)); err != nil {
		return part, rows, err
	}
	if part, err = pw.Finish(); err != nil {
		return part, rows, err
	}
	part.Kind, part.Database, part.Table, part.Slice, part.Entries = u.Kind, d.db.Label, u.Table, u.Slice, rows
	part.ContentSHA256 = hex.EncodeToString(digest.Sum(nil))
	return part, rows, nil
}

// addUnit enters a unit into the list and the totals.
func (r *run) addUnit(d *openDatabase, u database.Unit, part archive.Part, rows int64) error {
	entry := archive.Entry{Type: u.Kind, Path: unitPath(d.db, u), Size: part.ContentBytes, SHA256: part.ContentSHA256,
		Part: part.Name, Database: d.db.Label, Table: u.Table, Slice: u.Slice, Rows: rows}
	if err := r.list.Add(entry); err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.record.Totals.DatabaseBytes += part.ContentBytes
	r.record.Totals.Rows += rows
	if u.Kind == database.Rows && u.Slice == 1 {
		r.record.Totals.Tables++
	}
	return nil
}

// unitPath is where a unit stands in the list and in extracted folders.
func unitPath(db site.Database, u database.Unit) string {
	base := "database/" + db.Label + "/"
	if u.Kind != database.Rows {
		return base + u.Kind + ".sql"
	}
	return fmt.Sprintf("%srows/%s.%03d.sql", base, url.PathEscape(u.Table), u.Slice)
}

type pacer func(int64)

func (p pacer) Write(b []byte) (int, error) { p(int64(len(b))); return len(b), nil }

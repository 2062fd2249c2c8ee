package backup

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/storelock"
	"revlet/internal/site/tree"
	"revlet/internal/store"
)

// Imported is an archive that comes from a portable file instead of a live site.
type Imported struct {
	// Record is the archive's record as it was; it keeps its name.
	Record *archive.Record
	// List visits the entries of its list, in path order.
	List func(visit func(archive.Entry) error) error
	// File and Database are where a file and a database's SQL text lie.
	File     func(name string) string
	Database func(label string) string
}

// HandMade says what a site that is packed from a hand-made copy lacks.
type HandMade struct {
	// Taken is when the copy was made.
	Taken time.Time
	// Root is the webroot that the files belong to; the site's own is where they
	// were unpacked.
	Root string
	// Place is the machine of the site where that is another one: archive.Origin.Place.
	Place string
	// Own gives an entry the owner that it is to have; nil leaves it.
	Own func(*archive.Entry)
	// SQL is the file with the SQL text of the database Label, if there is one;
	// Origin describes that database.
	SQL, Label string
	Origin     archive.DBOrigin
}

// ErrThere is wrapped when an archive of that name is in the stores already.
var ErrThere = errors.New("is in the store already")

// claimImported takes the archive's own name, which must be free.
func (r *run) claimImported(ctx context.Context, token string) error {
	rec := r.Imported.Record
	err := r.notThere(ctx, rec.Name)
	if err != nil {
		return err
	}
	if r.ledger, err = openLedger(r.State, r.Site.Name, rec.Name); err != nil {
		return err
	}
	for _, t := range r.live() {
		other, err := t.announce(ctx, r.Site.Name, mark{Archive: rec.Name, Host: rec.Host, Began: r.Now()}, token, storelock.Machine(r.State.Dir), r.ledger)
		if err != nil {
			t.fail(err)
		}
		if other {
			return fmt.Errorf("archive %s is being made by another machine (store %s): wait for it, and import it again if it is not there then", rec.Name, t.Name)
		}
	}
	if err := r.allFailed(); err != nil {
		return err
	}
	return r.notThere(ctx, rec.Name) // another machine may have begun and ended since
}

// notThere makes sure that no store has an archive of that name.
func (r *run) notThere(ctx context.Context, name string) error {
	for _, t := range r.live() {
		_, err := t.Stat(ctx, archive.RecordPath(r.Site.Name, name))
		if err == nil {
			return fmt.Errorf("archive %s %w (store %s)", name, ErrThere, t.Name)
		}
		if !errors.Is(err, store.ErrNotFound) {
			t.fail(err)
		}
	}
	return r.allFailed()
}

// importAll packs what the list names from where it was unpacked, and splits
// the databases' texts into the parts they were.
func (r *run) importAll(ctx context.Context) error {
	rec := r.Imported.Record
	r.record.Origin, r.record.Note, r.record.Host, r.record.Program = rec.Origin, rec.Note, rec.Host, rec.Program
	r.record.Totals, r.gaps, r.record.Scope = archive.Totals{Tables: rec.Totals.Tables, Skipped: rec.Totals.Skipped}, rec.Gaps, rec.Scope
	r.observer.Phase("importing "+rec.Name, rec.Totals.FileBytes+rec.Totals.DatabaseBytes)
	if rec.Scope.HasFiles() {
		if err := r.packFiles(ctx); err != nil {
			return err
		}
	}
	if err := r.importTables(ctx); err != nil {
		return err
	}
	return r.settleSends()
}

// meetImported hands the list's files to the planner and all else to the tree.
func (r *run) meetImported(p *planner, add func(archive.Entry) error) error {
	here := tree.Local(r.disk).Anywhere(context.Background())
	return r.Imported.List(func(e archive.Entry) error {
		e.Part = ""
		if e.Type != archive.TypeFile {
			if !e.IsFileTree() {
				return nil
			}
			return add(e)
		}
		file := r.Imported.File(e.Path)
		info, err := r.disk.Lstat(file)
		if err != nil {
			return fmt.Errorf("%s is named in its list, but not in the file: %w", e.Path, err)
		}
		if info.Size() != e.Size {
			return fmt.Errorf("%s: %w: it has %d bytes, %d were saved", e.Path, archive.ErrDamaged, info.Size(), e.Size)
		}
		return p.add(planned{in: here, rel: file, name: e.Path, info: info, as: &e})
	})
}

// importTables makes the parts of every database again, in their order.
func (r *run) importTables(ctx context.Context) error {
	sums := map[string]archive.Entry{}
	err := r.Imported.List(func(e archive.Entry) error {
		if !e.IsFileTree() {
			sums[e.Part] = e
		}
		return nil
	})
	if err != nil {
		return err
	}
	offset := map[string]int64{}
	for _, old := range r.Imported.Record.Parts {
		if !old.IsSQL() {
			continue
		}
		e, ok := sums[old.Name]
		if !ok {
			return fmt.Errorf("%w: it does not name part %s", archive.ErrList, old.Name)
		}
		if err := r.importUnit(ctx, old, e, offset[old.Database]); err != nil {
			return fmt.Errorf("database %s: %w", old.Database, err)
		}
		offset[old.Database] += old.ContentBytes
	}
	return nil
}

func (r *run) importUnit(ctx context.Context, old archive.Part, e archive.Entry, offset int64) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	in, err := r.disk.Open(r.Imported.Database(old.Database))
	if err != nil {
		return err
	}
	defer in.Close()
	part, err := r.packText(io.NewSectionReader(in, offset, old.ContentBytes), func(part *archive.Part, sum string) (archive.Entry, error) {
		if part.ContentBytes != old.ContentBytes || sum != e.SHA256 {
			return e, fmt.Errorf("%s: %w: its text is not what was saved", e.Path, archive.ErrDamaged)
		}
		part.Kind, part.Database, part.Table, part.Slice, part.Entries = old.Kind, old.Database, old.Table, old.Slice, old.Entries
		return e, nil
	})
	r.record.Totals.Rows += e.Rows
	r.texts = append(r.texts, part)
	return err
}

// packText makes a part of an SQL text; describe completes it and its entry.
func (r *run) packText(text io.Reader, describe func(part *archive.Part, sum string) (archive.Entry, error)) (archive.Part, error) {
	out, err := r.spool.create()
	if err != nil {
		return archive.Part{}, err
	}
	fail := func(err error) (archive.Part, error) {
		r.spool.discard(out)
		return archive.Part{}, err
	}
	enc, err := archive.NewEncoder()
	if err != nil {
		return fail(err)
	}
	pw, err := archive.NewPartWriter(out, archive.SQLZstd, enc, r.To)
	if err != nil {
		return fail(err)
	}
	digest := sha256.New()
	if _, err := io.Copy(io.MultiWriter(pw, digest, pacer(r.observer.Advance)), text); err != nil {
		return fail(err)
	}
	part, err := pw.Finish()
	if err != nil {
		return fail(err)
	}
	part.ContentSHA256 = hex.EncodeToString(digest.Sum(nil))
	e, err := describe(&part, part.ContentSHA256)
	if err != nil {
		return fail(err)
	}
	e.Part = part.Name
	if err := r.list.Add(e); err != nil {
		return fail(err)
	}
	r.record.Totals.DatabaseBytes += part.ContentBytes
	return part, r.sendPart(part, out)
}

// dumpHandMade takes the SQL text of a hand-made copy in as it is.
func (r *run) dumpHandMade() error {
	h := r.HandMade
	if h.SQL == "" {
		return nil
	}
	in, err := r.disk.Open(h.SQL)
	if err != nil {
		return err
	}
	defer in.Close()
	r.record.Origin.Databases = map[string]archive.DBOrigin{h.Label: h.Origin}
	part, err := r.packText(in, func(part *archive.Part, sum string) (archive.Entry, error) {
		part.Kind, part.Database = archive.KindDump, h.Label
		return archive.Entry{Type: archive.KindDump, Path: "database/" + h.Label + "/" + archive.KindDump + ".sql", Size: part.ContentBytes, SHA256: sum, Database: h.Label}, nil
	})
	r.texts = append(r.texts, part)
	return err
}

// shownRoots is where the folders of the site are said to be.
func (r *run) shownRoots(label, root string) map[string]string {
	roots := map[string]string{label: root}
	if r.HandMade != nil {
		roots[label] = r.HandMade.Root
	}
	maps.Copy(roots, r.Site.Roots)
	for label, dir := range roots {
		roots[label] = r.Site.PathAt(dir)
	}
	return roots
}

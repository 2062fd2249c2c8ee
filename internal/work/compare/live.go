package compare

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"slices"

	"golang.org/x/sync/errgroup"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/engine"
)

// Databases reads a site's live databases, each as of one moment. Copies that an
// engine needs pass through the folder Scratch.
type Databases struct {
	Disk    *disk.Disk
	Scratch string
}

// Live is a site as it is now, to compare with.
func (d Databases) Live(s *site.Site) *Live {
	statements := map[string][]string{}
	return &Live{Site: s, Disk: d.Disk, IsDatabase: engine.IsFile,
		Databases: func(ctx context.Context) (map[TableName]Sum, error) {
			return d.tables(ctx, s, statements)
		},
		Statements: func(context.Context) (map[string][]string, error) { return statements, nil },
		Rows: func(ctx context.Context, label string) (Texts, func(), error) {
			return d.texts(ctx, s, label)
		}}
}

// tables dumps a site's databases into digests, and collects the statements that make the tables and
// what else is in the databases.
func (d Databases) tables(ctx context.Context, s *site.Site, statements map[string][]string) (map[TableName]Sum, error) {
	all := map[TableName]Sum{}
	for _, db := range s.Databases {
		if db.Dump != "" {
			continue // it cannot be read from here: see Job.dumped
		}
		if err := d.sum(ctx, db, all, statements); err != nil {
			return nil, fmt.Errorf("database %s: %w", db.Label, err)
		}
	}
	return all, nil
}

// snapshot opens a live database as of this moment, until done is called.
func (d Databases) snapshot(ctx context.Context, db site.Database) (snapshot database.Snapshot, done func(), err error) {
	var undo []func()
	done = func() {
		for _, f := range slices.Backward(undo) {
			f()
		}
	}
	scratch, err := os.MkdirTemp(d.Scratch, "compare-")
	if err != nil {
		return nil, done, err
	}
	undo = append(undo, func() { _ = d.Disk.RemoveAll(scratch) })
	source, err := engine.Source(ctx, d.Disk, db, scratch)
	if err != nil {
		return nil, done, err
	}
	undo = append(undo, func() { _ = source.Close() })
	if snapshot, err = source.Snapshot(ctx); err == nil {
		undo = append(undo, func() { _ = snapshot.Close() })
	}
	return snapshot, done, err
}

// rowUnits are the units of a snapshot that hold rows, of one table or of all.
func rowUnits(s database.Snapshot, table string) []database.Unit {
	return slices.DeleteFunc(slices.Clone(s.Units()), func(u database.Unit) bool {
		return u.Kind != database.Rows || table != "" && u.Table != table
	})
}

func (d Databases) sum(ctx context.Context, db site.Database, all map[TableName]Sum, statements map[string][]string) error {
	snapshot, done, err := d.snapshot(ctx, db)
	defer done()
	if err != nil {
		return err
	}
	units := rowUnits(snapshot, "")
	digests, rows := make([]string, len(units)), make([]int64, len(units))
	g, inGroup := errgroup.WithContext(ctx)
	g.SetLimit(snapshot.Lanes())
	for i, u := range units {
		g.Go(func() (err error) {
			sum := sha256.New()
			rows[i], err = snapshot.Dump(inGroup, u, sum)
			digests[i] = hex.EncodeToString(sum.Sum(nil))
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if statements[db.Label], err = statementsOf(ctx, snapshot, db.Engine); err != nil {
		return err
	}
	for i, u := range units {
		name := TableName{Database: db.Label, Table: u.Table}
		sum := all[name]
		all[name] = Sum{Rows: sum.Rows + rows[i], Digests: append(sum.Digests, digests[i])}
	}
	return nil
}

// statementsOf are the statements of a snapshot that are not of rows.
func statementsOf(ctx context.Context, snapshot database.Snapshot, dialect string) ([]string, error) {
	var text bytes.Buffer
	for _, u := range snapshot.Units() {
		if u.Kind == database.Rows {
			continue
		}
		if _, err := snapshot.Dump(ctx, u, &text); err != nil {
			return nil, err
		}
	}
	return engine.Statements(dialect, &text)
}

// texts gives the rows of a live database's tables as of one moment, until
// done is called.
func (d Databases) texts(ctx context.Context, s *site.Site, label string) (texts Texts, done func(), err error) {
	db, ok := s.Database(label)
	if !ok {
		return nil, func() {}, fmt.Errorf("the site has no database %s now", label)
	}
	snapshot, done, err := d.snapshot(ctx, db)
	if err != nil {
		return nil, done, err
	}
	return func(ctx context.Context, name TableName, w io.Writer) error {
		for _, u := range rowUnits(snapshot, name.Table) {
			if _, err := snapshot.Dump(ctx, u, w); err != nil {
				return err
			}
		}
		return nil
	}, done, nil
}

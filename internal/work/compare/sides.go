package compare

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"slices"
	"strings"
	"sync"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/work/backup"
)

// Archive is an archive as a side.
type Archive struct {
	*catalog.Held
	// Lines are those of its list where this machine keeps them in a form that is
	// read faster; nil otherwise.
	Lines iter.Seq2[archive.Line, error]
}

// Version implements Side.
func (a Archive) Version() string { return a.Origin.Version }

// errEnough ends the reading of a list.
var errEnough = errors.New("enough")

// batchOf is how many entries of a list are handed over at a time.
const batchOf = 512

// Files implements Side. The list is read ahead, beside the walk of the other side.
func (a Archive) Files(ctx context.Context) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		ctx, enough := context.WithCancel(ctx)
		defer enough()
		batches, done := make(chan []Entry, 4), make(chan error, 1)
		go func() {
			done <- a.readAhead(ctx, batches)
			close(batches)
		}()
		for batch := range batches {
			for _, e := range batch {
				if !yield(e, nil) {
					return
				}
			}
		}
		if err := <-done; err != nil {
			yield(Entry{}, err)
		}
	}
}

// readAhead reads the files of a list in batches, until its context ends.
func (a Archive) readAhead(ctx context.Context, batches chan<- []Entry) error {
	batch := make([]Entry, 0, batchOf)
	hand := func() error {
		select {
		case batches <- batch:
			batch = make([]Entry, 0, batchOf)
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	err := a.eachFile(ctx, func(e Entry) error {
		if batch = append(batch, e); len(batch) == batchOf {
			return hand()
		}
		return nil
	})
	if err != nil {
		return err
	}
	return hand()
}

// eachFile visits the files of the list, in whichever form it is at hand.
func (a Archive) eachFile(ctx context.Context, visit func(Entry) error) error {
	if a.Lines == nil {
		return a.ReadList(ctx, func(e archive.Entry) error {
			if !e.IsFileTree() {
				return nil
			}
			return visit(Entry{Entry: e})
		})
	}
	for l, err := range a.Lines {
		if err != nil {
			return err
		}
		e := Entry{Entry: archive.Entry{Path: l.Path}, line: &l}
		if !l.File {
			if err := e.complete(); err != nil {
				return err
			}
			if !e.IsFileTree() {
				continue
			}
		}
		if err := visit(e); err != nil {
			return err
		}
	}
	return nil
}

// Tables implements Side.
func (a Archive) Tables(ctx context.Context) (map[TableName]Sum, error) {
	all := map[TableName]Sum{}
	err := a.ReadDatabaseList(ctx, func(e archive.Entry) error {
		if e.Type == archive.TypeRows {
			name := TableName{e.Database, e.Table}
			sum := all[name]
			if e.Slice < 1 || e.Slice > len(a.Parts) {
				return fmt.Errorf("archive %s: %w: it lists slice %d of table %s, and has %d parts", a.Name, archive.ErrDamaged, e.Slice, e.Table, len(a.Parts))
			}
			for len(sum.Digests) < e.Slice {
				sum.Digests = append(sum.Digests, "")
			}
			sum.Digests[e.Slice-1] = e.SHA256
			sum.Rows += e.Rows
			all[name] = sum
		}
		return nil
	})
	return all, err
}

// Texts implements Side.
func (a Archive) Texts(ctx context.Context, _ string) (Texts, func(), error) {
	texts, err := TextsOf(ctx, a.Held)
	return texts, func() {}, err
}

// Live is the site as it is now, as a side.
type Live struct {
	Site *site.Site
	Disk *disk.Disk
	// IsDatabase tells database files by their first bytes.
	IsDatabase func([]byte) bool
	// Databases dumps the site's databases into sums.
	Databases func(ctx context.Context) (map[TableName]Sum, error)
	// Statements gives the statements that make a database, by label. It is asked
	// after Databases; without it, neither definitions nor suspect rows are told.
	Statements func(ctx context.Context) (map[string][]string, error)
	// Rows gives the rows of a labelled database's tables as of one moment.
	Rows func(ctx context.Context, label string) (Texts, func(), error)

	gaps    []archive.Gap
	leftOut map[string]int64
	// far are the folders of a site on another machine, where it costs journeys to open them;
	// nothing is held by them.
	far sync.Map
}

// Version implements Side.
func (l *Live) Version() string { return l.Site.Version() }

// Tables implements Side.
func (l *Live) Tables(ctx context.Context) (map[TableName]Sum, error) { return l.Databases(ctx) }

// Definitions implements Side.
func (l *Live) Definitions(ctx context.Context) (map[string][]string, error) {
	return l.Statements(ctx)
}

// Texts implements Side.
func (l *Live) Texts(ctx context.Context, label string) (Texts, func(), error) {
	return l.Rows(ctx, label)
}

// Files implements Side.
func (l *Live) Files(ctx context.Context) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		leftOut := map[string]int64{}
		gaps, err := backup.Live(ctx, l.Disk, l.Site, l.IsDatabase, func(e archive.Entry) error {
			entry := Entry{Entry: e}
			if e.Type == archive.TypeFile {
				entry.Digest = func() (string, error) { return l.digest(ctx, e.Path) }
				entry.Copied = l.isDatabase(e.Path)
			}
			if !yield(entry, nil) {
				return errEnough
			}
			return nil
		}, func(_, rule string) {
			if rule != "" {
				leftOut[rule]++
			}
		})
		l.gaps, l.leftOut = gaps, leftOut
		if err != nil && !errors.Is(err, errEnough) {
			yield(Entry{}, err)
		}
	}
}

func (l *Live) digest(ctx context.Context, name string) (string, error) {
	if l.Site.Far() {
		if sum, ok, err := l.farDigest(ctx, name); ok {
			return sum, err
		}
	}
	f, done, err := l.open(ctx, name)
	if err != nil {
		return "", err
	}
	defer done()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// mostWhole is the size up to which a file far away is read in one go, in bytes.
const mostWhole = 4 << 20

// farDigest reads a file far away in one go; ok is false for one that is too large for that, or
// in no folder of the site.
func (l *Live) farDigest(ctx context.Context, name string) (sum string, ok bool, err error) {
	label, rel, _ := strings.Cut(name, "/")
	dir := l.Site.FolderOf(label)
	if dir == "" {
		return "", false, nil
	}
	in, known := l.far.Load(label)
	if !known {
		if in, err = l.Site.At(l.Disk).Folder(ctx, l.Site.PathAt(dir)); err != nil {
			return "", true, err
		}
		l.far.Store(label, in)
	}
	whole, can := in.(tree.WholeReader)
	if !can {
		return "", false, nil
	}
	w, err := whole.ReadWhole(rel, mostWhole)
	if errors.Is(err, tree.ErrTooLarge) {
		return "", false, nil
	}
	digest := sha256.Sum256(w.Data)
	return hex.EncodeToString(digest[:]), true, err
}

// open opens a file by its name in archives.
func (l *Live) open(ctx context.Context, name string) (f tree.File, done func(), err error) {
	if name == site.AboveLabel+"/"+path.Base(l.Site.Above) && l.Site.Above != "" {
		f, err = l.Site.At(l.Disk).Anywhere(ctx).Open(l.Site.PathAt(l.Site.Above))
		return f, func() { _ = f.Close() }, err
	}
	folders := backup.OpenFolders(ctx, l.Disk, l.Site)
	if f, err = folders.Open(name); err != nil {
		folders.Close()
		return nil, nil, err
	}
	return f, func() {
		_ = f.Close()
		folders.Close()
	}, nil
}

// isDatabase tells whether a file is a database: its bytes mean nothing, its
// tables are compared.
func (l *Live) isDatabase(name string) bool {
	label, rel, _ := strings.Cut(name, "/")
	root := l.Site.FolderOf(label)
	return root != "" && slices.ContainsFunc(l.Site.Databases, func(db site.Database) bool { return db.Path == root+"/"+rel })
}

package portable

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/progress"
	"revlet/internal/store"
)

// Export is the making of a portable file.
type Export struct {
	Archive *catalog.Held
	// File is what to write; its ending says the format.
	File string
	// Split cuts it into pieces of so many bytes, FILE.001 and so on, with their
	// digests in FILE.sha256; 0 writes one file.
	Split    int64
	Disk     *disk.Disk
	Observer progress.Observer
}

// Run writes the file, whole or not at all, and returns the names of what it
// has written. It is not encrypted, whatever the archive is.
func (e Export) Run(ctx context.Context) (files []string, err error) {
	if !slices.Contains([]string{".zip", ".tar", ".tar.zst"}, format(e.File)) {
		return nil, fmt.Errorf("%s: the name of a portable file ends in .zip, .tar or .tar.zst", e.File)
	}
	out := &pieces{disk: e.Disk, base: e.File, most: e.Split}
	if err := out.refuseExisting(); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			out.abandon()
		}
	}()
	c, err := newContainer(format(e.File), out)
	if err != nil {
		return nil, err
	}
	if err := e.fill(ctx, c); err != nil {
		return nil, fmt.Errorf("export %s: %w", e.Archive.Name, err)
	}
	if err := c.Close(); err != nil {
		return nil, fmt.Errorf("export %s: %w", e.Archive.Name, err)
	}
	return out.finish()
}

func (e Export) fill(ctx context.Context, c container) error {
	h := e.Archive
	watch := progress.Or(e.Observer)
	watch.Phase("exporting "+h.Name, h.Totals.StoredBytes)
	ix, err := h.ReadIndex(ctx)
	if err != nil {
		return err
	}
	if err := e.describe(ctx, c); err != nil {
		return err
	}
	for _, p := range h.Parts {
		if p.IsSQL() {
			continue
		}
		if err := e.once(ctx, p, func(s store.Named) error { return e.files(ctx, c, ix, s, p) }); err != nil {
			return err
		}
	}
	for label := range h.Origin.Databases {
		if err := e.database(ctx, c, ix, label); err != nil {
			return err
		}
	}
	return nil
}

// describe writes the record and the list, both open.
func (e Export) describe(ctx context.Context, c container) error {
	var list bytes.Buffer
	enc, err := zstd.NewWriter(&list)
	if err != nil {
		return err
	}
	err = e.Archive.ReadList(ctx, func(entry archive.Entry) error {
		line, err := entry.Encode()
		if err == nil {
			_, err = enc.Write(line)
		}
		return err
	})
	if err = errors.Join(err, enc.Close()); err != nil {
		return err
	}
	open := *e.Archive.Record
	record, err := open.Encode(nil)
	if err != nil {
		return err
	}
	for name, data := range map[string][]byte{RecordName: record, ListName: list.Bytes()} {
		w, err := c.File(name, plain(int64(len(data)), e.Archive.Taken))
		if err == nil {
			_, err = w.Write(data)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// once finds a store that has a part sound, by reading it through, and only
// then has it written: what went into the file cannot be taken back.
func (e Export) once(ctx context.Context, p archive.Part, write func(store.Named) error) error {
	var failed error
	for _, s := range e.Archive.Stores {
		if len(e.Archive.Stores) > 1 {
			if err := e.Archive.CheckPart(ctx, s, p, nil); err != nil {
				failed = errors.Join(failed, err)
				continue
			}
		}
		return write(s)
	}
	return failed
}

func (e Export) files(ctx context.Context, c container, ix *catalog.Index, s store.Named, p archive.Part) error {
	in, err := e.Archive.OpenPart(ctx, s, p, progress.Or(e.Observer).Advance)
	if err != nil {
		return err
	}
	defer in.Close()
	return ix.ReadTar(in, p, func(h *tar.Header, content io.Reader) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg {
			return c.Other(FilesDir+h.Name, h)
		}
		w, err := c.File(FilesDir+h.Name, h)
		if err == nil {
			_, err = io.Copy(w, content)
		}
		return err
	})
}

// database writes all of one database as one SQL file.
func (e Export) database(ctx context.Context, c container, ix *catalog.Index, label string) error {
	var parts []archive.Part
	var size int64
	for _, p := range e.Archive.Parts {
		if p.IsSQL() && p.Database == label {
			parts = append(parts, p)
			size += p.ContentBytes
		}
	}
	w, err := c.File(DatabaseDir+label+".sql", plain(size, e.Archive.Taken))
	if err != nil {
		return err
	}
	for _, p := range parts {
		err := e.once(ctx, p, func(s store.Named) error {
			in, err := e.Archive.OpenPart(ctx, s, p, progress.Or(e.Observer).Advance)
			if err != nil {
				return err
			}
			defer in.Close()
			return ix.CheckSQL(in, p, func(text io.Reader) error {
				_, err := io.Copy(w, text)
				return err
			})
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// pieces writes one file, or several of a bounded length.
type pieces struct {
	disk  *disk.Disk
	base  string
	most  int64
	n     int
	left  int64
	file  *disk.File
	sum   *hashWriter
	lines []string
	done  []string
}

const unfinished = ".unfinished"

func (p *pieces) name(n int) string {
	if p.most == 0 {
		return p.base
	}
	return fmt.Sprintf("%s.%03d", p.base, n)
}

func (p *pieces) refuseExisting() error {
	for _, name := range []string{p.base, p.base + ".001", p.base + sums} {
		if there, err := p.disk.Exists(name); err != nil || there {
			return errors.Join(err, fmt.Errorf("%s exists already; nothing was written", name))
		}
	}
	return nil
}

// Write implements io.Writer.
func (p *pieces) Write(b []byte) (n int, err error) {
	for len(b) > 0 {
		if p.file == nil {
			if err := p.next(); err != nil {
				return n, err
			}
		}
		now := b
		if p.most > 0 {
			now = b[:min(int64(len(b)), p.left)]
		}
		if _, err := p.file.Write(now); err != nil {
			return n, err
		}
		_, _ = p.sum.Write(now)
		n, b, p.left = n+len(now), b[len(now):], p.left-int64(len(now))
		if p.most > 0 && p.left == 0 {
			if err := p.end(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

func (p *pieces) next() (err error) {
	p.n++
	p.left, p.sum = p.most, newHashWriter()
	p.file, err = p.disk.CreateAnew(p.name(p.n)+unfinished, 0o600)
	return err
}

func (p *pieces) end() error {
	if p.file == nil {
		return nil
	}
	err := errors.Join(p.file.Sync(), p.file.Close())
	p.file = nil
	p.lines = append(p.lines, fmt.Sprintf("%s  %s\n", p.sum.hex(), filepath.Base(p.name(p.n))))
	return err
}

// finish gives everything its name.
func (p *pieces) finish() ([]string, error) {
	if err := p.end(); err != nil {
		return nil, err
	}
	for n := 1; n <= p.n; n++ {
		if err := p.disk.Rename(p.name(n)+unfinished, p.name(n)); err != nil {
			return nil, err
		}
		p.done = append(p.done, p.name(n))
	}
	if p.most > 0 {
		if err := p.disk.WriteFile(p.base+sums, []byte(strings.Join(p.lines, "")), 0o600); err != nil {
			return nil, err
		}
		p.done = append(p.done, p.base+sums)
	}
	return p.done, p.disk.SyncDir(filepath.Dir(p.base))
}

func (p *pieces) abandon() {
	if p.file != nil {
		_ = p.file.Close()
	}
	for n := 1; n <= p.n; n++ {
		_ = p.disk.Remove(p.name(n) + unfinished)
	}
	for _, name := range p.done {
		_ = p.disk.Remove(name)
	}
}

package backup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
)

func (r *run) sendPart(part archive.Part, file *disk.File) error {
	return r.send(archive.PartPath(r.Site.Name, part.Name), part.Bytes, file, func(fresh bool) {
		r.mu.Lock()
		defer r.mu.Unlock()
		if fresh {
			r.newBytes += part.Bytes
		}
	})
}

// seal writes the list and then the record: only now there is an archive.
func (r *run) seal(ctx context.Context) error {
	slices.SortFunc(r.files, func(a, b numbered) int { return cmp.Compare(a.seq, b.seq) })
	for _, n := range r.files {
		r.record.Parts = append(r.record.Parts, n.part)
	}
	for _, d := range r.sources {
		r.record.Parts = append(r.record.Parts, d.inOrder()...)
	}
	r.record.Parts = append(r.record.Parts, r.texts...)
	local, listName, err := r.writeList()
	if err != nil {
		return fmt.Errorf("write the list: %w", err)
	}
	slices.SortFunc(r.gaps, func(a, b archive.Gap) int { return archive.ComparePaths(a.Path, b.Path) })
	r.record.Gaps = r.gaps
	r.record.Finished = r.Now().UTC().Truncate(time.Millisecond)
	r.record.Objects(func(_ string, bytes int64, _ string) { r.record.Totals.StoredBytes += bytes })
	r.record.Totals.NewBytes = r.newBytes + r.record.List.Bytes
	if err := r.writeRecords(ctx); err != nil {
		return err
	}
	if r.Imported == nil && r.HandMade == nil {
		err = r.keep(ctx, local, listName)
	} else {
		err = r.disk.Remove(filepath.Join(r.State.Previous(r.Site.Name), listName))
	}
	if len(r.To) > 0 {
		err = errors.Join(err, keepOpen(r.State, &r.record))
	}
	if err != nil {
		r.observer.Note("note: the next archive will be made afresh: " + err.Error())
	}
	return errors.Join(r.endLedger(context.WithoutCancel(ctx)), r.disk.RemoveAll(r.spool.dir))
}

// writeRecords writes the record to every store that has all of the archive.
func (r *run) writeRecords(ctx context.Context) error {
	stored := &r.record
	if len(r.To) > 0 {
		var err error
		if stored, err = r.record.Seal(r.To); err != nil {
			return err
		}
	}
	data, written, err := r.encode(stored)
	if err != nil {
		return err
	}
	if _, err := r.ledger.note(r.record.Path()); err != nil {
		return err
	}
	var g errgroup.Group
	for _, t := range r.live() {
		g.Go(func() error {
			if err := r.writeRecord(ctx, t, data); err != nil {
				t.fail(err)
			}
			return nil
		})
	}
	_ = g.Wait() // failures are kept in the targets
	if err := r.allFailed(); err != nil {
		return err
	}
	return written()
}

func (r *run) writeRecord(ctx context.Context, t *target, data []byte) error {
	if err := PutReadme(ctx, t); err != nil {
		return err
	}
	if len(r.KeyFile) > 0 {
		if err := PutKey(ctx, t, r.KeyFile); err != nil {
			return err
		}
	}
	if err := t.complete(ctx, &r.record); err != nil {
		return err
	}
	if err := putBytes(ctx, t, r.record.Path(), data); err != nil {
		return fmt.Errorf("write the record: %w", err)
	}
	return t.protect(ctx, &r.record)
}

// writeList writes the list to the stores and an open copy of it to the state
// folder, for the next run.
func (r *run) writeList() (local *summer, localName string, err error) {
	out, err := r.spool.create()
	if err != nil {
		return nil, "", err
	}
	localName = r.record.Name + ".lines.zst"
	copied, err := r.createLocalList(localName)
	if err != nil {
		r.spool.discard(out)
		return nil, "", err
	}
	defer copied.Close()
	sum, local := newSummer(out), newSummer(copied)
	lines, err := r.fillList(sum, local)
	if err == nil {
		err = errors.Join(sum.flush(), local.flush())
	}
	if err != nil {
		r.spool.discard(out)
		return nil, "", err
	}
	r.record.List = archive.ListRef{Bytes: sum.n, SHA256: sum.hex(), Lines: lines}
	if err := r.send(r.record.ListPath(), sum.n, out, func(bool) {}); err != nil {
		return nil, "", err
	}
	return local, localName, r.settleSends()
}

func (r *run) createLocalList(name string) (*disk.File, error) {
	dir := r.State.Previous(r.Site.Name)
	if err := r.disk.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	return r.disk.OpenFile(filepath.Join(dir, name), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
}

// fillList writes the list to sum, encrypted if need be, and open to local.
func (r *run) fillList(sum, local io.Writer) (int64, error) {
	if len(r.To) == 0 {
		return r.list.Finish(sum, local, r.treePart)
	}
	sealed, err := r.To.Writer(sum)
	if err != nil {
		return 0, err
	}
	lines, err := r.list.Finish(sealed, local, r.treePart)
	return lines, errors.Join(err, sealed.Close())
}

// Package replicate brings archives from the stores that have them to those
// that lack them, and puts sound copies in the place of damaged objects.
package replicate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"sync"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/progress"
	"revlet/internal/store"
	"revlet/internal/work/backup"
)

// Job is the copying of archives of one site into one store.
type Job struct {
	Site string
	To   store.Named
	// From are the stores that objects may be taken from.
	From     []store.Named
	Disk     *disk.Disk
	Scratch  string
	Observer progress.Observer
	// Machine tells this machine's marks from others'.
	Machine string
}

// Result counts what was brought over.
type Result struct {
	Objects int
	Bytes   int64
}

// object is one thing to be in the store.
type object struct {
	name, sum string
	bytes     int64
}

// Archive brings one archive into the store: first what it consists of, as far
// as that is not there, then its record. Every byte is compared on the way.
func (j *Job) Archive(ctx context.Context, h *catalog.Held) (result Result, err error) {
	done, err := storelock.Write(ctx, j.To, j.Site, h.Name, j.Machine)
	if err != nil {
		return Result{}, fmt.Errorf("store %s: %w", j.To.Name, err)
	}
	defer func() { err = errors.Join(err, done(context.WithoutCancel(ctx))) }()
	todo, err := j.lacking(ctx, h)
	if err != nil {
		return Result{}, err
	}
	var total int64
	for _, o := range todo {
		total += o.bytes
	}
	progress.Or(j.Observer).Phase("copying "+h.Name+" to "+j.To.Name, total)
	result, err = j.all(ctx, todo)
	if err != nil {
		return result, fmt.Errorf("copy %s to store %s: %w", h.Name, j.To.Name, err)
	}
	return result, j.record(ctx, h)
}

// lacking are the objects of an archive that the store does not have, or not of their length.
func (j *Job) lacking(ctx context.Context, h *catalog.Held) (todo []object, err error) {
	objects, _ := gather([]catalog.Held{*h})
	there := make([]bool, len(objects))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(j.To.Lanes, 1))
	for i, o := range objects {
		g.Go(func() error {
			info, err := j.To.Stat(ctx, o.name)
			if errors.Is(err, store.ErrNotFound) {
				return nil
			}
			there[i] = err == nil && info.Bytes == o.bytes
			return err
		})
	}
	err = g.Wait()
	for i, o := range objects {
		if !there[i] {
			todo = append(todo, o)
		}
	}
	return todo, err
}

// record copies the record, byte for byte, from a store that has it sound, and what a
// person without Revlet needs beside it.
func (j *Job) record(ctx context.Context, h *catalog.Held) error {
	var failed error
	for _, s := range j.From {
		data, rec, err := catalog.ReadRecordBytes(ctx, s, j.Site, h.Name)
		if err == nil && rec.Checksum != h.Checksum {
			err = fmt.Errorf("record %s: %w: it is another one than was looked at", h.Name, archive.ErrRecord)
		}
		if err == nil {
			err = backup.PutCompanions(ctx, s, j.To)
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("store %s: %w", s.Name, err))
			continue
		}
		if err := backup.PutSame(ctx, j.To, h.Path(), data); err != nil {
			return fmt.Errorf("store %s: %w", j.To.Name, err)
		}
		return nil
	}
	return failed
}

// all brings objects over, some at a time.
func (j *Job) all(ctx context.Context, todo []object) (Result, error) {
	var result Result
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(j.To.Lanes, 2))
	for _, o := range todo {
		g.Go(func() error {
			if err := j.one(ctx, o); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			result.Objects++
			result.Bytes += o.bytes
			return nil
		})
	}
	return result, g.Wait()
}

// one fetches an object from the first store that has it sound, and puts it.
func (j *Job) one(ctx context.Context, o object) error {
	var failed error
	for _, s := range j.From {
		src, done, err := j.fetch(ctx, s, o)
		if err == nil {
			err = j.To.Put(ctx, o.name, src, o.bytes)
			done()
			if err != nil {
				return fmt.Errorf("store %s: %w", j.To.Name, err)
			}
			return nil
		}
		failed = errors.Join(failed, fmt.Errorf("store %s: %w", s.Name, err))
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return failed
}

// fetch compares an object and gives it to be read from its start: from where it
// is, if that can be read twice, or from a scratch file. done lets go of it.
func (j *Job) fetch(ctx context.Context, s store.Named, o object) (src io.ReadSeeker, done func(), err error) {
	in, err := s.Open(ctx, o.name, 0)
	if err != nil {
		return nil, nil, err
	}
	if here, ok := in.(io.ReadSeekCloser); ok {
		if err := j.compare(io.Discard, here, o); err != nil {
			return nil, nil, errors.Join(err, here.Close())
		}
		return here, func() { _ = here.Close() }, nil
	}
	defer in.Close()
	file, err := j.scratch()
	if err != nil {
		return nil, nil, err
	}
	done = func() {
		_ = file.Close()
		_ = j.Disk.Remove(file.Name())
	}
	if err := j.compare(file, in, o); err != nil {
		done()
		return nil, nil, err
	}
	return file, done, nil
}

// scratch makes a file that only its name tells from others.
func (j *Job) scratch() (*disk.File, error) {
	if err := j.Disk.MkdirAll(j.Scratch, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(j.Scratch, "copy-*")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return j.Disk.OpenFile(f.Name(), os.O_RDWR, 0o600)
}

// compare copies an object to w and makes sure that its bytes are the ones
// written.
func (j *Job) compare(w io.Writer, in io.Reader, o object) error {
	digest := sha256.New()
	n, err := io.CopyBuffer(io.MultiWriter(w, digest, pacer(progress.Or(j.Observer).Advance)), io.LimitReader(in, o.bytes+1), make([]byte, 1<<18))
	if err == nil && (n != o.bytes || hex.EncodeToString(digest.Sum(nil)) != o.sum) {
		err = fmt.Errorf("%s: %w: its bytes are not the ones written", path.Base(o.name), archive.ErrDamaged)
	}
	return err
}

type pacer func(int64)

func (p pacer) Write(b []byte) (int, error) { p(int64(len(b))); return len(b), nil }

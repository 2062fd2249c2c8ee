package replicate

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/progress"
	"revlet/internal/store"
)

// Healed is an object that was damaged or missing.
type Healed struct {
	Object string `json:"object"`
	Why    string `json:"why"`
	// Left says why it could not be replaced; empty when it was.
	Left string `json:"left,omitempty"`
}

// Heal compares every object of the archives, in the store, with what was
// written, and replaces those that differ by sound copies from other stores.
// quick compares lengths only. No key is needed.
func (j *Job) Heal(ctx context.Context, archives []catalog.Held, quick bool) ([]Healed, error) {
	objects, total := gather(archives)
	progress.Or(j.Observer).Phase("examining "+j.Site+" in "+j.To.Name, total)
	var mu sync.Mutex
	var found []Healed
	g, each := errgroup.WithContext(ctx)
	g.SetLimit(max(j.To.Lanes, 2))
	for _, o := range objects {
		g.Go(func() error {
			bad := j.examine(each, o, quick)
			if each.Err() != nil {
				return each.Err()
			}
			if bad == nil {
				return nil
			}
			if catalog.VerdictOf(bad) == catalog.NotReached {
				return fmt.Errorf("store %s: %s: %w", j.To.Name, o.name, bad)
			}
			h := Healed{Object: o.name, Why: whyOf(bad)}
			if err := j.one(each, o); err != nil {
				h.Left = err.Error()
			}
			mu.Lock()
			defer mu.Unlock()
			found = append(found, h)
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return found, err
	}
	records, err := j.records(ctx, archives)
	return append(found, records...), err
}

// records puts back records that this store has lost, or that are damaged there,
// once everything they name is there.
func (j *Job) records(ctx context.Context, archives []catalog.Held) (found []Healed, err error) {
	for i := range archives {
		_, bad := catalog.ReadRecord(ctx, j.To, j.Site, archives[i].Name)
		switch catalog.VerdictOf(bad) {
		case catalog.Sound:
			continue
		case catalog.NotReached:
			return found, fmt.Errorf("store %s: %w", j.To.Name, bad)
		}
		h := Healed{Object: archives[i].Path(), Why: whyOf(bad)}
		if _, err := j.Archive(ctx, &archives[i]); err != nil {
			if ctx.Err() != nil {
				return found, ctx.Err()
			}
			h.Left = err.Error()
		}
		found = append(found, h)
	}
	return found, nil
}

func gather(archives []catalog.Held) (objects []object, total int64) {
	seen := map[string]bool{}
	for _, h := range archives {
		h.Objects(func(name string, bytes int64, sum string) {
			if !seen[name] {
				seen[name] = true
				total += bytes
				objects = append(objects, object{name, sum, bytes})
			}
		})
	}
	return objects, total
}

func (j *Job) examine(ctx context.Context, o object, quick bool) error {
	if !quick {
		return catalog.CheckBytes(ctx, j.To, o.name, o.bytes, o.sum, progress.Or(j.Observer).Advance)
	}
	info, err := j.To.Stat(ctx, o.name)
	if err == nil && info.Bytes != o.bytes {
		err = fmt.Errorf("%w: it has %d bytes, %d were written", archive.ErrDamaged, info.Bytes, o.bytes)
	}
	return err
}

func whyOf(err error) string {
	if errors.Is(err, store.ErrNotFound) {
		return "missing"
	}
	return err.Error()
}

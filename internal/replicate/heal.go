package replicate

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/observe"
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
	observe.Or(j.Observer).Phase("examining "+j.Site+" in "+j.To.Name, total)
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
			if !errors.Is(bad, store.ErrNotFound) && !errors.Is(bad, archive.ErrDamaged) {
				return fmt.Errorf("store %s: %w", j.To.Name, bad)
			}
			h := Healed{Object: o.name, Why: reason(bad)}
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
	return found, j.records(ctx, archives)
}

// records puts back records that other stores have and this one has lost, once
// everything they name is there.
func (j *Job) records(ctx context.Context, archives []catalog.Held) error {
	for i := range archives {
		if _, err := catalog.ReadRecord(ctx, j.To, j.Site, archives[i].Name); err == nil {
			continue
		}
		if _, err := j.Archive(ctx, &archives[i]); err != nil {
			return err
		}
	}
	return nil
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
		return catalog.CheckBytes(ctx, j.To, o.name, o.bytes, o.sum, observe.Or(j.Observer).Advance)
	}
	info, err := j.To.Stat(ctx, o.name)
	if err == nil && info.Bytes != o.bytes {
		err = fmt.Errorf("%w: it has %d bytes, %d were written", archive.ErrDamaged, info.Bytes, o.bytes)
	}
	return err
}

func reason(err error) string {
	if errors.Is(err, store.ErrNotFound) {
		return "missing"
	}
	return err.Error()
}

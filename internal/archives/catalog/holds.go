package catalog

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"strings"
	"sync"

	"revlet/internal/archives/archive"
	"revlet/internal/store"
)

// maxHold bounds the length of a hold's file.
const maxHold = 16 << 10

// Holds reads the holds on a site's archives in a store. One that cannot be
// understood is a hold all the same.
func Holds(ctx context.Context, s store.Store, site string) (map[string]archive.Hold, error) {
	infos, err := s.List(ctx, archive.HoldsDir(site))
	if err != nil {
		return nil, fmt.Errorf("read the holds: %w", err)
	}
	var names, files []string
	for _, info := range infos {
		if name, ok := strings.CutSuffix(path.Base(info.Name), ".json"); ok {
			names, files = append(names, name), append(files, info.Name)
		}
	}
	all := map[string]archive.Hold{}
	var failed error
	var mu sync.Mutex
	store.Gather(ctx, s, files, maxHold, func(i int, data []byte, err error) {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case errors.Is(err, store.ErrNotFound):
			return // released meanwhile
		case err != nil && !errors.Is(err, store.ErrLong):
			failed = err
			return
		}
		h := archive.Hold{}
		if json.Unmarshal(data, &h) != nil {
			h.Why = "(its reason cannot be read)"
		}
		h.Archive = names[i]
		all[names[i]] = h
	})
	if failed != nil {
		return nil, fmt.Errorf("read the holds: %w", failed)
	}
	return all, nil
}

// PutHold sets a hold in a store.
func PutHold(ctx context.Context, s store.Store, site string, h archive.Hold) error {
	data, err := json.MarshalIndent(h, "", "  ")
	if err != nil {
		return err
	}
	data = append(data, '\n')
	return s.Put(ctx, archive.HoldPath(site, h.Archive), bytes.NewReader(data), int64(len(data)))
}

// RemoveHold lifts a hold in a store.
func RemoveHold(ctx context.Context, s store.Store, site, name string) error {
	return s.Remove(ctx, archive.HoldPath(site, name))
}

package catalog

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/store"
)

// maxHold bounds the length of a hold's file.
const maxHold = 1 << 20

// Holds reads the holds on a site's archives in a store. One that cannot be
// understood is a hold all the same.
func Holds(ctx context.Context, s store.Store, site string) (map[string]archive.Hold, error) {
	infos, err := s.List(ctx, archive.HoldsDir(site))
	if err != nil {
		return nil, fmt.Errorf("read the holds: %w", err)
	}
	all := map[string]archive.Hold{}
	for _, info := range infos {
		name, ok := strings.CutSuffix(path.Base(info.Name), ".json")
		if !ok {
			continue
		}
		in, err := s.Open(ctx, info.Name, 0)
		if errors.Is(err, store.ErrNotFound) {
			continue // released meanwhile
		}
		if err != nil {
			return nil, fmt.Errorf("read the holds: %w", err)
		}
		data, err := io.ReadAll(io.LimitReader(in, maxHold))
		_ = in.Close()
		if err != nil {
			return nil, fmt.Errorf("read the holds: %w", err)
		}
		h := archive.Hold{}
		if json.Unmarshal(data, &h) != nil {
			h.Why = "(its reason cannot be read)"
		}
		h.Archive = name
		all[name] = h
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

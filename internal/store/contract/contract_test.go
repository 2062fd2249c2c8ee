package contract

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/folder"
	"revlet/internal/store/program"
)

func broken(t *testing.T, s store.Store) (points []string) {
	t.Helper()
	kept := Run(t.Context(), s, func(r Result) {
		if r.Err != nil {
			points = append(points, r.Point)
		}
	})
	assert.Equal(t, kept, len(points) == 0)
	return points
}

func TestStoresThatKeepToIt(t *testing.T) {
	dir := t.TempDir()
	assert.Empty(t, broken(t, folder.New(&disk.Disk{}, dir)))
	helper, err := filepath.Abs("../../../examples/store-helper.py")
	require.NoError(t, err)
	s := program.New(program.Options{Command: []string{helper, dir}, Env: os.Environ(), Where: "a helper"})
	defer s.Close()
	assert.Empty(t, broken(t, s), "the example that others begin with")
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		assert.True(t, d.IsDir(), "%s is left", path)
		return err
	}))
}

// lame is a store with one thing wrong.
type lame struct {
	store.Store
	wrong string
}

func (l lame) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	if l.wrong == "offsets" {
		offset = 0
	}
	in, err := l.Store.Open(ctx, name, offset)
	if l.wrong == "short" && err == nil {
		return io.NopCloser(io.LimitReader(in, 1000)), nil
	}
	return in, err
}

func (l lame) Stat(ctx context.Context, name string) (store.Info, error) {
	info, err := l.Store.Stat(ctx, name)
	if l.wrong == "never missing" {
		err = nil
	}
	return info, err
}

func (l lame) List(ctx context.Context, dir string) ([]store.Info, error) {
	all, err := l.Store.List(ctx, dir)
	if l.wrong == "flat" {
		all = all[:min(1, len(all))]
	}
	return all, err
}

func (l lame) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	if _, err := l.Store.Stat(ctx, name); err == nil && l.wrong == "keeps" {
		return nil
	}
	return l.Store.Put(ctx, name, src, size)
}

func (l lame) Remove(ctx context.Context, name string) error {
	if l.wrong == "no removal" && !strings.Contains(name, "/long") {
		return nil
	}
	return l.Store.Remove(ctx, name)
}

func TestStoresThatDoNot(t *testing.T) {
	for wrong, point := range map[string]string{"offsets": "from any byte", "short": "read back", "never missing": "missing", "flat": "at any depth", "keeps": "replaced", "no removal": "removed"} {
		points := strings.Join(broken(t, lame{folder.New(&disk.Disk{}, t.TempDir()), wrong}), "; ")
		assert.Contains(t, points, point, wrong)
	}
}

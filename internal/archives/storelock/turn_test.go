package storelock

import (
	"bytes"
	"context"
	"io"
	"os"
	"path"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/store"
)

// meeting is a store in which something happens just before its claims are listed, or one of them is read.
type meeting struct {
	store.Store
	list, open func()
}

func (m *meeting) List(ctx context.Context, dir string) ([]store.Info, error) {
	if f := m.list; f != nil {
		m.list = nil
		f()
	}
	return m.Store.List(ctx, dir)
}

func (m *meeting) Open(ctx context.Context, name string, at int64) (io.ReadCloser, error) {
	if f := m.open; f != nil {
		m.open = nil
		f()
	}
	return m.Store.Open(ctx, name, at)
}

// Whoever has a turn keeps it, however claims meet: never have two machines the same one.
func TestClaimsMeet(t *testing.T) {
	t.Parallel()
	of := func(machine string) Turn {
		return Turn{Site: site, Name: "0a", Machine: machine, Text: []byte(machine), Good: func(m string, text []byte) bool { return string(text) == m }}
	}
	claim := func(t *testing.T, s store.Store, machine string) (bool, func(context.Context) error) {
		won, done, err := of(machine).Claim(t.Context(), s)
		require.NoError(t, err)
		return won, done
	}
	named := func(machine string) string { return path.Join(archive.TurnsDir(site), "0a."+machine) }
	lay := func(t *testing.T, s store.Store, machine, text string) {
		require.NoError(t, s.Put(t.Context(), named(machine), bytes.NewReader([]byte(text)), int64(len(text))))
	}
	for _, order := range [][2]string{{"a", "b"}, {"b", "a"}} {
		t.Run("one after the other, "+order[0]+" first", func(t *testing.T) {
			t.Parallel()
			s, _ := place(t)
			won, done := claim(t, s, order[0])
			require.True(t, won)
			other, _ := claim(t, s, order[1])
			assert.False(t, other, "whatever its name")
			require.NoError(t, done(t.Context()))
			other, done = claim(t, s, order[1])
			assert.True(t, other)
			require.NoError(t, done(t.Context()))
		})
	}
	t.Run("both at once, and the last gives way", func(t *testing.T) {
		t.Parallel()
		s, _ := place(t)
		m := &meeting{Store: s.Store, list: func() {
			lay(t, s, "b", "b")
			time.AfterFunc(settling/4, func() { _ = s.Remove(context.Background(), named("b")) })
		}}
		won, done := claim(t, m, "a")
		assert.True(t, won)
		require.NoError(t, done(t.Context()))
	})
	t.Run("both at once, and this is the last", func(t *testing.T) {
		t.Parallel()
		s, _ := place(t)
		began := time.Now()
		won, _ := claim(t, &meeting{Store: s.Store, list: func() { lay(t, s, "a", "a") }}, "b")
		assert.False(t, won)
		assert.Less(t, time.Since(began), settling)
	})
	t.Run("given back while it is read", func(t *testing.T) {
		t.Parallel()
		s, _ := place(t)
		lay(t, s, "a", "a")
		won, _ := claim(t, &meeting{Store: s.Store, open: func() { require.NoError(t, s.Remove(t.Context(), named("a"))) }}, "b")
		assert.True(t, won)
	})
	t.Run("a stranger's, one that is old, one of another turn", func(t *testing.T) {
		t.Parallel()
		s, dir := place(t)
		lay(t, s, "a", "forged")
		lay(t, s, "aa", "aa")
		old := time.Now().Add(-TurnAge - time.Minute)
		require.NoError(t, os.Chtimes(filepath.Join(dir, named("aa")), old, old))
		require.NoError(t, s.Put(t.Context(), path.Join(archive.TurnsDir(site), "0b.a"), bytes.NewReader([]byte("a")), 1))
		won, _ := claim(t, s, "b")
		assert.True(t, won)
	})
}

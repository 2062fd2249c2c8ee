package e2e

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

// grow appends to a file of the world, or writes into its middle.
func (w *world) grow(rel string, at int64, data []byte) {
	w.t.Helper()
	require.NoError(w.t, os.MkdirAll(filepath.Dir(w.path(rel)), 0o755))
	f, err := os.OpenFile(w.path(rel), os.O_WRONLY|os.O_CREATE, 0o644)
	require.NoError(w.t, err)
	_, err = f.WriteAt(data, at)
	require.NoError(w.t, err)
	require.NoError(w.t, f.Close())
}

// pieces are the stored pieces of the newest archive's part that has most of them.
func (w *world) pieces() (files []string) {
	w.t.Helper()
	data, err := os.ReadFile(w.path("archives/kestrelpoint/archives", w.newest()+".json"))
	require.NoError(w.t, err)
	var rec struct {
		Parts []struct{ Pieces []struct{ Name string } }
	}
	require.NoError(w.t, json.Unmarshal(data, &rec))
	for _, p := range rec.Parts {
		if len(p.Pieces) > len(files) {
			files = nil
			for _, piece := range p.Pieces {
				files = append(files, w.path("archives/kestrelpoint/parts", piece.Name[:2], piece.Name))
			}
		}
	}
	require.NotEmpty(w.t, files)
	return files
}

// A large file that changed a little costs a piece, comes back with Revlet and by hand, and a piece that is damaged is
// told, and written again by the next backup.
func TestALargeFileCostsWhatChangedOfIt(t *testing.T) {
	t.Parallel()
	openAndEncrypted(t, func(t *testing.T, w *world, key []string) {
		const film, log = "htdocs/uploads/film.mp4", "htdocs/uploads/keepers.log"
		noise, calm := make([]byte, mib), []byte(strings.Repeat("the lamp is lit, the sea is calm\n", mib/33))
		source := rand.NewChaCha8([32]byte{9})
		for at := range int64(100) {
			_, _ = source.Read(noise)
			w.grow(film, at*mib, noise)
		}
		w.grow(film, 100*mib, noise[:777])
		for at := range int64(70) {
			w.grow(log, at*int64(len(calm)), calm)
		}
		w.run("backup")
		assert.Greater(t, newBytes(w), int64(100*mib))

		w.grow(film, 40*mib, noise) // within the third piece
		w.grow(log, 70*int64(len(calm)), []byte("a ship in sight\n"))
		w.run("backup")
		assert.Less(t, newBytes(w), int64(19*mib), "one piece of either")
		assert.Greater(t, newBytes(w), int64(16*mib))
		tree := snapshot(t, w.path("htdocs"), "data", "cache/home.html")
		assert.Contains(t, w.run(append([]string{"verify", "--full"}, key...)...), "sound")
		recoverByHand(t, w, "MariaDB", "KEY="+w.path("key.txt"))
		assert.Equal(t, tree, snapshot(t, w.path("recovered/webroot"), "data"))

		damaged := w.pieces()
		require.Len(t, damaged, 7)
		flip(t, damaged[1])
		require.NoError(t, os.Remove(damaged[4]))
		for level, words := range map[string][]string{"--full": {"uploads/film.mp4", filepath.Base(damaged[1]), filepath.Base(damaged[4])}, "--quick": {"uploads/film.mp4", filepath.Base(damaged[4])}} {
			w.fails(4, words, append([]string{"verify", w.newest(), level, "--json"}, key...)...)
		}
		w.fails(1, []string{"nothing was changed", filepath.Base(damaged[4])}, append([]string{"restore", w.newest(), "--yes"}, key...)...)
		w.run("backup")
		w.run(append([]string{"verify", w.newest()}, key...)...)
		assert.Less(t, newBytes(w), int64(35*mib), "what is damaged, and no more")

		require.NoError(t, os.RemoveAll(w.path("htdocs/uploads")))
		w.run(append([]string{"restore", "kestrelpoint", "--yes"}, key...)...)
		assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
	})
}

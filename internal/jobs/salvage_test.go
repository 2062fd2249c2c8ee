package jobs

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/reason"
	"revlet/internal/work/extract"
	"revlet/internal/work/restore"
)

// scattered is a site with pictures that no compression shortens, and an archive of it.
func scattered(t *testing.T) (*bench, *catalog.Held) {
	b := newBench(t, "", "")
	for i := range 8 {
		noise := bytes.Buffer{}
		for j := range 4000 {
			fmt.Fprintf(&noise, "%c", byte(j*j*(i+3)>>3))
		}
		b.write(fmt.Sprintf("uploads/%d.jpg", i), noise.String())
	}
	b.taken(Order{})
	return b, b.held()
}

// harm flips a byte where text stands in a stored part, in the stores given.
func (b *bench) harm(text string, stores ...string) {
	b.t.Helper()
	for _, s := range stores {
		done := false
		parts, err := filepath.Glob(b.path(s + "/" + museum + "/parts/*/*.tar"))
		require.NoError(b.t, err)
		for _, p := range parts {
			data, err := os.ReadFile(p)
			require.NoError(b.t, err)
			if i := bytes.Index(data, []byte(text)); i >= 0 && !done {
				done = true
				data[i+1024] ^= 0x20 // behind the header
				require.NoError(b.t, os.Chmod(p, 0o600))
				require.NoError(b.t, os.WriteFile(p, data, 0o600))
			}
		}
		require.True(b.t, done, "%s is in no part of %s that is not compressed", text, s)
	}
}

// harmKind flips a byte in the middle of the part of a kind and table, everywhere.
func (b *bench) harmKind(h *catalog.Held, kind, table string) {
	b.t.Helper()
	for _, p := range h.Parts {
		if p.Kind != kind || p.Table != table {
			continue
		}
		for _, s := range []string{"here", "far"} {
			b.harmFile(b.path(s + "/" + archive.PartPath(museum, p.Name)))
		}
		return
	}
	b.t.Fatalf("no part of kind %s", kind)
}

func (b *bench) harmFile(file string) {
	b.t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(b.t, err)
	data[len(data)/2] ^= 0x20
	require.NoError(b.t, os.Chmod(file, 0o600))
	require.NoError(b.t, os.WriteFile(file, data, 0o600))
}

// What damage does not touch can be had without a word; the rest with one, by name.
func TestSalvage(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		harm func(b *bench, h *catalog.Held)
		// share is a part of the site that is not touched; whole tells that nothing is.
		share *restore.FileSelection
		whole bool
		lost  []string
	}{
		"nothing": {func(*bench, *catalog.Held) {}, restore.Matching([]string{"themes/**"}, false), true, nil},
		"one file in both stores": {func(b *bench, _ *catalog.Held) { b.harm("uploads/5.jpg", "here", "far") },
			restore.Matching([]string{"uploads/4.jpg", "uploads/6.jpg", "themes/**"}, false), false, []string{"webroot/uploads/5.jpg"}},
		"another file in each store": {func(b *bench, _ *catalog.Held) { b.harm("uploads/2.jpg", "here"); b.harm("uploads/6.jpg", "far") },
			restore.Matching([]string{"uploads/**"}, false), true, nil},
		"a table": {func(b *bench, h *catalog.Held) { b.harmKind(h, archive.KindRows, "keepers_log") },
			restore.Matching([]string{"themes/**"}, false), false, []string{"keepers_log"}},
		"the list": {func(b *bench, h *catalog.Held) {
			b.harmFile(b.path("here/" + h.ListPath()))
			b.harmFile(b.path("far/" + h.ListPath()))
		}, nil, false, []string{"the list of what the archive holds"}},
		"the list in one store": {func(b *bench, h *catalog.Held) { b.harmFile(b.path("here/" + h.ListPath())) }, restore.Matching([]string{"themes/**"}, false), true, nil},
		"the list and a part": {func(b *bench, h *catalog.Held) {
			b.harmFile(b.path("here/" + h.ListPath()))
			b.harmFile(b.path("far/" + h.ListPath()))
			b.harmKind(h, archive.KindTree, "")
		}, nil, false, []string{"the list of what the archive holds", "what is in part"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b, h := scattered(t)
			s, err := b.OpenForRestore(t.Context(), h)
			require.NoError(t, err)
			before := newModelOf(b).seen()
			c.harm(b, h)
			b.write("robots.txt", "added since")
			order := RestoreOrder{Archive: h, Site: s, Files: true, Database: true}
			if c.share != nil {
				_, err = b.Restore(t.Context(), RestoreOrder{Archive: h, Site: s, Files: true, Selection: c.share})
				require.NoError(t, err, "what damage does not touch needs no word")
			}
			_, err = b.Restore(t.Context(), order)
			if c.whole {
				require.NoError(t, err)
			} else {
				require.True(t, catalog.IsDamage(err), "%v", err)
				assert.True(t, reason.Is(err, reason.SomeDamaged) || reason.Is(err, reason.ArchiveDamaged), "%v", err)
				assert.FileExists(t, b.path("htdocs/robots.txt"), "nothing was changed")
			}
			missing, err := h.Salvage(t.Context())
			require.NoError(t, err)
			order.Salvage = true
			r, err := b.Restore(t.Context(), order)
			require.NoError(t, err)
			lost := append(missing, r.Lost...)
			require.Len(t, lost, len(c.lost), "%v", lost)
			for i, want := range c.lost {
				assert.Contains(t, lost[i], want)
			}
			now := newModelOf(b).seen()
			for _, path := range lost {
				delete(before.files, strings.TrimPrefix(path, "webroot/"))
			}
			if name != "the list and a part" { // nobody knows what was in it
				assert.Equal(t, sums(before), sums(now), "all the rest is there")
			}
			assert.NoFileExists(t, b.path("htdocs/robots.txt"))
		})
	}
}

// sums are the lengths and first bytes of a state's files, to be printed.
func sums(s modelState) []string {
	all := []string{s.season}
	for path, text := range s.files {
		all = append(all, fmt.Sprintf("%s %x", path, sha256.Sum256([]byte(text))))
	}
	slices.Sort(all)
	return all
}

// newModelOf looks at a bench as the model test does.
func newModelOf(b *bench) *model { return &model{bench: b} }

func TestExtractTakesWhatIsSound(t *testing.T) {
	t.Parallel()
	b, h := scattered(t)
	b.harm("uploads/5.jpg", "here", "far")
	job := func(to string, salvage bool, paths ...string) (*extract.Result, error) {
		return extract.Run(t.Context(), extract.Job{Archive: h, Paths: paths, To: b.path(to), Salvage: salvage, Disk: b.Disk})
	}
	_, err := job("one", false, "uploads/4.jpg", "uploads/7.jpg", "themes")
	require.NoError(t, err)
	_, err = job("two", false, "uploads")
	require.True(t, reason.Is(err, reason.SomeDamaged), "%v", err)
	assert.NoFileExists(t, b.path("two/uploads/5.jpg"), "what is not what was saved is not left there")
	require.NoError(t, os.MkdirAll(b.path("three/uploads"), 0o755))
	require.NoError(t, os.WriteFile(b.path("three/mine.txt"), []byte("mine"), 0o644))
	r, err := job("three", true, "uploads")
	require.NoError(t, err)
	assert.Equal(t, []string{"webroot/uploads/5.jpg"}, r.Lost)
	assert.FileExists(t, b.path("three/uploads/7.jpg"))
	assert.FileExists(t, b.path("three/mine.txt"))
	back := b.away("here")
	defer back()
	b.away("far")
	_, err = job("four", true, "uploads")
	require.Error(t, err, "what is not reached is not lost")
	assert.False(t, reason.Is(err, reason.SomeDamaged))
}

// Whoever compares a list with a site goes through both in path order: one that was made anew has it, too.
func TestAListMadeAnewIsInOrder(t *testing.T) {
	t.Parallel()
	b, h := scattered(t)
	paths := func() (all []string) {
		require.NoError(t, h.ReadList(t.Context(), func(e archive.Entry) error {
			if e.IsFileTree() {
				all = append(all, e.Type+" "+e.Path)
			}
			return nil
		}))
		return all
	}
	before := paths()
	for _, s := range []string{"here", "far"} {
		require.NoError(t, os.Remove(b.path(s+"/"+h.ListPath())))
	}
	_, err := h.Salvage(t.Context())
	require.NoError(t, err)
	assert.Equal(t, before, paths())
}

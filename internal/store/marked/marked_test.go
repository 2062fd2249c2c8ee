package marked

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/store"
	"revlet/internal/store/folder"
)

// memory remembers in a map; broken answers everything with an error.
type memory struct {
	ids    map[string]string
	broken error
}

func (m *memory) Known(where string) (string, error) { return m.ids[where], m.broken }

func (m *memory) Remember(where, id string) error {
	m.ids[where] = id
	return m.broken
}

// elsewhere is a folder that counts as another machine's, counts calls, and may be
// away.
type elsewhere struct {
	*folder.Folder
	opened int
	away   error
}

func (e *elsewhere) Offsite() bool { return true }

func (e *elsewhere) Open(ctx context.Context, name string, at int64) (io.ReadCloser, error) {
	if e.opened++; e.away != nil {
		return nil, e.away
	}
	return e.Folder.Open(ctx, name, at)
}

// every calls each way to use a store, and gives the errors.
func every(s store.Store) map[string]error {
	ctx := context.Background()
	all := map[string]error{}
	all["check"] = s.Check(ctx)
	all["put"] = s.Put(ctx, "kestrelpoint/x", strings.NewReader("x"), 1)
	_, all["list"] = s.List(ctx, "kestrelpoint")
	_, all["folders"] = s.Folders(ctx, "")
	in, err := s.Open(ctx, "kestrelpoint/x", 0)
	if all["open"] = err; err == nil {
		_ = in.Close()
	}
	_, all["stat"] = s.Stat(ctx, "kestrelpoint/x")
	all["remove"] = s.Remove(ctx, "kestrelpoint/none")
	if f, ok := s.(*Folder); ok {
		file := filepath.Join(f.Incoming(), "one")
		_ = os.WriteFile(file, []byte("x"), 0o600)
		all["adopt"] = f.Adopt(ctx, "kestrelpoint/y", file)
	}
	return all
}

func TestAStoreThatIsNotTheOneThatItWasIsNotUsed(t *testing.T) {
	dir := t.TempDir()
	known := &memory{ids: map[string]string{}}
	open := func(m Memory) store.Store { return Wrap(store.Named{Store: folder.New(nil, dir)}, m).Store }
	s := open(known)
	infos, err := s.List(t.Context(), "")
	require.NoError(t, err)
	assert.Empty(t, infos)
	assert.NoFileExists(t, filepath.Join(dir, Name), "to look leaves nothing behind")
	for call, err := range every(s) {
		require.NoError(t, err, call)
	}
	mark, err := os.ReadFile(filepath.Join(dir, Name))
	require.NoError(t, err)
	require.NotEmpty(t, known.ids[dir])

	cases := map[string]func(){
		"an empty mount point": func() { require.NoError(t, os.Rename(dir, dir+".away")); require.NoError(t, os.Mkdir(dir, 0o700)) },
		"gone altogether":      func() { require.NoError(t, os.Rename(dir, dir+".away")) },
		"another store": func() {
			require.NoError(t, os.Rename(dir, dir+".away"))
			require.NoError(t, os.Mkdir(dir, 0o700))
			require.NoError(t, open(&memory{ids: map[string]string{}}).Check(t.Context()))
		},
		"the mark lost": func() {
			require.NoError(t, os.Rename(dir, dir+".away"))
			require.NoError(t, os.CopyFS(dir, os.DirFS(dir+".away")))
			require.NoError(t, os.Remove(filepath.Join(dir, Name)))
		},
		"the mark scrawled": func() {
			require.NoError(t, os.Rename(dir, dir+".away"))
			require.NoError(t, os.CopyFS(dir, os.DirFS(dir+".away")))
			require.NoError(t, os.WriteFile(filepath.Join(dir, Name), []byte("{}"), 0o600))
		},
	}
	for name, change := range cases {
		t.Run(name, func(t *testing.T) {
			change()
			before := tree(t, dir)
			for _, s := range []store.Store{s, open(known)} { // while it runs, and afterwards
				for call, err := range every(s) {
					assert.ErrorIs(t, err, ErrNotThatStore, call)
				}
			}
			assert.Equal(t, before, tree(t, dir), "nothing is written")
			_ = os.RemoveAll(dir)
			require.NoError(t, os.Rename(dir+".away", dir))
			for call, err := range every(open(known)) {
				require.NoError(t, err, "it is back: "+call)
			}
			now, err := os.ReadFile(filepath.Join(dir, Name))
			require.NoError(t, err)
			assert.Equal(t, mark, now)
		})
	}
	fresh := &memory{ids: map[string]string{}}
	_, err = open(fresh).List(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, known.ids[dir], fresh.ids[dir], "another machine takes it as it is")
	known.broken = errors.New("the state folder is full")
	for call, err := range every(open(known)) {
		assert.ErrorIs(t, err, known.broken, call)
	}
}

func tree(t *testing.T, dir string) (all []string) {
	t.Helper()
	_ = filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && !strings.Contains(p, store.Incoming) {
			all = append(all, p)
		}
		return nil
	})
	return all
}

// A store elsewhere is not asked for its mark before every call, and one that is away
// is not taken for another.
func TestAStoreElsewhereIsAskedNowAndThen(t *testing.T) {
	far := &elsewhere{Folder: folder.New(nil, t.TempDir())}
	known := &memory{ids: map[string]string{}}
	s := Wrap(store.Named{Store: far}, known).Store
	require.NoError(t, s.Check(t.Context()))
	asked := far.opened
	for range 20 {
		_, err := s.List(t.Context(), "kestrelpoint")
		require.NoError(t, err)
	}
	assert.Equal(t, asked, far.opened)
	far.away = errors.New("503 Service Unavailable")
	s = Wrap(store.Named{Store: far}, known).Store
	_, err := s.List(t.Context(), "kestrelpoint")
	require.ErrorIs(t, err, far.away)
	require.NotErrorIs(t, err, ErrNotThatStore)
	far.away = nil
	_, err = s.List(t.Context(), "kestrelpoint")
	require.NoError(t, err)
}

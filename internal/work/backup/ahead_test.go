package backup

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
)

// A walk that reads ahead meets just what a plain one does, in the same order.
func TestReadingAheadMeetsTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 71))
	root := filepath.Join(t.TempDir(), "htdocs")
	require.NoError(t, os.MkdirAll(root, 0o755))
	var grow func(dir string, depth int)
	grow = func(dir string, depth int) {
		for i := range r.IntN(40) {
			path := filepath.Join(dir, fmt.Sprintf("%c%d-%d\xff", 'a'+r.IntN(26), i, r.IntN(100)))
			switch {
			case depth > 0 && r.IntN(3) == 0:
				require.NoError(t, os.Mkdir(path, 0o755))
				grow(path, depth-1)
			case r.IntN(12) == 0:
				require.NoError(t, os.Symlink("nowhere", path))
			default:
				require.NoError(t, os.WriteFile(path+[]string{".txt", ".tmp", "-wal"}[r.IntN(3)], []byte("x"), 0o644))
			}
		}
	}
	grow(root, 3)
	for i := range 3*aheadAtOnce/2 + 1 {
		path := filepath.Join(root, "many", fmt.Sprintf("%05d", i))
		if i%100 == 0 {
			require.NoError(t, os.MkdirAll(path, 0o755))
			grow(path, 1)
			continue
		}
		require.NoError(t, os.WriteFile(path, nil, 0o644))
	}
	s := &site.Site{Root: root, Skip: []string{"**/*.tmp", "b*/**"}}
	d := &disk.Disk{}
	met := func(ahead lister) (all []string) {
		folders := OpenFolders(t.Context(), d, s)
		defer folders.Close()
		w := &walker{disk: d, folders: folders, site: s, ahead: ahead, look: true, gap: func(g archive.Gap) { all = append(all, "gap "+g.Path) }, skip: func(name, rule string) { all = append(all, "skip "+name+" "+rule) },
			tree: func(e archive.Entry) error { all = append(all, e.Type+" "+e.Path+" "+e.Mode); return nil },
			file: func(f planned) error { all = append(all, "file "+f.name+" "+f.rel); return nil }}
		require.NoError(t, w.walk(context.Background()))
		return all
	}
	want := met(nil)
	require.Greater(t, len(want), 1500)
	for range 5 {
		ahead, stop := newLookout()
		require.Equal(t, want, met(ahead))
		stop()
		far, stop := newPrefetcher(t.Context(), func(rel string) bool { _, skips := s.Skips(rel); return skips })
		require.Equal(t, want, met(far))
		stop()
	}
}

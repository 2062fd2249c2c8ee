package backup

import (
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/site/tree"
)

// sized is a file of a length.
type sized struct {
	fs.FileInfo
	bytes int64
}

func (s sized) Size() int64 { return s.bytes }

// bundling is a folder that sends many files in one stream, but for those that have changed.
type bundling struct {
	tree.Folder
	most    int64
	mu      sync.Mutex
	bundles [][]string
	alone   []string
}

func (b *bundling) BundleBytes() int64 { return b.most }

func (b *bundling) ReadBundle(names []string) map[string]tree.Whole {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.bundles = append(b.bundles, names)
	found := map[string]tree.Whole{}
	for _, name := range names {
		if !strings.Contains(name, "changed") {
			found[name] = tree.Whole{Data: []byte(name)}
		}
	}
	return found
}

func (b *bundling) ReadWhole(name string, _ int64) (tree.Whole, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.alone = append(b.alone, name)
	return tree.Whole{Data: []byte(name)}, nil
}

// Files come in the order in which they are asked for, each once: many in one stream, but for
// what a web server may run, and what has changed.
func TestFilesThatComeTogether(t *testing.T) {
	for _, room := range []int64{wholeBytes, 32 << 20} {
		b := &bundling{most: 3 << 20}
		var files []planned
		for i := range 2000 {
			name, size := fmt.Sprintf("%04d.css", i), int64(100<<10)
			switch {
			case i%97 == 0:
				name = fmt.Sprintf("%04d.php", i)
			case i%89 == 0:
				name = fmt.Sprintf("changed%04d.css", i)
			case i%501 == 0:
				size = wholeBytes
			}
			files = append(files, planned{in: b, rel: name, name: "webroot/" + name, info: sized{bytes: size}})
		}
		f := fetchAhead(t.Context(), files, room)
		for i, file := range files {
			done := time.AfterFunc(20*time.Second, func() { panic("it waits for ever") })
			w, ok, err := f.take(t.Context(), i)
			done.Stop()
			require.NoError(t, err)
			require.True(t, ok)
			require.Equal(t, file.rel, string(w.Data))
		}
		f.stop()
		assert.Greater(t, len(b.bundles), 50)
		for i, names := range b.bundles {
			assert.LessOrEqual(t, int64(len(names))*(100<<10), min(b.most, room/2), i)
			for _, name := range names {
				assert.NotContains(t, name, ".php")
				assert.NotContains(t, b.alone, strings.TrimPrefix(name, "changed"))
			}
		}
		for _, file := range files {
			if strings.Contains(file.rel, ".php") || strings.Contains(file.rel, "changed") {
				assert.Contains(t, b.alone, file.rel)
			}
		}
	}
}

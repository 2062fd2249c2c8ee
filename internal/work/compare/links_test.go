package compare

import (
	"context"
	"iter"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
)

// listed is a side of a few paths.
type listed struct {
	Side
	paths []archive.Entry
}

func (l listed) Files(context.Context) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		for _, e := range l.paths {
			if !yield(Entry{Entry: e}, nil) {
				return
			}
		}
	}
}

// A further name of a file is the same as a file with that content, whichever side knows of
// it; and it differs where the content does.
func TestNamesOfOneFile(t *testing.T) {
	file := func(path, sum string) archive.Entry {
		return archive.Entry{Type: archive.TypeFile, Path: path, Size: 3, SHA256: sum, Mode: "0644"}
	}
	link := func(path, to string) archive.Entry {
		return archive.Entry{Type: archive.TypeHardlink, Path: path, Target: to, Mode: "0644"}
	}
	knows := listed{paths: []archive.Entry{file("webroot/a", "1"), link("webroot/b", "webroot/a"), link("webroot/c", "webroot/a"), link("webroot/d", "webroot/gone"), file("webroot/e", "1")}}
	not := listed{paths: []archive.Entry{file("webroot/a", "1"), file("webroot/b", "1"), file("webroot/c", "2"), file("webroot/d", "1"), file("webroot/e", "2")}}
	for _, job := range []Job{{A: knows, B: not, Files: true, Read: true}, {A: not, B: knows, Files: true, Read: true}} {
		r, err := job.Run(t.Context())
		require.NoError(t, err)
		var paths []string
		for _, f := range r.Files {
			assert.Equal(t, Changed, f.How)
			paths = append(paths, f.Path)
		}
		assert.Equal(t, []string{"webroot/c", "webroot/d", "webroot/e"}, paths)
	}
}

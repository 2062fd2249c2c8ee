package compare

import (
	"context"
	"iter"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/site"
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

// A link may do what a file of its name would, and what it leads to is told.
func TestLinksThatALookIsWorth(t *testing.T) {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	entry := func(kind, path, to string) archive.Entry {
		return archive.Entry{Type: kind, Path: "webroot/" + path, Target: to, Size: 3, SHA256: "1", Mode: "0644"}
	}
	const uploads = "wp-content/uploads/"
	before := listed{paths: []archive.Entry{entry(archive.TypeFile, uploads+"a.txt", ""), entry(archive.TypeSymlink, uploads+"b.php", "a.txt"), entry(archive.TypeSymlink, uploads+"c.txt", "a.txt"), entry(archive.TypeFile, uploads+"d.txt", "")}}
	after := listed{paths: []archive.Entry{entry(archive.TypeSymlink, uploads+"a.txt", "/etc/passwd"), entry(archive.TypeSymlink, uploads+"b.php", "a.txt"), entry(archive.TypeSymlink, uploads+"c.txt", "../../wp-config.php"), entry(archive.TypeFile, uploads+"d.txt", ""),
		entry(archive.TypeHardlink, uploads+"e.php", "webroot/"+uploads+"d.txt"), entry(archive.TypeSymlink, uploads+"f.php", "d.txt"), entry(archive.TypeSymlink, uploads+"g", "../../../other"), entry(archive.TypeSymlink, uploads+"h.jpg", "i.jpg"), entry(archive.TypeFolder, uploads+"j.php", "")}}
	r, err := Job{A: before, B: after, Files: true, Read: true, Recipe: recipe}.Run(t.Context())
	require.NoError(t, err)
	got := map[string][3]string{}
	for _, f := range r.Files {
		got[strings.TrimPrefix(f.Path, "webroot/"+uploads)] = [3]string{f.Suspect, f.Was, f.Is}
	}
	const runs, out = "a file that can be run, among the uploads", "a link that leads out of the site"
	assert.Equal(t, map[string][3]string{
		"a.txt": {out, "", "a link to /etc/passwd"},
		"c.txt": {"another name for the site's settings", "a link to a.txt", "a link to ../../wp-config.php"},
		"e.php": {runs, "", "another name of " + uploads + "d.txt"},
		"f.php": {runs, "", "a link to d.txt"},
		"g":     {out, "", "a link to ../../../other"},
		"h.jpg": {"", "", "a link to i.jpg"},
		"j.php": {"", "", "a folder"},
	}, got)
}

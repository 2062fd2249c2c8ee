package browse

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
)

// some is a tree of a few paths, of which the list does not name every folder.
func some() *tree {
	t := newTree()
	for _, e := range []archive.Entry{
		{Type: archive.TypeFile, Path: "webroot/deep/er/a", Size: 5},
		{Type: archive.TypeHardlink, Path: "webroot/b", Target: "webroot/deep/er/a"},
		{Type: archive.TypeHardlink, Path: "webroot/lost", Target: "webroot/nothing"},
		{Type: archive.TypeSymlink, Path: "webroot/link", Target: "../../etc/passwd"},
	} {
		t.add(e)
	}
	return t
}

func TestATreeOfAList(t *testing.T) {
	tree := some()
	assert.True(t, tree.nodes["webroot/deep"].folder(), "a folder that the list does not name is made")
	of, ok := tree.content(tree.nodes["webroot/b"])
	require.True(t, ok)
	assert.EqualValues(t, 5, of.Size, "a further name shows what the file has")
	for _, name := range []string{"webroot/lost", "webroot/link", "webroot/deep"} {
		_, ok := tree.content(tree.nodes[name])
		assert.False(t, ok, name)
	}
	n := len(tree.nodes)
	tree.add(archive.Entry{Type: archive.TypeFile, Path: "webroot/b", Size: 99})
	assert.Len(t, tree.nodes, n, "a path is there once")
}

// However a list is made, it takes no more memory than a site's does.
func TestAListThatDoesNotFit(t *testing.T) {
	long := strings.Repeat("lamp/", 700)
	for what, c := range map[string]struct {
		line func(i int) archive.Entry
		most int // that fit
	}{
		"paths": {func(i int) archive.Entry {
			return archive.Entry{Type: archive.TypeFile, Path: fmt.Sprintf("webroot/%d", i)}
		}, 400_000},
		"long links": {func(i int) archive.Entry {
			return archive.Entry{Type: archive.TypeSymlink, Path: fmt.Sprintf("webroot/%d", i), Target: long}
		}, 50_000},
		"deep paths": {func(i int) archive.Entry {
			return archive.Entry{Type: archive.TypeFile, Path: fmt.Sprintf("webroot/%d/%s", i, long)}
		}, 1000},
		"tables": {func(i int) archive.Entry {
			return archive.Entry{Type: archive.TypeRows, Database: "main", Table: fmt.Sprint(i)}
		}, 400_000},
		"long tables": {func(i int) archive.Entry {
			return archive.Entry{Type: archive.TypeRows, Database: long, Table: fmt.Sprint(i)}
		}, 50_000},
	} {
		tree, taken := newTree(), 0
		var err error
		for taken = 0; taken < c.most && err == nil; taken++ {
			err = tree.take(c.line(taken))
		}
		assert.ErrorIs(t, err, errTooMuch, what)
		assert.Greater(t, taken, 20, what)
	}
}

// A file manager sees folders and files, no links, and can change nothing.
func TestTheFolderOfATree(t *testing.T) {
	d := davTree{&Server{tree: some()}}
	f, err := d.OpenFile(t.Context(), "/webroot", os.O_RDONLY, 0)
	require.NoError(t, err)
	all, err := f.Readdir(0)
	require.NoError(t, err)
	var names []string
	for _, i := range all {
		names = append(names, i.Name())
	}
	assert.ElementsMatch(t, []string{"deep", "b"}, names)
	_, err = f.Readdir(1)
	assert.ErrorIs(t, err, io.EOF)
	for _, name := range []string{"/webroot/link", "/webroot/lost", "/nothing", "/webroot/../../etc"} {
		_, err := d.Stat(t.Context(), name)
		assert.ErrorIs(t, err, os.ErrNotExist, name)
	}
	_, written := f.Write([]byte("x"))
	_, opened := d.OpenFile(t.Context(), "/webroot/new", os.O_CREATE|os.O_WRONLY, 0o600)
	for _, err := range []error{written, opened, d.Mkdir(t.Context(), "/x", 0), d.RemoveAll(t.Context(), "/webroot"), d.Rename(t.Context(), "/webroot", "/y")} {
		assert.True(t, errors.Is(err, os.ErrPermission), "%v", err)
	}
}

func TestWhatACellShows(t *testing.T) {
	long := make([]byte, 2*longestCell)
	for i := range long {
		long[i] = 'x'
	}
	got := cells([]string{"text\nof two lines", "\xff\x00", "a\x1b[31m", string(long)})
	assert.Equal(t, cell{Text: "text\nof two lines"}, got[0])
	assert.Equal(t, cell{Text: "2 bytes", Odd: true}, got[1])
	assert.True(t, got[2].Odd)
	assert.True(t, got[3].Cut)
	assert.Len(t, got[3].Text, longestCell)
}

func TestOnlyThisMachine(t *testing.T) {
	for _, at := range []string{"0.0.0.0:0", "[::]:0", "192.0.2.1:80", "localhost:0", "nothing"} {
		_, err := Start(t.Context(), Options{Listen: at})
		assert.ErrorIs(t, err, ErrNotLoopback, at)
	}
}

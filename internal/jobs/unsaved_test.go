package jobs

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
	"revlet/internal/practice/lampblack"
	"revlet/internal/work/restore"
)

// settling restores a site after something happened to it, and then asks to delete what
// was set aside.
func settling(t *testing.T, b *bench, order func(*RestoreOrder)) (*Unsaved, error) {
	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	s, err := b.OpenForRestore(t.Context(), h)
	require.NoError(t, err)
	o := RestoreOrder{Archive: h, Site: s, Files: true, Database: true}
	if order != nil {
		order(&o)
	}
	_, err = b.Restore(t.Context(), o)
	require.NoError(t, err)
	u, err := b.Unsaved(t.Context(), museum)
	require.NoError(t, err)
	journals, err := b.ToTakeBack(t.Context(), museum)
	require.NoError(t, err)
	_, settled := b.Settle(t.Context(), journals[0], false)
	if u.Empty() {
		require.NoError(t, settled)
		return u, nil
	}
	require.True(t, reason.Is(settled, reason.NotSaved), "%v", settled)
	again, err := b.ToTakeBack(t.Context(), museum)
	require.NoError(t, err)
	require.Equal(t, journals[0].ID, again[0].ID, "it is still there")
	_, err = b.Settle(t.Context(), journals[0], true)
	return u, err
}

func (b *bench) execute(statement string) {
	b.t.Helper()
	require.NoError(b.t, lampblack.Execute(b.t.Context(), b.path("htdocs/"+lampblack.DatabaseFile), statement))
}

// What no archive holds is named before it is deleted for good, and that only.
func TestWhatNoArchiveHoldsIsNamed(t *testing.T) {
	t.Parallel()
	webroot := func(u *Unsaved) (paths []string) {
		for _, f := range u.Files {
			paths = append(paths, strings.TrimPrefix(f.Path, "webroot/"))
		}
		return paths
	}
	for name, c := range map[string]struct {
		happens func(b *bench)
		order   func(*RestoreOrder)
		files   []string
		tables  []string
	}{
		"nothing":                   {happens: func(*bench) {}},
		"a new and an altered file": {happens: func(b *bench) { b.write("uploads/new.txt", "new"); b.write(theme, "other") }, files: []string{theme, "uploads/new.txt"}},
		"a copy of what is held": {happens: func(b *bench) {
			data, err := os.ReadFile(b.path("htdocs/" + theme))
			require.NoError(b.t, err)
			b.write("uploads/copy.html", string(data))
		}},
		"an altered file with its time set back": {happens: func(b *bench) {
			info, err := os.Stat(b.path("htdocs/" + theme))
			require.NoError(b.t, err)
			b.write(theme, strings.Repeat("x", int(info.Size())))
			require.NoError(b.t, os.Chtimes(b.path("htdocs/"+theme), info.ModTime(), info.ModTime()))
		}, files: []string{theme}},
		"a link":  {happens: func(b *bench) { require.NoError(b.t, os.Symlink("elsewhere", b.path("htdocs/uploads/link"))) }, files: []string{"uploads/link"}},
		"a cache": {happens: func(b *bench) { b.write("cache/page.html", "made anew") }},
		"what an older archive holds": {happens: func(b *bench) {
			b.write(theme, "as once")
			b.taken(Order{})
			b.write(theme, "back")
			b.taken(Order{})
			b.write(theme, "as once")
		}},
		"rows": {happens: func(b *bench) { b.execute("UPDATE settings SET value = 'x' WHERE name = 'season'") }, tables: []string{"settings"}},
		"rows, and files restored": {happens: func(b *bench) {
			b.execute("UPDATE settings SET value = 'x' WHERE name = 'season'")
			b.write("uploads/new.txt", "new")
		}, order: func(o *RestoreOrder) { o.Database = false }, files: []string{"uploads/new.txt"}},
		"rows and files, and the database restored": {happens: func(b *bench) {
			b.execute("UPDATE settings SET value = 'x' WHERE name = 'season'")
			b.write("uploads/new.txt", "new")
		}, order: func(o *RestoreOrder) { o.Files = false }, tables: []string{"settings"}},
		"a share of the files": {happens: func(b *bench) { b.write("uploads/new.txt", "new"); b.write(theme, "other") },
			order: func(o *RestoreOrder) { o.Database, o.Selection = false, restore.Matching([]string{"themes/**"}, false) }, files: []string{theme}},
		"a table": {happens: func(b *bench) { b.execute("UPDATE settings SET value = 'x' WHERE name = 'season'") },
			order: func(o *RestoreOrder) {
				o.Files, o.Rows = false, map[string]*database.RowSelection{"main": {Tables: []string{"settings", "pages"}, Archived: []string{"settings", "pages"}}}
			}, tables: []string{"pages", "settings"}}, // rows are kept without their definition: better one too many
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "", "")
			b.taken(Order{})
			c.happens(b)
			u, err := settling(t, b, c.order)
			require.NoError(t, err)
			var tables []string
			for _, one := range u.Tables {
				assert.Positive(t, one.Rows)
				tables = append(tables, one.Table)
			}
			assert.Equal(t, c.files, webroot(u))
			assert.Equal(t, c.tables, tables)
			assert.Empty(t, u.Unread)
		})
	}
}

// A store that is away may hold what the others do not.
func TestWhatMayBeHeldElsewhereIsNotCalledUnsavedForSure(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	b.write("uploads/new.txt", "new")
	back := b.away("far")
	defer back()
	u, err := settling(t, b, nil)
	require.NoError(t, err)
	require.Len(t, u.Files, 1)
	require.Len(t, u.Unread, 1)
	assert.Contains(t, u.Unread[0], "far")
}

func TestTablesThatAnArchiveDoesNotHaveAreTold(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	b.execute("CREATE TABLE visits (day TEXT)")
	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	s, err := b.OpenForRestore(t.Context(), h)
	require.NoError(t, err)
	o := RestoreOrder{Archive: h, Site: s, Files: true, Database: true}
	for range 2 {
		extra, err := b.ExtraTables(t.Context(), o)
		require.NoError(t, err)
		require.Len(t, extra, 1)
		assert.Equal(t, "visits", extra[0].Table)
		o.Files = false
	}
	r, err := b.Restore(t.Context(), o)
	require.NoError(t, err)
	require.Len(t, r.ExtraTables, 1)
	extra, err := b.ExtraTables(t.Context(), o)
	require.NoError(t, err)
	assert.Empty(t, extra)
}

// The name of a table that is set aside is changed back where a statement begins, however
// the text comes.
func TestRenamedText(t *testing.T) {
	t.Parallel()
	const text = "SET x;\nINSERT INTO `rv_1_t` (`a`) VALUES\n(1,'INSERT INTO `rv_1_t`');\nINSERT INTO `rv_1_tt` VALUES\nINSERT INTO"
	const want = "SET x;\nINSERT INTO `t` (`a`) VALUES\n(1,'INSERT INTO `rv_1_t`');\nINSERT INTO `rv_1_tt` VALUES\n"
	for step := 1; step <= len(text); step++ {
		var out bytes.Buffer
		w := &renamed{to: &out, from: [][]byte{[]byte("INSERT INTO `rv_1_t`"), []byte(`INSERT INTO "rv_1_t"`)}, is: []byte("t")}
		for at := 0; at < len(text); at += step {
			_, err := w.Write([]byte(text[at:min(at+step, len(text))]))
			require.NoError(t, err)
		}
		require.Equal(t, want, out.String(), "in pieces of %d", step)
	}
}

// Before undo: what it deletes that was not restored is named.
func TestWhatUndoDeletesIsNamed(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		order         func(*RestoreOrder)
		files, tables []string
	}{
		"of a whole restore":         {files: []string{"theme.css", "uploads/new.txt"}, tables: []string{"visits"}},
		"of the database":            {order: func(o *RestoreOrder) { o.Files = false }, tables: []string{"visits"}},
		"of the files":               {order: func(o *RestoreOrder) { o.Database = false }, files: []string{"theme.css", "uploads/new.txt"}},
		"of a share, where it stays": {order: func(o *RestoreOrder) { o.Database, o.Selection = false, restore.Matching([]string{"themes/**"}, false) }},
		"of a table, where it stays": {order: func(o *RestoreOrder) {
			o.Files, o.Rows = false, map[string]*database.RowSelection{"main": {Tables: []string{"settings"}, Archived: []string{"settings"}}}
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "", "")
			b.write("theme.css", "first")
			b.taken(Order{})
			h, err := b.Find(t.Context(), museum, time.Time{})
			require.NoError(t, err)
			s, err := b.OpenForRestore(t.Context(), h)
			require.NoError(t, err)
			o := RestoreOrder{Archive: h, Site: s, Files: true, Database: true}
			if c.order != nil {
				c.order(&o)
			}
			_, err = b.Restore(t.Context(), o)
			require.NoError(t, err)
			journals, err := b.ToTakeBack(t.Context(), museum)
			require.NoError(t, err)
			assert.True(t, b.WrittenSince(t.Context(), journals[0]).Empty(), "nothing yet")
			b.write("theme.css", "second")
			b.write("uploads/new.txt", "new")
			b.execute("CREATE TABLE visits (day TEXT)")
			w := b.WrittenSince(t.Context(), journals[0])
			require.Empty(t, w.Unknown)
			var files, tables []string
			for _, f := range w.Files {
				files = append(files, strings.TrimPrefix(f.Path, "webroot/"))
			}
			for _, one := range w.Tables {
				tables = append(tables, one.Table)
			}
			assert.Equal(t, c.files, files)
			assert.Equal(t, c.tables, tables)
			back := []func(){b.away("far"), b.away("here")}
			assert.Equal(t, c.files == nil && c.tables == nil, b.WrittenSince(t.Context(), journals[0]).Unknown == "", "what cannot be told is not called nothing")
			for _, f := range back {
				f()
			}
			require.NoError(t, b.takeBack())
			text, err := os.ReadFile(b.path("htdocs/uploads/new.txt"))
			if stays := c.files == nil; stays {
				require.NoError(t, err)
				assert.Equal(t, "new", string(text))
			} else {
				assert.ErrorIs(t, err, os.ErrNotExist)
			}
		})
	}
}

package e2e

import (
	"context"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// museum builds, serves and adopts the demo's site.
func museum(t *testing.T) (w *world, address string) {
	w = newWorld(t)
	server := httptest.NewServer(lampblack.Handler(w.path("htdocs")))
	t.Cleanup(server.Close)
	require.NoError(t, lampblack.Build(context.Background(), w.path("htdocs"), server.URL))
	require.NoError(t, os.Chmod(w.path("htdocs/uploads/2027"), 0o2775))
	require.NoError(t, os.Link(w.path("htdocs/uploads/2026/boat.svg"), w.path("htdocs/uploads/2027/boat.svg")))
	w.write("htdocs/uploads/2026/a name with\nnewline", "odd")
	out := w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	assert.Contains(t, out, "Lampblack 2.4.1")
	return w, server.URL
}

// rows dumps every table of the museum's database.
func rows(t *testing.T, w *world) string {
	t.Helper()
	text, err := lampblack.Dump(context.Background(), w.path("htdocs", lampblack.DatabaseFile))
	require.NoError(t, err)
	return text
}

func breakMuseum(t *testing.T, w *world) {
	t.Helper()
	require.NoError(t, os.RemoveAll(w.path("htdocs/themes/lantern")))
	require.NoError(t, os.WriteFile(w.path("htdocs/uploads/planted.php"), []byte("<?php evil();"), 0o644))
	require.NoError(t, lampblack.Execute(context.Background(), w.path("htdocs", lampblack.DatabaseFile), "DROP TABLE exhibits"))
}

func TestMuseumBreaksAndComesBack(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	_, page := get(t, address+"/")
	_, login := get(t, address+"/login")
	assert.Contains(t, page, "Opening hours")
	tree, content := snapshot(t, w.path("htdocs"), "data", "cache/home.html"), rows(t, w)

	out := w.run("backup", "--note", "before the redesign")
	assert.Contains(t, out, "kestrelpoint-")
	assert.Contains(t, out, "Unsafe:", "all copies on one machine must be said")
	assert.Contains(t, w.run("verify", "--full"), "sound")
	assert.Contains(t, w.run("archives"), "before the redesign")
	assert.Contains(t, w.run("show", "kestrelpoint"), "keepers_log")

	breakMuseum(t, w)
	broken := snapshot(t, w.path("htdocs"), "data", "cache/home.html")
	status, _ := get(t, address+"/")
	require.Equal(t, 500, status)

	r := w.fails(2, []string{"--yes"}, "restore", "kestrelpoint")
	assert.Contains(t, r.err, "nobody can be asked")
	assert.Contains(t, w.run("restore", "kestrelpoint", "--dry-run"), "nothing was changed")
	assert.Equal(t, broken, snapshot(t, w.path("htdocs"), "data", "cache/home.html"))

	restored := func() {
		w.run("restore", "kestrelpoint", "--yes")
		assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
		assert.Equal(t, content, rows(t, w))
		for path, want := range map[string]string{"/": page, "/login": login} {
			status, got := get(t, address+path)
			assert.Equal(t, 200, status)
			assert.Equal(t, want, got)
		}
	}
	restored()

	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, snapshot(t, w.path("htdocs"), "data", "cache/home.html"))
	status, _ = get(t, address+"/")
	require.Equal(t, 500, status)

	restored()
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	w.fails(1, []string{"no restore has set anything aside"}, "undo", "kestrelpoint", "--yes")
	left, err := filepath.Glob(w.path(".revlet-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "settle must leave nothing beside the webroot")
}

func TestRestoreOneHalf(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	w.run("backup")
	db := w.path("htdocs", lampblack.DatabaseFile)
	change := func() {
		breakMuseum(t, w)
		require.NoError(t, lampblack.Execute(context.Background(), db, "INSERT INTO pages (slug, title, body, position) VALUES ('new', ' New ', 'hedgehog', 9)"))
	}
	change()
	w.fails(4, []string{"500"}, "restore", "kestrelpoint", "--only", "database", "--yes")
	assert.NoDirExists(t, w.path("htdocs/themes/lantern"), "the files stay as they are")
	assert.NotContains(t, rows(t, w), "hedgehog")
	w.run("undo", "kestrelpoint", "--yes")
	assert.Contains(t, rows(t, w), "hedgehog")

	r := w.fails(4, []string{"500"}, "restore", "kestrelpoint", "--only", "files", "--yes")
	assert.Contains(t, r.out, "check", "the check says what is wrong")
	assert.FileExists(t, w.path("htdocs/themes/lantern/style.css"))
	assert.NoFileExists(t, w.path("htdocs/uploads/planted.php"))
	assert.Contains(t, rows(t, w), "hedgehog", "the database stays as it is")
	require.NoError(t, lampblack.Execute(context.Background(), db, "UPDATE pages SET body = 'later' WHERE slug = 'new'"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Contains(t, rows(t, w), "later", "what was written after a restore of the files is kept")

	w.run("restore", "kestrelpoint", "--yes")
	status, _ := get(t, address+"/")
	assert.Equal(t, 200, status)
}

func TestRestoreWhenTheWholeSiteIsGone(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	tree, content := snapshot(t, w.path("htdocs"), "data", "cache/home.html"), rows(t, w)
	w.run("backup")
	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	w.fails(1, []string{"the webroot is missing", w.path("htdocs")}, "backup")
	assert.Contains(t, w.run("restore", "kestrelpoint", "--yes"), "`revlet settle kestrelpoint` keeps it for good: there was nothing to set aside")
	assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
	assert.Equal(t, content, rows(t, w))
	status, _ := get(t, address+"/")
	assert.Equal(t, 200, status)
	info, err := os.Stat(w.path("htdocs", lampblack.DatabaseFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o644), info.Mode().Perm())
}

func TestExtract(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	w.run("extract", "kestrelpoint", "uploads/2026/*.svg", "core", "--table", "opening_hours", "--to", "out")
	want, _ := os.ReadFile(w.path("htdocs/uploads/2026/lens.svg"))
	got, err := os.ReadFile(w.path("out/uploads/2026/lens.svg"))
	require.NoError(t, err)
	assert.Equal(t, want, got)
	assert.FileExists(t, w.path("out/core/home.html"))
	assert.NoFileExists(t, w.path("out/settings.yaml"))
	sql, err := os.ReadFile(w.path("out/opening_hours.sql"))
	require.NoError(t, err)
	assert.Contains(t, string(sql), "10.00 to 18.00")
	assert.FileExists(t, w.path("out/main-definitions.sql"))
	w.fails(1, []string{"not replaced"}, "extract", "kestrelpoint", "core", "--to", "out")
	w.fails(1, []string{"holds no \"no/such\""}, "extract", "kestrelpoint", "no/such", "--to", "other")
	assert.NoDirExists(t, w.path("other"))
}

func TestDamageIsFoundAndNamed(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	for _, p := range w.parts("kestrelpoint") {
		flip(t, p.file)
		r := w.fails(4, []string{"DAMAGED", p.Name}, "verify", "--full")
		switch p.Kind {
		case "rows":
			assert.Contains(t, r.out, "table "+p.Table)
		case "files":
			assert.Regexp(t, `held (core|uploads)/`, r.out)
		}
		flip(t, p.file)
	}
	w.run("verify", "--full")

	victim := w.parts("kestrelpoint")[0]
	require.NoError(t, os.Rename(victim.file, victim.file+".away"))
	for _, level := range []string{"--quick", "--full"} {
		w.fails(4, []string{"missing", victim.Name}, "verify", level)
	}
	before := snapshot(t, w.path("htdocs"))
	w.fails(1, []string{"has no archive to take by itself", "it is damaged in store here"}, "restore", "kestrelpoint", "--yes")
	w.fails(1, []string{victim.Name, "nothing was changed"}, "restore", w.newest(), "--yes")
	assert.Equal(t, before, snapshot(t, w.path("htdocs")))
	require.NoError(t, os.Rename(victim.file+".away", victim.file))
	require.NoError(t, os.Truncate(victim.file, 100))
	w.fails(4, []string{"100 bytes"}, "verify", "--quick")
}

func TestPreflight(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.write("htdocs/uploads/museum-backup.zip", "left here in 2019")
	w.write("htdocs/old.sql.gz", "dump")
	out := w.run("preflight")
	assert.Contains(t, out, "no archive is taken by itself")
	for _, words := range []string{"old archives or copies lie in it", "uploads/museum-backup.zip", "old.sql.gz", "every store is on the site's own machine", "one read transaction", "left out by rule"} {
		assert.Contains(t, out, words)
	}
	require.NoError(t, os.RemoveAll(w.path("archives")))
	w.write("htdocs/data/museum.db", "not a database at all, but long enough to be read as one")
	out = w.fails(1, []string{"Stands in the way", "store here", "does not exist", "museum.db"}, "preflight").out
	assert.Less(t, strings.Index(out, "Stands in the way"), strings.Index(out, "Passed"), "what matters comes first")
}

func TestClearErrors(t *testing.T) {
	w, _ := museum(t)
	w.run("backup")
	name := w.newest()
	w.fails(2, []string{`no site "kestrelpiont"`, `did you mean "kestrelpoint"`}, "backup", "kestrelpiont")
	w.fails(2, []string{`no site or archive "nowhere"`}, "show", "nowhere")
	w.fails(1, []string{"no such archive"}, "show", "kestrelpoint-20010101-000000")
	w.fails(2, []string{"--before", "not a date"}, "show", "kestrelpoint", "--before", "yesterday")
	w.fails(2, []string{"no known CMS"}, "adopt", "state")
	w.fails(2, []string{"has a site \"kestrelpoint\" already"}, "adopt", "htdocs", "--name", "kestrelpoint")
	w.fails(1, []string{"inside the webroot"}, "adopt", "htdocs", "--name", "other", "--store", "./htdocs/backups")
	w.fails(2, []string{"sohpe"}, "backup", "--sohpe", "full")
	assert.Contains(t, w.run("show", name[:len(name)-3]), name, "a beginning of a name is enough")

	good, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	for text, words := range map[string][]string{
		strings.Replace(string(good), "address:", "adress:", 1):                {"revlet.yaml:", `unknown key "adress"`, `did you mean "address"`},
		strings.Replace(string(good), "stores: [here]", "stores: [hree]", 1):   {`no store "hree"`, `did you mean "here"`},
		strings.Replace(string(good), "./archives", "./htdocs/a", 1) + "\n  x": {"revlet.yaml:"},
	} {
		w.write("revlet.yaml", text)
		w.fails(2, words, "archives")
	}
	inside := strings.Replace(string(good), w.path("archives"), w.path("htdocs/backups"), 1)
	require.NoError(t, os.MkdirAll(w.path("htdocs/backups"), 0o755))
	w.write("revlet.yaml", inside)
	w.fails(1, []string{"inside the webroot", "anyone could download"}, "backup")

	w.write("revlet.yaml", strings.Replace(string(good), w.path("archives"), w.path("unmounted"), 1))
	w.fails(1, []string{"unmounted does not exist", "mounted?"}, "backup")
	assert.NoDirExists(t, w.path("unmounted"))

	w.write("revlet.yaml", string(good))
	record := w.path("archives/kestrelpoint/archives", name+".json")
	text, err := os.ReadFile(record)
	require.NoError(t, err)
	for broken, words := range map[string][]string{
		"not json": {"not JSON"},
		strings.Replace(string(text), `"format": 1`, `"format": 9`, 1): {"format 9", "newer Revlet"},
	} {
		require.NoError(t, os.WriteFile(record, []byte(broken), 0o600))
		w.fails(4, words, "archives")
		w.fails(4, words, "verify")
		w.fails(1, words, "restore", name, "--yes")
	}
}

func TestGapsAreCountedAndNamed(t *testing.T) {
	t.Parallel()
	if os.Geteuid() == 0 {
		t.Skip("root reads every file; TestUnreadableAsRoot covers what it cannot")
	}
	w, _ := museum(t)
	require.NoError(t, os.Chmod(w.path("htdocs/uploads/2026/lens.svg"), 0))
	w.fails(3, []string{"1 path could not be saved", "uploads/2026/lens.svg", "permission denied"}, "backup")
}

func TestSocketsAreGaps(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	short, err := os.MkdirTemp("/tmp", "rv")
	require.NoError(t, err)
	defer os.RemoveAll(short)
	require.NoError(t, makePipe(w.path("htdocs/uploads/pipe")))
	w.fails(3, []string{"1 path could not be saved", "uploads/pipe", "named pipe"}, "backup")
	var shown struct {
		Record struct {
			Gaps []struct{ Path, Kind string }
		}
	}
	w.json(&shown, "show", "kestrelpoint")
	require.Len(t, shown.Record.Gaps, 1)
	assert.Equal(t, "webroot/uploads/pipe", shown.Record.Gaps[0].Path)
}

func TestProgressOnATerminal(t *testing.T) {
	need(t, "script", "timeout")
	w, _ := museum(t)
	for _, line := range []string{"backup", "verify", "restore kestrelpoint --yes"} {
		cmd := w.command()
		cmd.Path, _ = exec.LookPath("timeout")
		cmd.Args = []string{"timeout", "20", "script", "-qec", program + " " + line, "/dev/null"}
		out, err := cmd.CombinedOutput()
		if strings.Contains(string(out), "pseudo-terminal") {
			t.Skip("this system has no pseudo-terminals")
		}
		require.NoError(t, err, string(out))
		assert.Contains(t, string(out), "kestrelpoint-", "the bar ends and the summary follows")
	}
}

// Some of an archive's paths are listed, and one file is written where it is wanted; nothing of one that is damaged.
func TestLookingInside(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	some := w.run("show", "kestrelpoint", "--files", "themes/**/*.html")
	assert.Contains(t, some, "themes/lantern/theme.html")
	assert.NotContains(t, some, "index.php")
	w.fails(1, []string{"holds nothing that matches", "revlet show"}, "show", "kestrelpoint", "--files", "nothing/**")
	w.fails(2, []string{"needs one ARCHIVE"}, "show", "kestrelpoint", "themes")
	assert.Equal(t, w.read("htdocs/themes/lantern/theme.html"), w.run("extract", "kestrelpoint", "themes/lantern/theme.html", "--to", "-"))
	assert.Equal(t, w.read("htdocs/uploads/2026/boat.svg"), w.run("extract", "kestrelpoint", "uploads/2027/boat.svg", "--to", "-"), "a further name")
	for _, args := range [][]string{{"themes", "core"}, {}, {"themes", "--json"}} {
		w.fails(2, nil, append(append([]string{"extract", "kestrelpoint"}, args...), "--to", "-")...)
	}
	w.fails(1, []string{"holds no file"}, "extract", "kestrelpoint", "themes", "--to", "-")
	parts, err := filepath.Glob(w.path("archives/kestrelpoint/parts/*/*"))
	require.NoError(t, err)
	for _, part := range parts {
		data, err := os.ReadFile(part)
		require.NoError(t, err)
		data[len(data)/2] ^= 1
		require.NoError(t, os.WriteFile(part, data, 0o600))
	}
	assert.Empty(t, w.fails(1, nil, "extract", "kestrelpoint", "themes/lantern/theme.html", "--to", "-").out)
}

func TestDemo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	out := w.run("demo", "played")
	for _, words := range []string{"500 Internal Server Error", "200 OK", "DAMAGED", "Undone:", "Settled:"} {
		assert.Contains(t, out, words)
	}
	r := w.fails(2, []string{"is not empty"}, "demo", "played")
	assert.Empty(t, r.out)
	for _, words := range []string{"Works: harbour", "Works: kestrelpoint.key opens", "Written to", "3 sites saved.", "Restores: shop-"} {
		assert.Contains(t, out, words)
	}
	assert.Regexp(t, `(?s)^.* 18  The museum moves.*\n1\. Describe`, out, "what is to come is listed first")
	list := w.run("demo", "--chapters")
	assert.Equal(t, 18, strings.Count(list, "\n"))
	some := w.run("demo", "some", "--chapter", "5")
	assert.Contains(t, some, "5. Put it back")
	assert.NotContains(t, some, "4. The redesign")
	assert.NotContains(t, some, "6. A restore")
	assert.Contains(t, some, "200 OK")
	w.fails(2, []string{"no chapter 19"}, "demo", "other", "--chapter", "19")
	assert.FileExists(t, w.path("played/htdocs/index.html"), "the site came back from the offsite place alone")
	assert.DirExists(t, w.path("played/far-away/revlet/kestrelpoint/archives"))
}

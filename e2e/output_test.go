package e2e

import (
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// keysOf gathers the keys of JSON objects, nested ones as outer.inner.
func keysOf(v any, under string, into map[string]bool) {
	switch v := v.(type) {
	case map[string]any:
		for k, inner := range v {
			into[under+k] = true
			keysOf(inner, under+k+".", into)
		}
	case []any:
		for _, inner := range v {
			keysOf(inner, under, into)
		}
	}
}

// TestJSONIsWhatTheDocumentSays runs every reporting command with --json and
// looks for each key in docs/JSON.md, and for each documented key in the output.
func TestJSONIsWhatTheDocumentSays(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("../docs/JSON.md")
	require.NoError(t, err)
	line := func(command string) string {
		for l := range strings.SplitSeq(string(doc), "\n") {
			if strings.HasPrefix(l, "| `"+command+"`") {
				return l
			}
		}
		require.FailNow(t, "not documented", command)
		return ""
	}
	w, _ := museum(t)
	require.NoError(t, makePipe(w.path("htdocs/pipe")))
	w.write("htdocs/old.sql", "left")
	for _, c := range []struct {
		documented string
		code       int
		args       []string
		// deep are keys whose own content is documented elsewhere.
		deep []string
	}{
		{"adopt", 0, []string{"adopt", "htdocs", "--name", "other", "--dry-run"}, nil},
		{"preflight", 0, []string{"preflight"}, []string{"sites"}},
		{"backup", 3, []string{"backup"}, []string{"archives"}},
		{"archives", 0, []string{"archives"}, nil},
		{"show", 0, []string{"show", "kestrelpoint"}, []string{"record"}},
		{"versions", 0, []string{"versions", "kestrelpoint", "themes/**"}, nil},
		{"space+show", 0, []string{"space"}, nil},
		{"config check", 0, []string{"config", "check"}, nil},
		{"show --files", 0, []string{"show", "kestrelpoint", "--files"}, []string{"entries"}},
		{"verify", 0, []string{"verify"}, nil},
		{"restore --dry-run", 0, []string{"restore", "kestrelpoint", "--dry-run"}, nil},
		{"restore", 0, []string{"restore", "kestrelpoint", "--yes"}, nil},
		{"aside list", 0, []string{"aside", "list"}, nil},
		{"aside show+compare", 0, []string{"aside", "show", "kestrelpoint"}, nil},
		{"aside export", 0, []string{"aside", "export", "kestrelpoint", "aside.tar.zst"}, nil},
		{"hold", 0, []string{"hold", "kestrelpoint"}, nil},
		{"hold", 0, []string{"release", "kestrelpoint"}, nil},
		{"guard+check", 0, []string{"guard", "kestrelpoint", "--anyway"}, nil},
		{"due", 0, []string{"due"}, nil},
		{"due", 0, []string{"due", "--dry-run"}, nil},
		{"schedule install", 0, []string{"schedule", "install", "--cron"}, nil},
		{"remove", 0, []string{"remove", "NEWEST", "--yes"}, nil},
		{"undo", 0, []string{"undo", "kestrelpoint", "--yes"}, nil},
		{"retention", 0, []string{"retention"}, nil},
		{"duties", 0, []string{"duties"}, nil},
		{"status+report", 4, []string{"status"}, []string{"sites.newest.kept", "sites.newest_full.kept"}},
		{"report+status+history", 0, []string{"report"}, []string{"sites.newest.kept", "sites.newest_full.kept", "sites.archives.kept"}},
		{"history", 0, []string{"history"}, nil},
		{"history+history show", 0, []string{"history", "show"}, nil},
		{"report", 0, []string{"history", "--archives"}, []string{"archives.kept"}},
		{"rehearse", 0, []string{"rehearse"}, nil},
		{"check", 0, []string{"check"}, nil},
		{"compare", 4, []string{"compare", "kestrelpoint"}, nil},
		{"compare --table", 4, []string{"compare", "kestrelpoint", "--table", "opening_hours"}, nil},
		{"compare --since", 0, []string{"compare", "kestrelpoint", "--since", "old.sql"}, nil},
		{"extract", 0, []string{"extract", "kestrelpoint", "core", "--table", "pages", "--to", "out"}, nil},
		{"move", 0, []string{"move", "kestrelpoint", "--to", "lighthouse", "--root", "new", "--address", "http://127.0.0.1:1", "--dry-run"}, nil},
		{"move+check", 4, []string{"move", "kestrelpoint", "--to", "lighthouse", "--root", "new", "--address", "http://127.0.0.1:1", "--yes"}, nil},
	} {
		if c.documented == "compare" {
			w.write("htdocs/late.txt", "something differs")
			require.NoError(t, lampblack.Execute(t.Context(), w.path("htdocs", lampblack.DatabaseFile), "DELETE FROM opening_hours"))
		}
		if c.args[0] == "remove" {
			c.args[1] = w.newest()
		}
		if c.args = append(c.args, "--json"); c.args[0] == "guard" {
			c.args = append(c.args, "--", "echo", "not in the JSON")
		}
		r := w.try(c.args...)
		require.Equal(t, c.code, r.code, "%v\n%s%s", c.args, r.out, r.err)
		var v any
		require.NoError(t, json.Unmarshal([]byte(r.out), &v), "%v prints nothing but JSON:\n%s", c.args, r.out)
		keys := map[string]bool{}
		keysOf(v, "", keys)
		text := ""
		for one := range strings.SplitSeq(c.documented, "+") {
			text += line(one)
		}
		documents(t, text, c.documented, keys, c.deep)
	}
}

// documents makes sure that a text names each key; deep ones have their content documented elsewhere.
func documents(t *testing.T, text, what string, keys map[string]bool, deep []string) {
	t.Helper()
	for key := range keys { // nested ones as outer.inner
		inner := key[strings.LastIndex(key, ".")+1:]
		if slices.ContainsFunc(deep, func(d string) bool { return strings.HasPrefix(key, d+".") }) {
			continue
		}
		assert.Regexp(t, "`"+regexp.QuoteMeta(inner)+`(\[\])?`+"`", text, "%s is not documented for %s", key, what)
	}
}

// TestEveryCommandExplainsItself keeps README and --help true to each other.
func TestEveryCommandExplainsItself(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	readme, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	help := w.run("--help")
	commands := regexp.MustCompile(`(?m)^  ([a-z]+)  +\S`).FindAllStringSubmatch(help[:strings.Index(help, "Examples")], -1)
	require.Greater(t, len(commands), 10)
	for _, m := range commands {
		name := m[1]
		assert.Contains(t, string(readme), "`revlet "+name, "the README has every command")
		text := w.run(name, "--help")
		assert.Contains(t, text, "revlet "+name)
	}
	for _, m := range regexp.MustCompile("`revlet ([a-z]+)").FindAllStringSubmatch(string(readme), -1) {
		assert.Contains(t, help, "\n  "+m[1]+" ", "the README speaks of commands that exist")
	}
	w.fails(2, []string{"there is no command \"bakcup\""}, "bakcup")
	w.fails(2, []string{"needs one ARCHIVE", "it got 0"}, "show")
	w.fails(2, []string{"needs an ARCHIVE and what to copy"}, "extract", "x")
	empty := newWorld(t)
	empty.fails(2, []string{"no site is configured yet", "revlet adopt"}, "backup")
	require.NoError(t, os.Remove(empty.path("revlet.yaml")))
	empty.fails(2, []string{"no configuration file", "revlet adopt PATH"}, "archives")
}

// An option that a way of using a command does not heed is refused, for it may say that less is to be done.
func TestOptionsThatAreNotHeeded(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	w.write("rows.sql", "DELETE FROM pages;")
	before := rows(t, w)
	for _, args := range [][]string{
		{"restore", "kestrelpoint", "--sql", "rows.sql", "--yes", "--table", "pages"},
		{"restore", "kestrelpoint", "--sql", "rows.sql", "--yes", "--only", "files"},
		{"restore", "kestrelpoint", "--sql", "rows.sql", "--yes", "--rows", "pages:id=1"},
		{"restore", "kestrelpoint", "--sql", "rows.sql", "--yes", "--mode", "fill"},
		{"restore", w.path("site.zip"), "--yes", "--before", "2026-01-01"},
		{"cutover", "finish", "kestrelpoint", "--back", "--yes", "--leave", "open"},
		{"cutover", "look", "kestrelpoint", "--check", "--listen", "127.0.0.1:0"},
		{"cutover", "look", "kestrelpoint", "--hosts", "--at", "127.0.0.1", "--browser"},
		{"compare", "kestrelpoint", "--table", "pages", "--only", "files"},
		{"compare", "kestrelpoint", "--text", "settings.yaml", "--table", "pages"},
		{"status", "--accept", "kestrelpoint/mass-change", "--why", "so", "--store", "here"},
		{"stores", "test", "here", "--contract", "--accept"},
		{"stores", "link", "here", "--end", "extra"},
		{"preflight", "--forget-host"},
	} {
		r := w.try(args...)
		assert.Equal(t, 2, r.code, "%v\n%s%s", args, r.out, r.err)
	}
	assert.Equal(t, before, rows(t, w))
	for _, how := range []string{"--dry-run", "--yes"} {
		w.fails(1, []string{"a sqlite database cannot be restored from an SQL file here"}, "restore", "kestrelpoint", "--sql", "rows.sql", how)
	}
}

// TestPlainOutput: without a terminal there are no colours, and --quiet leaves
// standard error empty.
func TestPlainOutput(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	r := w.try("backup")
	assert.NotContains(t, r.out+r.err, "\x1b[")
	assert.Contains(t, r.err, "backing up kestrelpoint")
	r = w.try("--quiet", "verify")
	assert.Empty(t, r.err)
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	require.Len(t, lines, 3)
	assert.Contains(t, lines[2], "Signed by this machine")
	assert.Equal(t, strings.Index(lines[0], "STORE"), strings.Index(lines[1], "here"), "columns stand under their headings")
}

// TestNewestGoodArchive: a site's name means the newest archive that is not
// known to be damaged, --before the newest one before then.
func TestNewestGoodArchive(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup", "--note", "first")
	first := w.newest()
	w.write("htdocs/uploads/2026/new.txt", "since then")
	w.run("backup", "--note", "second")
	second := w.newest()
	require.NotEqual(t, first, second)
	assert.Contains(t, w.run("show", "kestrelpoint"), second)
	for _, p := range w.parts("kestrelpoint") {
		data, err := os.ReadFile(p.file)
		require.NoError(t, err)
		if strings.Contains(p.Kind, "tree") {
			flip(t, p.file)
			w.fails(4, []string{"DAMAGED"}, "verify", second)
			w.run("verify", second, "--quick")
			assert.Contains(t, w.run("archives"), "DAMAGED", "a quick look does not take back what a full one has found")
			assert.Contains(t, w.run("show", "kestrelpoint"), first, "the damaged one is not good")
			assert.Contains(t, w.run("show", second), second, "asked for by name it is shown")
			require.NoError(t, os.WriteFile(p.file, data, 0o600))
		}
	}
	w.run("verify", second)
	assert.Contains(t, w.run("show", "kestrelpoint"), second)
	w.fails(1, []string{"before", "the oldest is " + first}, "show", "kestrelpoint", "--before", "2020-01-01")
}

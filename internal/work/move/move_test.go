package move

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/rewrite"
)

// held is an archive of a museum at an address.
func held(address string) *catalog.Held {
	h := &catalog.Held{Record: &archive.Record{Site: "kestrelpoint", Name: "kestrelpoint-20261127-120000", Scope: archive.Full}}
	h.Origin.Address = address
	h.Origin.Roots = map[string]string{site.RootLabel: "/srv/kestrelpoint"}
	h.Origin.Databases = map[string]archive.DBOrigin{"main": {Engine: "mysql"}}
	return h
}

func planned(t *testing.T, from, to string, o Options) *Plan {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	p, err := New(t.Context(), held(from), &site.Site{Name: "lighthouse", Root: "/srv/lighthouse", Address: to, Recipe: recipe, Databases: []site.Database{{Label: "main", Engine: "mysql", Prefix: "kp_"}}}, o)
	require.NoError(t, err)
	return p
}

func TestWhatIsChangedAndLeftIsCounted(t *testing.T) {
	var changes bytes.Buffer
	p := planned(t, "https://a.example", "https://b.example", Options{Keep: []string{"kp_log.text"}, Changes: &changes})
	c := p.rows("main", database.Widths{"kp_options": {"short": {Characters: 18, Bytes: 72}, "wide": {Bytes: 17}}})
	for _, v := range []struct{ table, column, in, out string }{
		{"kp_posts", "post_content", "see https://a.example/x and /srv/kestrelpoint/y", "see https://b.example/x and /srv/lighthouse/y"},
		{"kp_posts", "post_content", "nothing", "nothing"},
		{"kp_posts", "post_content", "keeper@a.example", "keeper@a.example"},
		{"kp_posts", "guid", "https://a.example/?p=1", "https://a.example/?p=1"},
		{"kp_2_posts", "guid", "https://a.example/?p=1", "https://b.example/?p=1"},
		{"kp_log", "text", "https://a.example", "https://a.example"},
		{"kp_options", "short", "https://a.example", "https://b.example"},
		{"kp_options", "short", "/srv/kestrelpoint", "/srv/lighthouse"},
		{"kp_options", "value", `a:1:{i:0;s:3:"https://a.example";}`, `a:1:{i:0;s:3:"https://a.example";}`},
	} {
		assert.Equal(t, v.out, string(c.Value(v.table, v.column, []byte(v.in))), v.in)
	}
	r, err := p.Report()
	require.NoError(t, err)
	counts := map[string]Column{}
	for _, one := range r.Columns {
		counts[one.Table+"."+one.Column] = *one
	}
	assert.Equal(t, Column{Database: "main", Table: "kp_posts", Column: "post_content", Values: 1, Places: 2, Mail: 1, Before: "see https://a.example/x and /srv/kestrelpoint/y", After: "see https://b.example/x and /srv/lighthouse/y"}, counts["kp_posts.post_content"])
	assert.Equal(t, int64(1), counts["kp_posts.guid"].Kept)
	assert.Equal(t, int64(1), counts["kp_log.text"].Kept)
	assert.Equal(t, int64(1), counts["kp_options.value"].Malformed)
	assert.Equal(t, int64(5), r.Places())
	lines := strings.Split(strings.TrimSpace(changes.String()), "\n")
	require.Len(t, lines, 4)
	var first Change
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &first))
	assert.Equal(t, Change{"main", "kp_posts", "post_content", "see https://a.example/x and /srv/kestrelpoint/y", "see https://b.example/x and /srv/lighthouse/y"}, first)
}

// A server in the mode that dumps are loaded in cuts off what does not fit.
func TestAValueThatFitsNoMoreStays(t *testing.T) {
	p := planned(t, "https://a.example", "https://lighthouse.example", Options{})
	c := p.rows("main", database.Widths{"t": {"text": {Characters: 27, Bytes: 108}, "bytes": {Bytes: 26}, "one": {Bytes: 25}}})
	assert.Equal(t, "https://lighthouse.example/", string(c.Value("t", "text", []byte("https://a.example/"))))
	assert.Equal(t, "https://a.example/é", string(c.Value("t", "text", []byte("https://a.example/é"))))
	assert.Equal(t, "https://lighthouse.example", string(c.Value("t", "bytes", []byte("https://a.example"))))
	assert.Equal(t, "https://a.example", string(c.Value("t", "one", []byte("https://a.example"))))
	r, err := p.Report()
	require.NoError(t, err)
	var long int64
	for _, one := range r.Columns {
		long += one.TooLong
		assert.Equal(t, one.TooLong > 0, one.Lost())
	}
	assert.Equal(t, int64(2), long)
}

func TestRulesOfTheWebServerMoveWithThePath(t *testing.T) {
	const rules = "RewriteEngine On\n  RewriteBase %/\nRewriteRule ^index\\.php$ - [L]\nRewriteRule . %/index.php [L]\nErrorDocument 404 %/lost.html\nErrorDocument 403 \"no\"\nRewriteRule ^x /elsewhere/y\n"
	at := func(base string) string { return strings.ReplaceAll(rules, "%", base) }
	for _, c := range []struct {
		from, to, old, now string
		n                  int
	}{
		{"https://a.example", "https://b.example/visit", "", "/visit", 3},
		{"https://a.example/visit", "https://b.example", "/visit", "", 3},
		{"https://a.example/visit/", "https://b.example/tour/x", "/visit", "/tour/x", 3},
		{"https://a.example/visit", "https://b.example/visit", "/visit", "/visit", 0},
	} {
		got, n := planned(t, c.from, c.to, Options{}).rebase(at(c.old))
		want := at(c.now)
		if c.old == "" { // the whole host was the site's
			want, c.n = strings.Replace(want, "/elsewhere/y", c.now+"/elsewhere/y", 1), c.n+1
		}
		assert.Equal(t, want, got, c)
		assert.Equal(t, c.n, n, c)
	}
	got, _ := planned(t, "https://a.example/visit", "https://b.example", Options{}).rebase("RewriteBase /visit\nRewriteRule . /visitors/x\n")
	assert.Equal(t, "RewriteBase /\nRewriteRule . /visitors/x\n", got)
}

func TestSettingsAndTextsOfTheStagedTree(t *testing.T) {
	dir := t.TempDir()
	d := &disk.Disk{}
	write := func(name, text string) { require.NoError(t, d.WriteFile(dir+"/"+name, []byte(text), 0o640)) }
	write("wp-config.php", "<?php\ndefine('DB_NAME', 'old'); define('DB_USER', 'u'); define('DB_PASSWORD', 'p'); define('DB_HOST', 'localhost');\ndefine('WP_HOME', 'https://a.example');\ndefine('WP_CONTENT_DIR', '/srv/kestrelpoint/wp-content');\n$table_prefix = 'kp_';\nrequire_once __DIR__ . '/wp-settings.php';\n")
	write(".user.ini", "open_basedir = /srv/kestrelpoint:/tmp\n")
	p := planned(t, "https://a.example", "https://b.example", Options{})
	p.to.Databases = []site.Database{{Label: "main", Engine: "mysql", Host: "127.0.0.1", Port: 3306, Name: "new", User: "n", Password: "it's \\ '); evil(); //", Prefix: "kp_"}}
	tree, err := d.OpenRoot(dir)
	require.NoError(t, err)
	defer tree.Close()
	require.NoError(t, p.staged(t.Context(), map[string]*disk.Root{site.RootLabel: tree}))
	data, err := d.ReadFile(dir + "/wp-config.php")
	require.NoError(t, err)
	leads, err := p.recipe.Leads("/srv/lighthouse", "", func(string) ([]byte, error) { return data, nil })
	require.NoError(t, err)
	assert.True(t, leads["main"].Same(p.to.Databases[0]), "%+v", leads)
	assert.Contains(t, string(data), "'https://b.example'")
	assert.Contains(t, string(data), "'/srv/lighthouse/wp-content'")
	assert.Contains(t, string(data), "define('DB_HOST', '127.0.0.1')")
	ini, err := d.ReadFile(dir + "/.user.ini")
	require.NoError(t, err)
	assert.Equal(t, "open_basedir = /srv/lighthouse:/tmp\n", string(ini))

	for _, depends := range []string{"getenv('X') . 'y'", "getenv('X') ?: 'new'", "$_ENV['X'] ?? 'new'", "getenv('X')"} {
		write("wp-config.php", strings.Replace(string(data), "'new'", depends, 1))
		err = p.staged(t.Context(), map[string]*disk.Root{site.RootLabel: tree})
		require.Error(t, err, depends)
		assert.True(t, reason.Is(err, reason.SettingsByHand), depends)
	}
}

func TestWhatCannotBeMoved(t *testing.T) {
	to := &site.Site{Name: "lighthouse", Root: "/srv/lighthouse", Address: "https://b.example"}
	for name, spoil := range map[string]func(h *catalog.Held){
		"files alone":      func(h *catalog.Held) { h.Scope = archive.Files },
		"a database alone": func(h *catalog.Held) { h.Scope = archive.Database },
		"made by hand": func(h *catalog.Held) {
			h.Parts = []archive.Part{{Kind: archive.KindDump, Database: "main"}}
			h.Origin.Databases = map[string]archive.DBOrigin{"main": {Engine: "postgres"}}
		},
		"an unknown address": func(h *catalog.Held) { h.Origin.Address = "" },
	} {
		h := held("https://a.example")
		spoil(h)
		_, err := New(t.Context(), h, to, Options{})
		assert.True(t, reason.Is(err, reason.CannotMove), name)
	}
	h := held("")
	_, err := New(t.Context(), h, to, Options{Also: []rewrite.Pair{{Old: "https://a.example", New: "https://b.example"}}})
	assert.NoError(t, err, "somebody has said it")
}

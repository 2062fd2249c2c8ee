package move

import (
	"bytes"
	"context"
	"encoding/json"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/database"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/phpliteral"
	"revlet/internal/work/rewrite"
)

func TestExtensionsAreTakenOut(t *testing.T) {
	for in, want := range map[string]string{
		`a:0:{}`:                     `a:0:{}`,
		`a:1:{i:0;s:9:"tides.php";}`: `a:0:{}`,
		`a:3:{i:0;s:13:"lens/lens.php";i:1;s:15:"tides/tides.php";i:5;s:9:"other.php";}`: `a:2:{i:0;s:13:"lens/lens.php";i:1;s:9:"other.php";}`,
		`a:1:{i:0;s:17:"tidesold/main.php";}`:                                            `a:1:{i:0;s:17:"tidesold/main.php";}`,
	} {
		out, ok := withoutExtensions([]byte(in), false, []string{"tides"})
		require.True(t, ok, in)
		assert.Equal(t, want, string(out))
	}
	out, ok := withoutExtensions([]byte(`a:2:{s:15:"tides/tides.php";i:1700000000;s:13:"lens/lens.php";i:2;}`), true, []string{"tides/tides.php"})
	require.True(t, ok)
	assert.Equal(t, `a:1:{s:13:"lens/lens.php";i:2;}`, string(out))
	out, ok = withoutExtensions([]byte(`a:2:{i:0;s:1:"a";i:1;s:1:"b";}`), false, []string{AllExtensions})
	require.True(t, ok)
	assert.Equal(t, `a:0:{}`, string(out))
	for _, other := range []string{"", "x", `a:1:{i:0;i:5;}`, `a:2:{i:0;s:1:"a";}`, `a:1:{i:0;s:1:"a";}x`, `O:1:"X":0:{}`, `a:1:{i:0;a:1:{i:0;s:1:"a";}}`} {
		_, ok := withoutExtensions([]byte(other), false, []string{AllExtensions})
		assert.False(t, ok, other)
	}
}

// plan is a move of a network between two addresses, as far as rows go.
func plan(t *testing.T, from, to string, also ...rewrite.Pair) *Plan {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	h := held(from)
	for _, table := range []string{"kp_options", "kp_2_options", "kp_2_posts", "kp_blogs"} {
		h.Parts = append(h.Parts, archive.Part{Kind: archive.KindRows, Database: "main", Table: table})
	}
	return &Plan{archive: h, to: &site.Site{Address: to, Recipe: recipe, Databases: []site.Database{{Label: "main", Engine: "mysql", Prefix: "kp_"}}}, recipe: recipe, also: also,
		rules: map[tableName][]rowRule{}, domains: map[string]string{}, stays: map[string]bool{}, columns: map[columnName]*Column{}, keep: map[string]bool{}, from: from, seen: map[string]bool{}}
}

func TestTheNamesOfANetworksSites(t *testing.T) {
	for _, c := range []struct {
		from, to, domain, now string
		pairs                 []rewrite.Pair
	}{
		{"https://kestrel.example", "http://lamp.example:81", "kestrel.example", "lamp.example:81", nil},
		{"https://kestrel.example", "https://lamp.example", "shop.kestrel.example", "shop.lamp.example", []rewrite.Pair{{Old: "https://shop.kestrel.example", New: "https://shop.lamp.example"}}},
		{"https://www.kestrel.example", "https://www.lamp.example", "shop.kestrel.example", "shop.lamp.example", []rewrite.Pair{{Old: "https://shop.kestrel.example", New: "https://shop.lamp.example"}}},
		{"https://kestrel.example", "https://lamp.example", "oil.example", "", nil},
		{"https://kestrel.example", "https://lamp.example", "notkestrel.example", "", nil},
		{"https://kestrel.example", "https://lamp.example", "mapped.example", "new.example", nil},
	} {
		p := plan(t, c.from, c.to, rewrite.Pair{Old: "https://mapped.example", New: "https://new.example"})
		pairs, err := p.siteOfNetwork(c.domain, "/")
		require.NoError(t, err)
		assert.Equal(t, c.pairs, pairs, c.domain)
		assert.Equal(t, c.now, p.domains[c.domain], c.domain)
		assert.Equal(t, c.now == "", p.stays[c.domain], c.domain)
		assert.Len(t, p.notes, map[bool]int{true: 1}[c.now == ""])
	}
	p := plan(t, "https://kestrel.example", "https://lamp.example/visit")
	_, err := p.siteOfNetwork("shop.kestrel.example", "/")
	assert.True(t, reason.Is(err, reason.CannotMove))
}

func TestRowsChangeForWhatTheyAre(t *testing.T) {
	p := plan(t, "https://a.example", "https://b.example")
	var err error
	p.rewrite, err = rewrite.New(rewrite.Options{Pairs: []rewrite.Pair{{Old: "https://a.example", New: "https://b.example"}}})
	require.NoError(t, err)
	o, ok := p.ownDatabase()
	require.True(t, ok)
	require.NoError(t, p.ownRows(o, Options{Copy: true, ExtensionsOff: []string{"all"}}))
	c := p.rows("main", database.Widths{"kp_2_options": {"option_value": {Characters: 12, Bytes: 48}}}).(*changer)
	assert.True(t, c.Looks("kp_options"))
	assert.True(t, c.Looks("kp_2_options"), "of each site of a network")
	assert.False(t, c.Looks("kp_2_posts"))
	row := func(table, name, value string) (string, bool) {
		set := c.Row(table, func(column string) ([]byte, bool) {
			v, ok := map[string]string{"option_name": name, "option_value": value}[column]
			return []byte(v), ok
		})
		v, ok := set["option_value"]
		return string(v), ok
	}
	for _, v := range []struct {
		table, name, value, want string
		set                      bool
	}{
		{"kp_options", "rewrite_rules", "a:1:{}", "", true},
		{"kp_options", "rewrite_rules", "", "", false},
		{"kp_options", "blogname", "Kestrel Point", "Copy of Kestrel Point", true},
		{"kp_options", "blogname", "Copy of Kestrel Point", "", false},
		{"kp_2_options", "blogname", "Kestrel Point", "", false},
		{"kp_2_options", "blogname", "Oil", "Copy of Oil", true},
		{"kp_options", "blog_public", "1", "0", true},
		{"kp_options", "blog_public", "0", "", false},
		{"kp_options", "active_plugins", `a:1:{i:0;s:1:"a";}`, `a:0:{}`, true},
		{"kp_options", "active_plugins", `broken`, "", false},
		{"kp_options", "other", "1", "", false},
	} {
		got, set := row(v.table, v.name, v.value)
		assert.Equal(t, v.set, set, v.name+v.value)
		assert.Equal(t, v.want, got, v.name+v.value)
	}
	r, err := p.Report()
	require.NoError(t, err)
	var rows, long int64
	for _, one := range r.Rows {
		rows, long = rows+one.Rows, long+one.TooLong
	}
	assert.Equal(t, [2]int64{5, 1}, [2]int64{rows, long})
}

func TestAnExtensionThatIsNotThereIsTold(t *testing.T) {
	p := plan(t, "https://a.example", "https://b.example")
	p.off = []string{"tides", "lens/lens.php", "single", "gulls", AllExtensions}
	p.seeExtensions([]byte(`a:3:{i:0;s:13:"lens/lens.php";i:1;s:10:"single.php";i:2;s:15:"tides/tides.php";}`), p.off)
	notes := p.unseen()
	require.Len(t, notes, 1)
	assert.Contains(t, notes[0].Text, "gulls")
}

func TestAnUnknownKindHasNoExtensions(t *testing.T) {
	_, err := New(context.Background(), held("https://a.example"), &site.Site{Root: "/srv/x", Address: "https://b.example"}, Options{ExtensionsOff: []string{"all"}})
	assert.True(t, reason.Is(err, reason.Usage))
}

func TestNamesOfTablesThatCannotBe(t *testing.T) {
	for name, c := range map[string]struct {
		tables []string
		prefix string
		ok     bool
	}{
		"as ever":               {[]string{"kp_a", "kp_b", "guest_book"}, "lh_", true},
		"one is there already":  {[]string{"kp_a", "lh_a"}, "lh_", false},
		"but for small letters": {[]string{"kp_a", "LH_A"}, "lh_", false},
		"too long":              {[]string{"kp_" + strings.Repeat("x", 60)}, "lighthouse_", false},
	} {
		p := plan(t, "https://a.example", "https://b.example")
		p.own, p.prefix = own{label: "main", prefix: "kp_", tables: c.tables}, c.prefix
		err := p.distinct()
		assert.Equal(t, c.ok, err == nil, "%s: %v", name, err)
		assert.Equal(t, !c.ok, reason.Is(err, reason.CannotMove), name)
	}
}

func TestRowsThatChangeAreWrittenDownAndKeptLikeOthers(t *testing.T) {
	p := plan(t, "https://a.example", "https://b.example")
	var changes bytes.Buffer
	p.changes = json.NewEncoder(&changes)
	o, _ := p.ownDatabase()
	p.own = o
	require.NoError(t, p.ownRows(o, Options{Copy: true}))
	title := func(column string) ([]byte, bool) {
		v, ok := map[string]string{"option_name": "blogname", "option_value": "Kestrel Point"}[column]
		return []byte(v), ok
	}
	set := p.rows("main", nil).(*changer).Row("kp_options", title)
	assert.Equal(t, "Copy of Kestrel Point", string(set["option_value"]))
	assert.JSONEq(t, `{"database":"main","table":"kp_options","column":"option_value","before":"Kestrel Point","after":"Copy of Kestrel Point"}`, changes.String())
	p.keep["kp_options.option_value"] = true
	assert.Empty(t, p.rows("main", nil).(*changer).Row("kp_options", title), "somebody wants it kept")
}

func TestHostsOfCookiesHaveNoPort(t *testing.T) {
	p := plan(t, "https://kestrel.example:81", "https://lamp.example:82")
	for was, want := range map[string]string{"kestrel.example:81": "lamp.example:82", "kestrel.example": "lamp.example", "KESTREL.example": "lamp.example", "other.example": "", "": ""} {
		now, known := p.hostNow(was)
		assert.Equal(t, want != "", known, was)
		if known {
			assert.Equal(t, want, now, was)
		}
	}
	values := phpliteral.Read("<?php define('COOKIE_DOMAIN', '.kestrel.example'); define('DOMAIN_CURRENT_SITE', 'kestrel.example:81'); define('COOKIEPATH', '/'); define('SITECOOKIEPATH', f());", phpliteral.Options{})
	assert.Equal(t, map[string]string{"COOKIE_DOMAIN": ".lamp.example", "DOMAIN_CURRENT_SITE": "lamp.example:82", "COOKIEPATH": "/"}, p.placeIn(values))
}

func TestTheNumberOfASiteIsOne(t *testing.T) {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	for id, ok := range map[string]bool{"2": true, "123": true, "": false, "../../x": false, "2_": false, "2/..": false, "2 ": false, "x": false} {
		s := &subSite{id: id, prefix: id + "_", pattern: regexp.MustCompile("^(?:" + recipe.SubSites.Prefix + ")")}
		assert.Equal(t, ok, s.numbered(), id)
	}
}

// What only running the settings would tell is not taken for absent.
func TestSettingsThatAreUnknownAreTold(t *testing.T) {
	p := plan(t, "https://a.example", "https://b.example")
	values := phpliteral.Read("<?php define('DISABLE_WP_CRON', f()); define('AUTH_KEY', f()); define('NONCE_KEY', 'x');", phpliteral.Options{})
	to := &site.Pointing{Settings: map[string]string{}}
	p.quietSettings(to, values)
	assert.Empty(t, to.Insert, "it would be defined twice")
	p.freshKeys(to, values)
	assert.Contains(t, to.Settings, "NONCE_KEY")
	assert.NotContains(t, to.Settings, "AUTH_KEY")
	require.Len(t, p.notes, 2)
	assert.Contains(t, p.notes[0].Text, "scheduled tasks do not run by themselves: not done")
	assert.Contains(t, p.notes[1].Text, "AUTH_KEY")
}

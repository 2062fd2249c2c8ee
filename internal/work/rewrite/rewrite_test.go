package rewrite

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"revlet/internal/database/sqltext/sqltexttest"
)

func rewriter(t testing.TB, pairs ...string) *Rewriter {
	var o Options
	for i := 0; i < len(pairs); i += 2 {
		o.Pairs = append(o.Pairs, Pair{pairs[i], pairs[i+1]})
	}
	r, err := New(o)
	require.NoError(t, err)
	return r
}

const (
	museum     = "https://kestrelpoint.example"
	lighthouse = "http://lighthouse.example:8080/visit"
	oldRoot    = "/srv/kestrelpoint/htdocs"
	newRoot    = "/var/www/lighthouse"
)

// Every form of an address, and what only looks like one.
func TestAddresses(t *testing.T) {
	r := rewriter(t, museum, lighthouse, oldRoot, newRoot)
	for in, want := range map[string]string{
		"https://kestrelpoint.example":                              "http://lighthouse.example:8080/visit",
		"https://kestrelpoint.example/":                             "http://lighthouse.example:8080/visit/",
		"http://kestrelpoint.example/a?b=c#d":                       "http://lighthouse.example:8080/visit/a?b=c#d",
		"HTTPS://Kestrelpoint.Example/A":                            "http://lighthouse.example:8080/visit/A",
		"//kestrelpoint.example/a.css":                              "//lighthouse.example:8080/visit/a.css",
		"https://www.kestrelpoint.example/a":                        "http://lighthouse.example:8080/visit/a",
		"visit kestrelpoint.example.":                               "visit lighthouse.example:8080/visit.",
		"(www.kestrelpoint.example)":                                "(lighthouse.example:8080/visit)",
		"<a href='https://kestrelpoint.example/a'>":                 "<a href='http://lighthouse.example:8080/visit/a'>",
		"url(//kestrelpoint.example/b.png)":                         "url(//lighthouse.example:8080/visit/b.png)",
		"https://kestrelpoint.example, and more":                    "http://lighthouse.example:8080/visit, and more",
		"https:\\/\\/kestrelpoint.example\\/a":                      "http:\\/\\/lighthouse.example:8080\\/visit\\/a",
		"https:\\\\\\/\\\\\\/kestrelpoint.example\\\\\\/a":          "http:\\\\\\/\\\\\\/lighthouse.example:8080\\\\\\/visit\\\\\\/a",
		"?u=https%3A%2F%2Fkestrelpoint.example%2Fa":                 "?u=http%3A%2F%2Flighthouse.example%3A8080%2Fvisit%2Fa",
		"?u=https%3a%2f%2fkestrelpoint.example":                     "?u=http%3a%2f%2flighthouse.example%3a8080%2fvisit",
		"?u=https%253A%252F%252Fkestrelpoint.example%252Fa":         "?u=http%253A%252F%252Flighthouse.example%253A8080%252Fvisit%252Fa",
		"%22kestrelpoint.example%22":                                "%22lighthouse.example:8080/visit%22",
		"line\\nkestrelpoint.example\\n":                            "line\\nlighthouse.example:8080/visit\\n",
		"ftp://kestrelpoint.example/pub":                            "ftp://lighthouse.example:8080/visit/pub",
		"https://kestrelpoint.example https://kestrelpoint.example": "http://lighthouse.example:8080/visit http://lighthouse.example:8080/visit",
		"https://new.kestrelpoint.example/":                         "",
		"https://kestrelpoint.example.org/":                         "",
		"https://kestrelpoint.example-shop/":                        "",
		"https://kestrelpoint.example:8443/":                        "",
		"mykestrelpoint.example":                                    "",
		"my-kestrelpoint.example":                                   "",
		"/mirror/kestrelpoint.example/a":                            "",
		"keeper@kestrelpoint.example":                               "",
		"mailto:keeper@kestrelpoint.example?subject=x":              "",
		"xhttps://kestrelpoint.examples":                            "",
		"/srv/kestrelpoint/htdocs":                                  "/var/www/lighthouse",
		"/srv/kestrelpoint/htdocs/wp-content/a.php":                 "/var/www/lighthouse/wp-content/a.php",
		"file:///srv/kestrelpoint/htdocs/a":                         "file:///var/www/lighthouse/a",
		"\\/srv\\/kestrelpoint\\/htdocs\\/a":                        "\\/var\\/www\\/lighthouse\\/a",
		"include:/srv/kestrelpoint/htdocs:/usr/share":               "include:/var/www/lighthouse:/usr/share",
		"/srv/kestrelpoint/htdocs2/a":                               "",
		"/srv/kestrelpoint/htdocs-old":                              "",
		"/mnt/srv/kestrelpoint/htdocs":                              "",
		"/srv/kestrelpoint":                                         "",
		"srv/kestrelpoint/htdocs":                                   "",
		"/SRV/kestrelpoint/htdocs":                                  "",
	} {
		out, n, _ := r.Value([]byte(in))
		if want == "" {
			assert.Equal(t, in, string(out))
			assert.Zero(t, n, in)
			continue
		}
		assert.Equal(t, want, string(out), in)
		assert.Positive(t, n, in)
	}
}

// With a path in the address, what lies beside it on the same host is another site's.
func TestAddressesWithAPath(t *testing.T) {
	r := rewriter(t, "https://a.example/visit", "https://b.example")
	for in, want := range map[string]string{
		"https://a.example/visit/x": "https://b.example/x", "https://a.example/visit": "https://b.example", "https://a.example/visit?x": "https://b.example?x",
		"a.example/visit/": "b.example/", `"https:\/\/a.example\/visit\/x"`: `"https:\/\/b.example\/x"`, "https%3A%2F%2Fa.example%2Fvisit%2Fx": "https%3A%2F%2Fb.example%2Fx",
		"https://a.example/visitors": "", "https://a.example/": "", "https://a.example": "", "https://a.example/other/visit": "", "https://a.example/visit-us": "", "https://a.example/visit.html": "", "https://a.example/visit%20us": "", "https://a.example/visit%C3%A9": "", "/x?u=a.example/visit%26b": "/x?u=b.example%26b", "100 a.example/visit%": "100 b.example%",
	} {
		out, _, _ := r.Value([]byte(in))
		if want == "" {
			want = in
		}
		assert.Equal(t, want, string(out), in)
	}
}

// The new address may contain the old one, and the other way round.
func TestThereAndBackAgain(t *testing.T) {
	for _, to := range []string{"https://new.a.example", "https://a.example/new", "https://a.example:8443", "https://b.example", "https://www.b.example/a.example"} {
		there, back := rewriter(t, "https://a.example", to), rewriter(t, to, "https://a.example")
		for _, in := range []string{"https://a.example", "see https://a.example/x, a.example and //a.example/y", `{"u":"https:\/\/a.example\/x"}`, `a:1:{s:19:"https://a.example/k";s:17:"https://a.example";}`, "https%3A%2F%2Fa.example%2Fx"} {
			moved, n, left := there.Value([]byte(in))
			assert.NotEqual(t, in, string(moved))
			assert.False(t, left.Any())
			again, m, left := back.Value(moved)
			assert.Equal(t, in, string(again), to)
			assert.Equal(t, n, m)
			assert.False(t, left.Any())
		}
	}
}

func TestMail(t *testing.T) {
	const in = "Write to keeper@kestrelpoint.example or see https://kestrelpoint.example"
	out, n, left := rewriter(t, museum, "https://b.example/x").Value([]byte(in))
	assert.Equal(t, "Write to keeper@kestrelpoint.example or see https://b.example/x", string(out))
	assert.Equal(t, 1, n)
	assert.Equal(t, Left{Mail: 1}, left)
	r, err := New(Options{Pairs: []Pair{{museum, "https://b.example/x"}}, Mail: true})
	require.NoError(t, err)
	out, n, left = r.Value([]byte(in))
	assert.Equal(t, "Write to keeper@b.example or see https://b.example/x", string(out))
	assert.Equal(t, 2, n)
	assert.False(t, left.Any())
}

func TestTheLongerOfTwoCounts(t *testing.T) {
	r := rewriter(t, "https://a.example", "https://b.example", "https://a.example/shop", "https://shop.example", "/srv/a", "/srv/b", "/srv/a/shop", "/srv/shop")
	out, n, _ := r.Value([]byte("https://a.example/shop/1 https://a.example/shopping /srv/a/shop /srv/a/x"))
	assert.Equal(t, "https://shop.example/1 https://b.example/shopping /srv/shop /srv/b/x", string(out))
	assert.Equal(t, 4, n)
}

// The lengths of what PHP has serialised are made right at any depth.
func TestSerialised(t *testing.T) {
	r := rewriter(t, museum, "https://b.example", oldRoot, newRoot)
	for in, want := range map[string]string{
		`s:28:"https://kestrelpoint.example";`: `s:17:"https://b.example";`,
		`a:2:{i:0;s:28:"https://kestrelpoint.example";s:3:"url";s:30:"https://kestrelpoint.example/a";}`:                   `a:2:{i:0;s:17:"https://b.example";s:3:"url";s:19:"https://b.example/a";}`,
		`a:1:{s:28:"https://kestrelpoint.example";b:1;}`:                                                                   `a:1:{s:17:"https://b.example";b:1;}`,
		`a:1:{s:1:"x";s:36:"s:28:"https://kestrelpoint.example";";}`:                                                       `a:1:{s:1:"x";s:25:"s:17:"https://b.example";";}`,
		`O:8:"stdClass":2:{s:3:"url";s:28:"https://kestrelpoint.example";s:1:"r";R:2;}`:                                    `O:8:"stdClass":2:{s:3:"url";s:17:"https://b.example";s:1:"r";R:2;}`,
		`a:4:{i:0;d:0.5;i:1;N;i:2;b:0;i:3;a:1:{s:1:"p";s:24:"/srv/kestrelpoint/htdocs";}}`:                                 `a:4:{i:0;d:0.5;i:1;N;i:2;b:0;i:3;a:1:{s:1:"p";s:19:"/var/www/lighthouse";}}`,
		"O:1:\"A\":1:{s:4:\"\x00A\x00u\";s:28:\"https://kestrelpoint.example\";}":                                          "O:1:\"A\":1:{s:4:\"\x00A\x00u\";s:17:\"https://b.example\";}",
		`a:2:{i:0;E:11:"Suit:Hearts";i:1;s:28:"https://kestrelpoint.example";}`:                                            `a:2:{i:0;E:11:"Suit:Hearts";i:1;s:17:"https://b.example";}`,
		`a:1:{s:1:"j";s:40:"{"u":"https:\/\/kestrelpoint.example\/"}";}`:                                                   `a:1:{s:1:"j";s:29:"{"u":"https:\/\/b.example\/"}";}`,
		`s:34:"https://kestrelpoint.example/ä/ü";`:                                                                         `s:23:"https://b.example/ä/ü";`,
		"s:28:\"https://kestrelpoint.example\";\n":                                                                         "s:17:\"https://b.example\";\n",
		`O:28:"https://kestrelpoint.example":1:{s:28:"https://kestrelpoint.example";s:28:"https://kestrelpoint.example";}`: `O:28:"https://kestrelpoint.example":1:{s:28:"https://kestrelpoint.example";s:17:"https://b.example";}`,
	} {
		out, n, left := r.Value([]byte(in))
		assert.Equal(t, want, string(out))
		assert.Equal(t, strings.Count(want, "https://b.example")+strings.Count(want, newRoot)+strings.Count(want, `https:\/\/b.example`), n, in)
		assert.Equal(t, Left{}, left, in)
	}
}

// What cannot be changed without risk stays byte by byte, and is counted.
func TestWhatIsLeft(t *testing.T) {
	r := rewriter(t, museum, "https://b.example")
	for in, want := range map[string]Left{
		`a:1:{s:3:"url";s:27:"https://kestrelpoint.example";}`:                                  {Malformed: 1},
		`a:2:{s:3:"url";s:28:"https://kestrelpoint.example";}`:                                  {Malformed: 1},
		`a:1:{s:3:"url";s:28:"https://kestrelpoint.example";`:                                   {Malformed: 1},
		`a:1:{s:3:"url";s:28:"https://kestrelpoint.example";}trailing`:                          {Malformed: 1},
		`s:9999999999:"https://kestrelpoint.example";`:                                          {Malformed: 1},
		`s:-1:"https://kestrelpoint.example";`:                                                  {},
		`data: a:1:{i:0;s:28:"https://kestrelpoint.example";} end`:                              {Malformed: 1},
		`INSERT 'a:1:{i:0;s:28:\"https://kestrelpoint.example\";}'`:                             {Malformed: 1},
		`aHR0cHM6Ly9rZXN0cmVscG9pbnQuZXhhbXBsZS9hYmM=`:                                          {Encoded: 1},
		`a:1:{i:0;s:44:"aHR0cHM6Ly9rZXN0cmVscG9pbnQuZXhhbXBsZS9hYmM=";}`:                        {},
		`C:11:"ArrayObject":55:{x:i:0;a:1:{i:0;s:28:"https://kestrelpoint.example";};m:a:0:{}}`: {Malformed: 1},
		`C:11:"ArrayObject":61:{x:i:0;a:1:{i:0;s:28:"https://kestrelpoint.example";};m:a:0:{}}`: {Custom: 1},
		`S:28:"https://kestrelpoint.example";`:                                                  {Custom: 1},
		`a:2:{s:28:"https://kestrelpoint.example";i:1;s:17:"https://b.example";i:2;}`:           {Keys: 1},
		`{"https://kestrelpoint.example":1,"https://b.example":2}`:                              {Keys: 1},
	} {
		out, n, left := r.Value([]byte(in))
		if want == (Left{}) {
			continue
		}
		assert.Equal(t, in, string(out))
		assert.Zero(t, n, in)
		assert.Equal(t, want, left, in)
	}
	out, n, left := r.Value([]byte(`a:2:{i:0;s:44:"aHR0cHM6Ly9rZXN0cmVscG9pbnQuZXhhbXBsZS9hYmM=";i:1;s:28:"https://kestrelpoint.example";}`))
	assert.Contains(t, string(out), `s:17:"https://b.example"`)
	assert.Equal(t, 1, n)
	assert.Equal(t, Left{Encoded: 1}, left)
	out, _, left = r.Value([]byte(`a:3:{s:28:"https://kestrelpoint.example";s:28:"https://kestrelpoint.example";s:17:"https://b.example";i:2;i:5;a:1:{s:28:"https://kestrelpoint.example";i:1;}}`))
	assert.Equal(t, `a:3:{s:28:"https://kestrelpoint.example";s:17:"https://b.example";s:17:"https://b.example";i:2;i:5;a:1:{s:28:"https://kestrelpoint.example";i:1;}}`, string(out), "values change all the same")
	assert.Equal(t, Left{Keys: 1}, left)
}

// JSON keeps the way it is written.
func TestJSON(t *testing.T) {
	r := rewriter(t, museum, "https://b.example/é")
	for in, want := range map[string]string{
		`{"u":"https://kestrelpoint.example/a"}`:                                                                          `{"u":"https://b.example/%C3%A9/a"}`,
		`{"u":"https:\/\/kestrelpoint.example\/a", "n" : [1.50,null ]}`:                                                   `{"u":"https:\/\/b.example\/%C3%A9\/a", "n" : [1.50,null ]}`,
		`["\u003Ca href=\u0022https:\/\/kestrelpoint.example\u0022\u003Eü\u003C\/a\u003E"]`:                               `["\u003Ca href=\u0022https:\/\/b.example\/%C3%A9\u0022\u003Eü\u003C\/a\u003E"]`,
		`["\u00e4 https://kestrelpoint.example"]`:                                                                         `["\u00e4 https://b.example/%C3%A9"]`,
		`["\u00e4 ä https://kestrelpoint.example"]`:                                                                       `["\u00e4 ä https://b.example/%C3%A9"]`,
		`["\ud83d\ude00 https:\/\/kestrelpoint.example"]`:                                                                 `["\ud83d\ude00 https:\/\/b.example\/%C3%A9"]`,
		`{"s":"a:1:{i:0;s:28:\"https://kestrelpoint.example\";}"}`:                                                        `{"s":"a:1:{i:0;s:24:\"https://b.example/%C3%A9\";}"}`,
		`{"s":"{\"u\":\"https:\\/\\/kestrelpoint.example\"}"}`:                                                            `{"s":"{\"u\":\"https:\\/\\/b.example\\/%C3%A9\"}"}`,
		` "https://kestrelpoint.example" `:                                                                                ` "https://b.example/%C3%A9" `,
		`{"https://kestrelpoint.example":1}`:                                                                              `{"https://b.example/%C3%A9":1}`,
		`{"u":"https://kestrelpoint.example`:                                                                              `{"u":"https://b.example/%C3%A9`,
		`<!-- wp:image {"url":"https:\/\/kestrelpoint.example\/a.png"} --><img src="https://kestrelpoint.example/a.png">`: `<!-- wp:image {"url":"https:\/\/b.example\/%C3%A9\/a.png"} --><img src="https://b.example/%C3%A9/a.png">`,
	} {
		out, n, left := r.Value([]byte(in))
		assert.Equal(t, want, string(out))
		assert.Positive(t, n)
		assert.Equal(t, Left{}, left, in)
	}
}

func TestWhatIsNoPair(t *testing.T) {
	for _, p := range []Pair{{"kestrelpoint.example", museum}, {museum, "lighthouse"}, {"ftp://a.example", museum}, {museum, "https://b.example/?x"}, {museum, "https://u:p@b.example"}, {"/", "/srv"}, {"/srv", museum}, {museum, "/srv"}, {museum, "https://"}} {
		_, err := New(Options{Pairs: []Pair{p}})
		assert.Error(t, err, p)
	}
	// It comes to stand in strings of PHP, of JSON, and in rules of web servers.
	for _, evil := range []string{"'", `"`, `\`, "$", "`", ";", "<", ">", " ", "\n", "\x00", "{", "}", "(", "&", "#", "*", "|", "\u2028"} {
		for _, p := range []Pair{{"/srv/a", "/srv/b" + evil + "c"}, {museum, "https://b.example/x" + evil + "y"}, {museum, "https://b" + evil + ".example"}} {
			_, err := New(Options{Pairs: []Pair{p}})
			assert.Error(t, err, p)
		}
	}
	for _, good := range []Pair{{"/srv/a", "/srv/wébsite_2.x/~keeper+1/ht-docs@3"}, {museum, "https://b.example:8443/x%20y/z,1=2"}} {
		_, err := New(Options{Pairs: []Pair{good}})
		assert.NoError(t, err, good)
	}
	for in, want := range map[string]string{"https://Kestrelpoint.Example./": "https://b.example", "https://kestrelpoint.example": "https://B.example/"} {
		r := rewriter(t, in, want)
		out, _, _ := r.Value([]byte("https://kestrelpoint.example/x"))
		assert.Equal(t, "https://b.example/x", string(out))
	}
}

func TestValuesAreChangedInTimeThatGrowsWithTheirLength(t *testing.T) {
	there := rewriter(t, museum, "https://lighthouse.example/visit")
	pieces := []string{"s:1:\"", "a:1:{", "a:1:{i:0;", "O:1:\"x\":1:{", "{\"a\":", "[", "\"", "\\", "\\\\\"", "\\u0022", "%22", "%3A%2F%2F", "s:9:\"", "s%3A9%3A%22", "&quot;", "://", "//", "kestrelpoint.example", "x.kestrelpoint.example ",
		"a@kestrelpoint.example ", museum + " ", "kestrelpoint.", "i:0;", "b:1;", "\n", "[\"" + museum + "\"],", "C:1:\"x\":1:{", "www.", "https:", "https%3A"}
	sqltexttest.Linear(t, func(text string) { there.Value([]byte(text + museum)) })
	for _, p := range pieces {
		for _, frame := range [][2]string{{"", ""}, {museum, museum}, {"{\"u\":\"" + museum + "\",\"v\":\"", "\"}"}, {"a:1:{i:0;s:131072:\"", "\";}" + museum}} {
			text := frame[0] + strings.Repeat(p, (128<<10)/len(p)) + frame[1]
			begun := time.Now()
			there.Value([]byte(text))
			assert.Less(t, time.Since(begun), 2*time.Second, "%q in %q", p, frame)
		}
	}
}

func TestManyNamesOfOneNetworkAreLookedForAtOnce(t *testing.T) {
	pairs := []Pair{{"https://kestrelpoint.example", "https://lighthouse.example"}, {"/srv/kestrelpoint.example", "/srv/new"}, {"https://oil.example", "https://lamp.example"}}
	for i := range 500 {
		pairs = append(pairs, Pair{fmt.Sprintf("https://site%d.kestrelpoint.example", i), fmt.Sprintf("https://site%d.lighthouse.example", i)})
	}
	r, err := New(Options{Pairs: pairs})
	require.NoError(t, err)
	assert.Len(t, r.needles, 3)
	for in, want := range map[string]string{
		"https://site7.kestrelpoint.example/x and https://site77.kestrelpoint.example": "https://site7.lighthouse.example/x and https://site77.lighthouse.example",
		"https://oil.example":                  "https://lamp.example",
		"/srv/kestrelpoint.example/a":          "/srv/new/a",
		"https://other.kestrelpoint.example":   "https://other.kestrelpoint.example",
		"https://SITE3.kestrelpoint.example/a": "https://site3.lighthouse.example/a",
	} {
		out, _, _ := r.Value([]byte(in))
		assert.Equal(t, want, string(out))
	}
}

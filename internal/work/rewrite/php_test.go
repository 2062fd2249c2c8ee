package rewrite

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// made is one value that PHP has made up: as it stands in a database, and as PHP would
// write it for the new place: every string in it changed by PHP's own str_replace.
type made struct{ Old, New []byte }

// phpMade has PHP make values up: nested arrays, objects, references, enumerations, floats,
// JSON with every set of flags, one inside the other.
const phpMade = `<?php
mt_srand((int)$argv[1]);
class Lamp { public $url; protected $near; private $deep; public ?Lamp $self = null; function __construct($a, $b, $c) { $this->url = $a; $this->near = $b; $this->deep = $c; } }
enum Light: string { case Red = 'r'; case White = 'w'; }
$flags = [0, JSON_UNESCAPED_SLASHES, JSON_UNESCAPED_UNICODE, JSON_HEX_TAG | JSON_HEX_QUOT | JSON_HEX_AMP | JSON_HEX_APOS, JSON_PRETTY_PRINT, JSON_PRETTY_PRINT | JSON_UNESCAPED_SLASHES | JSON_UNESCAPED_UNICODE];
$old = 'https://kestrelpoint.example'; $new = 'https://lighthouse.example/visit';
function pick($a) { return $a[mt_rand(0, count($a) - 1)]; }
// text gives two strings: for the old place and for the new one.
function text() { global $old, $new;
  $s = ''; for ($i = mt_rand(0, 4); $i >= 0; $i--) $s .= pick(['OLD', 'OLD/tour?a=1', ' ', "<a href=\"OLD/\">x</a>", 'Öffnungszeiten ', "quote ' \" \\ ", "\n\t", '😀', ';}', 's:3:x', '{', '&amp;', '1'.mt_rand()]) . ' ';
  return [str_replace('OLD', $old, $s), str_replace('OLD', $new, $s)]; }
function value($depth, $json) { global $flags;
  switch ($depth <= 0 ? mt_rand(0, 4) : mt_rand(0, $json ? 9 : 12)) {
    case 0: return [null, null];
    case 1: $v = pick([0, -7, PHP_INT_MAX, true, false]); return [$v, $v];
    case 2: $v = $json ? mt_rand() / 64 : pick([0.1, -1.5e300, INF, -0.0, 1e-7]); return [$v, $v];
    case 3: case 4: return text();
    case 5: case 6: $a = []; $b = []; for ($i = mt_rand(0, 4); $i > 0; $i--) { [$x, $y] = value($depth - 1, $json); $a[] = $x; $b[] = $y; } return [$a, $b];
    case 7: $a = []; $b = []; for ($i = mt_rand(1, 4); $i > 0; $i--) { [$k, $l] = text(); [$x, $y] = value($depth - 1, $json); $a[$k] = $x; $b[$l] = $y; } return [$a, $b];
    case 8: [$x, $y] = value($depth - 1, false); return [serialize($x), serialize($y)];
    case 9: [$x, $y] = value($depth - 1, true); $f = pick($flags); return [json_encode($x, $f | JSON_PRESERVE_ZERO_FRACTION), json_encode($y, $f | JSON_PRESERVE_ZERO_FRACTION)];
    case 10: [$a, $d] = value($depth - 1, false); [$b, $e] = value($depth - 1, false); [$c, $f] = text(); $x = new Lamp($a, $b, $c); $y = new Lamp($d, $e, $f); if (mt_rand(0, 1)) { $x->self = $x; $y->self = $y; } return [$x, $y];
    case 11: [$c, $f] = text(); $x = [$c, pick([Light::Red, Light::White])]; $y = [$f, $x[1]]; $x[] = &$x[0]; $y[] = &$y[0]; return [$x, $y];
    case 12: $o = pick([Light::Red, Light::White]); return [[$o], [$o]];
  } }
for ($i = 0; $i < (int)$argv[2]; $i++) {
  if (mt_rand(0, 3) == 0) [$x, $y] = text();
  elseif (mt_rand(0, 2) == 0) { [$x, $y] = value(5, true); $f = pick($flags); $x = json_encode($x, $f); $y = json_encode($y, $f); }
  else { [$x, $y] = value(6, false); $x = serialize($x); $y = serialize($y); }
  echo json_encode(['Old' => base64_encode($x), 'New' => base64_encode($y)]), "\n";
}`

// What PHP reads of a rewritten value is what it would have written itself for the new
// place; and back again nothing has changed. Values are compared byte by byte, which says
// more than comparing what they mean.
func TestWhatPHPWritesIsRewrittenAsPHPWould(t *testing.T) {
	php, err := exec.LookPath("php")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("php is not installed; scripts/setup.sh installs it")
	}
	require.NoError(t, err)
	there, back := rewriter(t, museum, "https://lighthouse.example/visit"), rewriter(t, "https://lighthouse.example/visit", museum)
	changed := 0
	for _, seed := range []string{"1", "20261127"} {
		cmd := exec.Command(php, "--", seed, "4000")
		cmd.Stdin = strings.NewReader(phpMade)
		out, err := cmd.Output()
		require.NoError(t, err)
		for line := range bytes.Lines(out) {
			var m made
			require.NoError(t, json.Unmarshal(line, &m))
			got, n, left := there.Value(m.Old)
			if left.Keys > 0 { // PHP's arrays lose a key where two become one
				continue
			}
			if string(got) != string(m.New) {
				t.Fatalf("seed %s\n%q\nbecame\n%q\nPHP writes\n%q\n%+v", seed, m.Old, got, m.New, left)
			}
			again, m2, _ := back.Value(got)
			assert.Equal(t, string(m.Old), string(again))
			assert.Equal(t, n, m2)
			if n > 0 {
				changed++
			}
		}
	}
	assert.Greater(t, changed, 3000)
}

// FuzzValue: there and back again is where it began, and a value that PHP has serialised
// stays one.
func FuzzValue(f *testing.F) {
	f.Add([]byte(`a:1:{s:1:"x";s:36:"s:28:"https://kestrelpoint.example";";}`))
	f.Add([]byte(`{"u":"https:\/\/kestrelpoint.example\/a", "n":["\u003Ckestrelpoint.example"]}`))
	f.Add([]byte("?u=https%3A%2F%2Fkestrelpoint.example%2Fa /srv/kestrelpoint/htdocs keeper@kestrelpoint.example"))
	f.Add([]byte(base64.StdEncoding.EncodeToString([]byte(museum + "/a"))))
	there, back := rewriter(f, museum, "https://lighthouse.example/visit", oldRoot, newRoot), rewriter(f, "https://lighthouse.example/visit", museum, newRoot, oldRoot)
	f.Fuzz(func(t *testing.T, in []byte) {
		was := bytes.Clone(in)
		out, n, _ := there.Value(in)
		if !bytes.Equal(in, was) {
			t.Fatal("the value itself was written to")
		}
		if n == 0 {
			if !bytes.Equal(in, out) {
				t.Fatalf("%q became %q, and nothing was counted", in, out)
			}
			return
		}
		j := &job{Rewriter: there}
		if serialised().Match(in) {
			p := &php{job: j, in: in}
			q := &php{job: j, in: out}
			if p.value() && len(bytes.TrimSpace(in[p.i:])) == 0 && (!q.value() || len(bytes.TrimSpace(out[q.i:])) > 0) {
				t.Fatalf("%q became %q, which is serialised no more", in, out)
			}
		}
		if isJSON(in) != isJSON(out) {
			t.Fatalf("%q became %q", in, out)
		}
		if again, _, _ := back.Value(out); inItsOwnWords(in) && !bytes.Equal(again, in) {
			t.Fatalf("%q became %q and then %q", in, out, again)
		}
	})
}

// zeros is a length that begins with one.
var zeros = regexp.MustCompile(`[sSaOCE]:\+?0\d`)

// inItsOwnWords tells whether a text names the old place in one way only, the one that
// comes back, and the new one not at all.
func inItsOwnWords(in []byte) bool {
	lower := bytes.ToLower(in)
	for _, other := range []string{"lighthouse", "www.", "http:", "http%", `http\`, "\\u"} {
		if bytes.Contains(lower, []byte(other)) {
			return false
		}
	}
	if zeros.Match(in) { // a length is written anew without them
		return false
	}
	// A name that is followed by an escape, and stands in no address with escapes, gets a
	// path that the escape then belongs to.
	if bytes.Contains(lower, []byte("example%")) && bytes.Count(lower, []byte("example%")) != bytes.Count(lower, []byte("%2f%2fkestrelpoint.example%")) {
		return false
	}
	return bytes.Count(in, []byte("kestrelpoint.example")) == bytes.Count(lower, []byte("kestrelpoint")) && bytes.Count(in, []byte("https")) == bytes.Count(lower, []byte("https"))
}

func BenchmarkValue(b *testing.B) {
	r := rewriter(b, museum, "https://lighthouse.example/visit", oldRoot, newRoot)
	text := strings.Repeat("The lamp was first lit in the autumn of 1871, and the keepers wrote down every night since. ", 20)
	for name, v := range map[string]string{
		"text without":       text,
		"text with":          text + "https://kestrelpoint.example/a",
		"serialised without": `a:1:{s:4:"text";s:5:"abcde";}` + strings.Repeat(" ", 0),
		"serialised with":    `a:2:{s:4:"text";s:28:"https://kestrelpoint.example";s:3:"url";s:30:"https://kestrelpoint.example/a";}`,
		"json with":          `{"text":"` + text + `","u":"https:\/\/kestrelpoint.example\/a"}`,
	} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(v)))
			b.ReportAllocs()
			for b.Loop() {
				r.Value([]byte(v))
			}
		})
	}
}

package changes

import (
	"crypto/rand"
	"io"
	"iter"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
)

// lines are a list of files with the digests given.
func lines(t *testing.T, files map[string]string) iter.Seq2[archive.Line, error] {
	var all []archive.Line
	for name, sum := range files {
		l, err := archive.Entry{Type: archive.TypeFile, Path: name, Size: 1000, SHA256: sum}.Line()
		require.NoError(t, err)
		all = append(all, l)
	}
	slices.SortFunc(all, func(a, b archive.Line) int { return archive.ComparePaths(a.Path, b.Path) })
	return func(yield func(archive.Line, error) bool) {
		for _, l := range all {
			if !yield(l, nil) {
				return
			}
		}
	}
}

func TestBetween(t *testing.T) {
	noise := make([]byte, 4000)
	_, _ = rand.Read(noise)
	judge := Judge{
		ComponentOf: func(name string) string { first, _, _ := strings.Cut(name, "/"); return first },
		Open: func(name string) (io.ReadCloser, error) {
			if strings.Contains(name, "locked") {
				return io.NopCloser(strings.NewReader(string(noise))), nil
			}
			return io.NopCloser(strings.NewReader(strings.Repeat("<p>Opening hours</p>\n", 100))), nil
		},
	}
	c, err := judge.Between(
		lines(t, map[string]string{"core/a.php": "1", "core/gone.php": "1", "pages/locked.html": "1", "pages/new words.html": "1", "uploads/lens.jpg": "1", "uploads/a/b.jpg": "1", "uploads/a-c.jpg": "1"}),
		lines(t, map[string]string{"core/a.php": "2", "pages/locked.html": "2", "pages/new words.html": "2", "uploads/lens.jpg": "2", "uploads/a/b.jpg": "1", "uploads/a-c.jpg": "1",
			"uploads/x.php": "1", "uploads/picture.PHP.jpg": "1", "uploads/new.jpg": "1", "core/odd.php": "1"}))
	require.NoError(t, err)
	assert.Equal(t, [4]int64{7, 4, 4, 1}, [4]int64{c.Files, c.Added, c.Changed, c.Removed})
	assert.Equal(t, []string{"core/a.php", "core/gone.php", "core/odd.php"}, c.Core.Names)
	assert.Equal(t, []string{"uploads/picture.PHP.jpg", "uploads/x.php"}, c.Planted.Names)
	assert.Equal(t, []string{"pages/locked.html"}, c.Scrambled.Names)
}

// A script among the uploads is one under whatever kind of name, and settings that make something run are as good.
func TestWhatIsPlantedUnderOtherNames(t *testing.T) {
	settings := map[string]string{
		"uploads/a/.htaccess":  "AddType application/x-httpd-php .jpg",
		"uploads/b/.htaccess":  "# Deny all\n<IfModule mod_authz_core.c>\nRequire all denied\n</IfModule>\nOptions -Indexes -ExecCGI\nphp_flag engine off\nSetHandler none\nRemoveHandler .php\nRewriteEngine On\nRewriteRule \\.php$ - [F,L]\n",
		"uploads/c/.user.ini":  "auto_prepend_file=lens.jpg",
		"uploads/d/.user.ini":  "; nothing\n",
		"uploads/e/.htaccess":  "SetHandler \\\n  application/x-httpd-php",
		"uploads/f/.htaccess":  "RewriteRule \\.jpg$ - [H=application/x-httpd-php]",
		"uploads/g/.HTACCESS":  "Options +ExecCGI",
		"uploads/h/.htaccess":  "<Files x>SetHandler cgi-script</Files>",
		"uploads/i/.htaccess":  "ForceType text/plain\nAddType image/svg+xml .svg",
		"uploads/j/.htaccess":  strings.Repeat("# long\n", 20_000),
		"pages/k/.htaccess":    "AddType application/x-httpd-php .jpg",
		"uploads/l/web.config": "<configuration/>",
		"uploads/m/.htaccess":  "php_value auto_prepend_file /tmp/x",
		"uploads/o/.htaccess":  "SetEnvIf Host . PHP_VALUE=auto_prepend_file=/tmp/x",
		"uploads/n/.htaccess":  "RewriteRule ^x$ y.php [L, E=a:b]",
	}
	judge := Judge{
		ComponentOf: func(name string) string { first, _, _ := strings.Cut(name, "/"); return first },
		Open: func(name string) (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(settings[name])), nil
		},
	}
	list := func(all ...archive.Entry) iter.Seq2[archive.Line, error] {
		slices.SortFunc(all, func(a, b archive.Entry) int { return archive.ComparePaths(a.Path, b.Path) })
		return func(yield func(archive.Line, error) bool) {
			for _, e := range all {
				if l, err := e.Line(); !yield(l, err) {
					return
				}
			}
		}
	}
	entry := func(kind, path, target string) archive.Entry {
		return archive.Entry{Type: kind, Path: path, Target: target, Size: 5, SHA256: "1"}
	}
	before := []archive.Entry{entry(archive.TypeSymlink, "uploads/old.php", "a.txt"), entry(archive.TypeHardlink, "uploads/same.php", "uploads/a.txt"), entry(archive.TypeFile, "uploads/was.php", ""), entry(archive.TypeSymlink, "uploads/turned.php", "a.txt"),
		entry(archive.TypeFile, "core/a.php", "")}
	now := []archive.Entry{entry(archive.TypeSymlink, "uploads/old.php", "a.txt"), entry(archive.TypeHardlink, "uploads/same.php", "uploads/a.txt"), entry(archive.TypeSymlink, "uploads/was.php", "a.txt"), entry(archive.TypeSymlink, "uploads/turned.php", "../evil.txt"),
		entry(archive.TypeSymlink, "core/a.php", "../uploads/a.txt"), entry(archive.TypeFolder, "uploads/folder.php", ""), entry(archive.TypeHardlink, "uploads/second.php", "uploads/a.txt"), entry(archive.TypeSymlink, "uploads/picture.jpg", "b.jpg"),
		entry(archive.TypeSymlink, "core/new", "/etc"), entry(archive.TypeFolder, "core/folder", "")}
	for name := range settings {
		now = append(now, entry(archive.TypeFile, name, ""))
	}
	c, err := judge.Between(list(before...), list(now...))
	require.NoError(t, err)
	assert.Equal(t, []string{"uploads/a/.htaccess", "uploads/c/.user.ini", "uploads/e/.htaccess", "uploads/f/.htaccess", "uploads/g/.HTACCESS", "uploads/h/.htaccess", "uploads/j/.htaccess", "uploads/l/web.config", "uploads/m/.htaccess", "uploads/n/.htaccess", "uploads/o/.htaccess",
		"uploads/second.php", "uploads/turned.php", "uploads/was.php"}, c.Planted.Names)
	assert.Equal(t, []string{"core/a.php", "core/new"}, c.Core.Names)
	assert.Equal(t, [3]int64{int64(len(settings)), 0, 2}, [3]int64{c.Added, c.Changed, c.Removed}, "files are counted")
}

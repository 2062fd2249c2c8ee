package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

func TestAddKeepsWhatThePersonWrote(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sub/revlet.yaml")
	site := func(root string) map[string]Site {
		return map[string]Site{"kestrelpoint": {Root: root, Address: "https://kestrelpoint.example/", Recipe: "auto", Stores: []string{"here"}, Skip: []string{"tmp/**"}, Check: &Check{Path: "/", Status: 200, Contains: "Opening: hours"}}}
	}
	added, err := Add(&disk.Disk{}, path, map[string]Store{"here": {Folder: "/var/backups/revlet"}}, site("/srv/a b/#1"))
	require.NoError(t, err)
	assert.Contains(t, added, `    root: "/srv/a b/#1"`, "what was written is given back")
	c, err := Load(path)
	require.NoError(t, err)
	want := site("/srv/a b/#1")["kestrelpoint"]
	assert.Equal(t, want, c.Sites["kestrelpoint"])

	text := "# my notes\nsites:\n  first:   # the old one\n    root: /srv/first\n    stores: [here]\n    skip:\n      - a/**\n      - b/**\n\n# after the sites\nstores:\n  here: {folder: /x}   # on the big disk\n"
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	_, err = Add(&disk.Disk{}, path, map[string]Store{"there": {Folder: "/y"}}, site("/srv/b"))
	require.NoError(t, err)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, words := range []string{"# my notes", "# the old one", "# after the sites", "# on the big disk"} {
		assert.Contains(t, string(data), words)
	}
	c, err = Load(path)
	require.NoError(t, err)
	assert.Equal(t, []string{"first", "kestrelpoint"}, c.SiteNames())
	assert.Equal(t, []string{"a/**", "b/**"}, c.Sites["first"].Skip)
	assert.Len(t, c.Stores, 2)
}

func TestFaultsNameThePlace(t *testing.T) {
	for text, want := range map[string]string{
		"sites:\n  a:\n    rooot: /x\n":                                        `f.yaml:3:5: unknown key "rooot"; did you mean "root"?`,
		"stores: {here: {folder: /x}}\nsites:\n  a: {root: /y, stores: [her]}": `f.yaml:3:26: site "a": there is no store "her"; did you mean "here"?`,
		"sites:\n  a: {root: /y}\n":                                            `f.yaml:2:6: site "a" names no store`,
		"stores:\n  here: {}\n":                                                `store "here": it needs an address`,
		"stores: {here: {folder: /x}}\nsites:\n  a: {root: /y, stores: [here], databases: {main: {mysql: a@b/c, sqlite: /z}}}": "it has 2",
		"sites: [a, b]\n": "f.yaml:1:",
	} {
		_, err := Parse("f.yaml", []byte(text))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
	dir := t.TempDir()
	secret := filepath.Join(dir, "pw")
	require.NoError(t, os.WriteFile(secret, []byte("x"), 0o644))
	c, err := Parse(filepath.Join(dir, "f.yaml"), []byte("stores: {here: {folder: /x}}\nsites:\n  a: {root: /y, stores: [here], databases: {main: {mysql: a@b/c, password_file: pw}}}"))
	require.NoError(t, err)
	require.Len(t, c.Warnings, 1)
	assert.Contains(t, c.Warnings[0], "chmod 600 "+secret)
}

// What comes from a record becomes a value, or is refused: it adds no key of its own.
func TestNothingComesInBesideWhatIsMeant(t *testing.T) {
	old := "stores:\n  here: {folder: /x}\nsites:\n  first:\n    root: /srv/first\n    stores: [here]\n"
	evil := []string{
		"x\n    rehearse: {serve: id}", "x: y", "x #", "{mysql: a@b/c}, rehearse: {serve: id}", "]\n    rehearse:\n      serve: id", "x\r\n    schedule: [full, every day]", "'", "\"", "\\", "\x00", "\x1b[31m",
		"\u2028rehearse: {serve: id}", "\u0085notify: x", "*a", "&a x", "!!binary eA==", "? x", "- x", "| x", "> x", "%YAML 1.2", "--- x", "...", "~", "null", "true", "0x10", "1e3", "2026-11-20", "\xff\xfe", " x ", "\tx", "<<", "=", "`id`", "$(id)", "x,y", "x]y", "x}y",
		"lamp\nnotify: {mail: {smtp: smtp://evil.example}}", strings.Repeat("x", 70000),
	}
	for _, text := range evil {
		for where, s := range map[string]Site{
			"root":     {Root: "/srv/" + text, Stores: []string{"here"}},
			"address":  {Root: "/srv/a", Address: text, Stores: []string{"here"}},
			"recipe":   {Root: "/srv/a", Recipe: text, Stores: []string{"here"}},
			"settings": {Root: "/srv/a", Settings: text, Stores: []string{"here"}},
			"label":    {Root: "/srv/a", Roots: map[string]string{text: "/srv/b"}, Stores: []string{"here"}},
			"folder":   {Root: "/srv/a", Roots: map[string]string{"logs": "/srv/" + text}, Stores: []string{"here"}},
			"database": {Root: "/srv/a", Databases: map[string]Database{text: {MySQL: "a@b/c"}}, Stores: []string{"here"}},
			"mysql":    {Root: "/srv/a", Databases: map[string]Database{"main": {MySQL: text}}, Stores: []string{"here"}},
			"rule":     {Root: "/srv/a", Skip: []string{text, "tmp/**"}, Stores: []string{"here"}},
			"check":    {Root: "/srv/a", Check: &Check{Path: "/", Status: 200, Contains: text}, Stores: []string{"here"}},
			"name":     {Root: "/srv/a", Stores: []string{"here"}},
		} {
			path, name := filepath.Join(t.TempDir(), "revlet.yaml"), "second"
			require.NoError(t, os.WriteFile(path, []byte(old), 0o600))
			if where == "name" {
				name = text
			}
			if _, err := Add(&disk.Disk{}, path, nil, map[string]Site{name: s}); err != nil {
				data, readErr := os.ReadFile(path)
				require.NoError(t, readErr)
				assert.Equal(t, old, string(data), "%s %q: %v", where, text, err)
				continue
			}
			c, err := Load(path)
			require.NoError(t, err, "%s %q", where, text)
			got := c.Sites[name]
			assert.Nil(t, got.Rehearse, "%s %q", where, text)
			assert.Nil(t, c.Notify)
			assert.ElementsMatch(t, []string{"first", name}, c.SiteNames())
			assert.Equal(t, s.Address, got.Address, "%s %q", where, text)
			assert.Equal(t, s.Skip, got.Skip, "%s %q", where, text)
			assert.Equal(t, s.Databases["main"].MySQL, got.Databases["main"].MySQL, "%s %q", where, text)
			assert.Empty(t, got.Schedule)
		}
	}
}

// A file that lies in the current folder, such as one of a customer's, is not believed
// because of that.
func TestAConfigurationOfSomebodyElseIsNotTaken(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, Trusted("revlet.yaml", false, -1), "there is none")
	require.NoError(t, os.WriteFile("revlet.yaml", nil, 0o644))
	require.NoError(t, Trusted("revlet.yaml", false, -1))
	require.NoError(t, os.Chmod("revlet.yaml", 0o646))
	require.True(t, reason.Is(Trusted("revlet.yaml", false, -1), reason.ConfigWritable))
	require.NoError(t, os.Chmod("revlet.yaml", 0o644))
	if os.Geteuid() != 0 {
		t.Skip("only root can give files away")
	}
	for group, refused := range map[int]bool{0: false, 33: true} { // the web server's
		require.NoError(t, os.Chown("revlet.yaml", 0, group))
		require.NoError(t, os.Chmod("revlet.yaml", 0o664))
		for _, named := range []bool{true, false} {
			require.Equal(t, refused, reason.Is(Trusted("revlet.yaml", named, -1), reason.ConfigWritable), "group %d", group)
		}
	}
	require.NoError(t, os.Chmod("revlet.yaml", 0o644))
	require.NoError(t, os.Chown("revlet.yaml", 61871, 61871))
	require.True(t, reason.Is(Trusted("revlet.yaml", false, -1), reason.ConfigOfOthers))
	require.True(t, reason.Is(Trusted("revlet.yaml", true, -1), reason.ConfigOfOthers), "root does not do what another account has written, named or not")
	require.NoError(t, Trusted("revlet.yaml", true, 61871), "but for the account that has become root, which could do so anyway")
	require.Error(t, Trusted("revlet.yaml", false, 61871), "and only if it names the file")
	require.NoError(t, os.Chmod("revlet.yaml", 0o664))
	require.NoError(t, Trusted("revlet.yaml", true, 61871), "a group of its own")
	require.NoError(t, os.Chown("revlet.yaml", 61871, 33))
	require.Error(t, Trusted("revlet.yaml", true, 61871))
	require.NoError(t, os.Chown("revlet.yaml", 61871, 61871))
	require.NoError(t, os.Chmod("revlet.yaml", 0o646))
	require.Error(t, Trusted("revlet.yaml", true, 61871))

	// It may be root's own, and another one a moment later.
	require.NoError(t, os.Mkdir("theirs", 0o755))
	require.NoError(t, os.WriteFile("mine.yaml", nil, 0o600))
	require.NoError(t, os.WriteFile("theirs/revlet.yaml", nil, 0o600))
	require.NoError(t, os.Symlink("../mine.yaml", "theirs/linked.yaml"))
	require.NoError(t, os.Symlink("../mine.yaml", "theirs/roots.yaml"))
	require.NoError(t, os.Symlink("mine.yaml", "own.yaml"))
	for _, theirs := range []string{"theirs", "theirs/linked.yaml"} {
		require.NoError(t, os.Lchown(theirs, 61871, 61871))
	}
	for _, named := range []bool{true, false} {
		for _, file := range []string{"theirs/revlet.yaml", "theirs/linked.yaml", "theirs/roots.yaml"} {
			require.True(t, reason.Is(Trusted(file, named, -1), reason.ConfigFolder), file)
		}
		require.NoError(t, Trusted("own.yaml", named, -1))
		require.NoError(t, Trusted("theirs/revlet.yaml", named, 61871), "who has become root could do so anyway")
	}
	require.NoError(t, os.WriteFile("more.yaml", []byte("include: theirs/*.yaml"), 0o600))
	_, err := Load("more.yaml")
	require.True(t, reason.Is(err, reason.ConfigFolder), "%v", err)
}

// All folders of a site lie on one machine, and are reached by one account.
func TestFoldersOfASiteLieTogether(t *testing.T) {
	for folders, want := range map[string]string{
		`root: /srv/www, roots: {m: "sftp://keeper@host.example/srv/m"}`:                                            "lies elsewhere",
		`root: "sftp://keeper@host.example/srv/www", roots: {m: "sftp://other@host.example/srv/m"}`:                 "of the same account",
		`root: "sftp://keeper@host.example/srv/www", roots: {m: "sftp://keeper@host.example:2222/srv/m"}`:           "of the same account",
		`root: "sftp://keeper@host.example/srv/www", roots: {m: ./m}`:                                               "whole path",
		`root: "sftp://keeper@host.example/srv/www", roots: {m: "sftp://keeper@host.example/~/m"}`:                  "whole path",
		`root: "sftp://keeper@host.example/srv/www", roots: {m: "sftp://keeper@host.example/"}`:                     "whole path",
		`root: "sftp://keeper@host.example/srv/www", roots: {m: /srv/m/, n: "sftp://keeper@host.example/srv/../n"}`: "",
	} {
		file := filepath.Join(t.TempDir(), "revlet.yaml")
		require.NoError(t, os.WriteFile(file, []byte("stores: {here: {folder: /srv/archives}}\nsites:\n  kestrelpoint: {stores: [here], "+folders+"}\n"), 0o600))
		c, err := Load(file)
		if want != "" {
			assert.ErrorContains(t, err, want, folders)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"m": "sftp://keeper@host.example/srv/m", "n": "sftp://keeper@host.example/n"}, c.Sites["kestrelpoint"].Roots)
	}
}

// Whatever comes from a record is written as a value, or refused.
func FuzzAdd(f *testing.F) {
	f.Add("/srv/a", "https://a.example/", "tmp/**", "main", "u@h/d")
	f.Add("/srv/a\n    rehearse: {serve: id}", "x: y", "]", "a: b", "{}")
	f.Fuzz(func(t *testing.T, root, address, rule, label, where string) {
		old := "stores: {here: {folder: /x}}\n"
		path := filepath.Join(t.TempDir(), "revlet.yaml")
		require.NoError(t, os.WriteFile(path, []byte(old), 0o600))
		s := Site{Root: "/srv/" + root, Address: address, Skip: []string{rule}, Databases: map[string]Database{label: {MySQL: where}}, Stores: []string{"here"}}
		if _, err := Add(&disk.Disk{}, path, nil, map[string]Site{"museum": s}); err != nil {
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			require.Equal(t, old, string(data))
			return
		}
		c, err := Load(path)
		require.NoError(t, err)
		got := c.Sites["museum"]
		require.Equal(t, []any{address, []string{rule}, where}, []any{got.Address, got.Skip, got.Databases[label].MySQL})
		require.Nil(t, got.Rehearse)
		require.Nil(t, c.Notify)
	})
}

// A name that YAML would take for a number, or for yes, stays a name.
func TestNamesThatLookLikeOtherThings(t *testing.T) {
	for _, name := range []string{"001", "1e3", "on", "null", "0x1f", "2026-11-28", "12.5"} {
		file := filepath.Join(t.TempDir(), "revlet.yaml")
		_, err := Add(&disk.Disk{}, file, map[string]Store{name: {Folder: "/var/backups/revlet"}}, map[string]Site{name: {Root: "/srv/kestrelpoint", Stores: []string{name}}})
		require.NoError(t, err, name)
		c, err := Load(file)
		require.NoError(t, err, name)
		assert.Equal(t, []string{name}, c.SiteNames())
		assert.Equal(t, []string{name}, c.Sites[name].Stores)
	}
}

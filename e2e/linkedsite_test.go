package e2e

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"revlet/internal/practice/lampblack"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Deployments share what lasts between releases by links. A copy of such a site has the same links: nothing that is live is
// reached through it.
func TestACopyReachesNothingLiveThroughItsLinks(t *testing.T) {
	t.Parallel()
	share := func(w *world, rel, to string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(w.path(to)), 0o755))
		require.NoError(t, os.Rename(w.path("htdocs", rel), w.path(to)))
		require.NoError(t, os.Symlink(w.path(to), w.path("htdocs", rel)))
	}
	configured := "\n    databases: {main: {sqlite: ./htdocs/data/museum.db}}\n"
	for name, c := range map[string]struct {
		prepare  func(w *world)
		live     string // the database file
		config   string
		unserved string
		cut      string
		move     string // what a practice copy says
	}{
		"the database in a folder that releases share": {func(w *world) { share(w, "data", "shared/data") }, "shared/data/museum.db", configured, "would use the live database", "", "is to lie behind the link data, which leads out of the webroot"},
		"in another folder of the webroot":             {func(w *world) { share(w, "data", "htdocs/storage/data") }, "htdocs/storage/data/museum.db", "", "", "", "Came up"},
		"by a relative link": {func(w *world) {
			require.NoError(t, os.Mkdir(w.path("htdocs/storage"), 0o755))
			require.NoError(t, os.Rename(w.path("htdocs/data"), w.path("htdocs/storage/data")))
			require.NoError(t, os.Symlink("storage/data", w.path("htdocs/data")))
		}, "htdocs/storage/data/museum.db", "", "", "", "Came up"},
		"by its whole path": {func(w *world) { w.edit("htdocs/settings.yaml", "data/museum.db", w.path("htdocs/data/museum.db")) }, "htdocs/data/museum.db", "", "", "", "Came up"},
		"shared settings, and a cache": {func(w *world) {
			share(w, "settings.yaml", "shared/settings.yaml")
			share(w, "uploads/2027", "shared/2027")
		}, "htdocs/data/museum.db", "", "", "uploads/2027 → ", "settings.yaml is a link to"},
	} {
		t.Run(name, func(t *testing.T) {
			w, _ := museum(t)
			c.prepare(w)
			data, err := os.ReadFile(w.path("revlet.yaml"))
			require.NoError(t, err)
			w.write("revlet.yaml", string(data)+c.config)
			w.run("backup")
			// What is live has changed since: it is seen if the archive's takes its place.
			w.write("htdocs/uploads/new.txt", "new")
			live := func() (os.FileInfo, map[string]string) {
				info, err := os.Stat(w.path(c.live))
				require.NoError(t, err)
				all := snapshot(t, w.path("htdocs"))
				if _, err := os.Stat(w.path("shared")); err == nil {
					for name, is := range snapshot(t, w.path("shared")) {
						all["shared/"+name] = is
					}
				}
				delete(all, "shared/data") // its time tells of exchanges
				return info, all
			}
			file, all := live()
			same := func(after string) {
				t.Helper()
				f, a := live()
				assert.True(t, os.SameFile(file, f), "%s: the live database is another file", after)
				assert.Equal(t, all, a, after)
			}
			assert.Contains(t, w.run("rehearse"), "every byte and every row is as it was saved")
			same("a rehearsal")
			w.write("revlet.yaml", string(data)+c.config+"\n    rehearse: {serve: \""+program+" standin lampblack {root} --listen 127.0.0.1:{port}\"}\n    checks: [{path: /, contains: Kestrel}]\n")
			r := w.try("rehearse")
			if c.unserved != "" {
				assert.Contains(t, r.err, c.unserved)
			} else {
				assert.Equal(t, 0, r.code, r.out+r.err)
				assert.Contains(t, r.out, "the copy works")
				assert.Contains(t, r.out, c.cut)
			}
			same("a copy that was served")
			w.write("revlet.yaml", string(data)+c.config)
			r = w.try("move", "kestrelpoint", "--to", "practice", "--root", w.path("practice"), "--address", "http://127.0.0.1:9", "--copy", "--yes")
			assert.Contains(t, r.out+r.err, c.move)
			same("a practice copy")
			if c.unserved != "" {
				w.fails(4, []string{"Came up", "data → "}, "move", "kestrelpoint", "--to", "practice", "--root", w.path("practice"), "--address", "http://127.0.0.1:9", "--copy", "--yes", "--database", "sqlite: "+w.path("practice.db"))
				same("a practice copy with a database of its own")
			}
			if to, err := os.Readlink(w.path("practice/data")); err == nil && c.unserved == "" {
				assert.Equal(t, "storage/data", to)
			}
			w.run("restore", "kestrelpoint", "--yes")
			w.run("undo", "kestrelpoint", "--yes")
			same("a restore that was undone")
		})
	}
}

// Settings that are a link, or a further name of a file, are read from the archive when the webroot is gone.
func TestSettingsUnderAnotherName(t *testing.T) {
	t.Parallel()
	for name, prepare := range map[string]func(w *world){
		"a further name of a file": func(w *world) { require.NoError(t, os.Link(w.path("htdocs/settings.yaml"), w.path("htdocs/a.yaml"))) },
		"a link to another folder": func(w *world) {
			require.NoError(t, os.Mkdir(w.path("htdocs/config"), 0o755))
			require.NoError(t, os.Rename(w.path("htdocs/settings.yaml"), w.path("htdocs/config/live.yaml")))
			require.NoError(t, os.Symlink("config", w.path("htdocs/etc")))
			require.NoError(t, os.Symlink("etc/live.yaml", w.path("htdocs/settings.yaml")))
		},
	} {
		t.Run(name, func(t *testing.T) {
			w, _ := museum(t)
			prepare(w)
			w.run("backup")
			want := rows(t, w)
			require.NoError(t, os.RemoveAll(w.path("htdocs")))
			w.run("restore", "kestrelpoint", "--yes")
			assert.Equal(t, want, rows(t, w))
			w.run("rehearse")
		})
	}
}

// A share is not put behind a link that leads out of the site, and it is said what can be done.
func TestAShareBehindALink(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	require.NoError(t, os.Rename(w.path("htdocs/uploads"), w.path("shared")))
	require.NoError(t, os.Symlink(w.path("shared"), w.path("htdocs/uploads")))
	w.write("shared/live.txt", "live")
	require.NoError(t, os.Remove(w.path("shared/2026/boat.svg")))
	before := snapshot(t, w.path("shared"))
	for _, share := range [][]string{{"--only", "uploads"}, {"--path", "uploads/2026/boat.svg"}, {"--path", "uploads/2026/boat.svg", "--mode", "fill"}} {
		w.fails(1, []string{"uploads is a link on the site now, and leads out of it (to " + w.path("shared"), "the site is unchanged", "revlet extract"}, append([]string{"restore", "kestrelpoint", "--yes"}, share...)...)
	}
	assert.Equal(t, before, snapshot(t, w.path("shared")))
	w.run("extract", "kestrelpoint", "uploads", "--to", w.path("out"))
	assert.FileExists(t, w.path("out/uploads/2026/boat.svg"))
	w.run("restore", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("htdocs/uploads/2026/boat.svg"))
	assert.Equal(t, before, snapshot(t, w.path("shared")))
}

// Uploads that are all of another folder of the site's, whatever that is called, are meant by the link to it.
func TestALinkToAllOfAnotherFolder(t *testing.T) {
	t.Parallel()
	for _, label := range []string{"media", "uploads"} {
		t.Run(label, func(t *testing.T) {
			w, _ := museum(t)
			require.NoError(t, os.MkdirAll(w.path("srv"), 0o755))
			require.NoError(t, os.Rename(w.path("htdocs/uploads"), w.path("srv/all")))
			require.NoError(t, os.Symlink(w.path("srv/all"), w.path("htdocs/uploads")))
			w.write("revlet.yaml", w.read("revlet.yaml")+"\n    roots: {"+label+": ./srv/all}\n")
			w.run("backup")
			boat := w.read("srv/all/2026/boat.svg")
			for i, asked := range []string{"uploads", "uploads/**", label, label + "/**", "**", "upl*", "uploads/2026/boat.svg"} {
				to := w.path("out", fmt.Sprint(i))
				out := w.run("extract", "kestrelpoint", asked, "--to", to)
				if asked == "upl*" && label == "media" {
					assert.Contains(t, out, "uploads → media\n")
				}
				assert.FileExists(t, filepath.Join(to, label, "2026/boat.svg"), asked)
			}
			for _, asked := range []string{"uploads", "uploads/2026/*.svg", label} {
				assert.Contains(t, w.run("show", "kestrelpoint", "--files", asked), label+"/2026/boat.svg", asked)
				assert.Contains(t, w.run("versions", "kestrelpoint", asked), label+"/2026/boat.svg", asked)
			}
			require.NoError(t, os.Remove(w.path("srv/all/2026/boat.svg")))
			for _, share := range [][]string{{"--path", "uploads"}, {"--path", "uploads/**"}, {"--only", "uploads"}, {"--path", label}, {"--path", "**"}, {"--path", "upl*"}, {"--path", "uploads", "--mode", "fill"}} {
				w.run(append([]string{"restore", "kestrelpoint", "--yes"}, share...)...)
				assert.Equal(t, boat, w.read("srv/all/2026/boat.svg"), "%v", share)
				w.run("undo", "kestrelpoint", "--yes")
				assert.NoFileExists(t, w.path("srv/all/2026/boat.svg"), "%v", share)
			}
		})
	}
}

// deployed makes the museum one that is deployed: releases, what they share, and a link to the current one.
func deployed(t *testing.T) *world {
	w, _ := museum(t)
	require.NoError(t, os.MkdirAll(w.path("app/releases"), 0o755))
	require.NoError(t, os.MkdirAll(w.path("app/shared"), 0o755))
	require.NoError(t, os.Rename(w.path("htdocs"), w.path("app/releases/5")))
	for _, name := range []string{"data", "uploads", "settings.yaml"} {
		require.NoError(t, os.Rename(w.path("app/releases/5", name), w.path("app/shared", name)))
		require.NoError(t, os.Symlink("../../shared/"+name, w.path("app/releases/5", name)))
	}
	require.NoError(t, os.Symlink("releases/5", w.path("app/current")))
	require.NoError(t, os.Symlink("app/current", w.path("htdocs")))
	data, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	w.write("revlet.yaml", string(data)+"\n    roots: {shared: ./app/shared}\n    rehearse: {serve: \""+program+" standin lampblack {root} --listen 127.0.0.1:{port}\"}\n    checks: [{path: /, contains: Kestrel}]\n")
	return w
}

var told = regexp.MustCompile(`links=\d+ |\S+Z$`)

// sharesOfADeployedSite puts shares of it back: what a share names is put back where it really lies, and nothing else.
func sharesOfADeployedSite(t *testing.T, w *world, brokenRows string) {
	all := func() map[string]string {
		now := snapshot(t, w.path("app"), "data")
		for name, is := range now { // times tell of exchanges, counted names of what is set aside
			now[name] = told.ReplaceAllString(is, "")
			if strings.Contains(name, ".revlet-") {
				delete(now, name)
			} else if info, err := os.Lstat(w.path("app", name)); err == nil && info.IsDir() {
				now[name] = "folder"
			}
		}
		return now
	}
	before := all()
	for _, c := range []struct {
		share []string
		says  string
		back  []string
		gone  []string
	}{
		{[]string{"--path", "uploads/2026/boat.svg"}, "in " + w.path("app/shared") + ", uploads/2026/boat.svg, shared/uploads/2026/boat.svg (a link leads there) becomes", []string{"shared/uploads/2026/boat.svg"}, nil},
		{[]string{"--path", "shared/uploads/2026/*.svg"}, "in " + w.path("app/shared") + ", shared", []string{"shared/uploads/2026/boat.svg", "shared/uploads/2026/horn.svg"}, nil},
		{[]string{"--path", "uploads"}, w.path("htdocs") + " and " + w.path("app/shared"), []string{"shared/uploads/2026/boat.svg", "shared/uploads/2026/gallery/sea-1.png"}, []string{"shared/uploads/new.txt"}},
		{[]string{"--path", "upl*"}, "upl*, shared/uploads (a link leads there) becomes", []string{"shared/uploads/2026/gallery/sea-1.png"}, []string{"shared/uploads/new.txt"}},
		{[]string{"--only", "uploads"}, ", uploads, shared/uploads (a link leads there) becomes", []string{"shared/uploads/2026/gallery/sea-1.png"}, []string{"shared/uploads/new.txt"}},
		{[]string{"--mode", "fill", "--only", "files"}, "of the site is put back", []string{"shared/uploads/2026/gallery/sea-1.png"}, nil},
		{[]string{"--path", "themes"}, "themes becomes", nil, nil},
		{[]string{"--path", "uploads/current"}, "uploads/current, shared/uploads/current (a link leads there) becomes", nil, nil}, // a link itself
	} {
		assert.Contains(t, w.run(append([]string{"restore", "kestrelpoint", "--yes"}, c.share...)...), c.says, "%v", c.share)
		now := all()
		for _, name := range c.back {
			assert.Contains(t, now, name, "%v", c.share)
		}
		for name, was := range before {
			if slices.Contains(c.gone, name) {
				assert.NotContains(t, now, name, "%v", c.share)
			} else {
				assert.Equal(t, was, now[name], "%v: %s", c.share, name)
			}
		}
		if c.back == nil {
			assert.Equal(t, before, now, "%v", c.share)
		}
		assert.Equal(t, brokenRows, rows(t, w), "%v", c.share)
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, before, all(), "%v", c.share)
		assert.Equal(t, brokenRows, rows(t, w), "%v", c.share)
	}
	// What was made beside the share since stays when it is taken back, in the database, too.
	w.run("restore", "kestrelpoint", "--yes", "--only", "uploads")
	w.write("app/shared/since.txt", "since")
	require.NoError(t, lampblack.Execute(t.Context(), w.path("app/shared/data/museum.db"), "UPDATE exhibits SET name = 'since'"))
	since := rows(t, w)
	require.NotEqual(t, brokenRows, since)
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, "since", w.read("app/shared/since.txt"))
	assert.Equal(t, since, rows(t, w))
	assert.NoFileExists(t, w.path("htdocs/uploads/2026/boat.svg"))
}

// On another machine, too, what links lead to in another of the site's folders is known by where it really lies.
func TestADeployedSiteElsewhere(t *testing.T) {
	t.Parallel()
	w := deployed(t)
	port := sshd(t, w)
	who, err := user.Current()
	require.NoError(t, err)
	at := func(rel string) string {
		return fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", who.Username, port, w.path(rel))
	}
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: %q\n    roots: {shared: %q}\n    reach: {key_file: %s}\n    stores: [here]\n", at("htdocs"), at("app/shared"), w.path("ssh/id")))
	w.run("preflight", "--trust")
	w.run("backup")
	assert.NotContains(t, w.run("show", "kestrelpoint", "--files"), "museum.db", "the database is saved as one, and not as a file, too")
	assert.Contains(t, w.run("rehearse"), "every byte and every row is as it was saved")
	assert.Contains(t, w.run("compare", "kestrelpoint"), "Nothing differs")
	good := rows(t, w)
	require.NoError(t, os.RemoveAll(w.path("app/shared/uploads/2026")))
	require.NoError(t, lampblack.Execute(t.Context(), w.path("app/shared/data/museum.db"), "DELETE FROM remarks"))
	bad := rows(t, w)
	for _, c := range []struct {
		share       []string
		rows, files bool
	}{{nil, true, true}, {[]string{"--only", "database"}, true, false}, {[]string{"--only", "files"}, false, true}, {[]string{"--path", "uploads/2026/boat.svg"}, false, true}, {[]string{"--only", "uploads"}, false, true}} {
		w.run(append([]string{"restore", "kestrelpoint", "--yes"}, c.share...)...)
		assert.Equal(t, map[bool]string{true: good, false: bad}[c.rows], rows(t, w), "%v", c.share)
		_, err := os.Stat(w.path("htdocs/uploads/2026/boat.svg"))
		assert.Equal(t, c.files, err == nil, "%v", c.share)
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, bad, rows(t, w), "%v", c.share)
		assert.NoFileExists(t, w.path("htdocs/uploads/2026/boat.svg"), "%v", c.share)
	}
	require.NoError(t, os.RemoveAll(w.path("app")))
	require.NoError(t, os.MkdirAll(w.path("app/releases/5"), 0o755))
	require.NoError(t, os.Symlink("releases/5", w.path("app/current")))
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, good, rows(t, w))
	assert.Contains(t, w.run("compare", "kestrelpoint"), "Nothing differs")
}

// A site whose database, settings and uploads lie in a folder that its releases share is saved, tried, put back, taken back
// and brought back from nothing like any other.
func TestADeployedSite(t *testing.T) {
	t.Parallel()
	w := deployed(t)
	checked := w.run("preflight")
	assert.Regexp(t, `files +28 files, 1\.\d MB`, checked)
	assert.Contains(t, checked, "shared/uploads/2026/gallery/sea-6.png (261 kB)")
	config := w.read("revlet.yaml")
	w.write("revlet.yaml", strings.Replace(config, "./app/shared}", "./app/shared, gone: ./app/gone}", 1))
	w.fails(1, []string{"folder gone"}, "preflight")
	w.write("revlet.yaml", config)
	w.run("backup")
	assert.NotContains(t, w.run("show", "kestrelpoint", "--files"), "museum.db", "the database is saved as one, and not as a file, too")
	assert.Contains(t, w.run("rehearse"), "the copy works")
	w.run("compare", "kestrelpoint")
	for _, path := range []string{"uploads/2026/boat.svg", "shared/uploads/2026/boat.svg", "uploads/2026/*.svg", "shared/uploads/**/boat.svg"} {
		out := filepath.Join(w.path("out"), strings.ReplaceAll(path, "/", "-"))
		w.run("extract", "kestrelpoint", path, "--to", out)
		assert.FileExists(t, filepath.Join(out, "shared/uploads/2026/boat.svg"), path)
	}
	assert.Equal(t, w.read("app/shared/settings.yaml"), w.run("extract", "kestrelpoint", "settings.yaml", "--to", "-"))
	assert.Equal(t, w.read("app/shared/settings.yaml"), w.run("extract", "kestrelpoint", "shared/settings.yaml", "--to", "-"))
	w.fails(1, []string{`holds no "none"; paths are relative to the webroot, or begin with one of its other folders: shared`}, "extract", "kestrelpoint", "none", "--to", w.path("out"))
	assert.Contains(t, w.run("compare", "kestrelpoint", "--text", "settings.yaml"), "Nothing differs")
	settings := w.read("app/shared/settings.yaml")
	w.write("app/shared/settings.yaml", settings+"# later\n")
	for _, path := range []string{"settings.yaml", "shared/settings.yaml"} {
		assert.Contains(t, w.try("compare", "kestrelpoint", "--text", path).out, "# later", path)
	}
	w.write("app/shared/settings.yaml", settings)
	assert.Contains(t, w.run("versions", "kestrelpoint", "shared/uploads/2026/boat.svg"), "shared/uploads/2026/boat.svg")
	assert.Contains(t, w.run("show", "kestrelpoint", "--files", "**/boat.svg"), "shared/uploads/2026/boat.svg")
	w.write("app/shared/uploads/2026/door.php", "<?php evil();")
	w.fails(4, []string{"shared/uploads/2026/door.php", "a file that can be run, among the uploads"}, "compare", "kestrelpoint")
	require.NoError(t, os.Remove(w.path("app/shared/uploads/2026/door.php")))
	good := rows(t, w)
	w.write("app/shared/uploads/new.txt", "new")
	require.NoError(t, os.RemoveAll(w.path("app/shared/uploads/2026")))
	require.NoError(t, lampblack.Execute(t.Context(), w.path("app/shared/data/museum.db"), "DELETE FROM remarks"))
	broken, brokenRows := snapshot(t, w.path("app"), "data"), rows(t, w)
	for _, share := range [][]string{nil, {"--only", "database"}, {"--only", "files"}} {
		w.run(append([]string{"restore", "kestrelpoint", "--yes"}, share...)...)
		if share == nil || share[1] == "database" {
			assert.Equal(t, good, rows(t, w), "%v", share)
		} else {
			assert.Equal(t, brokenRows, rows(t, w), "%v", share)
		}
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, brokenRows, rows(t, w), "%v", share)
		now := snapshot(t, w.path("app"), "data")
		for _, timed := range []string{".", "releases", "shared", "shared/data"} { // their times tell of exchanges
			delete(broken, timed)
			delete(now, timed)
		}
		assert.Equal(t, broken, now, "%v", share)
	}

	sharesOfADeployedSite(t, w, brokenRows)
	w.write("other.yaml", "state: ./state-other\n")
	assert.Contains(t, w.run("--config", w.path("other.yaml"), "adopt", w.path("htdocs"), "--store", w.path("archives-other"), "--dry-run"), `takes along what is there: roots: {shared: "`+w.path("app/shared")+`"}`)

	// Another release from the same place: its links lead to the same folders.
	sh(t, "cp -a "+w.path("app/releases/5")+" "+w.path("app/releases/6"))
	require.NoError(t, os.Remove(w.path("app/current")))
	require.NoError(t, os.Symlink("releases/6", w.path("app/current")))
	r := w.try("restore", "kestrelpoint", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.NotContains(t, r.out, "Warning:")
	assert.Equal(t, good, rows(t, w))
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")

	// All of it is gone. Where no link leads to a release any more, its links would lead elsewhere, which is said.
	require.NoError(t, os.RemoveAll(w.path("app")))
	out := w.try("restore", "kestrelpoint", "--dry-run").out
	assert.Contains(t, out, "Warning: "+w.path("htdocs")+" lay at "+w.path("app/releases/5")+", and is put at "+w.path("app/current")+": 3 links of it lead elsewhere from there")
	require.NoError(t, os.MkdirAll(w.path("app/releases/5"), 0o755))
	require.NoError(t, os.Symlink("releases/5", w.path("app/current")))
	r = w.try("restore", "kestrelpoint", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.NotContains(t, r.out, "Warning:")
	assert.Equal(t, good, rows(t, w))
	assert.FileExists(t, w.path("htdocs/uploads/2026/boat.svg"))
	assert.Contains(t, w.run("compare", "kestrelpoint"), "Nothing differs")
}

// What links of a webroot lead to in another folder is what they make of it: uploads are uploads, and settings are settings,
// whatever they are called there.
func TestADeployedWordPress(t *testing.T) {
	t.Parallel()
	w, s, _ := wordpress(t, "deployed_cms")
	require.NoError(t, os.MkdirAll(w.path("app/releases"), 0o755))
	require.NoError(t, os.MkdirAll(w.path("app/shared"), 0o755))
	require.NoError(t, os.Rename(w.path("htdocs"), w.path("app/releases/5")))
	for name, to := range map[string]string{"wp-content/uploads": "media", "wp-config.php": "settings.php"} {
		require.NoError(t, os.Rename(w.path("app/releases/5", name), w.path("app/shared", to)))
		require.NoError(t, os.Symlink(w.path("app/shared", to), w.path("app/releases/5", name)))
	}
	require.NoError(t, os.Symlink("app/releases/5", w.path("htdocs")))
	assert.Contains(t, w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives"), `roots: {shared: "`+w.path("app/shared")+`"}`)
	w.write("revlet.yaml", strings.Replace(w.read("revlet.yaml"), "    root:", "    roots: {shared: ./app/shared}\n    root:", 1))
	w.run("backup")
	good := w.newest()
	assert.Regexp(t, `uploads +1 `, w.run("show", good))
	w.write("app/shared/media/door.php", "<?php evil();")
	require.NoError(t, os.RemoveAll(w.path("app/shared/media/2026")))
	w.fails(4, []string{"shared/media/door.php", "a file that can be run, among the uploads"}, "compare", good)
	assert.Contains(t, w.run("backup"), "planted: 1 file that can be run is new among the uploads: shared/media/door.php")
	w.run("restore", good, "--only", "uploads", "--yes")
	assert.NoFileExists(t, w.path("app/shared/media/door.php"))
	assert.FileExists(t, w.path("htdocs/wp-content/uploads/2026/11/lens.jpg"))
	w.run("undo", "kestrelpoint", "--yes")

	kept := strings.Replace(w.read("app/shared/settings.php"), "<?php", "<?php // kept", 1)
	w.write("app/shared/settings.php", kept)
	require.NoError(t, os.Chmod(w.path("app/shared/settings.php"), 0o640))
	w.run("restore", good, "--keep-settings", "--yes")
	assert.Equal(t, kept, w.read("htdocs/wp-config.php"))
	info, err := os.Stat(w.path("htdocs/wp-config.php"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode(), "a link's rights are nobody's")
	to, err := os.Readlink(w.path("htdocs/wp-config.php"))
	require.NoError(t, err)
	assert.Equal(t, w.path("app/shared/settings.php"), to)
	w.run("undo", "kestrelpoint", "--yes")
	require.NoError(t, os.Remove(w.path("htdocs/wp-config.php")))
	require.NoError(t, os.Rename(w.path("app/shared/settings.php"), w.path("app/settings.php")))
	require.NoError(t, os.Symlink("../../settings.php", w.path("htdocs/wp-config.php")))
	w.fails(1, []string{"keep wp-config.php: it is a link now, and leads elsewhere than in the archive", "the site is unchanged"}, "restore", good, "--keep-settings", "--yes")
	require.NoError(t, os.Rename(w.path("app/settings.php"), w.path("app/shared/settings.php")))
	w.run("restore", good, "--yes")

	s.exec(t, "CREATE DATABASE deployed_copy; GRANT ALL ON deployed_copy.* TO 'deployed_cms'@'127.0.0.1'")
	t.Cleanup(func() { s.exec(t, "DROP DATABASE deployed_copy") })
	w.write("copy.pw", `it's "made" up\`)
	move := func(folder ...string) []string {
		return append([]string{"move", good, "--to", "practice", "--root", w.path("practice"), "--address", "http://127.0.0.1:9", "--copy", "--yes", "--database", fmt.Sprintf("mysql: deployed_cms@127.0.0.1:%d/deployed_copy", s.port), "--password-file", w.path("copy.pw")}, folder...)
	}
	before := snapshot(t, w.path("app"))
	w.fails(1, []string{"holds a further folder shared", "--folder shared=FOLDER"}, move()...)
	w.fails(1, []string{w.path("app/shared") + " belongs to site kestrelpoint"}, move("--folder", "shared="+w.path("app/shared"))...)
	w.fails(1, []string{"one inside the other"}, move("--folder", "shared="+w.path("practice/shared"))...)
	w.fails(2, []string{`"other=/x" is no folder of the archive`}, move("--folder", "other=/x")...)
	w.write("taken/by.txt", "somebody")
	w.fails(1, []string{w.path("taken") + ", which is not empty"}, move("--folder", "shared="+w.path("taken"))...)
	w.fails(4, []string{"Came up"}, move("--folder", "shared="+w.path("practice-shared"))...)
	assert.Contains(t, w.read("practice/wp-config.php"), "deployed_copy")
	for name, want := range map[string]string{"wp-config.php": "practice-shared/settings.php", "wp-content/uploads": "practice-shared/media"} {
		to, err := os.Readlink(w.path("practice", name))
		require.NoError(t, err)
		assert.Equal(t, w.path(want), to)
	}
	assert.FileExists(t, w.path("practice-shared/media/2026/11/lens.jpg"))
	assert.Equal(t, before, snapshot(t, w.path("app")), "the old site is left alone")
}

package e2e

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A portable file opens without Revlet, and comes back with it: on the same
// machine, on one that has never seen the site, and straight into a restore.
func TestAPortableFileGoesThereAndBack(t *testing.T) {
	t.Parallel()
	need(t, "unzip", "tar", "zstd", "sqlite3")
	for _, file := range []string{"museum.zip", "museum.tar", "museum.tar.zst"} {
		t.Run(file, func(t *testing.T) {
			w, _ := museum(t)
			w.run("backup", "--note", "to take along")
			tree, content := snapshot(t, w.path("htdocs"), "data", "cache/home.html"), rows(t, w)
			w.run("export", "kestrelpoint", file)
			w.fails(1, []string{"exists already"}, "export", "kestrelpoint", file)
			require.NoError(t, os.Mkdir(w.path("plain"), 0o755))
			if file == "museum.zip" {
				sh(t, fmt.Sprintf("cd %s && unzip -q museum.zip -d plain", w.dir))
			} else {
				sh(t, fmt.Sprintf("cd %s && tar --auto-compress -xf %s -C plain", w.dir, file))
			}
			assert.FileExists(t, w.path("plain/files/webroot/uploads/2026/lens.svg"))
			sh(t, fmt.Sprintf("cd %s && sqlite3 -bail check.db < database/main.sql && sqlite3 check.db 'SELECT count(*) FROM opening_hours' | grep -q '^[1-9]'", w.path("plain")))

			breakMuseum(t, w)
			w.run("restore", file, "--yes")
			assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
			assert.Equal(t, content, rows(t, w))
			left, err := filepath.Glob(w.path("state/spool/*"))
			require.NoError(t, err)
			assert.Empty(t, left)
			w.run("settle", "kestrelpoint", "--unsaved", "--yes")
			w.fails(1, []string{"is in the store already"}, "import", file)

			loseTheMachine(w)
			w.fails(2, []string{"--store"}, "import", file)
			w.run("import", file, "--store", "./archives")
			w.run("verify")
			assert.Contains(t, w.run("archives"), "to take along")
			w.fails(2, []string{"nobody has confirmed"}, "restore", "kestrelpoint", "--yes")
			w.run("restore", "kestrelpoint", "--root", w.path("htdocs"), "--yes")
			assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
			assert.Equal(t, content, rows(t, w))
		})
	}
}

func TestPiecesOfAPortableFile(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	w.run("export", "kestrelpoint", "museum.zip", "--split", "200 kB")
	pieces, err := filepath.Glob(w.path("museum.zip.0*"))
	require.NoError(t, err)
	require.Greater(t, len(pieces), 4)
	sh(t, fmt.Sprintf("cd %s && sha256sum -c museum.zip.sha256 && cat museum.zip.0* > joined.zip && unzip -tq joined.zip", w.dir))
	require.NoError(t, os.RemoveAll(w.path("archives/kestrelpoint")))
	in := func(args ...string) []string { return append([]string{"import"}, args...) }
	aside := func(piece string) func() {
		require.NoError(t, os.Rename(piece, w.path("elsewhere")))
		return func() { require.NoError(t, os.Rename(w.path("elsewhere"), piece)) }
	}

	back := aside(pieces[2])
	w.fails(1, []string{"piece 3 of", "museum.zip.003", "missing"}, in("museum.zip.001")...)
	back()
	back = aside(pieces[len(pieces)-1])
	w.fails(1, []string{filepath.Base(pieces[len(pieces)-1]), "missing"}, in("museum.zip.001")...)
	back()
	whole, err := os.ReadFile(pieces[1])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(pieces[1], whole[:100], 0o600))
	w.fails(1, []string{"museum.zip.002", "cut, damaged, or of another archive"}, in("museum.zip")...)
	first, err := os.ReadFile(pieces[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(pieces[1], first, 0o600))
	w.fails(1, []string{"the same piece", "museum.zip.002 is missing"}, in("museum.zip")...)
	require.NoError(t, os.WriteFile(pieces[1], whole, 0o600))
	// Two pieces have changed names: their digests tell which is which.
	require.NoError(t, os.WriteFile(pieces[0], whole, 0o600))
	require.NoError(t, os.WriteFile(pieces[1], first, 0o600))
	given := slices.Clone(pieces)
	slices.Reverse(given)
	w.run(in(given...)...)
	w.run("verify")

	// Without the digests the names have to do.
	require.NoError(t, os.RemoveAll(w.path("archives/kestrelpoint")))
	require.NoError(t, os.WriteFile(pieces[0], first, 0o600))
	require.NoError(t, os.WriteFile(pieces[1], whole, 0o600))
	require.NoError(t, os.Remove(w.path("museum.zip.sha256")))
	back = aside(pieces[1])
	w.fails(1, []string{"museum.zip.002 is missing"}, in("museum.zip")...)
	back()
	back = aside(pieces[len(pieces)-1])
	w.fails(1, []string{"cut or no ZIP file"}, in("museum.zip")...)
	back()
	require.NoError(t, os.WriteFile(pieces[1], whole[:100], 0o600))
	w.fails(1, []string{"museum.zip.002", "cut or of another archive"}, in("museum.zip")...)
	require.NoError(t, os.WriteFile(pieces[1], whole, 0o600))
	w.run(in(given...)...)
	w.run("verify")
}

// handMade packs a webroot as people do, into a ZIP or a tar.gz, with or
// without a folder around it.
func handMade(t *testing.T, root, file, around string) {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	gz := gzip.NewWriter(&out)
	tw := tar.NewWriter(gz)
	isZip := strings.HasSuffix(file, ".zip")
	require.NoError(t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := os.Stat(p)
		if err != nil || d.IsDir() || !info.Mode().IsRegular() {
			return nil
		}
		rel, _ := filepath.Rel(root, p)
		data, err := os.ReadFile(p)
		require.NoError(t, err)
		if isZip {
			f, err := z.CreateHeader(&zip.FileHeader{Name: around + rel, Modified: info.ModTime(), Method: zip.Deflate})
			require.NoError(t, err)
			_, err = f.Write(data)
			return err
		}
		require.NoError(t, tw.WriteHeader(&tar.Header{Name: "./" + around + rel, Mode: 0o644, Size: int64(len(data)), ModTime: info.ModTime()}))
		_, err = tw.Write(data)
		return err
	}))
	if isZip {
		require.NoError(t, z.Close())
	} else {
		require.NoError(t, tw.Close())
		require.NoError(t, gz.Close())
	}
	require.NoError(t, os.WriteFile(file, out.Bytes(), 0o600))
}

// What people have made by hand, a file archive and an SQL dump, becomes an
// archive that verifies and restores a real CMS.
func TestAHandMadeCopyIsTakenIn(t *testing.T) {
	t.Parallel()
	need(t, "mariadb-dump", "gzip")
	w, s, address := wordpress(t, "hand_cms")
	w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	s.exec(t, "GRANT ALL ON `rv\\_%`.* TO 'hand_cms'@'127.0.0.1'") // staged in a database of its own
	_, page := get(t, address+"/")
	tables := s.describe(t, "hand_cms")
	handMade(t, w.path("htdocs"), w.path("site.zip"), "public_html/")
	handMade(t, w.path("htdocs"), w.path("site.tar.gz"), "")
	sh(t, fmt.Sprintf("cd %s && mariadb-dump --no-defaults -uroot --socket=%s hand_cms > dump.sql && gzip -k dump.sql", w.dir, s.socket))

	text, err := os.ReadFile(w.path("dump.sql"))
	require.NoError(t, err)
	w.write("cut.sql", string(text[:bytes.LastIndex(text, []byte("INSERT INTO"))+300]))
	w.fails(1, []string{"cut.sql", "it is cut"}, "import", "site.zip", "cut.sql", "--site", "kestrelpoint")
	w.fails(2, []string{"--site"}, "import", "site.zip", "dump.sql")
	w.fails(1, []string{"only SQL"}, "import", "dump.sql", "--site", "kestrelpoint")
	require.NoError(t, os.Truncate(w.path("site.tar.gz"), 1<<20))
	w.fails(1, []string{"site.tar.gz", "cut or damaged"}, "import", "site.tar.gz", "dump.sql", "--site", "kestrelpoint")
	handMade(t, w.path("htdocs"), w.path("site.tar.gz"), "")

	for _, files := range [][]string{{"site.zip", "dump.sql.gz"}, {"dump.sql", "site.tar.gz"}} {
		w.run(append([]string{"import", "--site", "kestrelpoint"}, files...)...)
		w.run("verify")
		require.NoError(t, os.RemoveAll(w.path("htdocs/wp-includes")))
		s.exec(t, "USE hand_cms; DROP TABLE kp_options, kp_posts")
		_, broken := get(t, address+"/")
		require.NotEqual(t, page, broken)
		w.run("restore", w.newest(), "--yes")
		status, now := get(t, address+"/")
		assert.Equal(t, 200, status)
		assert.Equal(t, page, now)
		assert.Equal(t, tables, live(s.describe(t, "hand_cms")))
		r := w.try("compare", w.newest())
		assert.NotContains(t, r.out, "added    ", "nothing was added: %s", r.out)
		assert.Contains(t, r.out, "Not compared: database main")
		if files[0] == "site.zip" {
			tried := w.run("rehearse", w.newest())
			assert.Contains(t, tried, "Restores:")
			assert.Contains(t, tried, "it loads; what another program has written is not compared row by row")
		}
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		rowsOfAHandMadeCopy(t, w, s)
		// Shared hosting: from now on tables are staged beside the live ones.
		if files[0] == "site.zip" {
			s.exec(t, "REVOKE ALL PRIVILEGES ON `rv\\_%`.* FROM 'hand_cms'@'127.0.0.1'")
		}
	}
	// A name that leads out is refused, and nothing is written there.
	var evil bytes.Buffer
	z := zip.NewWriter(&evil)
	_, err = z.Create("../../evil.php")
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(w.path("evil.zip"), evil.Bytes(), 0o600))
	w.fails(1, []string{"leads out of the folder"}, "import", "evil.zip", "--site", "kestrelpoint")
}

// rowsOfAHandMadeCopy puts back a table, and a row with what belongs to it, out of the
// newest archive, whose database is text of another program.
func rowsOfAHandMadeCopy(t *testing.T, w *world, s *server) {
	t.Helper()
	want := s.describe(t, "hand_cms")
	s.exec(t, "USE hand_cms; DELETE FROM kp_postmeta WHERE post_id = 1; DELETE FROM kp_comments; DELETE FROM kp_posts WHERE ID = 1; UPDATE kp_options SET option_value = 'gone' WHERE option_name = 'blogname'; INSERT INTO kp_posts (ID, post_title, post_content, post_excerpt, to_ping, pinged, post_content_filtered) VALUES (4711, 'since', '', '', '', '', '')")
	broken := s.describe(t, "hand_cms")
	w.fails(1, []string{"no table \"lamps\"", "kp_options"}, "restore", w.newest(), "--table", "lamps", "--yes")
	out := w.run("restore", w.newest(), "--table", "options", "--rows", "posts:ID=1", "--yes")
	assert.Contains(t, out, "table kp_options becomes the archive's")
	s.exec(t, "USE hand_cms; DELETE FROM kp_posts WHERE ID = 4711")
	now := s.describe(t, "hand_cms")
	for table := range want {
		if !strings.Contains(table, "rv_old_") {
			assert.Equal(t, autoIncrement.ReplaceAllString(want[table], ""), autoIncrement.ReplaceAllString(now[table], ""), table)
		}
	}
	s.exec(t, "USE hand_cms; INSERT INTO kp_posts (ID, post_title, post_content, post_excerpt, to_ping, pinged, post_content_filtered) VALUES (4711, 'since', '', '', '', '', '')")
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, "hand_cms"))
	w.run("restore", w.newest(), "--only", "database", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
}

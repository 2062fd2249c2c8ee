package e2e

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A real CMS of which only the files are reached by FTP, and the database from here: saved,
// broken, put back, taken back and settled, over two real servers.
func TestWordPressOverFTP(t *testing.T) {
	if os.Getenv("REVLET_LONG") == "" {
		t.Skip("only with `make test-long`: over FTP a WordPress takes minutes")
	}
	t.Parallel()
	for name, open := range map[string]func(t *testing.T, w *world) ftpSite{
		"proftpd with TLS": ftpSites["proftpd with TLS"],
		"pyftpdlib": func(t *testing.T, w *world) ftpSite {
			return ftpSite{fmt.Sprintf("plain-ftp://keeper@127.0.0.1:%d/htdocs", pyFTPd(t, w, 12, false)), "password_file: " + w.path("ftp.pw"), exact}
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := ownMariadb(t)
			w, address := wordpressOn(t, s, "museum_cms")
			// Where people have FTP, nothing of a site is a link of the host's packages.
			sh(t, fmt.Sprintf(`cd %s && find . -type l -exec sh -c 'cp -rL "$1" "$1.real" && rm "$1" && mv "$1.real" "$1"' - {} \;`, w.path("htdocs")))
			w.write("ftp.pw", "practice\n")
			w.write("db.pw", `it's "made" up\`)
			ftp := open(t, w)
			require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
			w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: %q\n    reach: {%s}\n    address: %s\n    recipe: wordpress\n    stores: [here]\n    databases: {main: {mysql: \"museum_cms@127.0.0.1:%d/museum_cms\", password_file: ./db.pw}}\n    check: {path: /, status: 200, contains: Kestrel Point}\n",
				ftp.root, ftp.reach, address, s.port))
			state := func() (map[string]string, map[string]string, string) {
				_, page := get(t, address+"/?p=1")
				tree := ftpTree(t, w, ftp)
				delete(tree, "wp-content/cache/page.html")
				return tree, live(s.describe(t, "museum_cms")), page
			}
			get(t, address+"/")
			files, tables, page := state()
			w.run("backup")
			w.run("verify", "--full")

			require.NoError(t, os.RemoveAll(w.path("htdocs/wp-content/themes/twentytwentythree")))
			w.write("htdocs/wp-content/uploads/2026/11/planted.php", "<?php system($_GET['c']);")
			w.write("htdocs/wp-load.php", "<?php die('defaced');")
			s.exec(t, "USE museum_cms; DROP TABLE kp_posts; UPDATE kp_options SET option_value = 'Broken' WHERE option_name = 'blogname'")
			broken, brokenTables, _ := state()
			r := w.fails(4, []string{"planted.php", "wp-load.php", "kp_posts"}, "compare", "kestrelpoint")
			assert.Contains(t, r.out, "twentytwentythree")
			w.run("restore", "kestrelpoint", "--yes")
			back, backTables, backPage := state()
			assert.Equal(t, files, back)
			assert.Equal(t, tables, backTables)
			assert.Equal(t, page, backPage)
			w.run("undo", "kestrelpoint", "--yes")
			back, backTables, _ = state()
			assert.Equal(t, broken, back)
			assert.Equal(t, brokenTables, backTables)
			w.run("restore", "kestrelpoint", "--yes")
			w.run("settle", "kestrelpoint", "--yes", "--unsaved")
			back, backTables, backPage = state()
			assert.Equal(t, files, back)
			assert.Equal(t, tables, backTables)
			assert.Equal(t, page, backPage)
			assert.Empty(t, leftBeside(t, w))
		})
	}
}

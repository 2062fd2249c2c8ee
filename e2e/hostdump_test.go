package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostDump is what a job of a host leaves of the museum's database.
const hostDump = `-- written by the host
SET NAMES utf8mb4;
DROP TABLE IF EXISTS ` + "`wp_options`" + `;
CREATE TABLE ` + "`wp_options`" + ` (` + "`option_id`" + ` bigint unsigned NOT NULL AUTO_INCREMENT, ` + "`option_name`" + ` varchar(191) NOT NULL, ` + "`option_value`" + ` longtext NOT NULL, PRIMARY KEY (` + "`option_id`" + `)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
INSERT INTO ` + "`wp_options`" + ` VALUES (1,'home','https://kestrelpoint.example'),(2,'blogname','%s');
`

// leaveDump writes a dump as a host's job does, gzipped, at a time.
func leaveDump(t *testing.T, w *world, name, text string, at time.Time) {
	w.write("account/backups/"+name, text)
	sh(t, fmt.Sprintf("cd %s && gzip -f %q", w.path("account/backups"), name))
	require.NoError(t, os.Chtimes(w.path("account/backups", name+".gz"), at, at))
}

// With FTP and a database that only the host reaches, the dump that the host's own job
// leaves is what is saved: the newest, whole, and with an alarm when it is old.
func TestADumpThatTheHostLeaves(t *testing.T) {
	t.Parallel()
	need(t, "mariadbd", "gzip")
	w := newWorld(t)
	for name, text := range map[string]string{
		"wp-includes/version.php": "<?php\n$wp_version = '6.1';\n", "wp-load.php": "<?php\n", "index.php": "<?php\n", ".htaccess": "# none\n",
		"wp-config.php": "<?php\ndefine('DB_NAME', 'museum');\ndefine('DB_USER', 'museum');\ndefine('DB_PASSWORD', 'lamp');\ndefine('DB_HOST', 'db.host.invalid');\n$table_prefix = 'wp_';\n",
	} {
		w.write("account/htdocs/"+name, text)
	}
	w.write("ftp.pw", "practice\n")
	ftp := &world{t: t, dir: w.path("account"), tmp: w.tmp}
	root := fmt.Sprintf("plain-ftp://keeper@127.0.0.1:%d/htdocs", pyFTPd(t, ftp, 8, false))
	adopt := []string{"adopt", root, "--name", "kestrelpoint", "--store", w.path("archives"), "--password-file", w.path("ftp.pw"), "--address", "https://kestrelpoint.example/"}
	w.fails(1, []string{"database"}, adopt...)
	w.fails(1, []string{"no dump of the host's"}, append(adopt, "--dump", "backups/*.sql.gz")...)

	w.fails(2, []string{"how old a dump may be"}, append(adopt, "--dump-at-most", "1 day")...)
	w.fails(2, []string{"how old a dump may be"}, append(adopt, "--dump", "backups/*.sql.gz", "--dump-at-most", "soon")...)

	now := time.Now()
	leaveDump(t, w, "museum-1.sql", fmt.Sprintf(hostDump, "Of the day before"), now.Add(-30*time.Hour))
	leaveDump(t, w, "museum-2.sql", fmt.Sprintf(hostDump, "Kestrel Point"), now.Add(-2*time.Hour))
	leaveDump(t, w, "other.txt", "not this one", now)
	w.run(append(adopt, "--dump", "backups/*.sql.gz", "--dump-at-most", "1 day")...)
	assert.Contains(t, w.read("revlet.yaml"), `main: {dump: {path: "backups/*.sql.gz", at_most: 1 day}}`)
	assert.Contains(t, w.run("preflight"), "museum-2.sql.gz")

	w.step(t, "the newest is saved, restores, and is not compared", func(t *testing.T) {
		w.run("backup")
		w.run("verify", "--full")
		assert.Contains(t, w.run("show", "kestrelpoint"), "as the host's job has written it")
		w.run("rehearse")
		w.run("export", "kestrelpoint", w.path("out.tar"))
		out, err := exec.Command("sh", "-c", fmt.Sprintf("tar -xOf %s --wildcards '*.sql' | grep -c 'Kestrel Point'", w.path("out.tar"))).CombinedOutput()
		require.NoError(t, err, string(out))
		w.fails(3, []string{"Not compared", "main"}, "compare", "kestrelpoint")
	})
	w.step(t, "a job that has stopped is noticed", func(t *testing.T) {
		w.clock = now.Add(30 * time.Hour)
		w.fails(4, []string{"dump-old", "more than 1 day"}, "status")
		w.clock = time.Time{}
		require.NoError(t, os.Remove(w.path("account/backups/museum-2.sql.gz")))
		w.fails(1, []string{"1 day old"}, "preflight")
		w.fails(3, []string{"database/main", "1 day old", "museum-1.sql.gz"}, "backup")
		w.fails(4, []string{"dump-old"}, "status")
	})
	w.step(t, "a time in the future says nothing", func(t *testing.T) {
		leaveDump(t, w, "museum-9.sql", fmt.Sprintf(hostDump, "Of tomorrow"), now.Add(240*time.Hour))
		w.fails(3, []string{"database/main", "in the future"}, "backup")
		w.fails(4, []string{"dump-old", "in the future"}, "status")
		require.NoError(t, os.Remove(w.path("account/backups/museum-9.sql.gz")))
	})
	w.step(t, "the files come back without the database", func(t *testing.T) {
		w.write("account/htdocs/index.php", "<?php die('defaced');")
		w.fails(1, []string{"nothing was changed", "--only files"}, "restore", "kestrelpoint", "--yes")
		w.fails(4, []string{"paths put back"}, "restore", "kestrelpoint", "--only", "files", "--yes") // its address is no one's
		assert.Equal(t, "<?php\n", w.read("account/htdocs/index.php"))
		w.run("undo", "kestrelpoint", "--yes")
		assert.Contains(t, w.read("account/htdocs/index.php"), "defaced")
	})
	w.step(t, "one that is cut is not taken", func(t *testing.T) {
		leaveDump(t, w, "museum-3.sql", fmt.Sprintf(hostDump, "Cut"), now)
		require.NoError(t, os.Truncate(w.path("account/backups/museum-3.sql.gz"), 100))
		before := w.newest()
		w.fails(1, []string{"museum-3.sql.gz", "unexpected EOF"}, "backup")
		assert.Equal(t, before, w.newest())
		leaveDump(t, w, "museum-3.sql", "", now)
		w.fails(1, []string{"it is empty"}, "backup")
		// Its gzip is whole, for it is the program that wrote it that died.
		leaveDump(t, w, "museum-3.sql", hostDump[:len(hostDump)-20], now)
		w.fails(1, []string{"museum-3.sql.gz", "it is cut"}, "backup")
		assert.Equal(t, before, w.newest())
	})
}

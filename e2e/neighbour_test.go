package e2e

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
)

// The account of every site might use what any site of the same server had staged and set aside: whoever broke into one read the
// others' passwords there, and wrote into what was about to go live.
func TestAnotherSitesAccountReachesNothingThatIsSetAside(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t)
	granted := func(user, db string) []string {
		return database.Setup{Engine: "mysql", User: user, Name: db}.Grants(fmt.Sprintf("'%s'@'127.0.0.1'", user))
	}
	w := described(t, s, "light_house", granted("museum", "light_house")...)
	s.exec(t, "CREATE DATABASE shop; CREATE USER 'shop'@'127.0.0.1' IDENTIFIED BY 'x'")
	for _, grant := range granted("shop", "shop") {
		s.exec(t, grant)
	}
	databasesOf := func(user string) string {
		db, err := sql.Open("mysql", fmt.Sprintf("%s:x@tcp(127.0.0.1:%d)/", user, s.port))
		require.NoError(t, err)
		defer db.Close()
		rows, err := db.Query("SHOW DATABASES")
		require.NoError(t, err)
		all, err := database.Texts(rows)
		require.NoError(t, err)
		return fmt.Sprint(all)
	}

	s.exec(t, "CREATE TABLE light_house.keepers (id INT PRIMARY KEY, password VARCHAR(99)); INSERT INTO light_house.keepers VALUES (1, 'secret')")
	w.run("backup")
	s.exec(t, "UPDATE light_house.keepers SET password = 'planted'")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	aside := s.column(t, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE 'rv\\_old%'")
	require.Len(t, aside, 1)
	assert.Contains(t, databasesOf("museum"), aside[0])
	assert.NotContains(t, databasesOf("shop"), "rv_")

	assert.NotContains(t, w.run("preflight"), "may do more")
	for right, said := range map[string]string{
		"ALL ON `rv\\_%`.*": "use the database `rv\\_%`", "SELECT ON shop.*": "use the database `shop`", "SELECT ON *.*": "use all databases",
	} {
		s.exec(t, "GRANT "+right+" TO 'museum'@'127.0.0.1'")
		assert.Contains(t, w.run("preflight"), "may do more than use it ("+said+")")
		s.exec(t, "REVOKE "+strings.Replace(right, "ALL", "ALL PRIVILEGES", 1)+" FROM 'museum'@'127.0.0.1'")
	}
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, []string{"planted"}, s.column(t, "SELECT password FROM light_house.keepers"))
}

// A server lets accounts of its machine in at its socket without a password. A site's settings that named root had all databases
// of the server lent, for root is whom Revlet runs as.
func TestSettingsGetNoRightsOfRootAtADatabaseServer(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root has rights to lend")
	}
	t.Parallel()
	s := ownMariadb(t)
	require.NoError(t, os.Chmod(filepath.Dir(s.socket), 0o711))
	s.exec(t, "ALTER USER 'root'@'localhost' IDENTIFIED VIA unix_socket")
	w := settled(t, s)
	settings := w.path("htdocs/wp-config.php")
	w.edit("htdocs/wp-config.php", fmt.Sprintf("'127.0.0.1:%d'", s.port), "'localhost:"+s.socket+"'")
	w.edit("htdocs/wp-config.php", "define('DB_USER', 'museum')", "define('DB_USER', 'root')")
	w.edit("htdocs/wp-config.php", "'museum'", "'shop'")
	w.run("backup", "--scope", "database")
	require.NoError(t, os.RemoveAll(w.path("state")))
	require.NoError(t, os.RemoveAll(w.path("archives")))
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	for _, change := range []string{"chown 65534 ", "chown 0:65534 ", "chmod g=rw ", "chgrp 0 ", "chmod o=rw "} {
		sh(t, change+settings)
		if change == "chown 0:65534 " || change == "chgrp 0 " {
			continue // still root's alone
		}
		w.fails(1, []string{`refuses user "root" to the account #65534`}, "backup", "--scope", "database")
		w.fails(1, []string{`refuses user "root" to the account #65534`}, "preflight")
	}

	s.exec(t, "CREATE USER 'nobody'@'localhost' IDENTIFIED VIA unix_socket; GRANT ALL ON museum.* TO 'nobody'@'localhost'")
	w.edit("htdocs/wp-config.php", "'shop'", "'museum'")
	w.edit("htdocs/wp-config.php", "define('DB_USER', 'root')", "define('DB_USER', 'nobody')")
	sh(t, "chmod 600 "+settings+" && chown 65534:65534 "+settings)
	w.run("backup")
	want := s.describe(t, "museum")
	s.exec(t, "DROP TABLE museum.kp_posts")
	broken := s.describe(t, "museum")
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, want, live(s.describe(t, "museum")))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, "museum"), "the journal knows whom it was spoken for")
}

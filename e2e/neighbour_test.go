package e2e

import (
	"database/sql"
	"fmt"
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

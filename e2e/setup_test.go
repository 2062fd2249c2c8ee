package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
)

// block is the SQL that an error tells an administrator to run.
func block(t *testing.T, said string) string {
	t.Helper()
	_, after, found := strings.Cut(said, "run this as the server's administrator")
	require.True(t, found, said)
	_, after, _ = strings.Cut(after, ":\n")
	var lines []string
	for line := range strings.SplitSeq(strings.TrimSpace(after), "\n") {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "next:") {
			break
		}
		lines = append(lines, line)
	}
	return strings.ReplaceAll(strings.Join(lines, "\n"), database.Placeholder, "made up")
}

// On a bare server one block of SQL makes all that is missing: database, account, rights.
func TestABareServerIsToldInOneBlock(t *testing.T) {
	s := mariadb(t)
	const name = "bare_100%"
	w := newWorld(t)
	s.exec(t, "CREATE DATABASE `"+name+"` CHARACTER SET latin1 COLLATE latin1_german1_ci; CREATE TABLE `"+name+"`.pages (title VARCHAR(40)) CHARACTER SET latin1; INSERT INTO `"+name+"`.pages VALUES ('Grüße'); CREATE USER 'o''keeper'@'127.0.0.1' IDENTIFIED BY 'made up', 'o''keeper'@'localhost' IDENTIFIED BY 'made up'; GRANT ALL ON *.* TO 'o''keeper'@'127.0.0.1', 'o''keeper'@'localhost'")
	t.Cleanup(func() {
		s.exec(t, "DROP DATABASE IF EXISTS `"+name+"`; DROP USER IF EXISTS 'o''keeper'@'127.0.0.1', 'o''keeper'@'localhost', 'o''keeper'@'%'")
	})
	w.write("htdocs/index.html", "a page")
	w.write("db.pw", "made up")
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("revlet.yaml", fmt.Sprintf("stores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: {mysql: \"o'keeper@127.0.0.1:%d/%s\", password_file: ./db.pw}}\n", s.port, name))
	w.run("backup")
	want := s.describe(t, name)
	for what, spoil := range map[string]string{
		"nothing is there":                "DROP DATABASE `" + name + "`; DROP USER IF EXISTS 'o''keeper'@'127.0.0.1', 'o''keeper'@'localhost', 'o''keeper'@'%'",
		"the account comes from anywhere": "DROP DATABASE `" + name + "`; DROP USER IF EXISTS 'o''keeper'@'127.0.0.1', 'o''keeper'@'localhost', 'o''keeper'@'%'; CREATE USER 'o''keeper'@'%' IDENTIFIED BY 'made up'",
		"the account has no right":        "DROP DATABASE `" + name + "`; DROP USER IF EXISTS 'o''keeper'@'127.0.0.1', 'o''keeper'@'localhost', 'o''keeper'@'%'; CREATE USER 'o''keeper'@'localhost' IDENTIFIED BY 'made up'",
		"another password":                "DROP USER IF EXISTS 'o''keeper'@'127.0.0.1', 'o''keeper'@'localhost', 'o''keeper'@'%'; CREATE USER 'o''keeper'@'localhost' IDENTIFIED BY 'other'; DROP DATABASE `" + name + "`",
	} {
		s.exec(t, spoil)
		r := w.fails(1, []string{"nothing was changed"}, "restore", "kestrelpoint", "--only", "database", "--yes")
		assert.NotContains(t, r.out+r.err, "made up", "no secrets are shown")
		if good := strings.HasPrefix(what, "the account"); good {
			assert.NotContains(t, r.err, "USER", "another site may go by the account: it is not made, nor given a password")
			assert.NotContains(t, r.err, database.Placeholder)
		}
		s.exec(t, block(t, r.err))
		w.run("restore", "kestrelpoint", "--only", "database", "--yes")
		assert.Equal(t, want, s.describe(t, name), what)
		assert.Equal(t, []string{"latin1_german1_ci"}, s.column(t, "SELECT DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = '"+name+"'"))
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	}
}

func TestABarePostgresServerIsToldInOneBlock(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	w := pgWorld(t, s, "tower", "CREATE TABLE pages (id int PRIMARY KEY, title text); INSERT INTO pages VALUES (1, 'Grüße')")
	w.run("backup")
	want := s.describe(t, "tower")
	for _, spoil := range [][]string{{"DROP DATABASE tower", "DROP ROLE tower"}, {"DROP DATABASE tower"}} {
		for _, one := range spoil {
			s.exec(t, "postgres", one)
		}
		r := w.fails(1, []string{"nothing was changed"}, "restore", "kestrelpoint", "--only", "database", "--yes")
		for statement := range strings.SplitSeq(block(t, r.err), ";\n") {
			s.exec(t, "postgres", statement)
		}
		w.run("restore", "kestrelpoint", "--only", "database", "--yes")
		assert.Equal(t, want, s.describe(t, "tower"))
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	}
}

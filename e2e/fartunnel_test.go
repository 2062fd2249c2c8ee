package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Databases of a site on another machine are asked through the connection to it, at an address
// or a socket as its settings mean them over there: saved, put back, taken back.
func TestDatabasesThroughTheTunnel(t *testing.T) {
	t.Parallel()
	pg, maria := postgres(t), mariadb(t)
	pg.exec(t, "postgres", "CREATE ROLE tunnel LOGIN")
	w := newWorld(t)
	w.write("htdocs/index.html", "a page")
	w.write("pw", "practice")
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	port := sshd(t, w)
	who, err := user.Current()
	require.NoError(t, err)
	config := "state: ./state\nstores: {here: {folder: ./archives}}\ndefaults: {stores: [here], recipe: none, reach: {key_file: ./ssh/id}}\nsites:\n"
	site := func(name, database string) {
		config += fmt.Sprintf("  %s: {root: %q, databases: {main: {%s}}}\n", name, fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", who.Username, port, w.path("htdocs")), database)
	}
	for _, name := range []string{"address", "socket"} {
		pg.exec(t, "postgres", "CREATE DATABASE "+name+" OWNER tunnel")
		pg.exec(t, name, "SET ROLE tunnel; CREATE TABLE exhibits (id int PRIMARY KEY, title text); INSERT INTO exhibits SELECT i, 'lens ' || i FROM generate_series(1, 500) i")
	}
	site("address", fmt.Sprintf("postgres: \"tunnel@127.0.0.1:%d/address\"", pg.Port))
	site("socket", fmt.Sprintf("postgres: \"tunnel@%s/.s.PGSQL.%d/socket\"", pg.Socket, pg.Port))
	maria.exec(t, "CREATE DATABASE tunnelled")
	maria.exec(t, "CREATE USER tunnel@localhost IDENTIFIED BY 'practice'")
	maria.exec(t, "GRANT ALL ON tunnelled.* TO tunnel@localhost")
	t.Cleanup(func() { maria.exec(t, "DROP USER tunnel@localhost"); maria.exec(t, "DROP DATABASE tunnelled") })
	maria.exec(t, "CREATE TABLE tunnelled.exhibits (id int PRIMARY KEY, title text)")
	maria.exec(t, "INSERT INTO tunnelled.exhibits VALUES (1, 'lens'), (2, 'bell')")
	site("maria", fmt.Sprintf("mysql: \"tunnel@%s/tunnelled\", password_file: ./pw", maria.socket))
	w.write("revlet.yaml", config)

	tables := func() any {
		all := maria.describe(t, "tunnelled")
		for name := range all { // the account may make no other database: what is set aside is in this one
			if strings.HasPrefix(name, "rv_") {
				delete(all, name)
			}
		}
		return all
	}
	for name, database := range map[string]struct {
		describe func() any
		spoil    func()
	}{
		"address": {func() any { return pg.describe(t, "address") }, func() { pg.exec(t, "address", "DELETE FROM exhibits WHERE id > 3") }},
		"socket":  {func() any { return pg.describe(t, "socket") }, func() { pg.exec(t, "socket", "DROP TABLE exhibits") }},
		"maria":   {tables, func() { maria.exec(t, "UPDATE tunnelled.exhibits SET title = 'gone'") }},
	} {
		good := database.describe()
		w.run("preflight", name, "--trust")
		w.run("backup", name)
		database.spoil()
		bad := database.describe()
		assert.NotEqual(t, good, bad, name)
		w.run("restore", name, "--only", "database", "--yes")
		assert.Equal(t, good, database.describe(), name)
		w.run("undo", name, "--yes")
		assert.Equal(t, bad, database.describe(), name)
	}

	shut := freePort(t)
	w.write("ssh/shut", replaceOnce(t, w.read("ssh/config"), fmt.Sprintf("Port %d\n", port), fmt.Sprintf("Port %d\nDisableForwarding yes\n", shut)))
	program, err := exec.LookPath("sshd")
	require.NoError(t, err)
	start(t, listens(shut), program, "-D", "-e", "-f", w.path("ssh/shut"))
	w.write("revlet.yaml", strings.ReplaceAll(config, fmt.Sprintf(":%d%s", port, w.path("htdocs")), fmt.Sprintf(":%d%s", shut, w.path("htdocs"))))
	for name, word := range map[string]string{"address": "`AllowTcpForwarding`", "socket": "`AllowStreamLocalForwarding`", "maria": "`AllowStreamLocalForwarding`"} {
		w.try("preflight", name, "--trust")
		w.fails(1, []string{word}, "backup", name)
	}
}

// Package mysql8 runs the built program against a database server that answers as
// MySQL 8 does: another implementation of its dialect, in memory, as MySQL itself is not
// among Debian's packages. It is a module of its own, so that nothing of it comes near
// the program. What that server does not know is named in each test.
package mysql8

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	sqle "github.com/dolthub/go-mysql-server"
	"github.com/dolthub/go-mysql-server/memory"
	"github.com/dolthub/go-mysql-server/server"
	gms "github.com/dolthub/go-mysql-server/sql"
	"github.com/dolthub/vitess/go/mysql"
	_ "github.com/go-sql-driver/mysql"
	"github.com/sirupsen/logrus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// unknown are the words that the server's parser lacks; MySQL 8.0 has them.
var unknown = strings.NewReplacer("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY", "START TRANSACTION READ ONLY",
	" ENGINE=InnoDB AS SELECT", " AS SELECT")

// handler passes queries on without them. It gives no account the right to make a
// database, as on shared hosting: the server cannot rename tables from one to another.
type handler struct{ mysql.Handler }

func (h handler) ComQuery(ctx context.Context, c *mysql.Conn, query string, callback mysql.ResultSpoolFn) error {
	if strings.HasPrefix(query, "CREATE DATABASE") {
		return mysql.NewSQLError(mysql.ERDBAccessDenied, "42000", "Access denied to database")
	}
	return h.Handler.ComQuery(ctx, c, unknown.Replace(query), callback)
}

// start runs a server with an empty database on a free port.
func start(t *testing.T, name string) (db *sql.DB, port int) {
	t.Helper()
	base := memory.NewDatabase(name)
	base.BaseDatabase.EnablePrimaryKeyIndexes()
	provider := memory.NewDBProvider(base)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s, err := server.NewServerWithHandler(server.Config{Protocol: "tcp", Listener: l, Version: "8.0.36"}, sqle.NewDefault(provider), gms.NewContext, memory.NewSessionBuilder(provider), nil,
		func(h mysql.Handler) (mysql.Handler, error) { return handler{h}, nil })
	require.NoError(t, err)
	go func() { _ = s.Start() }()
	t.Cleanup(func() { _ = s.Close() })
	port = l.Addr().(*net.TCPAddr).Port
	db, err = sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/%s?multiStatements=true", port, name))
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	require.NoError(t, db.Ping())
	return db, port
}

// program builds the program once.
func program(t *testing.T) string {
	t.Helper()
	bin := filepath.Join(t.TempDir(), "revlet")
	cmd := exec.Command("go", "build", "-o", bin, "./cmd/revlet")
	cmd.Dir, cmd.Env = "../..", append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return bin
}

// museum is a schema as MySQL 8 gives it: its own default collation, JSON, defaults
// that are expressions, generated columns, checks and foreign keys.
const museum = `
CREATE TABLE exhibits (id INT NOT NULL AUTO_INCREMENT, name VARCHAR(80) COLLATE utf8mb4_0900_ai_ci NOT NULL, facts JSON DEFAULT NULL, made DATETIME(6) DEFAULT NULL,
	weight DECIMAL(10,3) DEFAULT NULL, picture BLOB, noted TIMESTAMP NULL DEFAULT CURRENT_TIMESTAMP, PRIMARY KEY (id), UNIQUE KEY name (name), CONSTRAINT heavy CHECK (weight < 1000)) DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci;
CREATE TABLE notes (exhibit INT NOT NULL, line INT NOT NULL, text TEXT, state ENUM('draft','shown') DEFAULT 'draft', flags SET('a','b') DEFAULT NULL, ratio DOUBLE DEFAULT NULL, PRIMARY KEY (exhibit, line), CONSTRAINT of_exhibit FOREIGN KEY (exhibit) REFERENCES exhibits (id) ON DELETE CASCADE);
INSERT INTO exhibits VALUES (1, 'First-order lens 🔦', '{"panels": 8, "maker": "Marrow\'s"}', '1871-05-06 07:08:09.123456', 12.5, x'00ff27', '2026-11-20 03:20:00'), (2, 'Föhr lamp', NULL, NULL, NULL, NULL, NULL);
INSERT INTO notes VALUES (1, 1, 'a; b -- c', 'shown', 'a,b', 0.1), (1, 2, 'it''s \\ lit', 'draft', NULL, -1e300), (2, 1, NULL, NULL, '', NULL);
CREATE VIEW heavy_ones AS SELECT id, name FROM exhibits WHERE weight > 1;
`

// describe is every table's definition and rows, and every view.
func describe(t *testing.T, db *sql.DB, name string) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, table := range texts(t, db, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = '"+name+"' AND TABLE_NAME NOT LIKE 'rv!_%' ESCAPE '!'") {
		in := "`" + name + "`.`" + table[0].String + "`"
		all[table[0].String] = texts(t, db, "SHOW CREATE TABLE "+in)[0][1].String
		all[table[0].String+" rows"] = fmt.Sprint(texts(t, db, "SELECT * FROM "+in+" ORDER BY 1, 2"))
	}
	return all
}

func texts(t *testing.T, db *sql.DB, query string) (all [][]sql.NullString) {
	t.Helper()
	rows, err := db.Query(query)
	require.NoError(t, err, query)
	defer rows.Close()
	columns, err := rows.Columns()
	require.NoError(t, err)
	for rows.Next() {
		values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		require.NoError(t, rows.Scan(into...))
		all = append(all, values)
	}
	require.NoError(t, rows.Err())
	return all
}

func TestMySQL8ComesBack(t *testing.T) {
	db, port := start(t, "museum")
	_, err := db.Exec(museum)
	require.NoError(t, err)
	bin, dir := program(t), t.TempDir()
	logrus.SetLevel(logrus.PanicLevel)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "htdocs"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "archives"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "htdocs/index.html"), []byte("a page"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "revlet.yaml"), fmt.Appendf(nil, "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: {mysql: \"root@127.0.0.1:%d/museum\"}}\n", port), 0o600))
	run := func(args ...string) string {
		t.Helper()
		cmd := exec.Command(bin, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "revlet %v: %s", args, out)
		return string(out)
	}
	want := describe(t, db, "museum")
	assert.Contains(t, run("backup"), "2 tables, 5 rows")
	run("verify", "--full")
	_, err = db.Exec("DROP VIEW heavy_ones; DROP TABLE notes; UPDATE exhibits SET name = 'gone' WHERE id = 1; CREATE TABLE planted (a INT, b INT)")
	require.NoError(t, err)
	broken := describe(t, db, "museum")
	run("restore", "kestrelpoint", "--only", "database", "--yes")
	assert.Equal(t, want, describe(t, db, "museum"))
	run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, describe(t, db, "museum"))

	// A column whose default is an expression is called DEFAULT_GENERATED, and has values
	// like any other.
	run("restore", "kestrelpoint", "--only", "database", "--yes")
	run("settle", "kestrelpoint", "--unsaved", "--yes")
	_, err = db.Exec("UPDATE exhibits SET name = 'gone', noted = NULL WHERE id = 1")
	require.NoError(t, err)
	run("restore", "kestrelpoint", "--rows", "exhibits:id=1", "--yes")
	assert.Equal(t, want, describe(t, db, "museum"))
	run("settle", "kestrelpoint", "--unsaved", "--yes")

	// As the dump client of MySQL 8 writes it.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "museum.sql"), []byte(dump), 0o600))
	run("restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
	assert.Equal(t, "[[{1 true} {a lamp true}]]", describe(t, db, "museum")["lamps rows"])
	assert.NotContains(t, describe(t, db, "museum"), "exhibits")
	run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, want, describe(t, db, "museum"))
}

const dump = `-- MySQL dump 10.13  Distrib 8.0.36, for Linux (x86_64)
/*!40101 SET @OLD_CHARACTER_SET_CLIENT=@@CHARACTER_SET_CLIENT */;
/*!50503 SET NAMES utf8mb4 */;
/*!40103 SET @OLD_TIME_ZONE=@@TIME_ZONE */;
/*!40103 SET TIME_ZONE='+00:00' */;
/*!40014 SET @OLD_UNIQUE_CHECKS=@@UNIQUE_CHECKS, UNIQUE_CHECKS=0 */;
/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO' */;
SET @MYSQLDUMP_TEMP_LOG_BIN = @@SESSION.SQL_LOG_BIN;
SET @@SESSION.SQL_LOG_BIN= 0;
SET @@GLOBAL.GTID_PURGED=/*!80000 '+'*/ '';
CREATE DATABASE /*!32312 IF NOT EXISTS*/ ` + "`museum`" + ` /*!40100 DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_0900_ai_ci */ /*!80016 DEFAULT ENCRYPTION='N' */;
USE ` + "`museum`" + `;
DROP TABLE IF EXISTS ` + "`lamps`" + `;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!50503 SET character_set_client = utf8mb4 */;
CREATE TABLE ` + "`lamps`" + ` (
  ` + "`id`" + ` int NOT NULL,
  ` + "`name`" + ` varchar(40) COLLATE utf8mb4_0900_ai_ci DEFAULT NULL,
  PRIMARY KEY (` + "`id`" + `)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci;
/*!40101 SET character_set_client = @saved_cs_client */;
LOCK TABLES ` + "`lamps`" + ` WRITE;
/*!40000 ALTER TABLE ` + "`lamps`" + ` DISABLE KEYS */;
INSERT INTO ` + "`lamps`" + ` VALUES (1,'a lamp');
/*!40000 ALTER TABLE ` + "`lamps`" + ` ENABLE KEYS */;
UNLOCK TABLES;
SET @@SESSION.SQL_LOG_BIN = @MYSQLDUMP_TEMP_LOG_BIN;
/*!40101 SET SQL_MODE=@OLD_SQL_MODE */;
/*!40101 SET CHARACTER_SET_CLIENT=@OLD_CHARACTER_SET_CLIENT */;
-- Dump completed on 2026-11-27 12:00:00
`

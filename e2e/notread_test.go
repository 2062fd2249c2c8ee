package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tablesOf are the digests of an archive's rows by table and slice, and how many tables were not read for it.
func (w *world) tablesOf(name string) (digests map[string]string, notRead int) {
	w.t.Helper()
	data, err := os.ReadFile(w.path("archives/kestrelpoint/archives", name+".json"))
	require.NoError(w.t, err)
	var rec struct {
		Parts []struct {
			Kind, Table   string
			Slice         int
			ContentSHA256 string `json:"content_sha256"`
		}
		Origin struct {
			Databases map[string]struct {
				NotRead int `json:"not_read"`
			}
		}
		Totals map[string]int64
	}
	require.NoError(w.t, json.Unmarshal(data, &rec))
	digests = map[string]string{"totals": fmt.Sprint(rec.Totals["tables"], rec.Totals["rows"], rec.Totals["database_bytes"])}
	for _, p := range rec.Parts {
		if p.Kind != "files" && p.Kind != "tree" {
			digests[fmt.Sprint(p.Kind, " ", p.Table, " ", p.Slice)] = p.ContentSHA256
		}
	}
	return digests, rec.Origin.Databases["main"].NotRead
}

// What the server vouches for is not read again; whatever changes a table, in whatever way, is. Every archive is held against one
// for which everything is read.
func TestTablesThatAreNotReadAgain(t *testing.T) {
	t.Parallel()
	for name, grant := range map[string]string{"locks its tables": "", "locks all": "GRANT RELOAD ON *.* TO 'museum'@'127.0.0.1'"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := ownMariadb(t)
			var grants []string
			if grant != "" {
				grants = append(grants, grant)
			}
			notRead(t, s, described(t, s, "vouched", grants...))
		})
	}
}

// takenNotRead takes an archive, for which at least so many tables are not read, or none if that is 0, and holds it against one for
// which everything is read.
func (w *world) takenNotRead(least int, what string) {
	w.t.Helper()
	out := w.run("backup")
	now, notRead := w.tablesOf(w.newest())
	if least == 0 {
		assert.Zero(w.t, notRead, what)
	} else {
		assert.GreaterOrEqual(w.t, notRead, least, what)
		assert.Contains(w.t, out, fmt.Sprintf("not read: %d tables unchanged since kestrelpoint-", notRead))
		assert.Contains(w.t, w.run("show", "kestrelpoint"), fmt.Sprintf("not read: %d tables", notRead))
	}
	last := w.newest()
	w.run("backup", "--fresh")
	all, none := w.tablesOf(w.newest())
	require.NotEqual(w.t, last, w.newest())
	assert.Zero(w.t, none, "--fresh reads everything")
	assert.Equal(w.t, all, now, what)
}

func notRead(t *testing.T, s *server, w *world) {
	exec := func(q string) { s.exec(t, "USE vouched; "+q) }
	for _, table := range strings.Fields("quiet still updated inserted deleted replaced loaded bulk fired target swap_a swap_b truncated recreated timed open prepared back altered instant imported late rolled") {
		exec(fmt.Sprintf("CREATE TABLE %[1]s (id INT PRIMARY KEY, v VARCHAR(40)) ENGINE=InnoDB; INSERT INTO %[1]s VALUES (1, '%[1]s'), (2, 'b')", table))
	}
	exec("CREATE TABLE parent (id INT PRIMARY KEY) ENGINE=InnoDB; CREATE TABLE child (id INT PRIMARY KEY, p INT, FOREIGN KEY (p) REFERENCES parent (id) ON DELETE CASCADE) ENGINE=InnoDB; INSERT INTO parent VALUES (1), (2); INSERT INTO child VALUES (1, 1), (2, 2)")
	exec("CREATE TABLE parts (id INT PRIMARY KEY, v VARCHAR(40)) ENGINE=InnoDB PARTITION BY HASH (id) PARTITIONS 3; INSERT INTO parts VALUES (1, 'a'), (2, 'b')")
	exec("CREATE TABLE plain (id INT PRIMARY KEY, v VARCHAR(40)) ENGINE=MyISAM; INSERT INTO plain VALUES (1, 'a')")
	exec("CREATE TABLE past (id INT PRIMARY KEY, v VARCHAR(40)) ENGINE=InnoDB WITH SYSTEM VERSIONING; INSERT INTO past VALUES (1, 'a'); CREATE SEQUENCE counted; DELETE FROM bulk")
	exec("CREATE TRIGGER fires AFTER INSERT ON fired FOR EACH ROW UPDATE target SET v = NEW.v")
	exec("CREATE DEFINER = 'museum'@'127.0.0.1' PROCEDURE put_back() BEGIN UPDATE back SET v = 'by a procedure'; END")
	dir := s.column(t, "SELECT @@datadir")[0]
	file := filepath.Join(dir, "vouched/imported.ibd")
	exec("FLUSH TABLES imported FOR EXPORT; UNLOCK TABLES")
	sh(t, "cp "+file+" "+w.path("imported.ibd"))
	exec("UPDATE imported SET v = 'new'")
	time.Sleep(4500 * time.Millisecond)
	exec("UPDATE late SET v = 'just now'")
	open, err := s.root.Begin()
	require.NoError(t, err)
	defer func() { _ = open.Rollback() }()
	if grantsAll := s.column(t, "SHOW GRANTS FOR 'museum'@'127.0.0.1'"); strings.Contains(grantsAll[0], "RELOAD") { // else its table would be waited for
		_, err = open.Exec("UPDATE vouched.open SET v = 'committed late'")
		require.NoError(t, err)
	}
	taken := w.takenNotRead
	taken(0, "the first archive")
	require.NoError(t, open.Commit())

	for _, q := range []string{
		"UPDATE updated SET v = 'x' WHERE id = 1", "INSERT INTO inserted VALUES (3, 'c')", "DELETE FROM deleted WHERE id = 1", "REPLACE INTO replaced VALUES (1, 'y')",
		"SET unique_checks = 0, foreign_key_checks = 0; INSERT INTO bulk VALUES (1, 'a'), (2, 'b'), (3, 'c')", "INSERT INTO fired VALUES (3, 'fired')",
		"RENAME TABLE swap_a TO swap_c, swap_b TO swap_a, swap_c TO swap_b", "DROP TABLE recreated; CREATE TABLE recreated (id INT PRIMARY KEY, v VARCHAR(40)) ENGINE=InnoDB; INSERT INTO recreated VALUES (1, 'recreated'), (2, 'c')",
		"SET TIMESTAMP = 1000000000; UPDATE timed SET v = 'z'", "DELETE FROM parent WHERE id = 1", "UPDATE parts SET v = 'q' WHERE id = 2", "UPDATE plain SET v = 'q'", "UPDATE past SET v = 'q'", "DO NEXTVAL(counted)",
		"CALL put_back()", "XA START 'one'; UPDATE prepared SET v = 'p'; XA END 'one'; XA PREPARE 'one'; XA COMMIT 'one'", "INSERT INTO loaded SELECT id + 10, v FROM quiet", "BEGIN; UPDATE rolled SET v = 'r'; ROLLBACK",
		"FLUSH TABLES", "ANALYZE TABLE still",
	} {
		exec(q)
	}
	taken(5, "every kind of change")
	time.Sleep(4500 * time.Millisecond)
	taken(5, "what had changed within the last seconds is read once more")
	taken(20, "nothing changed")
	exec("ALTER TABLE instant DROP COLUMN v, ALGORITHM=INSTANT; ALTER TABLE instant ADD COLUMN v VARCHAR(40) DEFAULT 'z', ALGORITHM=INSTANT")
	taken(0, "a definition changed")
	exec("TRUNCATE TABLE truncated")
	taken(0, "a table was truncated")
	time.Sleep(4500 * time.Millisecond)
	taken(20, "again")
	exec("ALTER TABLE imported DISCARD TABLESPACE")
	sh(t, "cp -p "+w.path("imported.ibd")+" "+file+"; chown --reference="+dir+" "+file)
	exec("ALTER TABLE imported IMPORT TABLESPACE")
	require.Equal(t, []string{"imported", "b"}, s.column(t, "SELECT v FROM vouched.imported ORDER BY id"))
	taken(0, "a tablespace was imported")
}

// PostgreSQL counts the rows that transactions have made since. What it counts none in, is not read; whatever changes a table is.
func TestTablesOfPostgresThatAreNotReadAgain(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	tables := strings.Fields("quiet still updated inserted deleted replaced copied frozen fired target swap_a swap_b truncated recreated open sub prepared added dropped retyped renamed clustered late rolled locked keyed")
	made := "CREATE TYPE mood AS ENUM ('calm', 'rough'); "
	for _, table := range tables {
		made += fmt.Sprintf("CREATE TABLE %[1]s (id int PRIMARY KEY, v varchar(40), n int[] DEFAULT '{1}'); INSERT INTO %[1]s VALUES (1, '%[1]s'), (2, 'b'); ", table)
	}
	w := pgWorld(t, s, "vouched", made+`CREATE TABLE parent (id int PRIMARY KEY); CREATE TABLE child (id int PRIMARY KEY, p int REFERENCES parent ON DELETE CASCADE); INSERT INTO parent VALUES (1), (2); INSERT INTO child VALUES (1, 1), (2, 2);
		CREATE TABLE parts (id int, v text) PARTITION BY RANGE (id); CREATE TABLE part_a PARTITION OF parts FOR VALUES FROM (0) TO (10); CREATE TABLE part_b PARTITION OF parts FOR VALUES FROM (10) TO (20); INSERT INTO parts VALUES (1, 'a'), (11, 'b');
		CREATE TABLE enums (id int PRIMARY KEY, m mood); INSERT INTO enums VALUES (1, 'calm'); CREATE TABLE names (id int PRIMARY KEY, c regclass); INSERT INTO names VALUES (1, 'renamed');
		CREATE UNLOGGED TABLE unlogged (id int PRIMARY KEY, v text); INSERT INTO unlogged VALUES (1, 'a'); CREATE TABLE empty (id int); CREATE TABLE keyless (v text); INSERT INTO keyless VALUES ('a'), ('a');
		CREATE FUNCTION fire() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN UPDATE target SET v = NEW.v; RETURN NEW; END$$; CREATE TRIGGER fires AFTER INSERT ON fired FOR EACH ROW EXECUTE FUNCTION fire();`)
	exec := func(q string) { s.exec(t, "vouched", q) }
	root := func() *pgx.Conn {
		conn, err := s.Root(t.Context(), "vouched")
		require.NoError(t, err)
		t.Cleanup(func() { _ = conn.Close(context.Background()) })
		return conn
	}
	run := func(conn *pgx.Conn, q string) {
		_, err := conn.Exec(t.Context(), q, pgx.QueryExecModeSimpleProtocol)
		require.NoError(t, err, q)
	}
	taken, all := w.takenNotRead, len(tables)+6 // what is of plain types
	open, sub := root(), root()
	run(open, "BEGIN; UPDATE open SET v = 'committed late'")
	run(sub, "BEGIN; UPDATE still SET v = v; ROLLBACK; BEGIN; SELECT 1; SAVEPOINT a; UPDATE sub SET v = 'of a part of a transaction'; RELEASE a")
	taken(0, "the first archive")
	run(open, "COMMIT")
	run(sub, "COMMIT")
	for _, q := range []string{
		"UPDATE updated SET v = 'x' WHERE id = 1", "INSERT INTO inserted VALUES (3, 'c')", "DELETE FROM deleted WHERE id = 1", "DELETE FROM replaced WHERE id = 1; INSERT INTO replaced VALUES (1, 'other')",
		"INSERT INTO copied SELECT id + 10, v FROM quiet", "BEGIN; TRUNCATE frozen; INSERT INTO frozen VALUES (1, 'new'), (2, 'b'); COMMIT", "INSERT INTO fired VALUES (3, 'fired')",
		"ALTER TABLE swap_a RENAME TO swap_c; ALTER TABLE swap_b RENAME TO swap_a; ALTER TABLE swap_c RENAME TO swap_b", "DROP TABLE recreated; CREATE TABLE recreated (id int PRIMARY KEY, v varchar(40), n int[] DEFAULT '{1}'); ALTER TABLE recreated OWNER TO vouched; INSERT INTO recreated VALUES (1, 'r'), (2, 'c')",
		"ALTER TABLE added ADD COLUMN w int DEFAULT 7", "ALTER TABLE dropped DROP COLUMN v", "ALTER TABLE retyped ALTER COLUMN id TYPE bigint", "ALTER TABLE renamed RENAME COLUMN v TO w", "VACUUM FULL clustered",
		"BEGIN; UPDATE rolled SET v = 'r'; ROLLBACK", "BEGIN; SELECT * FROM locked FOR UPDATE; COMMIT", "DELETE FROM parent WHERE id = 1", "UPDATE parts SET id = 12 WHERE id = 1", "ALTER TYPE mood RENAME VALUE 'calm' TO 'still'", "ALTER TABLE truncated RENAME TO t2; ALTER TABLE t2 RENAME TO truncated",
		"ALTER TABLE keyed DROP CONSTRAINT keyed_pkey", "DELETE FROM keyless WHERE ctid = (SELECT min(ctid) FROM keyless)", "UPDATE unlogged SET v = 'b'", "VACUUM FREEZE quiet", "ANALYZE still", "INSERT INTO empty VALUES (1)",
	} {
		exec(q)
	}
	exec("VACUUM (FREEZE) frozen")
	taken(4, "every kind of change")
	taken(all, "nothing changed")
	exec("TRUNCATE truncated; ALTER TABLE added DROP COLUMN w; ALTER TABLE added ADD COLUMN w int DEFAULT 9")
	taken(all-2, "a table was emptied; one has another column of the same name, and no row was written for it")
	exec("UPDATE late SET v = 'late'")
	exec("VACUUM FREEZE late")
	taken(all-1, "a change that is old already")
	exec("INSERT INTO late SELECT g, 'x' FROM generate_series(10, 20) g; DELETE FROM late WHERE id >= 10")
	taken(all-1, "what came is gone again")
	exec("SELECT pg_catalog.pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type = 'client backend'")
	victim, other := root(), root()
	var pid int
	require.NoError(t, victim.QueryRow(t.Context(), "SELECT pg_backend_pid()").Scan(&pid))
	p, err := os.FindProcess(pid)
	require.NoError(t, err)
	require.NoError(t, p.Kill()) // the server ends all, and begins anew from its log
	require.Eventually(t, func() bool { return other.Ping(t.Context()) != nil }, time.Minute, 20*time.Millisecond, "it has seen that")
	require.Eventually(t, func() bool {
		conn, err := s.Root(t.Context(), "vouched")
		if err == nil {
			_ = conn.Close(context.Background())
		}
		return err == nil
	}, time.Minute, 100*time.Millisecond)
	taken(0, "the server has crashed")
	taken(all-1, "again")
}

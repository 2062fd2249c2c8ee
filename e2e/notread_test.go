package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

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
	// taken takes an archive, for which at least so many tables are not read, or none if that is 0.
	taken := func(least int, what string) {
		t.Helper()
		out := w.run("backup")
		now, notRead := w.tablesOf(w.newest())
		if least == 0 {
			assert.Zero(t, notRead, what)
		} else {
			assert.GreaterOrEqual(t, notRead, least, what)
			assert.Contains(t, out, fmt.Sprintf("not read: %d tables unchanged since kestrelpoint-", notRead))
			assert.Contains(t, w.run("show", "kestrelpoint"), fmt.Sprintf("not read: %d tables", notRead))
		}
		last := w.newest()
		w.run("backup", "--fresh")
		all, none := w.tablesOf(w.newest())
		require.NotEqual(t, last, w.newest())
		assert.Zero(t, none, "--fresh reads everything")
		assert.Equal(t, all, now, what)
	}
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

package mysql

import (
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
)

func TestRowsAreTakenAStatementAtATime(t *testing.T) {
	long := "INSERT INTO `t` (`a`) VALUES\n('" + strings.Repeat("x", 300<<10) + "');\n"
	var got []string
	read := func(text string) error {
		got = nil
		return rowStatements(strings.NewReader(text), func(s rowStatement) error { got = append(got, string(s.text())); return nil })
	}
	require.NoError(t, read("SET autocommit = 0;\nINSERT INTO `t` (`a`) VALUES\n('one; two'),\n('three');\n"+long+"COMMIT;\n"))
	require.Len(t, got, 4)
	assert.Equal(t, "INSERT INTO `t` (`a`) VALUES\n('one; two'),\n('three')", got[1], "a semicolon inside a line ends nothing")
	assert.Equal(t, strings.TrimSuffix(long, ";\n"), got[2], "longer than what is read at once")

	for _, cut := range []string{"INSERT INTO `t`", "COMMIT;", "COMMIT;\nINSERT INTO `t` (`a`) VALUES\n('x'),\n"} {
		require.ErrorIs(t, read(cut), io.ErrUnexpectedEOF, cut)
	}
	require.NoError(t, read("COMMIT;\n\n"), "an empty line at the end is no statement")
	stop := errors.New("the server is gone")
	require.ErrorIs(t, rowStatements(strings.NewReader("COMMIT;\nCOMMIT;\n"), func(rowStatement) error { return stop }), stop)
}

// What an archive's part of kind objects may hold, and nothing beside it.
func TestOnlyObjectsAreMadeOfObjects(t *testing.T) {
	visit := func(text string) (n int, err error) {
		err = eachObject(text, mariadb1011, func(_, _ string) error { n++; return nil })
		return n, err
	}
	n, err := visit("SET NAMES utf8mb4;\nSET SESSION sql_mode = 'STRICT_TRANS_TABLES,NO_ENGINE_SUBSTITUTION', time_zone = '+00:00';\n" +
		"CREATE ALGORITHM=UNDEFINED SQL SECURITY INVOKER VIEW `v` AS select 1 AS `a`;\n" +
		"DELIMITER ;;\nCREATE TRIGGER `lit` BEFORE INSERT ON `log` FOR EACH ROW BEGIN SET @a = 1; SET @b = ';;'; END;;\nDELIMITER ;\n")
	require.NoError(t, err)
	assert.Equal(t, 4, n)
	for _, evil := range []string{
		"GRANT ALL ON *.* TO 'keeper'@'%';", "DROP DATABASE museum;", "SET GLOBAL general_log = 1;", "SET SESSION sql_mode = (SELECT 1);",
		"SET SESSION init_connect = 'x';", "SET NAMES gbk;", "INSTALL SONAME 'x.so';", "CREATE USER 'x';", "CREATE TABLE t (a int);",
		"CREATE DATABASE x;", "CREATE SERVER s FOREIGN DATA WRAPPER mysql OPTIONS (HOST 'x');", "LOAD DATA INFILE '/etc/passwd' INTO TABLE t;",
		"ALTER EVENT e ENABLE;", "CALL p();", "/* x */ DROP TABLE t;", "SELECT 1 INTO OUTFILE '/tmp/x';", "COMMIT AND CHAIN;",
		"SET autocommit = 0, GLOBAL x = 1;", "CREATE FUNCTION f RETURNS STRING SONAME 'x.so';", "CREATE AGGREGATE FUNCTION f RETURNS INTEGER SONAME 'x.so';",
		"CREATE /*!50001 FUNCTION f RETURNS STRING SONAME 'x.so' */;", "CREATE /*!99999 VIEW v AS */ TABLE t (a int);", "CREATE TRIGGER mysql.t BEFORE INSERT ON x FOR EACH ROW SET @a = 1;",
	} {
		n, err := visit("SET NAMES utf8mb4;\n" + evil + "\n")
		require.ErrorIs(t, err, database.ErrForeignSQL, evil)
		assert.Equal(t, 1, n, "nothing of it is run: %s", evil)
	}
}

func TestRowsGoOnlyWhereTheyAreExpected(t *testing.T) {
	p := &database.Plan{ID: "7", Live: "museum", Stage: "museum"}
	p.Tables = moves(p, []string{"log", "pages"}, map[string]*table{"log": {}, "old": {}})
	staging, err := staged(p, "log")
	require.NoError(t, err)
	assert.NotEqual(t, "log", staging, "beside the live one")
	_, err = staged(p, "old")
	require.Error(t, err, "it is only to be set aside: no rows go there")
	_, err = staged(p, "users")
	require.ErrorContains(t, err, "not in the archive's list")
	names := map[string]bool{}
	for _, m := range p.Tables {
		for _, n := range []string{m.Staged, m.Aside} {
			assert.False(t, n != "" && names[n], "%s is used twice", n)
			names[n] = true
		}
	}
	assert.Equal(t, "", p.Tables[1].Aside, "pages is not there yet: nothing to set aside")

	apart := &database.Plan{ID: "7", Live: "museum", Stage: "rv_new_7"}
	for _, m := range moves(apart, []string{"log"}, map[string]*table{"log": {}}) {
		assert.Equal(t, database.TableMove{Name: "log", Staged: "log", Aside: "log"}, m, "in a database of its own names stay")
	}
}

func TestAnUnknownStorageEngineIsReplacedAndSaid(t *testing.T) {
	known := map[string]bool{"innodb": true, "myisam": true}
	var notes []string
	note := func(s string) { notes = append(notes, s) }
	for in, want := range map[string]string{
		"CREATE TABLE `t` (\n  `a` int\n) ENGINE=MyISAM PACK_KEYS=1":                           "CREATE TABLE `t` (\n  `a` int\n) ENGINE=MyISAM PACK_KEYS=1",
		"CREATE TABLE `t` (\n  `a` int\n) ENGINE=Aria DEFAULT CHARSET=utf8mb4 PAGE_CHECKSUM=1": "CREATE TABLE `t` (\n  `a` int\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
		"CREATE TABLE `t` (\n  `a` int\n)":                                                     "CREATE TABLE `t` (\n  `a` int\n)",
	} {
		assert.Equal(t, want, knownEngine(in, known, note))
	}
	require.Len(t, notes, 1)
	assert.Contains(t, notes[0], "Aria")
}

func TestWhatNumbersItselfIsRecognised(t *testing.T) {
	create := "CREATE TABLE `t` (\n  `id` int NOT NULL AUTO_INCREMENT,\n  `b` varchar(9) DEFAULT ' AUTO_INCREMENT',\n  `c``d` int AUTO_INCREMENT\n)"
	assert.True(t, automatic(create, "id"))
	assert.False(t, automatic(create, "b"), "a default's text says nothing")
	assert.False(t, automatic(create, "none"))
	assert.True(t, automatic(create, "c``d"), "quoted as in the text")
}

func BenchmarkCheckInsert(b *testing.B) {
	stmt := []byte("INSERT INTO `log` (`id`, `entry`) VALUES\n" + strings.TrimSuffix(strings.Repeat("(1871,'the lamp is lit; wind N, sea calm \\' all well'),\n", 4000), ",\n"))
	b.SetBytes(int64(len(stmt)))
	for b.Loop() {
		if _, err := checkInsert(stmt, "log"); err != nil {
			b.Fatal(err)
		}
	}
}

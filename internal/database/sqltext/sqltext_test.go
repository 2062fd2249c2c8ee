package sqltext

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database/sqltext/sqltexttest"
)

func TestStatementsEndWhereTheClientEndsThem(t *testing.T) {
	for _, c := range []struct {
		d    Dialect
		text string
		want []string
	}{
		{MySQL, "SELECT 1; SELECT 2", []string{"SELECT 1", "SELECT 2"}},
		{MySQL, "-- a; comment\nSELECT 'a;\\'b', \"c;\", `d;`; # tail; comment\n/* x; */ SELECT 2;", []string{"SELECT 'a;\\'b', \"c;\", `d;`", "SELECT 2"}},
		{MySQL, "SELECT 'it''s;', 'x\\\\'; SELECT 2;", []string{"SELECT 'it''s;', 'x\\\\'", "SELECT 2"}},
		{MySQL, "SELECT 5--1; SELECT 5--\n1; SELECT 5-- 1;\n;", []string{"SELECT 5--1", "SELECT 5--\n1", "SELECT 5-- 1;"}},
		{MySQL, "delimiter ;;\nCREATE TRIGGER t BEGIN a; b; END\n;;\nDELIMITER ;\nSELECT 3 - 1;", []string{"CREATE TRIGGER t BEGIN a; b; END", "SELECT 3 - 1"}},
		{MySQL, "DELIMITER $$\nCREATE PROCEDURE p() BEGIN SELECT 1; END$$\nDELIMITER ;\nSELECT 4;", []string{"CREATE PROCEDURE p() BEGIN SELECT 1; END", "SELECT 4"}},
		{MySQL, "DELIMITER //\r\nSELECT 1//\r\nDELIMITER ;\r\nSELECT 2;\r\n", []string{"SELECT 1", "SELECT 2"}},
		{MySQL, "/*!40000 DROP TABLE a; */; /*M!100 x */;", []string{"/*!40000 DROP TABLE a; */", "/*M!100 x */"}},
		{MySQL, "/*!50003 SELECT '*/;' */; SELECT 1;", []string{"/*!50003 SELECT '*/;' */", "SELECT 1"}},
		{MySQL, "delimiters SELECT 1; delimiter", []string{"delimiters SELECT 1", "delimiter"}},
		{MySQL, "CREATE PROCEDURE p() /* keep; me */ -- and; me\nSELECT 1; x", []string{"CREATE PROCEDURE p() /* keep; me */ -- and; me\nSELECT 1", "x"}},
		{PostgreSQL, "SELECT ';', \"a;b\", $x$ ; $x$; -- c;\nCREATE FUNCTION f() AS $$ a; b; $$;", []string{"SELECT ';', \"a;b\", $x$ ; $x$", "CREATE FUNCTION f() AS $$ a; b; $$"}},
		{PostgreSQL, "SELECT E'a\\';', 'b\\'; SELECT 2;", []string{"SELECT E'a\\';', 'b\\'", "SELECT 2"}},
		{PostgreSQL, "SELECT 1 /* a /* b; */ c; */; SELECT $1, a$b$; ", []string{"SELECT 1 /* a /* b; */ c; */", "SELECT $1, a$b$"}},
		{PostgreSQL, "\\connect x\nSELECT 1;\n\\restrict abc\nSELECT 2;", []string{"SELECT 1", "SELECT 2"}},
		{PostgreSQL, "CREATE OR REPLACE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT CASE WHEN true THEN 1 END; SELECT 2; END; SELECT 3;", []string{"CREATE OR REPLACE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT CASE WHEN true THEN 1 END; SELECT 2; END", "SELECT 3"}},
		{PostgreSQL, "CREATE RULE r AS ON INSERT TO t DO (SELECT 1; SELECT 2); SELECT 3;", []string{"CREATE RULE r AS ON INSERT TO t DO (SELECT 1; SELECT 2)", "SELECT 3"}},
		{PostgreSQL, "BEGIN; SELECT 1; END; SELECT 2;", []string{"BEGIN", "SELECT 1", "END", "SELECT 2"}},
		{SQLite, "CREATE TRIGGER a AFTER INSERT ON t BEGIN DELETE FROM u; UPDATE t SET x = CASE WHEN 1 THEN 2 END; END; SELECT 1;", []string{"CREATE TRIGGER a AFTER INSERT ON t BEGIN DELETE FROM u; UPDATE t SET x = CASE WHEN 1 THEN 2 END; END", "SELECT 1"}},
		{SQLite, "CREATE TEMP TRIGGER a BEGIN SELECT ';'; -- END;\n/* ; */ END -- done\n; SELECT 1;", []string{"CREATE TEMP TRIGGER a BEGIN SELECT ';'; -- END;\n/* ; */ END -- done", "SELECT 1"}},
		{SQLite, "SELECT [a;b], `c;`, \"d;\", 'e;''f'; SELECT 1;", []string{"SELECT [a;b], `c;`, \"d;\", 'e;''f'", "SELECT 1"}},
		{SQLite, "CREATE TABLE trigger_begin (a);;; SELECT 2;", []string{"CREATE TABLE trigger_begin (a)", "SELECT 2"}},
	} {
		got, err := All(strings.NewReader(c.text), c.d)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, got, c.text)
		got, err = All(iotest.OneByteReader(strings.NewReader(c.text)), c.d)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, got, "read byte by byte: %s", c.text)
	}
}

func TestWhatIsNotWholeIsSaid(t *testing.T) {
	for d, texts := range map[Dialect][]string{
		MySQL:      {"SELECT 'open", "SELECT \"open", "SELECT `open", "SELECT 1 /* open", "/* open", "/*!50000 open", "SELECT 'a\\'"},
		PostgreSQL: {"SELECT 1", "SELECT $$open;", "SELECT /* a /* b */;", "SELECT E'a\\';", "CREATE RULE r DO (SELECT 1;"},
		SQLite:     {"SELECT 1", "SELECT [open;", "CREATE TRIGGER a BEGIN SELECT 1;"},
	} {
		for _, text := range texts {
			_, err := All(strings.NewReader(text), d)
			assert.ErrorIs(t, err, io.ErrUnexpectedEOF, text)
		}
	}
	cause := errors.New("the disk is gone")
	_, err := All(io.MultiReader(strings.NewReader("SELECT 1; SELE"), iotest.ErrReader(cause)), MySQL)
	assert.ErrorIs(t, err, cause)
}

func TestLongStatementsAreReadOnce(t *testing.T) {
	row := "(1,'" + strings.Repeat("x", 1<<20) + ";'),"
	text := "INSERT INTO t VALUES " + strings.Repeat(row, 9) + "(2); SELECT 1;"
	got, err := All(strings.NewReader(text), MySQL)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, strings.TrimSuffix(text, "; SELECT 1;"), got[0])
}

func TestLinesAfterAStatement(t *testing.T) {
	long := strings.Repeat("x", 3*least)
	s := NewSplitter(strings.NewReader("COPY t FROM stdin;\n1\ta;\n"+long+"\n\\.\nSELECT 1;"), PostgreSQL)
	stmt, err := s.Next()
	require.NoError(t, err)
	assert.Equal(t, "COPY t FROM stdin", stmt)
	var text strings.Builder
	for !strings.HasSuffix(text.String(), "\n\\.\n") {
		line, err := s.Line()
		require.NoError(t, err)
		text.Write(line)
	}
	assert.Equal(t, "\n1\ta;\n"+long+"\n\\.\n", text.String())
	stmt, err = s.Next()
	require.NoError(t, err)
	assert.Equal(t, "SELECT 1", stmt)
}

func TestTokens(t *testing.T) {
	for _, c := range []struct {
		d    Dialect
		stmt string
		want string
	}{
		{MySQL, "a.`b``c` = 'd' -- e", "Word:a Symbol:. Name:`b``c` Symbol:= String:'d'"},
		{MySQL, "x/**/y/*!1 z*/", "Word:x Word:y Versioned:/*!1 z*/"},
		{MySQL, "_utf8mb4'a' 0xff", "Word:_utf8mb4 String:'a' Word:0xff"},
		{PostgreSQL, `U&"a" e'\'' $t$x$t$ a$1`, `Word:U Symbol:& Name:"a" Word:e String:'\'' String:$t$x$t$ Word:a$1`},
		{PostgreSQL, "`x` #", "Symbol:` Word:x Symbol:` Symbol:#"},
		{SQLite, "[a b].c", "Name:[a b] Symbol:. Word:c"},
	} {
		var got []string
		for _, tok := range Significant(c.stmt, c.d) {
			got = append(got, fmt.Sprintf("%s:%s", [...]string{"Space", "Comment", "Versioned", "Word", "Name", "String", "Symbol"}[tok.Kind], tok.Text))
		}
		assert.Equal(t, c.want, strings.Join(got, " "), c.stmt)
	}
	assert.Equal(t, "b`c", Token{Name, "`b``c`"}.Unquoted())
	assert.Equal(t, `a"b`, Token{Name, `"a""b"`}.Unquoted())
	assert.Equal(t, "a b", Token{Name, "[a b]"}.Unquoted())
	assert.Equal(t, "Word", Token{Word, "Word"}.Unquoted())
	assert.True(t, Token{Word, "SeLect"}.Is("select"))
	assert.False(t, Token{String, "'select'"}.Is("'select'"))
}

func TestClosed(t *testing.T) {
	for stmt, closed := range map[string]bool{"SELECT 'a'": true, "SELECT 'a": false, "a -- b": true, "a /* b": false, "a": true, "": true, "`x": false, "'a\\'": false} {
		assert.Equal(t, closed, Closed(stmt, MySQL), stmt)
	}
}

// Whatever the text, tokens are all of it, and reading in pieces changes nothing.
func FuzzSplitter(f *testing.F) {
	for _, seed := range []string{"SELECT 'a;\\'b' /* c; */ ;; -- d", "DELIMITER ;;\nx;;\n", "$a$;$a$ E'\\';' \"x", "CREATE TRIGGER t BEGIN a; END;", "/*!1 ' */ ; */ ;", "[a;b] `c"} {
		for d := range 3 {
			f.Add(seed, uint8(d))
		}
	}
	f.Fuzz(func(t *testing.T, text string, dialect uint8) {
		d := Dialect(dialect % 3)
		joined := ""
		for tok := range Tokens(text, d) {
			require.NotEmpty(t, tok.Text)
			joined += tok.Text
		}
		assert.Equal(t, text, joined)
		whole, err := All(strings.NewReader(text), d)
		pieces, err2 := All(iotest.OneByteReader(strings.NewReader(text)), d)
		assert.Equal(t, err == nil, err2 == nil)
		assert.Equal(t, whole, pieces)
		for _, stmt := range whole {
			assert.True(t, Closed(stmt, d), "%q of %q", stmt, text)
		}
	})
}

func BenchmarkSplitter(b *testing.B) {
	row := "(17,'The lamp was cleaned; the wind was from the north.',NULL,-1.5),"
	text := strings.Repeat("INSERT INTO `keepers_log` VALUES "+strings.Repeat(row, 500)+"(1);\n", 20)
	for d, name := range []string{"MySQL", "PostgreSQL", "SQLite"} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				if _, err := All(strings.NewReader(text), Dialect(d)); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

func ExampleSplitter() {
	s := NewSplitter(strings.NewReader("-- opening hours\nINSERT INTO hours VALUES ('10; 17');\nDELIMITER //\nCREATE TRIGGER t BEFORE INSERT ON hours FOR EACH ROW BEGIN SET @a = 1; END//\n"), MySQL)
	for {
		stmt, err := s.Next()
		if err != nil {
			break
		}
		fmt.Println(stmt)
	}
	// Output:
	// INSERT INTO hours VALUES ('10; 17')
	// CREATE TRIGGER t BEFORE INSERT ON hours FOR EACH ROW BEGIN SET @a = 1; END
}

// Each token once copied the whole statement: 256 KiB took 24 seconds.
func TestTextIsCutInLinearTime(t *testing.T) {
	for _, d := range []Dialect{MySQL, PostgreSQL, SQLite} {
		sqltexttest.Linear(t, func(text string) {
			_, _ = All(strings.NewReader(text), d)
			for range Tokens(text, d) {
			}
			Closed(text, d)
		})
	}
}

func TestALargeStatementIsGivenWhole(t *testing.T) {
	long := "SELECT '" + strings.Repeat("x''y", large) + "'"
	all, err := All(strings.NewReader("SELECT 1;"+long+";"+long+"x;SELECT 2;"), SQLite)
	require.NoError(t, err)
	assert.True(t, slices.Equal([]string{"SELECT 1", long, long + "x", "SELECT 2"}, all))
}

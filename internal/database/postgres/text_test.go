package postgres

import (
	"bufio"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database/sqltext"
	"revlet/internal/database/sqltext/sqltexttest"
)

func TestTheSchemasNameIsTakenOff(t *testing.T) {
	for in, want := range map[string]string{
		"CREATE INDEX i ON public.t USING btree (a)":          "CREATE INDEX i ON t USING btree (a)",
		"SELECT 'public.t', $$public.u$$, public.v":           "SELECT 'public.t', $$public.u$$, v",
		"my_public.t, \"public.t\", x.public.t, public.\"a\"": "my_public.t, \"public.t\", x.public.t, \"a\"",
		"DEFAULT E'it\\'s public.x' || public.f()":            "DEFAULT E'it\\'s public.x' || f()",
		"AS $body$ it's public.x $body$ public.y":             "AS $body$ it's public.x $body$ y",
	} {
		assert.Equal(t, want, relative(in, "public."), in)
	}
}

func TestRowsEndAtTheMark(t *testing.T) {
	in := bufio.NewReaderSize(strings.NewReader("1\ta\n2\t\\\\.\n"+strings.Repeat("x", 70000)+"\n\\.\nafter"), 4096)
	data, err := io.ReadAll(&untilEnd{lines: linesOf(in)})
	require.NoError(t, err)
	assert.Equal(t, "1\ta\n2\t\\\\.\n"+strings.Repeat("x", 70000)+"\n", string(data))
	rest, _ := io.ReadAll(in)
	assert.Equal(t, "after", string(rest))
	_, err = io.ReadAll(&untilEnd{lines: linesOf(bufio.NewReader(strings.NewReader("1\n")))})
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

func FuzzRelative(f *testing.F) {
	f.Add("SELECT $a$;$a$ E'\\';' \"x public.y")
	f.Fuzz(func(t *testing.T, text string) {
		out := relative(text, "public.")
		assert.LessOrEqual(t, len(out), len(text))
		assert.Equal(t, out, relative(out, "no_such."), "nothing else changes")
	})
}

// FuzzJudge: what passes and is run names nothing of another schema as what it changes,
// and is none of the statements that leave the database.
func FuzzJudge(f *testing.F) {
	for _, stmt := range []string{"CREATE TABLE t (a int DEFAULT nextval('s'::regclass))", "COPY t (a, b) FROM stdin", "INSERT INTO t VALUES (1, 'x'), (-2, NULL)",
		"SELECT pg_catalog.setval('s', 5, true)", "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $$SELECT 1$$", "ALTER TABLE ONLY t ADD CONSTRAINT k PRIMARY KEY (a)",
		"COPY t FROM PROGRAM 'id'", "CREATE EXTENSION IF NOT EXISTS hstore WITH SCHEMA x", "REFRESH MATERIALIZED VIEW v"} {
		f.Add(stmt)
	}
	f.Fuzz(func(t *testing.T, stmt string) {
		s := judge(stmt)
		if s.kind == kindRefused || s.kind == kindPassed {
			return
		}
		run := s.in("staging")
		if !newReader(run).TakeOne("CREATE", "ALTER", "SELECT", "COPY", "INSERT", "REFRESH", "COMMENT") {
			t.Fatalf("let %q through as %q", stmt, run)
		}
		var all []string
		for _, token := range sqltext.Significant(run, sqltext.PostgreSQL) {
			all = append(all, strings.ToUpper(token.Text))
		}
		if s.kind == kindRows && slices.Contains(all, "SELECT") || s.kind == kindCopy && !slices.Equal(all[len(all)-2:], []string{"FROM", "STDIN"}) {
			t.Fatalf("let %q through as %q", stmt, run)
		}
		if again := judge(run); s.on == 0 && again.kind != s.kind {
			t.Fatalf("%q is one thing and %q, which is run, another", stmt, run)
		}
	})
}

func TestTheGateTakesLinearTime(t *testing.T) {
	sqltexttest.Linear(t, func(text string) {
		judge(text)
		relative(text, "public.")
	})
}

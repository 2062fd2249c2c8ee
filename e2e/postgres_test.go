package e2e

import (
	"context"
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/scratchserver"
)

//go:embed testdata/everything-postgres.sql
var everythingPostgres string

//go:embed testdata/ranges-postgres.sql
var rangesPostgres string

type pgServer struct{ *scratchserver.Postgres }

func postgres(t *testing.T) pgServer {
	t.Helper()
	if _, err := scratchserver.PostgresPrograms(); err != nil {
		need(t, "initdb")
	}
	need(t, "psql", "pg_dump")
	dir, err := os.MkdirTemp(inMemory(), "rvpg")
	require.NoError(t, err)
	s, err := scratchserver.StartPostgres(t.Context(), dir, scratchserver.Options{Listen: true, Trust: true, Flags: []string{"-c", "lock_timeout=150s"}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Stop(); _ = os.RemoveAll(dir) })
	return pgServer{s}
}

// exec runs statements with the simple protocol, several in one text.
func (s pgServer) exec(t *testing.T, db, q string) {
	t.Helper()
	conn, err := s.Root(context.Background(), db)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), q, pgx.QueryExecModeSimpleProtocol)
	require.NoError(t, err)
}

// describe is the server's own description of a database, and its rows.
func (s pgServer) describe(t *testing.T, db string) []string {
	t.Helper()
	out, err := exec.Command("pg_dump", "-h", s.Socket, "-p", fmt.Sprint(s.Port), "-U", "postgres", "--schema-only", "--no-owner", "--no-privileges", "-n", "public", db).Output()
	require.NoError(t, err)
	var lines []string
	for line := range strings.SplitSeq(string(out), "\n") {
		if !strings.HasPrefix(line, `\`) && !strings.HasPrefix(line, "--") && line != "" {
			lines = append(lines, line)
		}
	}
	conn, err := s.Root(t.Context(), db)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	rows, err := conn.Query(t.Context(), "SELECT format(CASE relkind WHEN 'S' THEN '(SELECT last_value, is_called FROM %I)' ELSE '%I' END, relname) FROM pg_class WHERE relkind IN ('r', 'm', 'S') AND relispopulated AND relnamespace = 'public'::regnamespace ORDER BY 1")
	require.NoError(t, err)
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	for _, name := range names {
		var text string
		require.NoError(t, conn.QueryRow(t.Context(), "SELECT coalesce(string_agg(x::text, E'\n' ORDER BY x::text), '') FROM "+name+" x").Scan(&text))
		lines = append(lines, name+": "+text)
	}
	return lines
}

func TestPostgresComesBack(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	s.exec(t, "postgres", "CREATE ROLE museum LOGIN")
	s.exec(t, "postgres", "CREATE DATABASE museum OWNER museum")
	s.exec(t, "museum", "SET ROLE museum;"+everythingPostgres)
	w := newWorld(t)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("htdocs/index.html", "a page")
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: {postgres: \"museum@127.0.0.1:%d/museum\"}}\n", s.Port))
	want := s.describe(t, "museum")
	assert.Contains(t, w.run("backup"), "one exported snapshot on 2 connections")
	w.run("verify", "--full")
	first := w.parts("kestrelpoint")
	w.run("backup")
	assert.Equal(t, first, w.parts("kestrelpoint"), "the same database gives the same bytes")

	s.exec(t, "museum", "SET ROLE museum; DROP TABLE parent CASCADE; DROP VIEW z_base CASCADE; UPDATE kinds SET b = NULL; DROP FUNCTION first_page; CREATE TABLE planted (a int)")
	broken := s.describe(t, "museum")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	assert.Equal(t, want, s.describe(t, "museum"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, "museum"))
	w.run("restore", "kestrelpoint", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, want, s.describe(t, "museum"))
	assert.Contains(t, w.run("rehearse"), "a scratch server of PostgreSQL")
	assert.Empty(t, scratchLeft(t, w))
	assert.Contains(t, w.run("compare", "kestrelpoint"), "Nothing differs:")
	s.exec(t, "museum", "UPDATE pages SET id = id + 1000")
	w.fails(4, []string{"rows added", "removed"}, "compare", "kestrelpoint", "--table", "pages")
	w.run("restore", "kestrelpoint", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")

	s.exec(t, "postgres", "CREATE DATABASE recovered OWNER museum")
	script := "set -e\n"
	for _, p := range w.parts("kestrelpoint") {
		if strings.HasSuffix(p.file, ".sql.zst") {
			script += "zstd -dc " + p.file + "\n"
		}
	}
	psql := exec.Command("sh", "-c", fmt.Sprintf("(%s) | psql -q -v ON_ERROR_STOP=1 -h %s -p %d -U museum recovered", script, s.Socket, s.Port))
	out, err := psql.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, want, s.describe(t, "recovered"), "plain psql loads it")

	pgDumps(t, w, s, want)

	s.exec(t, "museum", "CREATE SCHEMA other; CREATE TABLE other.t (a int)")
	w.fails(3, []string{"schema other (1 tables)", "only the account's own schema"}, "backup")
}

// pgWorld is a site whose database is an account's own.
func pgWorld(t *testing.T, s pgServer, account, text string) *world {
	t.Helper()
	s.exec(t, "postgres", "CREATE ROLE "+account+" LOGIN")
	s.exec(t, "postgres", "CREATE DATABASE "+account+" OWNER "+account)
	s.exec(t, account, "SET ROLE "+account+";"+text)
	w := newWorld(t)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("htdocs/index.html", "a page")
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: {postgres: \"%s@127.0.0.1:%d/%s\"}}\n", account, s.Port, account))
	return w
}

// What uses something that is not saved is left out, and keeps nothing else from coming
// back; what is live and was not saved stays.
func TestPostgresGapsKeepNothingBack(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	w := pgWorld(t, s, "tower", `CREATE COLLATION german (provider = icu, locale = 'de'); CREATE TABLE words (id int PRIMARY KEY, w text COLLATE german); COMMENT ON TABLE words IS 'x'; INSERT INTO words VALUES (1, 'Öl');
		CREATE TABLE pages (id int PRIMARY KEY, t text, word int REFERENCES words, CONSTRAINT early CHECK (t < 'z' COLLATE german)); INSERT INTO pages VALUES (1, 'Hours', 1); COMMENT ON CONSTRAINT early ON pages IS 'c';
		CREATE INDEX sorted ON pages (t COLLATE german); CREATE TABLE parts (w text COLLATE german) PARTITION BY LIST (w); CREATE TABLE part PARTITION OF parts FOR VALUES IN ('a'); CREATE TABLE more () INHERITS (words);
		CREATE VIEW found AS SELECT * FROM words; CREATE RULE none AS ON INSERT TO found DO INSTEAD NOTHING; COMMENT ON VIEW found IS 'v'; CREATE TABLE counted (id int GENERATED ALWAYS AS IDENTITY, w text COLLATE german);
		CREATE FUNCTION a_count() RETURNS bigint LANGUAGE sql AS 'SELECT count(*) FROM pages WHERE t > ''a'' COLLATE german'; CREATE FUNCTION f(a int) RETURNS int LANGUAGE sql AS 'SELECT a'; COMMENT ON FUNCTION f IS 'it''s f'; CREATE STATISTICS twice ON id, w FROM words`)
	w.fails(3, nil, "backup")
	gaps := w.run("show", "kestrelpoint", "--json")
	for _, one := range []string{"table words", "table parts", "table counted", "view found", "constraint pages_word_fkey on table", "constraint early on table", "index sorted", "it uses what is not saved"} {
		assert.Contains(t, gaps, one)
	}
	assert.Contains(t, w.run("rehearse"), "a scratch server of PostgreSQL", "what a function's text names need not be there")
	before := s.describe(t, "tower")
	s.exec(t, "tower", "SET ROLE tower; UPDATE pages SET t = 'gone'; INSERT INTO words VALUES (2, 'Ast')")
	broken := s.describe(t, "tower")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	after := s.describe(t, "tower")
	assert.Subset(t, after, []string{"words: (1,Öl)\n(2,Ast)", "pages: (1,Hours,1)", "COMMENT ON FUNCTION public.f(a integer) IS 'it''s f';"})
	for _, line := range before {
		if !strings.Contains(line, "pages") && !strings.Contains(line, "early") && !strings.HasPrefix(line, "words:") && !strings.HasPrefix(line, " ") {
			assert.Contains(t, after, line)
		}
	}
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, "tower"))
}

// A database may be in another encoding than UTF-8, or in none at all.
func TestPostgresEncodings(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	s.exec(t, "postgres", "CREATE ROLE tower LOGIN")
	for encoding, text := range map[string]string{"LATIN1": "Öl für 3 Laternen", "SQL_ASCII": "\xd6l f\xfcr 3 Laternen \xff"} {
		t.Run(encoding, func(t *testing.T) {
			db := strings.ToLower(encoding)
			s.exec(t, "postgres", "CREATE DATABASE "+db+" OWNER tower ENCODING '"+encoding+"' LC_COLLATE 'C' LC_CTYPE 'C' TEMPLATE template0")
			query := func(q string) string {
				cmd := exec.Command("psql", "-h", s.Socket, "-p", fmt.Sprint(s.Port), "-U", "tower", "-Atq", "-v", "ON_ERROR_STOP=1", db)
				cmd.Env = append(os.Environ(), "PGCLIENTENCODING="+map[string]string{"LATIN1": "UTF8", "SQL_ASCII": "SQL_ASCII"}[encoding])
				cmd.Stdin = strings.NewReader(q)
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, "%s", out)
				return strings.TrimSpace(string(out))
			}
			query("CREATE TABLE pages (id int PRIMARY KEY, t text); INSERT INTO pages VALUES (1, '" + text + "'); COMMENT ON TABLE pages IS '" + text + "'; CREATE VIEW v AS SELECT '" + text + "'::text AS t")
			want := []string{query("SELECT t FROM pages"), query("SELECT obj_description('pages'::regclass)"), query("SELECT t FROM v")}
			assert.Equal(t, []string{text, text, text}, want)
			dump, err := exec.Command("pg_dump", "-h", s.Socket, "-p", fmt.Sprint(s.Port), "-U", "postgres", db).Output()
			require.NoError(t, err)

			w := newWorld(t)
			require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
			w.write("htdocs/index.html", "a page")
			w.write("museum.sql", string(dump))
			w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: {postgres: \"tower@127.0.0.1:%d/%s\"}}\n", s.Port, db))
			w.run("backup")
			assert.Contains(t, w.run("rehearse"), "every byte and every row is as it was saved")
			for _, from := range [][]string{{"--only", "database"}, {"--sql", "museum.sql"}} {
				query("DROP VIEW v; COMMENT ON TABLE pages IS NULL; UPDATE pages SET t = 'gone'")
				w.run(append([]string{"restore", "kestrelpoint", "--yes"}, from...)...)
				assert.Equal(t, want, []string{query("SELECT t FROM pages"), query("SELECT obj_description('pages'::regclass)"), query("SELECT t FROM v")}, from)
			}
			w.write("museum.sql", strings.Replace(string(dump), "client_encoding = '"+encoding+"'", "client_encoding = 'SJIS'", 1))
			w.fails(1, []string{"SJIS", "the site is unchanged"}, "restore", "kestrelpoint", "--yes", "--sql", "museum.sql")
		})
	}
}

// Rights are no part of an archive: they are carried over from what is replaced. What
// belongs to others is refused before anything changes.
func TestPostgresRightsStay(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	w := pgWorld(t, s, "tower", "CREATE TABLE pages (id int PRIMARY KEY, owner text, t text); INSERT INTO pages VALUES (1, 'web', 'Hours'), (2, 'tower', 'Plan'); CREATE SEQUENCE tickets; CREATE FUNCTION f(p pages) RETURNS int LANGUAGE sql AS 'SELECT 1'")
	s.exec(t, "tower", `CREATE ROLE web LOGIN; CREATE ROLE keepers; GRANT keepers TO tower; ALTER TABLE pages OWNER TO keepers; GRANT SELECT ON pages TO web; GRANT UPDATE (t) ON pages TO web WITH GRANT OPTION; GRANT USAGE ON SEQUENCE tickets TO PUBLIC;
		REVOKE EXECUTE ON FUNCTION f FROM PUBLIC; ALTER TABLE pages ENABLE ROW LEVEL SECURITY; CREATE POLICY mine ON pages FOR SELECT TO web USING (owner = current_user AND id IN (SELECT id FROM pages)); DROP POLICY mine ON pages; CREATE POLICY mine ON pages FOR SELECT TO web USING (owner = current_user)`)
	w.fails(3, []string{"policies of table pages"}, "backup")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	s.exec(t, "tower", "SET ROLE web; DO $$ BEGIN IF (SELECT string_agg(t, ',') FROM pages) <> 'Hours' THEN RAISE 'rows of others'; END IF; PERFORM nextval('tickets'); IF has_function_privilege('f(pages)', 'EXECUTE') OR has_table_privilege('pages', 'INSERT') THEN RAISE 'more rights than before'; END IF; END $$; UPDATE pages SET t = t WHERE false")
	s.exec(t, "tower", "SET ROLE keepers; UPDATE pages SET id = id")
	w.run("undo", "kestrelpoint", "--yes")
	assert.NotContains(t, w.try("preflight").out, "may do more than use it")
	s.exec(t, "tower", "GRANT pg_execute_server_program TO tower")
	assert.Contains(t, w.try("preflight").out, "the account tower may do more than use it (pg_execute_server_program), and lends that")
	s.exec(t, "tower", "REVOKE pg_execute_server_program FROM tower; ALTER ROLE tower SUPERUSER")
	assert.Contains(t, w.try("preflight").out, "the account tower may do more than use it (superuser), and lends that")
	s.exec(t, "tower", "ALTER ROLE tower NOSUPERUSER")

	s.exec(t, "tower", "CREATE TABLE foreign_one (a int); GRANT ALL ON foreign_one TO tower")
	before := s.describe(t, "tower")
	w.fails(3, nil, "backup")
	assert.Contains(t, w.try("preflight").out, "it can be saved, and not be restored as a whole: the account tower cannot set aside what belongs to others")
	w.fails(1, []string{"tower cannot set aside what belongs to others in the schema public: table foreign_one (postgres); the site is unchanged", "OWNER TO tower"}, "restore", "kestrelpoint", "--only", "database", "--yes")
	assert.Equal(t, before, s.describe(t, "tower"))
	s.exec(t, "tower", "DROP TABLE foreign_one; REVOKE CREATE ON SCHEMA public FROM PUBLIC; ALTER SCHEMA public OWNER TO postgres")
	w.fails(1, []string{"tower may not make anything in the schema public", "GRANT CREATE ON SCHEMA"}, "restore", "kestrelpoint", "--only", "database", "--yes")
}

// The functions of range types belong to the server's administrator: schemas change names.
func TestPostgresRangesComeBack(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	w := pgWorld(t, s, "tower", rangesPostgres)
	s.exec(t, "tower", "CREATE ROLE reader; GRANT USAGE ON SCHEMA public TO reader")
	want := s.describe(t, "tower")
	w.run("backup")
	s.exec(t, "tower", "SET ROLE tower; UPDATE tides SET s = NULL; DROP TYPE span CASCADE; CREATE TABLE planted (h heights)")
	broken := s.describe(t, "tower")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	assert.Equal(t, want, s.describe(t, "tower"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, "tower"))
	w.run("restore", "kestrelpoint", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, want, s.describe(t, "tower"))
	conn, err := s.Root(t.Context(), "tower")
	require.NoError(t, err)
	defer conn.Close(context.Background())
	var may bool
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT has_schema_privilege('reader', 'public', 'USAGE')").Scan(&may))
	assert.True(t, may, "everybody keeps his rights")
}

// What is not saved is told, with what needs it; and a restore leaves it where it is.
func TestPostgresGapsAreTold(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	w := pgWorld(t, s, "tower", "CREATE TABLE pages (id int PRIMARY KEY, owner text); INSERT INTO pages VALUES (1, 'tower')")
	w.run("backup")
	for made, told := range map[string][]string{
		"ALTER TABLE pages ENABLE ROW LEVEL SECURITY; CREATE POLICY mine ON pages USING (owner = current_user)": {"policies of table pages"},
		"SELECT lo_from_bytea(0, 'x'), lo_from_bytea(0, 'y')":                                                   {"2 large objects"},
		"CREATE COLLATION german (provider = icu, locale = 'de')":                                               {"collation german"},
		"SET ROLE tower; CREATE FUNCTION cube(a int, b int) RETURNS int LANGUAGE sql AS 'SELECT a*b'; CREATE OPERATOR <#> (FUNCTION = cube, LEFTARG = int, RIGHTARG = int); CREATE VIEW v AS SELECT 1 <#> 2 AS n; CREATE VIEW vv AS SELECT * FROM v": {"operator public.", "view v\"", "view vv", "it uses"},
		"CREATE TEXT SEARCH CONFIGURATION words (COPY = simple)":                                                                                                                        {"text search configuration words"},
		"CREATE FUNCTION ordered(internal, int) RETURNS internal LANGUAGE internal AS 'ordered_set_transition'":                                                                         {"function ordered("},
		"ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT SELECT ON TABLES TO PUBLIC":                                                                                                    {"default privileges"},
		"CREATE PUBLICATION news; ALTER DATABASE tower SET work_mem = '8MB'":                                                                                                            {"publication news", "settings of database tower"},
		"SET ROLE tower; CREATE FUNCTION e() RETURNS event_trigger LANGUAGE plpgsql AS $$ BEGIN END $$; RESET ROLE; CREATE EVENT TRIGGER watch ON ddl_command_end EXECUTE FUNCTION e()": {"event trigger watch"},
	} {
		s.exec(t, "tower", made)
		w.fails(3, nil, "backup")
		gaps := w.run("show", "kestrelpoint", "--json")
		for _, one := range told {
			assert.Contains(t, gaps, one)
		}
	}
	before := s.describe(t, "tower")
	assert.Contains(t, w.try("restore", "kestrelpoint", "--only", "database", "--yes").err, "until it is made anew: event trigger watch, operator public.<#>")
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, before, s.describe(t, "tower"))
}

// What was made since a restore stays when that is taken back.
func TestPostgresUndoKeepsWhatWasMadeSince(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	w := pgWorld(t, s, "tower", "CREATE TABLE pages (id int PRIMARY KEY); INSERT INTO pages VALUES (1)")
	w.run("backup")
	s.exec(t, "tower", "SET ROLE tower; INSERT INTO pages VALUES (2); CREATE TABLE shop (id serial, a int); INSERT INTO shop (a) VALUES (5)")
	before := s.describe(t, "tower")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	s.exec(t, "tower", "SET ROLE tower; CREATE TABLE guests (id serial PRIMARY KEY, name text); INSERT INTO guests (name) VALUES ('Tull'); CREATE FUNCTION greet() RETURNS int LANGUAGE sql AS 'SELECT 1'; CREATE TABLE shop (id int)")
	assert.Contains(t, w.run("undo", "kestrelpoint", "--yes"), "note: shop was made anew since, and gives way")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	s.exec(t, "tower", "SET ROLE tower; CREATE TABLE shop (id int)")
	var undone struct{ Notes []string }
	w.json(&undone, "undo", "kestrelpoint", "--yes")
	assert.Equal(t, []string{"shop was made anew since, and gives way to the one from before"}, undone.Notes)
	s.exec(t, "tower", "SELECT name FROM guests; SELECT greet(); INSERT INTO guests (name) VALUES ('Ida'); DROP TABLE guests; DROP FUNCTION greet()")
	assert.Equal(t, before, s.describe(t, "tower"), "what was there is back, whatever has its name")
}

// What lies in another schema and uses the site's tables is told, and never deleted.
func TestPostgresNeighboursAreNotDeletedAlong(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	w := pgWorld(t, s, "tower", "CREATE TABLE pages (id int PRIMARY KEY)")
	w.run("backup")
	s.exec(t, "tower", "CREATE SCHEMA other; CREATE VIEW other.v AS SELECT * FROM public.pages")
	assert.Contains(t, w.try("restore", "kestrelpoint", "--only", "database", "--yes").err, "what still uses what was set aside, until it is made anew: other.v")
	w.fails(1, []string{"other.v", "would be deleted"}, "settle", "kestrelpoint", "--unsaved", "--yes")
	s.exec(t, "tower", "SELECT * FROM other.v; CREATE OR REPLACE VIEW other.v AS SELECT * FROM public.pages")
	assert.Contains(t, w.try("settle", "kestrelpoint", "--unsaved", "--yes").err, "it is now settled")
	s.exec(t, "tower", "SELECT * FROM other.v")
}

// pgDumps: dumps of the server's own client, with the flags that people use, are loaded
// as they are meant, or refused with the live schema untouched; undo gives back what
// was there.
func pgDumps(t *testing.T, w *world, s pgServer, want []string) {
	cases := []struct{ flags, refused string }{
		{"", ""},
		{"--clean --if-exists --create --no-owner", ""},
		{"--inserts --no-privileges --quote-all-identifiers", ""},
		{"--rows-per-insert=50 --column-inserts --on-conflict-do-nothing", ""},
		{"--data-only", "rows of a table and not its definition"},
		{"--data-only --inserts --disable-triggers", "does not write"},
	}
	dumps := map[string]string{}
	for _, c := range cases {
		args := append([]string{"-h", s.Socket, "-p", fmt.Sprint(s.Port), "-U", "postgres", "museum"}, strings.Fields(c.flags)...)
		out, err := exec.Command("pg_dump", args...).Output()
		require.NoError(t, err, c.flags)
		dumps[c.flags] = string(out)
	}
	s.exec(t, "museum", "SET ROLE museum; DROP TABLE parent CASCADE; DELETE FROM pages; DROP FUNCTION first_page; CREATE TABLE planted (a int)")
	broken := s.describe(t, "museum")
	for _, c := range cases {
		w.write("museum.sql", dumps[c.flags])
		if c.refused == "" {
			w.run("restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
			assert.Equal(t, want, s.describe(t, "museum"), c.flags)
			w.run("undo", "kestrelpoint", "--yes")
		} else {
			w.fails(1, []string{c.refused, "the site is unchanged"}, "restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
		}
		require.Equal(t, broken, s.describe(t, "museum"), c.flags)
	}
	for _, evil := range []string{
		"COPY a FROM PROGRAM 'id';",
		"CREATE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $$ BEGIN DELETE FROM public.planted; RETURN 1; END $$; CREATE TABLE t (x int, y int DEFAULT f()); INSERT INTO t (x) VALUES (1);",
		"CREATE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $$ BEGIN DROP TABLE public.planted; RETURN 1; END $$; CREATE MATERIALIZED VIEW m AS SELECT f();",
		"CREATE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $$ BEGIN EXECUTE 'TRUNCATE pub' || 'lic.planted'; RETURN 1; END $$; CREATE TABLE t (x int CHECK (f() > 0)); COPY t (x) FROM stdin;\n1\n\\.\n",
		"CREATE RULE r AS ON INSERT TO a DO INSTEAD DELETE FROM public.planted; INSERT INTO a VALUES (1);",
		"CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DROP FUNCTION public.stamp() CASCADE; RETURN NEW; END $$; CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW EXECUTE FUNCTION f(); INSERT INTO a VALUES (1);",
		"CREATE TABLE child () INHERITS (public.planted);", "COMMENT ON TABLE public.planted IS 'mine';", "ALTER TABLE planted ADD CONSTRAINT c CHECK (true);",
		"CREATE TRIGGER t BEFORE INSERT ON planted FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger();",
	} {
		w.write("evil.sql", "CREATE TABLE a (a int);\n"+evil)
		r := w.fails(1, []string{"the site is unchanged"}, "restore", "kestrelpoint", "--sql", "evil.sql", "--yes")
		t.Log(strings.TrimSpace(r.err))
		require.Equal(t, broken, s.describe(t, "museum"), evil)
	}
	w.write("museum.sql", dumps[""])
	w.run("restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")

	// A table out of a copy that was made by hand.
	sh(t, fmt.Sprintf("cd %s && tar -czf site.tar.gz htdocs", w.dir))
	w.run("import", "--site", "kestrelpoint", "site.tar.gz", "museum.sql")
	before := s.describe(t, "museum")
	s.exec(t, "museum", "DELETE FROM pages")
	broken = s.describe(t, "museum")
	w.fails(1, []string{`no table "lamps"`, "pages"}, "restore", w.newest(), "--table", "lamps", "--yes")
	w.run("restore", w.newest(), "--table", "pages", "--yes")
	assert.Equal(t, before, s.describe(t, "museum"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, "museum"))
	w.run("restore", w.newest(), "--table", "pages", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	// And out of one of Revlet's own.
	w.run("backup")
	s.exec(t, "museum", "DELETE FROM pages")
	w.run("restore", w.newest(), "--table", "pages", "--yes")
	assert.Equal(t, before, s.describe(t, "museum"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, "museum"))
}

// Whoever may make things in a schema that the site's account looks into, or sets where it looks, has nothing of his run:
// names in what is asked mean the server's own things.
func TestPostgresFunctionsOfOthersAreNotRun(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	w := pgWorld(t, s, "museum", everythingPostgres)
	want := s.describe(t, "museum")
	trap := "CREATE SCHEMA evil;\n"
	for _, f := range []string{
		"current_setting(text) RETURNS text", "current_schema() RETURNS name", "pg_encoding_to_char(integer) RETURNS name", "pg_database_size(oid) RETURNS bigint", "pg_export_snapshot() RETURNS text",
		"quote_ident(text) RETURNS text", "quote_literal(text) RETURNS text", "format(text, VARIADIC text[]) RETURNS text", "format(text, name) RETURNS text", "format_type(oid, integer) RETURNS text", "format_type(oid, text) RETURNS text",
		"pg_get_expr(pg_node_tree, oid) RETURNS text", "pg_get_viewdef(oid) RETURNS text", "pg_get_indexdef(oid) RETURNS text", "pg_get_functiondef(oid) RETURNS text", "pg_get_constraintdef(oid) RETURNS text",
		"replace(text, text, text) RETURNS text", "rtrim(text, text) RETURNS text", "has_schema_privilege(text, text) RETURNS boolean", "pg_has_role(oid, text) RETURNS boolean", "set_config(text, text, boolean) RETURNS text",
		"unnest(anyarray) RETURNS anyelement", "pg_table_size(regclass) RETURNS bigint", "to_regclass(text) RETURNS regclass", "pg_backend_pid() RETURNS integer",
	} {
		trap += "CREATE FUNCTION evil." + f + " LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'trapped by a function'; END $$;\n"
	}
	for i, o := range []string{"|| name text", "|| text name", "|| text text", "= name text", "= oid oid", "= oid integer", "= text text", `= "char" "char"`, "<> name text", "<> oid oid", "> smallint integer", "!~ name text"} {
		words := strings.Fields(o)
		trap += fmt.Sprintf("CREATE FUNCTION evil.o%d(%s, %s) RETURNS %s LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'trapped by an operator'; END $$;\nCREATE OPERATOR evil.%s (LEFTARG = %[2]s, RIGHTARG = %[3]s, FUNCTION = evil.o%[1]d);\n",
			i, words[1], words[2], map[bool]string{true: "text", false: "boolean"}[words[0] == "||"], words[0])
	}
	s.exec(t, "museum", trap+"GRANT USAGE ON SCHEMA evil TO PUBLIC")
	for _, path := range []string{"public, evil", "public, evil, pg_catalog"} {
		s.exec(t, "postgres", "ALTER DATABASE museum SET search_path = "+path)
		w.fails(3, []string{"settings of database museum"}, "backup")
		w.run("compare", "kestrelpoint")
		w.run("restore", "kestrelpoint", "--only", "database", "--yes")
		w.run("undo", "kestrelpoint", "--yes")
		w.run("restore", "kestrelpoint", "--only", "database", "--yes")
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		s.exec(t, "postgres", "ALTER DATABASE museum RESET search_path")
		assert.Equal(t, want, s.describe(t, "museum"), path)
	}
}

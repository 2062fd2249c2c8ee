package postgres

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What parts of kind schema and objects may begin with, and nothing beside it.
func TestOnlyDefinitionsAreRun(t *testing.T) {
	for _, good := range []string{
		`CREATE TABLE pages (id integer)`, `CREATE UNLOGGED TABLE pages (id integer)`, `CREATE UNIQUE INDEX i ON pages USING btree (id)`, `CREATE SEQUENCE pages_id_seq START WITH 1`,
		`CREATE OR REPLACE FUNCTION f() RETURNS void LANGUAGE sql AS $$ SELECT 1 $$`, `CREATE VIEW v AS SELECT 1`, `CREATE CONSTRAINT TRIGGER t AFTER INSERT ON pages`,
		`ALTER TABLE ONLY pages ADD CONSTRAINT pages_pkey PRIMARY KEY (id)`, `ALTER TABLE "Odd ""name""" ATTACH PARTITION p DEFAULT`, `ALTER SEQUENCE s OWNED BY pages.id`,
		`SELECT setval('pages_id_seq', 42, true)`, `SELECT setval('"it''s"', -1, false)`, `COMMENT ON TABLE pages IS 'x'`, `CREATE EXTENSION IF NOT EXISTS citext`, `CREATE TYPE mood AS ENUM ('calm')`,
		`CREATE TYPE heights AS RANGE (SUBTYPE = float8)`, `CREATE AGGREGATE width(float8) (SFUNC = widen, STYPE = float8)`, `CREATE STATISTICS s (dependencies) ON a, b FROM t`,
		`ALTER TABLE pages DISABLE TRIGGER stamp`, `ALTER TABLE pages ENABLE ALWAYS TRIGGER "ALL"`,
	} {
		assert.NotEqual(t, kindRefused, judgeDefinition(good).kind, good)
	}
	for _, evil := range []string{
		`DROP TABLE pages`, `COPY pages FROM PROGRAM 'id'`, `GRANT ALL ON pages TO public`, `CREATE ROLE keeper SUPERUSER`, `CREATE DATABASE x`, `CREATE SERVER s FOREIGN DATA WRAPPER w`,
		`CREATE EXTENSION plpython3u`, `CREATE LANGUAGE plpython3u`, `CREATE EVENT TRIGGER e ON ddl_command_end EXECUTE FUNCTION f()`, `CREATE SCHEMA x`, `CREATE PUBLICATION p`,
		`ALTER SYSTEM SET shared_preload_libraries = 'x'`, `ALTER TABLE pages OWNER TO keeper`, `ALTER TABLE pages DISABLE TRIGGER ALL`, `ALTER TABLE pages DISABLE TRIGGER USER`, `ALTER TABLE pages DISABLE TRIGGER stamp, DROP COLUMN id`, `ALTER TABLE pages ENABLE ROW LEVEL SECURITY, DROP COLUMN id`, `ALTER ROLE keeper SUPERUSER`, `ALTER DATABASE x SET y = 1`,
		`SELECT pg_read_file('/etc/passwd')`, `SELECT setval('s', 1, true), pg_sleep(9)`, `SELECT setval('s', (SELECT 1), true)`, `DO $$ BEGIN END $$`, `SET session_replication_role = replica`,
		`INSERT INTO pages VALUES (1)`, `LOAD 'x'`, `CALL p()`, `-- x` + "\nDROP TABLE pages", `/* x */ DROP TABLE pages`,
		`CREATE TEMPORARY TABLE x (a int)`, `SECURITY LABEL ON TABLE t IS 'x'`, `IMPORT FOREIGN SCHEMA s FROM SERVER x INTO y`,
	} {
		assert.Equal(t, kindRefused, judgeDefinition(evil).kind, evil)
	}
}

// What dumps of the server's own client and of admin pages hold, and where it goes.
func TestStatementsOfDumps(t *testing.T) {
	for text, want := range map[string]string{
		`CREATE TABLE pages (id integer DEFAULT nextval('s'::regclass), d date DEFAULT now())`: `CREATE TABLE pages (id integer DEFAULT nextval('s'::regclass), d date DEFAULT now())`,
		`COPY pages (id, "d") FROM stdin`: `COPY "rv_new".pages (id, "d") FROM stdin`,
		`INSERT INTO "Odd" VALUES (1, -2.5E-38, 'it''s', NULL, true, E'\n'::text, '{}'::jsonb, '{1}'::integer[]), (2, .5e+3, 'b', NULL, false, 'x', DEFAULT, NULL)`: `INSERT INTO "rv_new"."Odd" VALUES (1, -2.5E-38, 'it''s', NULL, true, E'\n'::text, '{}'::jsonb, '{1}'::integer[]), (2, .5e+3, 'b', NULL, false, 'x', DEFAULT, NULL)`,
		`INSERT INTO pages (id) OVERRIDING SYSTEM VALUE VALUES (1) ON CONFLICT DO NOTHING`:                                                                          `INSERT INTO "rv_new".pages (id) OVERRIDING SYSTEM VALUE VALUES (1) ON CONFLICT DO NOTHING`,
		`SELECT pg_catalog.setval('pages_id_seq', 42, true)`:                                                                                                        `SELECT pg_catalog.setval('"rv_new".pages_id_seq', 42, true)`,
		`ALTER TABLE ONLY pages ADD CONSTRAINT p PRIMARY KEY (id)`:                                                                                                  `ALTER TABLE ONLY "rv_new".pages ADD CONSTRAINT p PRIMARY KEY (id)`,
		`ALTER TABLE pages ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME s)`:                                                                      `ALTER TABLE "rv_new".pages ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME s)`,
		`CREATE FUNCTION f() RETURNS void LANGUAGE plpgsql AS $_$ BEGIN DELETE FROM x; END $_$`:                                                                     `CREATE FUNCTION f() RETURNS void LANGUAGE plpgsql AS $_$ BEGIN DELETE FROM x; END $_$`,
		`REFRESH MATERIALIZED VIEW v`: `REFRESH MATERIALIZED VIEW "rv_new".v`,
		// Not run.
		`SET statement_timeout = 0`: "", `SELECT pg_catalog.set_config('search_path', '', false)`: "", `DROP TABLE IF EXISTS pages`: "", `DROP SCHEMA public`: "", `CREATE DATABASE museum WITH TEMPLATE = template0`: "",
		`ALTER TABLE IF EXISTS ONLY pages DROP CONSTRAINT IF EXISTS p`: "", `ALTER TABLE IF EXISTS pages ALTER COLUMN id DROP DEFAULT`: "", `ALTER TABLE pages OWNER TO keeper`: "", `ALTER FUNCTION f(integer) OWNER TO keeper`: "",
		`GRANT ALL ON TABLE pages TO keeper`: "", `COMMENT ON EXTENSION citext IS 'x'`: "", `ALTER DATABASE museum OWNER TO keeper`: "", `DROP DATABASE museum`: "", `CREATE SCHEMA public`: "",
	} {
		judged := judge(text)
		require.NotEqual(t, kindRefused, judged.kind, text)
		if want == "" {
			assert.Equal(t, kindPassed, judged.kind, text)
		} else {
			assert.Equal(t, want, judged.in("rv_new"), text)
			assert.NotEqual(t, kindPassed, judged.kind, text)
		}
	}
	for _, evil := range []string{
		`DELETE FROM pages`, `UPDATE pages SET a = 1`, `TRUNCATE pages`, `DO $$ BEGIN DROP TABLE pages; END $$`, `CALL p()`, `SELECT f()`, `SELECT pg_catalog.set_config('a', 'b', false), f()`, `SELECT setval('s', 1), f()`, `SELECT lo_import('/etc/passwd')`,
		`COPY pages FROM PROGRAM 'id'`, `COPY pages FROM '/etc/passwd'`, `COPY pages TO stdout`, `COPY (DELETE FROM pages RETURNING *) TO stdout`, `COPY live.pages FROM stdin`, `INSERT INTO live.pages VALUES (1)`, `INSERT INTO pages SELECT * FROM x`,
		`INSERT INTO pages VALUES ((SELECT 1))`, `INSERT INTO pages VALUES (f())`, `INSERT INTO pages VALUES (1) RETURNING f()`, `INSERT INTO pages VALUES (1) ON CONFLICT DO UPDATE SET a = 1`, `INSERT INTO pages VALUES (1 + 1)`, `INSERT INTO pages VALUES ('x'::other.f(1))`,
		`CREATE TABLE t AS SELECT 1`, `CREATE TABLE t (a) AS SELECT 1`, `CREATE TABLE live.t (a int)`, `CREATE TEMP TABLE t (a int)`, `CREATE TABLE t (a int) TABLESPACE x`, `CREATE TABLE t (a int) AS TABLE x`, `CREATE TABLE t (a int) AS EXECUTE p`, `SELECT 1 INTO t`,
		`CREATE FUNCTION f() RETURNS void LANGUAGE c AS 'x.so'`, `CREATE FUNCTION f() RETURNS void LANGUAGE 'internal' AS 'x'`, `CREATE FUNCTION f() RETURNS void LANGUAGE plpython3u AS $$ import os $$`, `CREATE FUNCTION f() RETURNS void LANGUAGE sql LANGUAGE c AS 'x'`, `CREATE FUNCTION f() RETURNS void AS 'x'`,
		`CREATE ROLE x`, `CREATE EXTENSION IF NOT EXISTS plpython3u`, `CREATE EXTENSION IF NOT EXISTS dblink`, `CREATE EVENT TRIGGER t ON ddl_command_end EXECUTE FUNCTION f()`, `CREATE CAST (text AS int) WITH FUNCTION f(text)`, `CREATE LANGUAGE x`, `CREATE FOREIGN TABLE t (a int) SERVER s`,
		`ALTER TABLE live.pages ADD CONSTRAINT c CHECK (true)`, `ALTER TABLE pages RENAME TO x`, `ALTER TABLE pages SET SCHEMA x`, `ALTER TABLE pages DISABLE TRIGGER ALL`, `ALTER TABLE pages DISABLE TRIGGER USER`, `ALTER TABLE pages DISABLE TRIGGER stamp, DROP COLUMN id`, `ALTER TABLE pages ENABLE ROW LEVEL SECURITY, DROP COLUMN id`, `ALTER ROLE x SUPERUSER`, `ALTER SYSTEM SET x = 1`, `ALTER FUNCTION f() SECURITY DEFINER`, `DROP ROLE x`, `DROP OWNED BY x`,
		`LOAD 'x'`, `LISTEN x`, `PREPARE p AS DELETE FROM x`, `EXECUTE p`, `VACUUM`, `REINDEX TABLE x`, `LOCK TABLE pages`, `SECURITY LABEL ON TABLE t IS 'x'`, `REASSIGN OWNED BY a TO b`, `NOTIFY x`, `CREATE SUBSCRIPTION s CONNECTION 'x' PUBLICATION p`,
	} {
		for _, form := range []string{"%", "/* x */ %", "/* /* */ x */ %"} {
			text := strings.Replace(form, "%", evil, 1)
			assert.Equal(t, kindRefused, judge(text).kind, text)
		}
	}
}

func TestTheLineThatBeginsRowsNamesItsTable(t *testing.T) {
	head := copyHead(`odd "name"`)
	for line, want := range map[string]bool{
		`COPY "odd ""name""" ("a", "b ""c""") FROM stdin;`:            true,
		`COPY "odd ""name""" FROM stdin;`:                             true, // a table without columns
		`COPY "other" ("a") FROM stdin;`:                              false,
		`COPY "odd ""name""" ("a") FROM PROGRAM 'id';`:                false,
		`COPY "odd ""name""" ("a") FROM stdin; DROP TABLE x;`:         false,
		`COPY "odd ""name""" ("a") FROM stdin WITH (FORMAT csv);`:     false,
		`COPY "odd ""name""" ("a") FROM '/etc/passwd';`:               false,
		`COPY "odd ""name""" ("a"), "b") FROM stdin;`:                 false,
		`COPY (SELECT 1) TO PROGRAM 'id'; COPY "odd ""name""" FROM x`: false,
	} {
		assert.Equal(t, want, head.MatchString(line), line)
	}
}

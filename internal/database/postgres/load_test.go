package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What parts of kind schema and objects may begin with, and nothing beside it.
func TestOnlyDefinitionsAreRun(t *testing.T) {
	for _, good := range []string{
		`CREATE TABLE pages (id integer)`, `CREATE UNLOGGED TABLE pages (id integer)`, `CREATE UNIQUE INDEX i ON pages USING btree (id)`, `CREATE SEQUENCE pages_id_seq START WITH 1`,
		`CREATE OR REPLACE FUNCTION f() RETURNS void LANGUAGE sql AS $$ SELECT 1 $$`, `CREATE VIEW v AS SELECT 1`, `CREATE CONSTRAINT TRIGGER t AFTER INSERT ON pages`,
		`ALTER TABLE ONLY pages ADD CONSTRAINT pages_pkey PRIMARY KEY (id)`, `ALTER TABLE "Odd ""name""" ATTACH PARTITION p DEFAULT`, `ALTER SEQUENCE s OWNED BY pages.id`,
		`SELECT setval('pages_id_seq', 42, true)`, `SELECT setval('it''s', -1, false)`, `COMMENT ON TABLE pages IS 'x'`, `CREATE EXTENSION IF NOT EXISTS citext`, `CREATE TYPE mood AS ENUM ('calm')`,
	} {
		assert.True(t, allowed.MatchString(good), good)
	}
	for _, evil := range []string{
		`DROP TABLE pages`, `COPY pages FROM PROGRAM 'id'`, `GRANT ALL ON pages TO public`, `CREATE ROLE keeper SUPERUSER`, `CREATE DATABASE x`, `CREATE SERVER s FOREIGN DATA WRAPPER w`,
		`CREATE EXTENSION plpython3u`, `CREATE LANGUAGE plpython3u`, `CREATE EVENT TRIGGER e ON ddl_command_end EXECUTE FUNCTION f()`, `CREATE SCHEMA x`, `CREATE PUBLICATION p`,
		`ALTER SYSTEM SET shared_preload_libraries = 'x'`, `ALTER TABLE pages OWNER TO keeper`, `ALTER TABLE pages DISABLE TRIGGER ALL`, `ALTER ROLE keeper SUPERUSER`, `ALTER DATABASE x SET y = 1`,
		`SELECT pg_read_file('/etc/passwd')`, `SELECT setval('s', 1, true), pg_sleep(9)`, `SELECT setval('s', (SELECT 1), true)`, `DO $$ BEGIN END $$`, `SET session_replication_role = replica`,
		`INSERT INTO pages VALUES (1)`, `LOAD 'x'`, `CALL p()`, ` CREATE TABLE pages (id integer)`, `-- x` + "\nDROP TABLE pages", `/* x */ DROP TABLE pages`,
		`CREATE TEMPORARY TABLE x (a int)`, `SECURITY LABEL ON TABLE t IS 'x'`, `IMPORT FOREIGN SCHEMA s FROM SERVER x INTO y`,
	} {
		assert.False(t, allowed.MatchString(evil), evil)
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

package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/platform/reason"
)

// ofOthers lists what of the schema $1 this account cannot set aside, for it belongs to
// another one, with that one's name.
var ofOthers = `SELECT x.name || ' (' || x.owner::regrole::text || ')' FROM (
	SELECT 'table ' || c.relname AS name, c.relowner AS owner FROM pg_class c WHERE c.relkind IN ('r', 'p', 'v', 'm', 'S', 'c') AND c.relnamespace = $1::text::regnamespace` + own("c.oid", "pg_class") + `
		AND NOT EXISTS (SELECT FROM pg_depend o WHERE o.objid = c.oid AND o.classid = 'pg_class'::regclass AND o.deptype IN ('a', 'i') AND c.relkind IN ('S', 'c'))
	UNION ALL SELECT 'type ' || t.typname, t.typowner FROM pg_type t WHERE t.typtype IN ('e', 'd') AND t.typnamespace = $1::text::regnamespace` + own("t.oid", "pg_type") + `
	UNION ALL SELECT 'routine ' || p.proname, p.proowner FROM pg_proc p JOIN pg_language l ON l.oid = p.prolang WHERE p.pronamespace = $1::text::regnamespace AND (p.prokind = 'a' OR l.lanname = ANY($2))` + own("p.oid", "pg_proc") + `
		AND NOT EXISTS (SELECT FROM pg_depend i WHERE i.objid = p.oid AND i.classid = 'pg_proc'::regclass AND i.deptype = 'i')
	) x WHERE NOT pg_has_role(x.owner, 'USAGE') ORDER BY 1`

// othersShown is how many of them are named.
const othersShown = 5

// CheckRestore finds out, before anything changes, whether the account may exchange what is
// live: everything in its schema is its own, and it may make something there.
func (db *Database) CheckRestore(ctx context.Context) error {
	others, err := column(ctx, db.conn, ofOthers, db.schema, languages)
	if err != nil {
		return fmt.Errorf("look for what belongs to others: %w", err)
	}
	if n := len(others); n > 0 {
		named := strings.Join(others[:min(n, othersShown)], ", ")
		if n > othersShown {
			named += fmt.Sprintf(" and %d more", n-othersShown)
		}
		return reason.New(reason.OwnedByOthers, reason.Names{"account": db.c.User}, "the account %s cannot set aside what belongs to others in the schema %s: %s", db.c.User, db.schema, named)
	}
	var may bool
	if err := db.conn.QueryRow(ctx, "SELECT has_schema_privilege($1, 'CREATE')", db.schema).Scan(&may); err != nil {
		return err
	}
	if !may {
		return reason.New(reason.OwnedByOthers, reason.Names{"account": db.c.User}, "the account %s may not make anything in the schema %s", db.c.User, db.schema)
	}
	return nil
}

// Powers are what the account may do beyond its database that would be dangerous in the hands of whoever can put something
// into it: functions in indexes, casts and defaults run when tables are read and loaded, in the name of who does so.
func (db *Database) Powers(ctx context.Context) ([]string, error) {
	return column(ctx, db.conn, `SELECT r.may FROM pg_roles o, LATERAL (VALUES (o.rolsuper, 'superuser'), (o.rolcreaterole, 'CREATEROLE'), (o.rolreplication, 'REPLICATION')) r(granted, may)
		WHERE o.rolname = current_user AND r.granted
		UNION ALL SELECT rolname::text FROM pg_roles WHERE rolname IN ('pg_execute_server_program', 'pg_write_server_files', 'pg_read_server_files')
			AND pg_has_role(oid, 'MEMBER') AND NOT (SELECT rolsuper FROM pg_roles WHERE rolname = current_user)`)
}

// carriedRights are the statements that give everybody the rights on what lies in the schema
// $1 that he has on what it replaces, which lies in $2, and no more: policies for rows come
// along. An archive holds no rights: they belong to the accounts of a server. Whoever owned
// what is replaced keeps all of them.
const carriedRights = `WITH pairs AS (
		SELECT CASE n.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END AS what, format('%I.%I', $1::text, n.relname) AS name, o.relacl AS acl, o.relowner AS owner, o.oid AS old, n.oid AS new
			FROM pg_class n JOIN pg_class o ON o.relname = n.relname AND o.relkind IN ('r', 'p', 'v', 'm', 'S') AND (o.relkind = 'S') = (n.relkind = 'S') WHERE n.relkind IN ('r', 'p', 'v', 'm', 'S') AND n.relnamespace = $1::text::regnamespace AND o.relnamespace = $2::text::regnamespace
		UNION ALL SELECT 'ROUTINE', format('%I.%I(%s)', $1::text, n.proname, pg_get_function_identity_arguments(n.oid)), o.proacl, o.proowner, NULL, NULL
			FROM pg_proc n JOIN pg_proc o ON o.proname = n.proname AND replace(pg_get_function_identity_arguments(o.oid), quote_ident($2) || '.', '') = replace(pg_get_function_identity_arguments(n.oid), quote_ident($1) || '.', '')
			WHERE n.pronamespace = $1::text::regnamespace AND o.pronamespace = $2::text::regnamespace)
	SELECT stmt FROM (
		SELECT 1 AS turn, format('REVOKE ALL ON ROUTINE %s FROM PUBLIC', name) AS stmt FROM pairs WHERE what = 'ROUTINE' AND acl IS NOT NULL
		UNION ALL SELECT 2, format('GRANT ALL ON %s %s TO %s', what, name, owner::regrole::text) FROM pairs WHERE owner::regrole::text <> quote_ident(current_user)
		UNION ALL SELECT 2, format('GRANT %s ON %s %s TO %s%s', a.privilege_type, what, name, CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE a.grantee::regrole::text END, CASE WHEN a.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END)
			FROM pairs, LATERAL aclexplode(acl) a WHERE a.grantee <> owner AND a.grantee::regrole::text <> quote_ident(current_user)
		UNION ALL SELECT 2, format('GRANT %s (%I) ON TABLE %s TO %s%s', a.privilege_type, c.attname, name, CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE a.grantee::regrole::text END, CASE WHEN a.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END)
			FROM pairs JOIN pg_attribute c ON c.attrelid = pairs.old AND NOT c.attisdropped, LATERAL aclexplode(c.attacl) a
			WHERE a.grantee <> owner AND EXISTS (SELECT FROM pg_attribute n WHERE n.attrelid = pairs.new AND n.attname = c.attname AND NOT n.attisdropped)
		UNION ALL SELECT 3, format('CREATE POLICY %I ON %s AS %s FOR %s TO %s%s%s', y.polname, name, CASE WHEN y.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END,
			CASE y.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' THEN 'DELETE' ELSE 'ALL' END,
			(SELECT string_agg(CASE g WHEN 0 THEN 'PUBLIC' ELSE g::regrole::text END, ', ') FROM unnest(y.polroles) g),
			replace(' USING (' || pg_get_expr(y.polqual, y.polrelid) || ')', quote_ident($2) || '.', quote_ident($1) || '.'),
			replace(' WITH CHECK (' || pg_get_expr(y.polwithcheck, y.polrelid) || ')', quote_ident($2) || '.', quote_ident($1) || '.'))
			FROM pairs JOIN pg_policy y ON y.polrelid = pairs.old
		UNION ALL SELECT 4, format('ALTER TABLE %s %s ROW LEVEL SECURITY', name, how) FROM pairs JOIN pg_class o ON o.oid = pairs.old, (VALUES ('ENABLE'), ('FORCE')) v(how)
			WHERE CASE how WHEN 'ENABLE' THEN o.relrowsecurity ELSE o.relforcerowsecurity END
	) x ORDER BY turn, stmt`

// carryRights gives what has come into the live schema the rights of what it has replaced.
func carryRights(ctx context.Context, tx pgx.Tx, live, aside string) error {
	if _, err := tx.Exec(ctx, "SET LOCAL search_path = pg_catalog"); err != nil { // names are then complete
		return err
	}
	all, err := texts(ctx, tx, carriedRights, live, aside)
	if err != nil {
		return fmt.Errorf("look for rights: %w", err)
	}
	for _, stmt := range all {
		if _, err := tx.Exec(ctx, stmt); err != nil {
			return fmt.Errorf("%.80s: %w", stmt, err)
		}
	}
	return nil
}

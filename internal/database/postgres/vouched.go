package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"revlet/internal/database"
)

// What PostgreSQL itself vouches for. Each version of a row says which transaction made it (PostgreSQL manual, 5.5, xmin), and
// is never changed: whatever changes a row makes a new one. A table of which every row that is seen was made by a transaction
// that had ended before an earlier snapshot began holds none that was not seen then; if there are as many of them as then, none
// has gone either, and they are the same. To count them the server goes through the table, and nothing is written as text, sent
// and packed; that is spared where the server's statistics, which come late and vouch for nothing, know of changes. Numbers of transactions are told apart as long as fewer than 2^31 lie between (24.1.5): of rows that are older than
// that some count as new, which has the table be read.
//
// That holds for one run of one server: a copy of its data that was put back begins to count anew, and so does one that has
// crashed, which may have lost what was not yet on the disk. Nor may the columns be others, nor the file with the rows (TRUNCATE,
// and whatever writes a table anew, makes another), and a value's text may depend on nothing but the value.

// mostBetween is how many transactions may lie between two snapshots.
const mostBetween = math.MaxInt32 - 1<<20

// plainTypes are those whose values are written as text by themselves alone: not by names of other things, by settings that
// are not ours, or by a type that somebody can change.
const plainTypes = `'{bool,int2,int4,int8,float4,float8,numeric,text,varchar,bpchar,"char",bytea,date,time,timetz,timestamp,timestamptz,interval,uuid,json,jsonb,inet,cidr,macaddr,macaddr8,bit,varbit,xml,tsvector,point}'::pg_catalog.regtype[]`

// askServer asks for what has to be as it was for any table to be; the snapshot is the connection's.
func (s *snapshot) askServer(ctx context.Context) (m *database.Marks, newest int64, err error) {
	m = &database.Marks{Tables: map[string]database.Mark{}}
	var version int
	var standby bool
	var reset *int64
	err = s.db.conn.QueryRow(ctx, `SELECT current_setting('server_version_num')::int, pg_is_in_recovery(), (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::bigint,
		(SELECT (extract(epoch FROM stats_reset) * 1000000)::bigint FROM pg_stat_bgwriter), concat_ws(' ', version(), current_setting('port'), d.oid, d.datname)
		FROM pg_database d WHERE d.datname = current_database()`).Scan(&version, &standby, &m.Began, &reset, &m.Server)
	switch {
	case err != nil:
		return nil, 0, err
	case version < 120000 || standby || reset == nil:
		return nil, 0, nil
	}
	m.Counted = *reset
	err = s.all[0].QueryRow(ctx, `SELECT txid_snapshot_xmin(txid_current_snapshot()), txid_snapshot_xmax(txid_current_snapshot()), extract(epoch FROM now())::bigint`).Scan(&m.Oldest, &newest, &m.Taken)
	return m, newest, err
}

// askTables says of each table that can be vouched for what its rows are kept by, and how many changes are known.
func (s *snapshot) askTables(ctx context.Context) (map[string]database.Mark, error) {
	rows, err := s.all[0].Query(ctx, `SELECT c.relname, pg_stat_get_tuples_inserted(c.oid) + pg_stat_get_tuples_updated(c.oid) + pg_stat_get_tuples_deleted(c.oid), concat_ws('|', c.oid, pg_relation_filenode(c.oid), c.relpersistence, string_agg(concat_ws(',', a.attnum, a.attname, a.atttypid, a.atttypmod, a.attisdropped, a.atthasmissing, a.attmissingval::text), ';' ORDER BY a.attnum))
		FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0
		WHERE c.relnamespace = quote_ident($1)::regnamespace AND c.relkind = 'r' AND NOT c.relrowsecurity AND pg_relation_filenode(c.oid) IS NOT NULL
		GROUP BY c.oid HAVING bool_and(a.attisdropped OR a.attgenerated = '' AND coalesce((SELECT t.oid = ANY (`+plainTypes+`) OR t.typelem = ANY (`+plainTypes+`) AND t.typcategory = 'A' FROM pg_type t WHERE t.oid = a.atttypid), false))`, s.db.schema)
	if err != nil {
		return nil, err
	}
	all := map[string]database.Mark{}
	var name string
	var m database.Mark
	_, err = pgx.ForEachRow(rows, []any{&name, &m.Changed, &m.Definition}, func() error {
		all[name] = m
		return nil
	})
	return all, err
}

// vouch notes what the server says of the tables, and finds those that are as they were.
func (s *snapshot) vouch(ctx context.Context, before *database.Marks, tables []*table) error {
	m, newest, err := s.askServer(ctx)
	if err != nil || m == nil {
		return err
	}
	kept, err := s.askTables(ctx)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if is, ok := kept[t.name]; ok {
			q := s.queries[t.name]
			sum := sha256.Sum256([]byte(is.Definition + "\n" + q.read + "\n" + q.write))
			m.Tables[t.name] = database.Mark{Changed: is.Changed, Definition: hex.EncodeToString(sum[:])}
		}
	}
	s.marks = m
	if before == nil || !m.RunsOn(before) || newest < before.Oldest || newest-before.Oldest > mostBetween {
		return nil
	}
	return s.compareTables(ctx, before, tables)
}

// compareTables has the tables gone through, on all connections.
func (s *snapshot) compareTables(ctx context.Context, before *database.Marks, tables []*table) error {
	todo := make(chan *table, len(tables))
	for _, t := range tables {
		was, now := before.Tables[t.name], s.marks.Tables[t.name]
		if was.Definition != "" && now.Definition == was.Definition && now.Changed == was.Changed {
			todo <- t
		}
	}
	close(todo)
	oldest := strconv.FormatInt(before.Oldest%(1<<32), 10)
	g, ctx := errgroup.WithContext(ctx)
	for _, conn := range s.all {
		g.Go(func() error {
			for t := range todo {
				var rows, made int64
				err := conn.QueryRow(ctx, `SELECT pg_catalog.count(*), pg_catalog.count(*) FILTER (WHERE pg_catalog.age(xmin) <= pg_catalog.age($1::pg_catalog.text::pg_catalog.xid)) FROM ONLY `+quote(t.name), oldest).Scan(&rows, &made)
				if err != nil {
					return fmt.Errorf("table %s: %w", t.name, err)
				}
				t.unchanged = made == 0 && rows == before.Tables[t.name].Rows
			}
			return nil
		})
	}
	return g.Wait()
}

// SnapshotSince implements database.Voucher.
func (db *Database) SnapshotSince(ctx context.Context, before *database.Marks) (database.Snapshot, error) {
	return db.snapshot(ctx, before)
}

// Marks implements database.Vouched.
func (s *snapshot) Marks() *database.Marks { return s.marks }

// Unchanged implements database.Vouched.
func (s *snapshot) Unchanged() []string { return s.unchanged }

var (
	_ database.Voucher = (*Database)(nil)
	_ database.Vouched = (*snapshot)(nil)
)

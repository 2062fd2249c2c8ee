package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"
)

// written asks a query over the catalogues that writes definitions: names of the schema's own things without the
// schema, all others with theirs. For the server writes what is in the search path without a schema, and takes names
// in queries from there, too: so the query is understood first, as a cursor, while names mean the server's own things,
// and answered then. The connection is in a transaction. Values are as the server writes them; none may be null.
func (d *describer) written(ctx context.Context, query string, args ...string) (rows [][]string, err error) {
	values := make([][]byte, len(args))
	for i, a := range args {
		values[i] = []byte(a)
	}
	var b pgconn.Batch
	b.ExecParams("DECLARE rv_written NO SCROLL CURSOR FOR "+query, values, nil, nil, nil)
	for _, q := range []string{"SET LOCAL search_path = " + quote(d.schema), "FETCH ALL FROM rv_written", "CLOSE rv_written", onlyServers} {
		b.ExecParams(q, nil, nil, nil, nil)
	}
	results, err := d.conn.PgConn().ExecBatch(ctx, &b).ReadAll()
	if err != nil {
		return nil, err
	}
	if len(results) != 5 {
		return nil, errors.New("the server did not answer each question")
	}
	for _, r := range results[2].Rows {
		row := make([]string, len(r))
		for i, v := range r {
			if v == nil {
				return nil, fmt.Errorf("the server has no definition for value %d of %q", i+1, row)
			}
			row[i] = string(v)
		}
		rows = append(rows, row)
	}
	return rows, nil
}

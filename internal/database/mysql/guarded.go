package mysql

import (
	"cmp"
	"context"
	driverapi "database/sql/driver"
	"errors"
	"fmt"

	"revlet/internal/database"
)

// The driver believes a server about how much is to come, and panics where that is more than
// there can be. A site's settings choose the server: it must not end a program that looks
// after other sites as well. So whatever the driver does is done through guarded, which
// makes an error of it.

// errNonsense is wrapped by errors about a server that breaks the protocol.
var errNonsense = errors.New("the server breaks the protocol")

// caught makes an error of a panic.
func caught(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("%w (%v)", errNonsense, r)
	}
}

// guardedConn is one connection; bad is set once it must not be used any more.
type guardedConn struct {
	driverapi.Conn
	bad   bool
	meter *database.Meter
	most  int64
}

func (c *guardedConn) caught(err *error) {
	if r := recover(); r != nil {
		c.bad = true
		*err = fmt.Errorf("%w (%v)", errNonsense, r)
	}
	if c.meter.Err != nil { // the driver says that the connection is broken
		c.bad = true
		*err = c.meter.Err
	}
}

// tableRows marks a context in which a query reads rows of a table, each of which may be long.
type tableRows struct{}

// asks begins a question, and tells how long a row of its answer may be; 0 is all of it together.
func (c *guardedConn) asks(ctx context.Context) (row int64) {
	if ctx.Value(tableRows{}) != nil {
		row = database.MostRow
	}
	c.meter.Begin(cmp.Or(row, c.most))
	return row
}

// QueryContext implements driver.QueryerContext.
func (c *guardedConn) QueryContext(ctx context.Context, q string, args []driverapi.NamedValue) (rows driverapi.Rows, err error) {
	defer c.caught(&err)
	row := c.asks(ctx)
	if rows, err = c.Conn.(driverapi.QueryerContext).QueryContext(ctx, q, args); err != nil {
		return nil, err
	}
	return &guardedRows{rows, c, row}, nil
}

// ExecContext implements driver.ExecerContext.
func (c *guardedConn) ExecContext(ctx context.Context, q string, args []driverapi.NamedValue) (res driverapi.Result, err error) {
	defer c.caught(&err)
	c.asks(ctx)
	return c.Conn.(driverapi.ExecerContext).ExecContext(ctx, q, args)
}

// PrepareContext implements driver.ConnPrepareContext.
func (c *guardedConn) PrepareContext(ctx context.Context, q string) (s driverapi.Stmt, err error) {
	defer c.caught(&err)
	c.asks(ctx)
	if s, err = c.Conn.(driverapi.ConnPrepareContext).PrepareContext(ctx, q); err != nil {
		return nil, err
	}
	return &guardedStmt{s, c}, nil
}

// BeginTx implements driver.ConnBeginTx.
func (c *guardedConn) BeginTx(ctx context.Context, o driverapi.TxOptions) (tx driverapi.Tx, err error) {
	defer c.caught(&err)
	c.asks(ctx)
	return c.Conn.(driverapi.ConnBeginTx).BeginTx(ctx, o)
}

// Ping implements driver.Pinger.
func (c *guardedConn) Ping(ctx context.Context) (err error) {
	defer c.caught(&err)
	c.asks(ctx)
	return c.Conn.(driverapi.Pinger).Ping(ctx)
}

// ResetSession implements driver.SessionResetter.
func (c *guardedConn) ResetSession(ctx context.Context) (err error) {
	defer c.caught(&err)
	if c.bad {
		return driverapi.ErrBadConn
	}
	return c.Conn.(driverapi.SessionResetter).ResetSession(ctx)
}

// IsValid implements driver.Validator.
func (c *guardedConn) IsValid() bool { return !c.bad && c.Conn.(driverapi.Validator).IsValid() }

// CheckNamedValue implements driver.NamedValueChecker.
func (c *guardedConn) CheckNamedValue(v *driverapi.NamedValue) error {
	return c.Conn.(driverapi.NamedValueChecker).CheckNamedValue(v)
}

// guardedStmt is a prepared statement.
type guardedStmt struct {
	driverapi.Stmt
	c *guardedConn
}

// QueryContext implements driver.StmtQueryContext.
func (s *guardedStmt) QueryContext(ctx context.Context, args []driverapi.NamedValue) (rows driverapi.Rows, err error) {
	defer s.c.caught(&err)
	row := s.c.asks(ctx)
	if rows, err = s.Stmt.(driverapi.StmtQueryContext).QueryContext(ctx, args); err != nil {
		return nil, err
	}
	return &guardedRows{rows, s.c, row}, nil
}

// ExecContext implements driver.StmtExecContext.
func (s *guardedStmt) ExecContext(ctx context.Context, args []driverapi.NamedValue) (res driverapi.Result, err error) {
	defer s.c.caught(&err)
	s.c.asks(ctx)
	return s.Stmt.(driverapi.StmtExecContext).ExecContext(ctx, args)
}

// CheckNamedValue implements driver.NamedValueChecker.
func (s *guardedStmt) CheckNamedValue(v *driverapi.NamedValue) error { return s.c.CheckNamedValue(v) }

// guardedRows are a query's answer.
type guardedRows struct {
	driverapi.Rows
	c *guardedConn
	// row is how long each may be, in bytes; 0 where all of them count together.
	row int64
}

// Next implements driver.Rows.
func (r *guardedRows) Next(into []driverapi.Value) (err error) {
	defer r.c.caught(&err)
	if r.row > 0 {
		r.c.meter.Begin(r.row)
	}
	return r.Rows.Next(into)
}

// Close implements driver.Rows.
func (r *guardedRows) Close() (err error) {
	defer r.c.caught(&err)
	return r.Rows.Close()
}

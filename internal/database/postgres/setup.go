package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
)

// Make makes, as an administrator of the server, what s describes: the account, and the
// database as its own; as is how the site is to reach it. It returns what it has made, in words, also with an error. An account
// that is there already keeps its password: one that it does not go by is an error.
func Make(ctx context.Context, admin, as Config, s database.Setup) (made []string, err error) {
	admin.Name = "postgres"
	conn, err := admin.connect(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	roles, err := column(ctx, conn, "SELECT rolname FROM pg_roles WHERE rolname = $1", s.User)
	if err != nil {
		return nil, err
	}
	databases, err := column(ctx, conn, "SELECT datname FROM pg_database WHERE datname = $1", s.Name)
	if err != nil {
		return nil, err
	}
	if len(databases) > 0 {
		if err := checkEmpty(ctx, admin, s); err != nil {
			return nil, err
		}
	}
	if len(roles) > 0 {
		try := as
		try.Name = "postgres"
		theirs, err := try.connect(ctx)
		if err != nil {
			return nil, reason.New(reason.AccountTaken, nil, "the server has an account %q already, and another password than the one given; nothing was made", s.User)
		}
		_ = theirs.Close(ctx)
	}
	run := func(what, q string) error {
		if _, err := conn.Exec(ctx, q); err != nil {
			var e *pgconn.PgError
			if errors.As(err, &e) && strings.Contains(e.Message, as.Password) {
				return fmt.Errorf("make %s: error %s of the server", what, e.Code)
			}
			return fmt.Errorf("make %s: %w", what, err)
		}
		made = append(made, what)
		return nil
	}
	if len(roles) == 0 {
		if err := run("account "+s.User, s.CreateAccount("", as.Password)); err != nil {
			return made, err
		}
	}
	if len(databases) == 0 {
		return made, run("database "+s.Name, s.CreateDatabase())
	}
	return made, nil
}

// checkEmpty refuses a database that has tables already.
func checkEmpty(ctx context.Context, admin Config, s database.Setup) error {
	admin.Name = s.Name
	conn, err := admin.connect(ctx)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	var tables int
	err = conn.QueryRow(ctx, "SELECT count(*) FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema')").Scan(&tables)
	if err != nil {
		return err
	}
	return s.CheckEmpty(tables)
}

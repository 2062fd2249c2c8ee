package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
)

// Make makes, as an administrator of the server, what s describes: the database, the
// account and its rights; as is how the site is to reach them. It returns what it has made,
// in words, also with an error. An account that is there already keeps its password: one
// that it does not go by is an error.
func Make(ctx context.Context, admin, as Config, s database.Setup) (made []string, err error) {
	admin.Name = ""
	pool, err := admin.pool()
	if err != nil {
		return nil, err
	}
	defer pool.Close()
	names, err := firstColumn(ctx, pool, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", s.Name)
	if err != nil {
		return nil, admin.explain(err)
	}
	if len(names) > 0 {
		var tables int
		err := pool.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?", s.Name).Scan(&tables)
		if err == nil {
			err = s.CheckEmpty(tables)
		}
		if err != nil {
			return nil, err
		}
	}
	hosts, err := firstColumn(ctx, pool, "SELECT Host FROM mysql.user WHERE User = ?", s.User)
	if err != nil {
		return nil, fmt.Errorf("account %q on the server: %w", admin.User, err)
	}
	user, host, err := as.account(ctx)
	account := text(user) + "@" + text(host)
	if err != nil && slices.ContainsFunc(append(s.Hosts(), "%"), func(h string) bool { return slices.Contains(hosts, h) }) {
		return nil, reason.New(reason.AccountTaken, nil, "the server has an account %q already, and another password than the one given; nothing was made", s.User)
	}
	run := func(what string, statements ...string) {
		for _, q := range statements {
			if err != nil {
				return
			}
			if _, failed := pool.ExecContext(ctx, q); failed != nil {
				err = fmt.Errorf("make %s: %s", what, withoutSecret(failed, as.Password))
				return
			}
		}
		made = append(made, what)
	}
	known := err == nil
	err = nil
	if len(names) == 0 {
		run("database "+s.Name, s.CreateDatabase())
	}
	if known {
		run("rights of "+account+" on "+s.Name, s.Grants(account)...)
		return made, err
	}
	for _, account := range s.Accounts() {
		run("account "+account, s.CreateAccount(account, as.Password))
		run("rights of "+account+" on "+s.Name, s.Grants(account)...)
	}
	return made, err
}

// account is the account as which the server lets somebody in: a user, and the pattern of the hosts that he comes from.
func (c Config) account(ctx context.Context) (user, host string, err error) {
	c.Name = ""
	pool, err := c.pool()
	if err != nil {
		return "", "", err
	}
	defer pool.Close()
	names, err := firstColumn(ctx, pool, "SELECT CURRENT_USER()")
	if err != nil {
		return "", "", err
	}
	if len(names) != 1 || !strings.Contains(names[0], "@") {
		return "", "", fmt.Errorf("the server calls the account %q", names)
	}
	at := strings.LastIndexByte(names[0], '@')
	return names[0][:at], names[0][at+1:], nil
}

// withoutSecret is an error's text, unless the server repeats a password in it.
func withoutSecret(err error, secret string) string {
	var e *driver.MySQLError
	if errors.As(err, &e) && secret != "" && strings.Contains(e.Message, secret) {
		return fmt.Sprintf("error %d of the server", e.Number)
	}
	return err.Error()
}

// firstColumn collects the first column of a query.
func firstColumn(ctx context.Context, pool *sql.DB, q string, args ...any) (all []string, err error) {
	rows, err := pool.QueryContext(ctx, q, args...)
	if err != nil {
		return nil, err
	}
	texts, err := database.Texts(rows)
	for _, row := range texts {
		all = append(all, row[0])
	}
	return all, err
}

package mysql

import (
	"context"
	"slices"

	"revlet/internal/database"
)

// dangerous are rights on the whole server that whoever can put something into a database must not get lent: what tables, views
// and triggers run is run in the name of who loads or changes them.
const dangerous = "'SUPER', 'FILE', 'CREATE USER', 'GRANT OPTION', 'SYSTEM_USER', 'SET_USER_ID', 'SET USER', 'SYSTEM_VARIABLES_ADMIN', 'SHUTDOWN'"

// onAll are rights on the rows of a database which, given for the whole server, are rights on those of others.
const onAll = "'SELECT', 'INSERT', 'UPDATE', 'DELETE', 'DROP', 'ALTER', 'TRIGGER', 'EXECUTE', 'EVENT'"

// mine limits a table of rights to those of this account.
const mine = ` GRANTEE = CONCAT('\'', SUBSTRING_INDEX(CURRENT_USER(), '@', 1), '\'@\'', SUBSTRING_INDEX(CURRENT_USER(), '@', -1), '\'')`

// Powers are what the account may do beyond its database: rights on the whole server, and databases that are not the site's. Among
// these are the places in which others are staged and set aside.
func (db *Database) Powers(ctx context.Context) (powers []string, err error) {
	powers, err = firstColumn(ctx, db.pool, "SELECT PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE PRIVILEGE_TYPE IN ("+dangerous+") AND"+mine+" ORDER BY 1")
	if err != nil {
		return nil, err
	}
	all, err := firstColumn(ctx, db.pool, "SELECT DISTINCT 1 FROM information_schema.USER_PRIVILEGES WHERE PRIVILEGE_TYPE IN ("+onAll+") AND"+mine)
	if err != nil {
		return nil, err
	}
	if len(all) > 0 {
		return append(powers, "use all databases"), nil
	}
	places, err := firstColumn(ctx, db.pool, "SELECT DISTINCT TABLE_SCHEMA FROM information_schema.SCHEMA_PRIVILEGES WHERE"+mine+" ORDER BY 1")
	if err != nil {
		return nil, err
	}
	name := db.c.Name
	own := []string{name, database.Pattern(name), database.Pattern(database.StageOf(name)) + "%", database.Pattern(database.AsideOf(name)) + "%"}
	for _, place := range places {
		if !slices.Contains(own, place) {
			powers = append(powers, "use the database "+quote(place))
		}
	}
	return powers, nil
}

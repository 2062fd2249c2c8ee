package mysql

import "context"

// Powers are what the account may do beyond its database that would be dangerous in the hands of whoever can put something
// into it: what tables, views and triggers run is run in the name of who loads or changes them.
func (db *Database) Powers(ctx context.Context) (powers []string, err error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE PRIVILEGE_TYPE IN ('SUPER', 'FILE', 'CREATE USER')
		AND GRANTEE = CONCAT('\'', SUBSTRING_INDEX(CURRENT_USER(), '@', 1), '\'@\'', SUBSTRING_INDEX(CURRENT_USER(), '@', -1), '\'') ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p string
		if err := rows.Scan(&p); err != nil {
			return nil, err
		}
		powers = append(powers, p)
	}
	return powers, rows.Err()
}

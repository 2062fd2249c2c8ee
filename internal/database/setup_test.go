package database

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A site's settings name the account and the database that an administrator is asked to make.
func TestWhatAnAdministratorIsAskedToRun(t *testing.T) {
	for _, engine := range []string{"mysql", "postgres"} {
		for _, user := range []string{"root", "ROOT", "", "debian-sys-maint", "postgres", "pg_read_all_data", "a\nb", "a\x1b[2J"} {
			assert.Empty(t, Setup{Engine: engine, User: user, Name: "museum"}.SQL(), user)
		}
		assert.Empty(t, Setup{Engine: engine, User: "museum", Name: "a`;\nDROP DATABASE shop;"}.SQL())
		assert.Contains(t, Setup{Engine: engine, User: "museum", Name: "museum"}.SQL(), Placeholder)
	}
	sql := Setup{Engine: "mysql", User: "a'b", Name: "a`_%b"}.SQL()
	assert.Contains(t, sql, "CREATE DATABASE IF NOT EXISTS `a``_%b`")
	assert.Contains(t, sql, "'a''b'@'localhost'")
	assert.Contains(t, sql, "GRANT ALL PRIVILEGES ON `a``\\_\\%b`.* TO ")
	assert.NotContains(t, sql, "`rv\\_%`", "nor on what other sites have set aside")
}

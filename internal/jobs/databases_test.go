package jobs

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/watch/alarm"
)

// Settings that somebody has changed had another customer's database put into the archives.
func TestADatabaseThatWasMovedWaits(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	own := site.Database{Label: "main", Engine: "mysql", User: "museum", Host: "127.0.0.1", Port: 3306, Name: "museum_cms"}
	with := func(change func(*site.Database)) *site.Site {
		db := own
		change(&db)
		return &site.Site{Databases: []site.Database{db}}
	}
	same := func(*site.Database) {}
	read := func(site string, s *site.Site, cfg config.Site) {
		require.NoError(t, b.confirmDatabases(site, s, cfg))
		require.NoError(t, b.databasesRead(site, s, cfg))
	}
	require.NoError(t, b.confirmDatabases(museum, with(func(db *site.Database) { db.Name = "wrong" }), config.Site{}), "that no archive was taken of counts for nothing")
	read(museum, with(same), config.Site{})
	read(museum, with(same), config.Site{})
	require.NoError(t, b.confirmDatabases(museum, with(func(db *site.Database) { db.Password = "new" }), config.Site{}), "a password may change")
	for name, change := range map[string]func(*site.Database){
		"another database": func(db *site.Database) { db.Name = "bakery_cms" },
		"another account":  func(db *site.Database) { db.User = "root" },
		"another server":   func(db *site.Database) { db.Host = "10.0.0.5" },
		"another port":     func(db *site.Database) { db.Port = 3307 },
		"a socket":         func(db *site.Database) { db.Socket = "/run/mysqld/mysqld.sock" },
		"another make":     func(db *site.Database) { db.Engine = "postgres" },
		"another label":    func(db *site.Database) { db.Label = "other" },
	} {
		err := b.confirmDatabases(museum, with(change), config.Site{})
		assert.True(t, reason.Is(err, reason.DatabaseMoved), "%s: %v", name, err)
		assert.Contains(t, b.alarms(), alarm.DatabaseMoved, name)
	}
	more := with(same)
	more.Databases = append(more.Databases, site.Database{Label: "shop", Engine: "mysql", Name: "bakery_cms"})
	assert.True(t, reason.Is(b.confirmDatabases(museum, more, config.Site{}), reason.DatabaseMoved), "one more")
	require.NoError(t, b.confirmDatabases(museum, with(same), config.Site{}), "as it was")
	assert.NotContains(t, b.alarms(), alarm.DatabaseMoved, "and nothing waits any more")

	moved := with(func(db *site.Database) { db.Host = "10.0.0.5" })
	require.Error(t, b.confirmDatabases(museum, moved, config.Site{}))
	require.NoError(t, b.Accept(t.Context(), museum, alarm.DatabaseMoved, "a new server"))
	read(museum, moved, config.Site{}) // a person has confirmed it
	assert.True(t, reason.Is(b.confirmDatabases(museum, with(same), config.Site{}), reason.DatabaseMoved), "and the old one waits now")

	configured := config.Site{Databases: map[string]config.Database{"main": {MySQL: "museum@127.0.0.1:3306/museum_cms"}}}
	read("bakery", with(same), configured)
	require.NoError(t, b.confirmDatabases("bakery", with(func(db *site.Database) { db.Name = "x" }), configured), "what the configuration says is a person's word")
}

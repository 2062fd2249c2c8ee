package jobs

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/watch/alarm"
)

// A site says itself where its database is, in its settings. Whoever breaks into it could
// have them lead to the database of somebody else, which this account reaches, too: root is
// let in by some servers without a password. So the places of one backup are remembered,
// and another place waits until a person has confirmed it.

// databasePlaces is what is remembered of where a site's settings have led.
type databasePlaces struct {
	// Confirmed are the places by label, Waiting those that nobody has confirmed yet.
	Confirmed map[string]string `json:"confirmed"`
	Waiting   map[string]string `json:"waiting,omitempty"`
}

func (a *Agent) databasesPath(name string) string {
	return filepath.Join(a.State.Dir, "databases", name+".json")
}

func (a *Agent) readDatabasePlaces(name string) (p databasePlaces, err error) {
	_, err = a.State.ReadNote(a.databasesPath(name), &p, "where the databases of "+name+" were")
	return p, err
}

func (a *Agent) saveDatabasePlaces(name string, p databasePlaces) error {
	return a.State.WriteNote(a.databasesPath(name), p, "where the databases of "+name+" are")
}

// chosenBySettings are the places on servers that the site's settings have chosen, not the
// configuration, by label.
func chosenBySettings(s *site.Site, cfg config.Site) map[string]string {
	places := map[string]string{}
	for _, db := range s.Databases {
		if c := cfg.Databases[db.Label]; db.Engine != "sqlite" && c.MySQL+c.Postgres == "" {
			places[db.Label] = db.Engine + " " + db.Where()
		}
	}
	return places
}

// confirmDatabases refuses to read a database that is another one than at the last backup,
// until a person has confirmed it. The first time, it is what adopting the site has shown.
func (a *Agent) confirmDatabases(name string, s *site.Site, cfg config.Site) error {
	known, err := a.readDatabasePlaces(name)
	if err != nil {
		return err
	}
	now := chosenBySettings(s, cfg)
	if known.Confirmed == nil || maps.Equal(now, known.Confirmed) {
		if len(known.Waiting) == 0 {
			return nil
		}
		return a.saveDatabasePlaces(name, databasePlaces{Confirmed: now})
	}
	if len(now) == 0 {
		return nil // none is read
	}
	if !maps.Equal(now, known.Waiting) {
		known.Waiting = now
		if err := a.saveDatabasePlaces(name, known); err != nil {
			return err
		}
	}
	return reason.New(reason.DatabaseMoved, reason.Names{"site": name}, "site %s: its settings lead to another database than at the last backup: %s", name, known.moved())
}

// confirmTargets refuses to write into a database that is another one than at the last backup, and than the one that an
// archive was taken of, until a person has confirmed it: an intruder's settings may lead to somebody else's. The same one by
// another way is the same.
func (a *Agent) confirmTargets(name string, s *site.Site, of map[string]archive.DBOrigin) error {
	cfg := a.Config.Sites[name]
	known, err := a.readDatabasePlaces(name)
	if err != nil || known.Confirmed == nil {
		return err
	}
	for label, place := range chosenBySettings(s, cfg) {
		was, held := of[label]
		if held && !sameDatabase(place, known.Confirmed[label]) && !sameDatabase(place, was.Engine+" "+was.Where) {
			return a.confirmDatabases(name, s, cfg)
		}
	}
	return nil
}

// sameDatabase tells whether two places name the same account and database, by whatever way.
func sameDatabase(a, b string) bool {
	account := func(place string) string { who, _, _ := strings.Cut(place, "@"); return who }
	return account(a) == account(b) && a[strings.LastIndex(a, "/")+1:] == b[strings.LastIndex(b, "/")+1:]
}

// databasesRead remembers where the databases were that an archive was taken of.
func (a *Agent) databasesRead(name string, s *site.Site, cfg config.Site) error {
	known, err := a.readDatabasePlaces(name)
	if now := chosenBySettings(s, cfg); err == nil && (known.Confirmed == nil || !maps.Equal(now, known.Confirmed)) {
		err = a.saveDatabasePlaces(name, databasePlaces{Confirmed: now})
	}
	return err
}

// moved words what is waiting to be confirmed; empty when nothing is.
func (p databasePlaces) moved() string {
	var all []string
	for _, label := range slices.Sorted(maps.Keys(p.Waiting)) {
		if was := p.Confirmed[label]; was != p.Waiting[label] {
			if was == "" {
				was = "none"
			}
			all = append(all, fmt.Sprintf("%s is %s, and was %s", label, p.Waiting[label], was))
		}
	}
	if len(p.Waiting) > 0 && len(all) == 0 {
		all = append(all, "there are fewer than there were")
	}
	return strings.Join(all, "; ")
}

// databasesAccepted takes the places that waited from now on.
func (a *Agent) databasesAccepted(ctx context.Context, name string) error {
	p, err := a.readDatabasePlaces(name)
	if err != nil || len(p.Waiting) == 0 {
		return err
	}
	if err := a.saveDatabasePlaces(name, databasePlaces{Confirmed: p.Waiting}); err != nil {
		return err
	}
	return a.History.Clear(ctx, name, alarm.DatabaseMoved, "", a.Now())
}

package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

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
	data, err := a.Disk.ReadFile(a.databasesPath(name))
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &p)
	}
	if err != nil {
		return p, fmt.Errorf("read where the databases of %s were: %w", name, err)
	}
	return p, nil
}

func (a *Agent) saveDatabasePlaces(name string, p databasePlaces) error {
	data, err := json.Marshal(p)
	if err == nil {
		err = a.Disk.MkdirAll(filepath.Dir(a.databasesPath(name)), 0o700)
	}
	if err == nil {
		err = a.Disk.WriteFile(a.databasesPath(name), data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("remember where the databases of %s are: %w", name, err)
	}
	return nil
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

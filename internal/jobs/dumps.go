package jobs

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/config"
	"revlet/internal/work/backup"
)

// When the host's own jobs wrote the dumps that the newest archive has taken in is
// remembered, so that one that has stopped is noticed without asking the host.

func (a *Agent) dumpsPath(name string) string {
	return filepath.Join(a.State.Dir, "dumps", name+".json")
}

const aboutDumps = "when the host has dumped databases"

// noteDumps remembers the dumps of a new archive.
func (a *Agent) noteDumps(rec *archive.Record) error {
	made := map[string]time.Time{}
	if _, err := a.State.ReadNote(a.dumpsPath(rec.Site), &made, aboutDumps); err != nil {
		return err
	}
	found := false
	for label, o := range rec.Origin.Databases {
		if !o.Dumped.IsZero() {
			made[label], found = o.Dumped, true
		}
	}
	if !found {
		return nil
	}
	return a.State.WriteNote(a.dumpsPath(rec.Site), made, aboutDumps)
}

// oldDumps says which dumps are older than they may be now.
func (a *Agent) oldDumps(name string, cfg config.Site) (string, error) {
	made := map[string]time.Time{}
	if _, err := a.State.ReadNote(a.dumpsPath(name), &made, aboutDumps); err != nil {
		return "", err
	}
	var old []string
	for _, label := range slices.Sorted(maps.Keys(made)) {
		d, when := cfg.Databases[label].Dump, made[label]
		if d == nil {
			continue
		}
		text := fmt.Sprintf("database %s: the newest dump that the host has left is of %s", label, when.In(a.Config.Zone(cfg)).Format("2 Jan 2006 15:04"))
		switch age := a.Now().Sub(when); {
		case age < -backup.Ahead:
			old = append(old, text+", in the future: how old it is is not known")
		case d.Span > 0 && age > d.Span:
			old = append(old, text+", more than "+d.AtMost+" ago")
		}
	}
	return strings.Join(old, "; "), nil
}

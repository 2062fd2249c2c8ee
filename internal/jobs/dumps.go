package jobs

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/config"
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
	for label, o := range rec.Origin.Databases {
		if !o.Dumped.IsZero() {
			made[label] = o.Dumped
		}
	}
	if len(made) == 0 {
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
	for label, when := range made {
		d := cfg.Databases[label].Dump
		if d != nil && d.Span > 0 && a.Now().Sub(when) > d.Span {
			old = append(old, fmt.Sprintf("database %s: the newest dump that the host has left is of %s, more than %s ago", label, when.In(a.Config.Zone(cfg)).Format("2 Jan 2006 15:04"), d.AtMost))
		}
	}
	return strings.Join(old, "; "), nil
}

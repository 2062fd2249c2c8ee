package render

import (
	"slices"
	"strings"
	"time"
)

// When writes a moment in local time, with its zone.
func When(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") }

// Clock writes the moments in a column of a table, whose heading names their zone: two of them where
// the clocks were changed in between.
type Clock struct{ zones []string }

// Cell writes a moment in local time.
func (c *Clock) Cell(t time.Time) string {
	t = t.Local()
	if zone := t.Format("MST"); !slices.Contains(c.zones, zone) {
		c.zones = append(c.zones, zone)
	}
	return t.Format("2006-01-02 15:04")
}

// Heading is a column's heading, with the zone of what was written into it.
func (c *Clock) Heading(name string) string {
	if len(c.zones) == 0 {
		return name
	}
	return name + " (" + strings.Join(c.zones, ", ") + ")"
}

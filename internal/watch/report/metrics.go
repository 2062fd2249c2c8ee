package report

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// metric is one family of the OpenMetrics text format, version 1.0.
type metric struct {
	name, unit, help string
	samples          []sample
}

type sample struct {
	labels [][2]string
	value  float64
}

func (m *metric) add(value float64, labels ...[2]string) {
	m.samples = append(m.samples, sample{labels, value})
}

// Metrics writes the state of all sites as gauges in OpenMetrics text format,
// version 1.0.
func (p Page) Metrics(w io.Writer) error {
	archives := &metric{name: "revlet_archives", help: "Archives that a store holds."}
	taken := &metric{name: "revlet_newest_archive_taken_seconds", unit: "seconds", help: "When the newest good archive of a scope was taken, since 1970."}
	stored := &metric{name: "revlet_newest_archive_stored_bytes", unit: "bytes", help: "What the newest good archive takes in a store."}
	gaps := &metric{name: "revlet_newest_archive_gaps", help: "Paths that the newest archive could not hold."}
	took := &metric{name: "revlet_newest_archive_duration_seconds", unit: "seconds", help: "How long the newest archive took."}
	offsite := &metric{name: "revlet_offsite", help: "1 when the site has an archive in a store elsewhere."}
	alarms := &metric{name: "revlet_alarms", help: "Alarms that nobody has accepted, by kind."}
	pending := &metric{name: "revlet_stores_pending", help: "Stores that lack an archive."}
	due := &metric{name: "revlet_duty_next_seconds", unit: "seconds", help: "When a duty is next due, since 1970."}
	outcome := &metric{name: "revlet_duty_ok", help: "1 when the last turn of a duty was done, 0 when it was not."}
	done := &metric{name: "revlet_duty_last_done_seconds", unit: "seconds", help: "When a turn of a duty was last done without trouble, since 1970."}
	build := &metric{name: "revlet_build", help: "Always 1; the program that tells this."}
	build.add(1, [2]string{"program", p.Program})
	free := &metric{name: "revlet_store_free_bytes", unit: "bytes", help: "Room in a store's file system."}
	verified := &metric{name: "revlet_verified_seconds", unit: "seconds", help: "When an archive was last read again, since 1970."}
	unsent := &metric{name: "revlet_messages_unsent", help: "Messages that could not be sent yet."}
	for i := range p.Sites {
		s := &p.Sites[i]
		site := [2]string{"site", s.Name}
		newest(s, site, taken, stored, gaps, took)
		offsite.add(truth(s.Offsite), site)
		pending.add(float64(len(s.Pending)), site)
		counts := map[string]int{}
		for _, a := range s.Alarms {
			counts[a.Kind] += 0
			if a.Accepted == nil {
				counts[a.Kind]++
			}
		}
		for _, kind := range sortedKeys(counts) {
			alarms.add(float64(counts[kind]), site, [2]string{"kind", kind})
		}
		for _, st := range s.Stores {
			store := [2]string{"store", st.Name}
			archives.add(float64(st.Archives), site, store)
			if st.Free != nil {
				free.add(float64(*st.Free), site, store)
			}
		}
		dutyMetrics(s, site, due, outcome, done)
		if s.Verified != nil {
			verified.add(seconds(*s.Verified), site)
		}
	}
	unsent.add(float64(len(p.Unsent)))
	for _, m := range []*metric{archives, taken, stored, gaps, took, offsite, alarms, pending, due, outcome, done, free, verified, unsent, build} {
		if err := m.write(w); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintln(w, "# EOF")
	return err
}

func dutyMetrics(s *Site, site [2]string, due, outcome, done *metric) {
	for _, d := range s.Duties {
		duty := [2]string{"duty", d.Duty}
		if d.Next != nil {
			due.add(seconds(*d.Next), site, duty)
		}
		if d.LastDone != nil {
			done.add(seconds(*d.LastDone), site, duty)
		}
		if d.Outcome != "" {
			outcome.add(truth(d.Outcome == "done"), site, duty)
		}
	}
}

func newest(s *Site, site [2]string, taken, stored, gaps, took *metric) {
	seen := map[string]bool{}
	for _, a := range s.Existing() {
		if seen[a.Scope] || a.Damage {
			continue
		}
		seen[a.Scope] = true
		scope := [2]string{"scope", a.Scope}
		taken.add(seconds(a.Taken), site, scope)
		stored.add(float64(a.StoredBytes), site, scope)
		gaps.add(float64(a.Gaps), site, scope)
		took.add(a.Seconds, site, scope)
	}
}

func truth(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

func seconds(t time.Time) float64 { return float64(t.UnixMilli()) / 1000 }

func (m *metric) write(w io.Writer) error {
	if len(m.samples) == 0 {
		return nil
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# TYPE %s gauge\n", m.name)
	if m.unit != "" {
		fmt.Fprintf(&b, "# UNIT %s %s\n", m.name, m.unit)
	}
	fmt.Fprintf(&b, "# HELP %s %s\n", m.name, m.help)
	for _, s := range m.samples {
		b.WriteString(m.name)
		for i, l := range s.labels {
			b.WriteString(map[bool]string{true: "{", false: ","}[i == 0])
			fmt.Fprintf(&b, `%s="%s"`, l[0], escapeLabel(l[1]))
		}
		if len(s.labels) > 0 {
			b.WriteString("}")
		}
		b.WriteString(" " + strconv.FormatFloat(s.value, 'f', -1, 64) + "\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func escapeLabel(s string) string {
	return strings.NewReplacer(`\`, `\\`, "\n", `\n`, `"`, `\"`).Replace(s)
}

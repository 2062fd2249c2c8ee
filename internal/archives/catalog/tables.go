package catalog

import (
	"maps"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/reason"
)

// Tables are the names of an archive's tables that have parts of their own, by the label of their database.
func (h *Held) Tables() map[string][]string {
	all := map[string][]string{}
	for _, p := range h.Parts {
		if p.Kind == archive.KindRows && p.Slice <= 1 {
			all[p.Database] = append(all[p.Database], p.Table)
		}
	}
	return all
}

// FindTable finds a table as a person names it: with the site's prefix or without, after the label of its
// database and a dot where a site has several. held are the tables by label, as Tables has them. A table that is
// not there is an error that lists those that are.
func (h *Held) FindTable(held map[string][]string, typed string) (label, table string, err error) {
	of, name, dotted := strings.Cut(typed, ".")
	var found [][2]string
	for _, label := range slices.Sorted(maps.Keys(held)) {
		prefix := h.Origin.Databases[label].Prefix
		names := []string{typed, prefix + typed}
		if dotted && label == of {
			names = append(names, name, prefix+name)
		}
		for _, name := range names {
			if slices.Contains(held[label], name) {
				found = append(found, [2]string{label, name})
				break
			}
		}
	}
	switch len(found) {
	case 0:
		return "", "", reason.New(reason.TableNotHeld, reason.Names{"archive": h.Name}, "archive %s has no table %q; it has %s", h.Name, typed, someTables(held))
	case 1:
		return found[0][0], found[0][1], nil
	}
	return "", "", reason.BadUsage("archive %s has several databases with a table %q; write %s.%s", h.Name, typed, found[0][0], typed)
}

// mostNamed is how many tables a message lists.
const mostNamed = 40

func someTables(held map[string][]string) string {
	var all []string
	for _, tables := range held {
		all = append(all, tables...)
	}
	slices.Sort(all)
	switch all = slices.Compact(all); {
	case len(all) == 0:
		return "none"
	case len(all) > mostNamed:
		return strings.Join(all[:mostNamed], ", ") + ", and more"
	}
	return strings.Join(all, ", ")
}

package site

import (
	"regexp"
	"slices"
	"strings"
)

// SubSites says how a CMS keeps many sites in one installation: the tables of each have
// a prefix of their own after that of the installation, and some tables are shared.
type SubSites struct {
	// Prefix is a pattern for what stands between the installation's prefix and a
	// table's name.
	Prefix string `yaml:"prefix"`
	// Shared are tables, without prefix, that all sub-sites use.
	Shared []string `yaml:"shared"`
}

// SubPrefixes finds the sub-sites of an installation by its tables: what stands after its
// prefix, in order. The first is the main site, which has nothing there.
func (r *Recipe) SubPrefixes(prefix string, tables []string) []string {
	all := []string{""}
	if r == nil || r.SubSites.Prefix == "" {
		return all
	}
	pattern, err := regexp.Compile("^(?:" + r.SubSites.Prefix + ")")
	if err != nil {
		return all
	}
	for _, t := range tables {
		if rest, ok := strings.CutPrefix(t, prefix); ok {
			if sub := pattern.FindString(rest); sub != "" && !slices.Contains(all, sub) {
				all = append(all, sub)
			}
		}
	}
	slices.SortFunc(all, func(a, b string) int {
		if len(a) != len(b) {
			return len(a) - len(b)
		}
		return strings.Compare(a, b)
	})
	return all
}

// TableOf is the complete name of one of the CMS's tables for a sub-site.
func (r *Recipe) TableOf(prefix, sub, table string) string {
	if r.Shares(table) {
		return prefix + table
	}
	return prefix + sub + table
}

// Autoloads tells whether a script runs at every request.
func (r *Recipe) Autoloads(rel string) bool {
	return r != nil && slices.ContainsFunc(r.Autoload, func(pattern string) bool { return Matches(pattern, rel) })
}

// Shares tells whether all sub-sites use a table.
func (r *Recipe) Shares(table string) bool {
	return r != nil && slices.Contains(r.SubSites.Shared, table)
}

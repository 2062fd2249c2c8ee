package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/urfave/cli/v3"

	"revlet/internal/catalog"
	"revlet/internal/restore"
	"revlet/internal/site"
)

// wish is what is to be restored.
type wish struct {
	files, database bool
	// share is nil for all of the files.
	share *restore.Share
	// names words the share; uploads tells that they are of it.
	names   []string
	uploads bool
}

// words says what becomes of the files.
func (w wish) words(root string) string {
	if w.share.Fill {
		return fmt.Sprintf("in %s, what is missing or differs of %s is put back; what was added stays", root, strings.Join(w.names, ", "))
	}
	return fmt.Sprintf("in %s, %s becomes exactly the archive's", root, strings.Join(w.names, ", "))
}

// wanted reads --only, --path and --mode.
func wanted(c *cli.Command, s *site.Site, h *catalog.Held) (wish, error) {
	w := wish{files: h.Scope.HasFiles(), database: h.Scope.HasDatabase() && len(h.Origin.Databases) > 0}
	fill := c.String("mode") == "fill"
	if !fill && c.String("mode") != "replace" {
		return w, usageError("--mode %q: it is replace or fill", c.String("mode"))
	}
	globs := c.StringSlice("path")
	var components []string
	if only := c.String("only"); only != "" {
		w.files, w.database = false, false
		for name := range strings.SplitSeq(only, ",") {
			switch name = strings.TrimSpace(name); name {
			case "files":
				w.files = true
			case "database":
				w.database = true
			default:
				components = append(components, name)
			}
		}
	}
	if len(globs) > 0 && len(components) > 0 {
		return w, usageError("choose one of --path and --only %s", strings.Join(components, ","))
	}
	if err := knownComponents(components, s); err != nil {
		return w, err
	}
	for _, g := range globs {
		if !doublestar.ValidatePattern(g) {
			return w, usageError("--path %q is no pattern such as \"uploads/2026/**\"", g)
		}
	}
	switch {
	case len(globs) > 0:
		w.files, w.names = true, globs
		w.database = w.database && c.String("only") != ""
		w.share = &restore.Share{Fill: fill, Keep: func(rel string) bool {
			return slices.ContainsFunc(globs, func(g string) bool { return covers(g, rel) })
		}}
	case len(components) > 0 && !w.files:
		w.files, w.names, w.uploads = true, components, slices.Contains(components, "uploads")
		w.share = &restore.Share{Fill: fill, Keep: func(rel string) bool { return slices.Contains(components, s.Recipe.ComponentOf(rel)) }}
	case fill && w.files:
		w.database = w.database && c.String("only") != ""
		w.names = []string{"the site"}
		w.share = &restore.Share{Fill: true, Keep: func(string) bool { return true }}
	case fill:
		return w, usageError("--mode fill is for files; a database becomes the archive's as a whole")
	}
	return w, nil
}

// covers tells whether a pattern means a path, or a folder that it lies in.
func covers(glob, rel string) bool {
	glob = strings.Trim(strings.TrimPrefix(glob, "./"), "/")
	if ok, err := doublestar.Match(glob, rel); err == nil && ok {
		return true
	}
	ok, err := doublestar.Match(glob+"/**", rel)
	return err == nil && ok
}

// knownComponents makes sure that the recipe has the components that were asked for.
func knownComponents(components []string, s *site.Site) error {
	names := []string{"other"}
	if s.Recipe != nil {
		for _, c := range s.Recipe.Components {
			names = append(names, c.Name)
		}
	}
	slices.Sort(names)
	for _, c := range components {
		if !slices.Contains(names, c) {
			return usageError("there is no component %q; there are files, database, %s", c, strings.Join(names, ", "))
		}
	}
	return nil
}

package compare

import (
	"context"
	"path"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/changes"
	"revlet/internal/site"
)

// This file says which differences an intruder may have made.

// Suspects are the files that a person should look at first.
func (r *Report) Suspects() []File {
	return slices.DeleteFunc(slices.Clone(r.Files), func(f File) bool { return f.Suspect == "" })
}

// suspect says why a path that differs should be looked at.
func (j Job) suspect(how, rel, component string) string {
	base := path.Base(rel)
	script := changes.Executable(rel)
	switch {
	case how == Removed && component == "core" && j.sameVersion():
		return "a file of the CMS itself is gone, and its version is the same"
	case how == Removed:
		return ""
	case component == "uploads" && script:
		return "a file that can be run, among the uploads"
	case component == "core" && how == Changed && j.sameVersion():
		return "a file of the CMS itself differs, and its version is the same"
	case component == "core" && how == Added && script && j.sameVersion():
		return "a script that is no part of this version of the CMS"
	case script && j.Recipe.Autoloads(rel):
		return "a script that runs at every request"
	case slices.Contains(changes.ServerSettings, base):
		return "it changes how the web server treats its folder"
	case script && strings.HasPrefix(base, "."):
		return "a hidden script"
	case script && !changes.Executable("x"+path.Ext(base)):
		return "a script under the name of something else"
	case component == "settings" && how == Changed:
		return "the site's settings differ"
	}
	return ""
}

// suspectLink says why a symbolic link that is new, or leads elsewhere now, should be looked at.
func (j Job) suspectLink(how, rel, target string) string {
	to := path.Join(path.Dir(rel), target)
	switch {
	case how == Removed:
		return ""
	case path.IsAbs(target), to == "..", strings.HasPrefix(to, "../"):
		return "a link that leads out of the site"
	case j.Recipe.ComponentOf(to) == "settings" && j.Recipe.ComponentOf(rel) != "settings":
		return "another name for the site's settings"
	}
	return ""
}

// what words what a path is that is no file; nothing for files, and where there is nothing.
func what(e *Entry) string {
	if e == nil {
		return ""
	}
	switch e.Type {
	case archive.TypeFolder:
		return "a folder"
	case archive.TypeSymlink:
		return "a link to " + e.Target
	case archive.TypeHardlink:
		return "another name of " + strings.TrimPrefix(e.Target, site.RootLabel+"/")
	}
	return ""
}

// lonelyScripts finds scripts that differ all alone in their theme or extension: an
// update changes more than one file, or brings a folder of its own.
func (j Job) lonelyScripts(r *Report) {
	of := map[string][]int{}
	for i, f := range r.Files {
		if group := j.groupOf(strings.TrimPrefix(f.Path, site.RootLabel+"/"), f.Component); group != "" {
			of[group] = append(of[group], i)
		}
	}
	for _, members := range of {
		f := &r.Files[members[0]]
		if len(members) > 1 || f.Suspect != "" || f.digest == nil || f.How == Rights || !changes.Executable(f.Path) {
			continue
		}
		f.Suspect = "a script that differs alone in its folder; an update would change others too"
	}
}

// groupOf is the folder of the theme or extension that a path belongs to.
func (j Job) groupOf(rel, component string) string {
	if j.Recipe == nil || component != "themes" && component != "extensions" {
		return ""
	}
	for _, c := range j.Recipe.Components {
		for _, pattern := range c.Paths {
			dir, whole := strings.CutSuffix(pattern, "/**")
			inside, ok := strings.CutPrefix(rel, dir+"/")
			if !whole || !ok || c.Name != component {
				continue
			}
			if first, _, deeper := strings.Cut(inside, "/"); deeper {
				return dir + "/" + first
			}
		}
	}
	return ""
}

func (j Job) sameVersion() bool { return j.A.Version() == j.B.Version() }

func (j Job) suspectRows(ctx context.Context, w Watcher, tables []string) ([]SuspectRow, error) {
	var done [2]func()
	var err error
	for i, side := range []struct {
		of   Side
		into *Texts
	}{{j.A, &w.Before}, {j.B, &w.After}} {
		if *side.into, done[i], err = side.of.Texts(ctx, w.Database); err != nil {
			return nil, err
		}
		defer done[i]()
	}
	return w.Suspects(ctx, tables)
}

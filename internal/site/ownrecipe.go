package site

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/schema"
	"revlet/internal/site/password"
)

// A recipe of one's own is a file, named in the configuration: what it says is done with a
// site's database, and written into its webroot and its settings. So it is taken from an
// account that could do the same anyway, and from nobody else.

// longestRecipe bounds a recipe's file.
const longestRecipe = 1 << 20

// IsRecipeFile tells whether a recipe is named by its file.
func IsRecipeFile(name string) bool { return strings.HasSuffix(name, ".yaml") }

// ReadRecipe reads a recipe of one's own. A file that others may change is an error, and so
// is one that does not say what a recipe needs.
func ReadRecipe(file string) (*Recipe, error) {
	f, err := (&disk.Disk{}).OpenRegular(file)
	if err != nil {
		return nil, fmt.Errorf("the recipe: %w", err)
	}
	defer f.Close()
	info, err := f.Stat() // of what is read, whatever has its name by now
	if err != nil {
		return nil, fmt.Errorf("the recipe: %w", err)
	}
	if a, ok := disk.AttributesOf(info); ok && (a.UID != 0 && a.UID != os.Geteuid() || info.Mode().Perm()&0o022 != 0) {
		return nil, fmt.Errorf("the recipe %s belongs to another account, or others may change it: what it says would be done as this one", file)
	}
	data, err := io.ReadAll(io.LimitReader(f, longestRecipe+1))
	if err == nil && len(data) > longestRecipe {
		err = fmt.Errorf("%s is larger than %d bytes", file, longestRecipe)
	}
	if err != nil {
		return nil, fmt.Errorf("the recipe: %w", err)
	}
	r := &Recipe{}
	if err := yaml.UnmarshalWithOptions(data, r, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("the recipe %s: %w", file, err)
	}
	if err := r.Check(); err != nil {
		return nil, fmt.Errorf("the recipe %s: %w", file, err)
	}
	all, err := Recipes()
	if err == nil && slices.ContainsFunc(all, func(known *Recipe) bool { return known.Name == r.Name }) {
		err = fmt.Errorf("the recipe %s has the name of one that Revlet brings, %s; it is to have another", file, r.Name)
	}
	return r, err
}

var (
	recipeName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
	plainName  = regexp.MustCompile(`^[A-Za-z0-9_]{1,64}$`)
)

// Check tells what is missing in a recipe, or makes no sense.
func (r *Recipe) Check() error {
	switch {
	case !recipeName.MatchString(r.Name):
		return fmt.Errorf("`name: %s` is to be small letters, digits and -", r.Name)
	case r.Title == "":
		return errors.New("`title:` is missing")
	case len(r.Recognise) == 0:
		return errors.New("`recognise:` names no file")
	case len(r.Databases) > 0 && len(r.Settings.Files) == 0:
		return errors.New("`databases:` are described, and `settings:` names no file to read them from")
	case len(r.Settings.Files) > 0 && r.Settings.Syntax != "php" && r.Settings.Syntax != "yaml":
		return fmt.Errorf("`settings: {syntax: %s}` is php or yaml", r.Settings.Syntax)
	}
	for label, db := range r.Databases {
		if err := db.check(); err != nil {
			return fmt.Errorf("`databases: {%s: …}`: %w", label, err)
		}
	}
	for _, name := range r.files() {
		if !fs.ValidPath(name) {
			return fmt.Errorf("%q is no path in the webroot", name)
		}
	}
	return errors.Join(r.checkPatterns(), r.checkTables(), r.checkMove())
}

// check tells what is missing to reach a database.
func (want DatabaseSettings) check() error {
	engines := append(slices.Collect(maps.Values(want.Engine.Values)), want.Engine.Always)
	for _, e := range engines {
		switch e {
		case "", "mysql", "postgres":
		case "sqlite":
			if want.Path == "" {
				return errors.New("`path:` is missing")
			}
		default:
			return fmt.Errorf("engine %q is mysql, postgres or sqlite", e)
		}
		if e == "mysql" || e == "postgres" {
			if want.Name == "" || want.User == "" || want.Password == "" {
				return errors.New("`name:`, `user:` or `password:` is missing")
			}
		}
	}
	if (want.Engine.Always == "") == (want.Engine.Setting == "") {
		return errors.New("`engine:` has either `always:` or `setting:`")
	}
	return nil
}

// Names tells whether the recipe says anything of a file, or of a folder above it: as settings, as one
// that is changed when a site moves, or in any other way.
func (r *Recipe) Names(rel string) bool {
	return slices.ContainsFunc(slices.Concat(r.files(), r.Settings.Others), func(name string) bool {
		if rel == name || strings.HasPrefix(rel, name+"/") {
			return true
		}
		ok, err := doublestar.Match(name, rel)
		return err != nil || ok
	})
}

// files are the paths that a recipe names one by one.
func (r *Recipe) files() []string {
	all := slices.Concat(r.Recognise, r.Settings.Includes, r.Settings.Overrides, r.Move.Texts)
	for _, name := range []string{r.Version.File, r.Maintenance.File, r.Needs.PHP.File, r.Needs.MySQL.File, r.Needs.Modules.File, r.Needs.Composer} {
		if name != "" {
			all = append(all, name)
		}
	}
	for _, step := range r.Move.Copy {
		if step.File != "" {
			all = append(all, step.File)
		}
	}
	for _, name := range r.Settings.Files { // may lie one folder above
		all = append(all, strings.TrimPrefix(name, "../"))
	}
	return all
}

// checkPatterns makes sure that patterns can be understood.
func (r *Recipe) checkPatterns() error {
	globs := slices.Concat(r.Skip, r.Autoload, r.Settings.Others)
	for _, c := range r.Components {
		if !recipeName.MatchString(c.Name) {
			return fmt.Errorf("component %q: small letters, digits and - make a name", c.Name)
		}
		globs = append(globs, c.Paths...)
	}
	for _, name := range r.Move.Empty {
		if _, err := path.Match(name, ""); err != nil {
			return fmt.Errorf("`move: {empty: …}`: %q: %w", name, err)
		}
	}
	for _, g := range globs {
		if !doublestar.ValidatePattern(g) || path.IsAbs(g) {
			return fmt.Errorf("%q is no pattern for paths in the webroot", g)
		}
	}
	picks := []string{r.SubSites.Prefix}
	for _, w := range slices.Concat(r.Watch, r.Accounts.Named) {
		picks = append(picks, w.Pick)
	}
	for _, p := range picks {
		if _, err := regexp.Compile(p); err != nil {
			return fmt.Errorf("pattern %q: %w", p, err)
		}
	}
	return nil
}

// checkTables makes sure that what is to be the name of a table or a column is one.
func (r *Recipe) checkTables() error {
	var names []string
	add := func(required []string, optional ...string) {
		names = append(names, required...)
		for _, n := range optional {
			if n != "" {
				names = append(names, n)
			}
		}
	}
	row := func(one Row) { add([]string{one.Table, one.Column}, one.Where) }
	for _, one := range slices.Concat(r.Move.Anew, r.Move.Prefixed) {
		row(one)
	}
	for _, one := range r.Move.Extensions {
		row(one.Row)
	}
	for _, one := range r.Move.Network {
		add([]string{one.Table, one.Domain, one.Path})
	}
	if s := r.Move.SubSite; s.Table != "" {
		add([]string{s.ID, s.Domain, s.Path})
	}
	if r.SiteTitle.Table != "" {
		row(r.SiteTitle.Row)
	}
	for _, step := range r.Move.Copy {
		if step.Row != nil {
			row(*step.Row)
		}
	}
	if a := r.Accounts; a.Table != "" {
		add([]string{a.Table, a.Key, a.Name, a.Password}, a.Mail, a.Token, a.Off.Column)
		for _, m := range a.Administrators {
			add([]string{m.Table, m.Column}, m.Where, m.In)
		}
		for _, f := range a.Forget {
			add([]string{f.Table, f.Column}, f.Where)
		}
		for _, h := range a.Hashes {
			if !slices.Contains(password.Schemes, h.Scheme) {
				return fmt.Errorf("`accounts: {hashes: …}`: no scheme is called %q; there are %s", h.Scheme, strings.Join(password.Schemes, ", "))
			}
		}
		if len(a.Hashes) == 0 {
			return errors.New("`accounts: {hashes: …}` is missing")
		}
	}
	for _, n := range names {
		if !plainName.MatchString(n) {
			return fmt.Errorf("%q is no name of a table or a column", n)
		}
	}
	return nil
}

// checkMove makes sure that each step for a practice copy does one thing.
func (r *Recipe) checkMove() error {
	for _, k := range r.Move.Keep {
		table, column, ok := strings.Cut(k, ".")
		if !ok || !plainName.MatchString(table) || !plainName.MatchString(column) {
			return fmt.Errorf("`move: {keep: …}`: %q is to be TABLE.COLUMN", k)
		}
	}
	for i, step := range r.Move.Copy {
		n := 0
		for _, there := range []bool{step.Row != nil, step.Setting != "" || step.Insert != "", step.File != ""} {
			if there {
				n++
			}
		}
		if step.What == "" || n != 1 {
			return fmt.Errorf("step %d of `move: {copy: …}` needs `what:`, and one of `row:`, `setting:` (with `insert:`) and `file:`", i+1)
		}
		if step.Insert != "" && r.Settings.Syntax != "php" {
			return fmt.Errorf("step %d of `move: {copy: …}`: `insert:` is for settings in PHP", i+1)
		}
	}
	return nil
}

// Schema describes the file of a recipe in JSON Schema (draft 2020-12).
func Schema() map[string]any {
	s := schema.Of(reflect.TypeFor[Recipe](), schema.Nothing)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "A recipe: what Revlet knows about one kind of CMS"
	s["required"] = []string{"name", "title", "recognise"}
	return s
}

package config

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml"

	"revlet/internal/platform/reason"
	"revlet/internal/platform/schema"
)

// Patterns are one pattern or a list of them.
type Patterns []string

// JSONSchema implements schema.Custom.
func (Patterns) JSONSchema() map[string]any { return schema.OneOrMany() }

// UnmarshalYAML implements yaml.InterfaceUnmarshaler.
func (p *Patterns) UnmarshalYAML(read func(any) error) error {
	var one string
	if read(&one) == nil {
		*p = Patterns{one}
		return nil
	}
	var all []string
	err := read(&all)
	*p = all
	return err
}

// ownOfEach are the keys that say which site an entry is of: no default can say that.
var ownOfEach = []string{"root", "roots", "address", "settings", "databases"}

// shared checks what counts for all sites.
func (s settler) shared() error {
	if s.AtOnce < 0 || s.AtOnce > 64 {
		return s.at("$.at_once", "`at_once: %d`: it is 1 to 64", s.AtOnce)
	}
	if s.AtOnce == 0 {
		s.Config.AtOnce = 4
	}
	if s.Defaults == nil {
		return nil
	}
	v := reflect.ValueOf(*s.Defaults)
	for i := range v.NumField() {
		if key := v.Type().Field(i).Tag.Get("yaml"); slices.Contains(ownOfEach, key) && !v.Field(i).IsZero() {
			return s.at("$.defaults."+key, "`%s:` says which site an entry is of; it cannot stand in `defaults:`", key)
		}
	}
	// Its files are relative to this one, wherever the site stands.
	if r := s.Defaults.Reach; r != nil {
		r.KeyFile, r.PasswordFile = absolute(s.base, r.KeyFile), absolute(s.base, r.PasswordFile)
	}
	if r := s.Defaults.Rehearse; r != nil {
		if err := s.databases(r.Databases, "defaults", "$.defaults.rehearse.databases", false); err != nil {
			return err
		}
	}
	if isRecipeFile(s.Defaults.Recipe) {
		s.Defaults.Recipe = absolute(s.base, s.Defaults.Recipe)
	}
	return nil
}

// isRecipeFile tells whether a recipe is named by its file.
func isRecipeFile(recipe string) bool { return strings.HasSuffix(recipe, ".yaml") }

// take takes what an entry does not say from the defaults, key by key. Folders that these
// name are relative to the file that they stand in.
func (one *Site) take(defaults *Site) {
	if defaults == nil {
		return
	}
	from, to := reflect.ValueOf(*defaults), reflect.ValueOf(one).Elem()
	for i := range from.NumField() {
		switch key := from.Type().Field(i).Tag.Get("yaml"); {
		case key == "-" || key == "" || !to.Field(i).IsZero() || from.Field(i).IsZero():
		case key == "check" && len(one.Checks) > 0, key == "checks" && one.Check != nil:
			// an entry that names checks names all of them
		case key == "reach" && !one.Far():
			// for sites elsewhere
		default:
			to.Field(i).Set(from.Field(i))
		}
	}
}

// include reads the files with more sites.
func (s settler) include() error {
	var files []string
	for i, pattern := range s.Include {
		found, err := doublestar.FilepathGlob(absolute(s.base, pattern), doublestar.WithFilesOnly())
		if err == nil && len(found) == 0 && !hasMeta(pattern) {
			err = errors.New("there is no such file")
		}
		if err != nil {
			where := "$.include"
			if len(s.Include) > 1 {
				where += fmt.Sprintf("[%d]", i)
			}
			return s.at(where, "`include: %s`: %v", pattern, err)
		}
		files = append(files, found...)
	}
	slices.Sort(files)
	from := map[string]string{}
	for name := range s.Sites {
		from[name] = s.Path
	}
	for _, file := range slices.Compact(files) {
		more, err := s.included(file)
		if err != nil {
			return err
		}
		for _, name := range sortedKeys(more) {
			if from[name] != "" {
				return &Error{Path: file, Reason: fmt.Sprintf("site %q stands in %s already", name, from[name])}
			}
			from[name] = file
		}
		if s.Config.Sites == nil {
			s.Config.Sites = map[string]Site{}
		}
		maps.Copy(s.Config.Sites, more)
	}
	return nil
}

func hasMeta(pattern string) bool {
	_, meta := doublestar.SplitPattern(pattern)
	return meta != pattern && slices.ContainsFunc([]rune(pattern), func(r rune) bool { return r == '*' || r == '?' || r == '[' || r == '{' })
}

// included reads one file with sites. Others may not have put it there.
func (s settler) included(file string) (map[string]Site, error) {
	if err := ours(file); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the configuration: %w", err)
	}
	var more struct {
		Sites map[string]Site `yaml:"sites"`
	}
	if err := yaml.UnmarshalWithOptions(data, &more, yaml.Strict()); err != nil {
		return nil, placed(file, err)
	}
	one := settler{Config: s.Config, file: file, data: data, base: filepath.Dir(file)}
	for _, name := range sortedKeys(more.Sites) {
		site := more.Sites[name]
		site.take(s.Defaults)
		if err := one.site(name, &site); err != nil {
			return nil, err
		}
		more.Sites[name] = site
	}
	return more.Sites, nil
}

// ours refuses a file that another account has put there or may change: what it says is done
// as this one.
func ours(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("read the configuration: %w", err)
	}
	if ofOthers(path, info, -1) {
		return reason.New(reason.IncludeOfOthers, reason.Names{"path": path}, "%s belongs to another account, or others may change it: what it says would be done as yours", path)
	}
	return exchangeable(path, -1)
}

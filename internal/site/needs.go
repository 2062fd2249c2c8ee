package site

import (
	"encoding/json"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/mod/semver"

	"revlet/internal/site/phpliteral"
)

// NeedsSource says where a CMS declares what it needs of the machine that it runs on.
type NeedsSource struct {
	// PHP and MySQL are the least versions.
	PHP   VersionSource `yaml:"php"`
	MySQL VersionSource `yaml:"mysql"`
	// Modules is a setting with a list of modules of PHP, in a file.
	Modules struct {
		File    string `yaml:"file"`
		Setting string `yaml:"setting"`
	} `yaml:"modules"`
	// Composer is a file in which a project requires PHP and modules of it (Composer's
	// documentation, "Platform packages").
	Composer string `yaml:"composer"`
	// Always are modules that every version of the CMS needs.
	Always []string `yaml:"always"`
}

// Needs are what a CMS needs; what it does not declare is empty.
type Needs struct {
	PHP, MySQL string
	Modules    []string
}

// longestNeeds bounds a file that is read for needs, mostModules what it may name.
const (
	longestNeeds = 1 << 20
	mostModules  = 100
)

// NeedsIn reads what the CMS declares through read. Files that are not there, or of another
// form, declare nothing.
func (r *Recipe) NeedsIn(read ReadFunc) Needs {
	of := r.Needs
	n := Needs{PHP: declared(of.PHP, read), MySQL: declared(of.MySQL, read), Modules: slices.Clone(of.Always)}
	if of.Modules.File != "" {
		if data, err := read(of.Modules.File); err == nil && len(data) <= longestNeeds {
			f := phpliteral.Read(string(data), phpliteral.Options{})
			for i := range f.Keys(of.Modules.Setting) {
				if name, ok := f.Text(of.Modules.Setting + "." + strconv.Itoa(i)); ok {
					n.Modules = append(n.Modules, name)
				}
			}
		}
	}
	if of.Composer != "" {
		n.require(of.Composer, read)
	}
	slices.Sort(n.Modules)
	n.Modules = slices.Compact(n.Modules)
	n.Modules = slices.DeleteFunc(n.Modules, func(m string) bool { return !moduleName.MatchString(m) })
	n.Modules = n.Modules[:min(len(n.Modules), mostModules)]
	return n
}

var (
	moduleName  = regexp.MustCompile(`^[A-Za-z0-9_ -]{1,40}$`)
	leadVersion = regexp.MustCompile(`\d+(?:\.\d+){0,2}`)
)

// declared is a version that stands in a file of the CMS.
func declared(of VersionSource, read ReadFunc) string {
	if of.File == "" {
		return ""
	}
	data, err := read(of.File)
	if err != nil || len(data) > longestNeeds {
		return ""
	}
	v, ok := filled(of.Value, phpliteral.Read(string(data), phpliteral.Options{}))
	if !ok {
		return ""
	}
	return leadVersion.FindString(v)
}

// require reads the packages that Composer calls platform packages.
func (n *Needs) require(file string, read ReadFunc) {
	data, err := read(file)
	var project struct {
		Require map[string]string `json:"require"`
	}
	if err != nil || len(data) > longestNeeds || json.Unmarshal(data, &project) != nil {
		return
	}
	for name, version := range project.Require {
		if module, ok := strings.CutPrefix(name, "ext-"); ok {
			n.Modules = append(n.Modules, module)
		}
		if name == "php" && n.PHP == "" {
			n.PHP = leadVersion.FindString(version)
		}
	}
}

// AtLeast tells whether a version is another, or newer. known is false if one of them is
// none.
func AtLeast(has, wants string) (ok, known bool) {
	a, b := "v"+leadVersion.FindString(has), "v"+leadVersion.FindString(wants)
	if !semver.IsValid(a) || !semver.IsValid(b) {
		return false, false
	}
	return semver.Compare(a, b) >= 0, true
}

// Package site knows what a site is: its webroot, the databases that belong to
// it, and the recipe for its kind of CMS.
package site

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml"

	"revlet/internal/site/tree"
)

// Recipe is what Revlet knows about one kind of CMS.
type Recipe struct {
	Name  string `yaml:"name"`
	Title string `yaml:"title"`
	// Recognise lists files that only this CMS has together.
	Recognise   []string                    `yaml:"recognise"`
	Version     VersionSource               `yaml:"version"`
	Settings    SettingsSource              `yaml:"settings"`
	Databases   map[string]DatabaseSettings `yaml:"databases"`
	Address     AddressSource               `yaml:"address"`
	Components  []Component                 `yaml:"components"`
	Skip        []string                    `yaml:"skip"`
	Maintenance Maintenance                 `yaml:"maintenance"`
	// SubSites say how many sites live in one installation.
	SubSites SubSites `yaml:"sub_sites"`
	// Autoload are patterns for scripts that run at every request, whoever has
	// switched what on.
	Autoload []string `yaml:"autoload"`
	// Relations say which rows belong together.
	Relations []Relation `yaml:"relations"`
	// Caveats lists, by table, data that restoring a row does not restore.
	Caveats map[string]string `yaml:"caveats"`
	// Watch are rows that intruders make or change.
	Watch []Watch `yaml:"watch"`
	// Still are constants that keep a copy of the site from working for itself.
	Still []string `yaml:"still"`
	// AfterBreakIn says what a person has to do in this CMS after a break-in.
	AfterBreakIn []string `yaml:"after_break_in"`
	// Broken are texts that only a page in trouble shows.
	Broken []string `yaml:"broken"`
	// Pages are paths, relative to the site's address, that its sites have whatever leads there: they
	// are compared when a site has moved.
	Pages []string `yaml:"pages"`
	// Needs says where the CMS declares what it needs.
	Needs NeedsSource `yaml:"needs"`
	// SiteTitle says where the site's own title stands.
	SiteTitle TitleSource `yaml:"site_title"`
	// Accounts says where the CMS keeps its accounts.
	Accounts Accounts `yaml:"accounts"`
	// Move says what is special when a site comes up at another place.
	Move Move `yaml:"move"`
}

// Move says what is special when a site comes up at another place.
type Move struct {
	// Keep are columns, each a table without prefix, a dot, and a column, that hold
	// identifiers which look like addresses.
	Keep []string `yaml:"keep"`
	// Texts are files, relative to the webroot, in which addresses and folders stand.
	Texts []string `yaml:"texts"`
	// Hosts are settings whose value is a host name of the site, with its port; CookieHosts
	// those without, for cookies have none (RFC 6265), and maybe a dot before it. Paths are
	// those whose value is a path of its address.
	Hosts       []string `yaml:"hosts"`
	CookieHosts []string `yaml:"cookie_hosts"`
	Paths       []string `yaml:"paths"`
	// Keys are settings with secret keys, on which sessions depend.
	Keys []string `yaml:"keys"`
	// Network are tables with a row for each site of a network.
	Network []NetworkTable `yaml:"network"`
	// SubSite says what one site of a network needs to become a site of its own.
	SubSite SubSiteMove `yaml:"sub_site"`
	// Prefixed are columns with values that begin with the prefix of the tables; with Is, only
	// the value that is the prefix and Is.
	Prefixed []Row `yaml:"prefixed"`
	// Anew are rows whose value the CMS makes anew when it is empty.
	Anew []Row `yaml:"anew"`
	// Empty are tables, as patterns without prefix, that come without their rows: caches, and
	// sessions of the old place.
	Empty []string `yaml:"empty"`
	// Afterwards is what a person has to do at the new place.
	Afterwards []string `yaml:"afterwards"`
	// Copy are steps that keep a practice copy quiet, NotInCopy what none of them does.
	Copy      []CopyStep `yaml:"copy"`
	NotInCopy []string   `yaml:"not_in_copy"`
	// Extensions are values that say which extensions are loaded.
	Extensions []ExtensionList `yaml:"extensions"`
}

// NetworkTable is a table, without prefix, with a row for each site of a network: Domain and
// Path are the columns with its host name, and the path of its address.
type NetworkTable struct {
	Table  string `yaml:"table"`
	Domain string `yaml:"domain"`
	Path   string `yaml:"path"`
}

// SubSiteMove says what one site of a network needs to become a site of its own: ID is the
// column with its number, which begins its tables after the prefix. Off are settings that
// make a network, Users the tables that come although all sites share them. Uploads is where
// its uploads lie, with {id} for the number, UploadsTo where those of a single site do.
type SubSiteMove struct {
	NetworkTable `yaml:",inline"`
	ID           string   `yaml:"id"`
	Off          []string `yaml:"off"`
	Users        []string `yaml:"users"`
	Uploads      string   `yaml:"uploads"`
	UploadsTo    string   `yaml:"uploads_to"`
}

// CopyStep is one thing that is done to a practice copy: a row gets another value, or all
// rows of a table do; a setting does, or a statement is added to settings in PHP that do not
// have it; or a file is written into the webroot.
type CopyStep struct {
	// What says for people what comes of it.
	What string `yaml:"what"`
	// Row is the value that becomes To; without Where, it is that of all rows.
	Row *Row `yaml:"row"`
	// Setting becomes To; Insert is the statement for settings that do not have it.
	Setting string `yaml:"setting"`
	To      string `yaml:"to"`
	Insert  string `yaml:"insert"`
	// File, relative to the webroot, gets Content.
	File    string `yaml:"file"`
	Content string `yaml:"content"`
}

// ExtensionList is a value that PHP has serialised, which says which extensions are loaded:
// a list of their files or, with Keys, a table with the files as its keys.
type ExtensionList struct {
	Row  `yaml:",inline"`
	Keys bool `yaml:"keys"`
}

// Row is a value in a table without prefix: Column of the row in which Where is Is.
type Row struct {
	Table  string `yaml:"table"`
	Where  string `yaml:"where"`
	Is     string `yaml:"is"`
	Column string `yaml:"column"`
}

// VersionSource says where the CMS writes its own version; in Value, {name}
// stands for a setting of that file.
type VersionSource struct {
	File  string `yaml:"file"`
	Value string `yaml:"value"`
}

// SettingsSource says which file holds the site's settings, relative to the
// webroot, and in which syntax: php or yaml.
type SettingsSource struct {
	Syntax string   `yaml:"syntax"`
	Files  []string `yaml:"files"`
	// Others are patterns for settings of further sites in one installation.
	Others []string `yaml:"others"`
	// Includes are files that the settings file takes in as a rule, and that say
	// nothing of databases; Overrides are files that choose databases by themselves
	// where they are there; Network are settings that make a network of sites.
	Includes  []string `yaml:"includes"`
	Overrides []string `yaml:"overrides"`
	Network   []string `yaml:"network"`
}

// EngineSource says which make of database a site uses: always one, or as a
// setting's value says.
type EngineSource struct {
	Always  string            `yaml:"always"`
	Setting string            `yaml:"setting"`
	Values  map[string]string `yaml:"values"`
}

// DatabaseSettings names the settings that lead to one database.
type DatabaseSettings struct {
	Engine   EngineSource `yaml:"engine"`
	Host     string       `yaml:"host"`
	Port     string       `yaml:"port"`
	Socket   string       `yaml:"socket"`
	Name     string       `yaml:"name"`
	User     string       `yaml:"user"`
	Password string       `yaml:"password"`
	// Path is a database file; {name} stands for a setting.
	Path          string `yaml:"path"`
	Prefix        string `yaml:"prefix"`
	DefaultPrefix string `yaml:"default_prefix"`
	// OwnTables are tables, without prefix, that every installation has.
	OwnTables []string `yaml:"own_tables"`
}

// AddressSource says in which table row, or in which setting, the CMS keeps its
// public address.
type AddressSource struct {
	Setting string `yaml:"setting"`
	Table   string `yaml:"table"`
	Column  string `yaml:"column"`
	Where   string `yaml:"where"`
	Is      string `yaml:"is"`
	// Path is a setting with the address's path, where Setting has none.
	Path string `yaml:"path"`
	// Also are further rows with the address, by Where; Settings are settings that
	// come before them where they are there.
	Also     []string `yaml:"also"`
	Settings []string `yaml:"settings"`
}

// TitleSource says in which table row, or in which setting, the CMS keeps the site's title.
type TitleSource struct {
	Setting string `yaml:"setting"`
	Row     `yaml:",inline"`
}

// Relation leads from a row to others: From, To and Parent are each a table,
// without prefix, a dot, and a column; the table of To may be a pattern.
type Relation struct {
	From string `yaml:"from"`
	// To are rows that come back with it: exactly those of the archive or, with
	// Keep, those that are missing. Where and Is narrow them.
	To    string `yaml:"to"`
	Where string `yaml:"where"`
	Is    string `yaml:"is"`
	Keep  bool   `yaml:"keep"`
	// Parent is a row that must be there.
	Parent string `yaml:"parent"`
}

// Watch is a rule for rows to look at when they differ. Table and those of Among
// are without prefix; in values, {prefix} stands for it.
type Watch struct {
	Table string `yaml:"table"`
	// Where limits the rule to rows in which that column is one of Is, Contains to
	// those whose Column has one of the texts, and Among to those whose Key is a
	// member.
	Where    string   `yaml:"where"`
	Is       []string `yaml:"is"`
	Column   string   `yaml:"column"`
	Contains []string `yaml:"contains"`
	Key      string   `yaml:"key"`
	Among    *Members `yaml:"among"`
	// Columns are those in which a change counts; empty means any, or Column.
	Columns []string `yaml:"columns"`
	// Pick is a pattern; only matches in Column that are new count.
	Pick string `yaml:"pick"`
	// Name is the column that tells the row to people, What says what it is.
	Name string `yaml:"name"`
	What string `yaml:"what"`
}

// OfEach tells whether a rule means other rows for each sub-site, though in a table that
// all of them use.
func (w Watch) OfEach() bool {
	named := func(s string) bool { return strings.Contains(s, "{prefix}") }
	return slices.ContainsFunc(w.Is, named) || w.Among != nil && slices.ContainsFunc(w.Among.Is, named)
}

// Members are the values of Column in those rows of Table in which Where is one
// of Is and In has one of the texts in Contains.
type Members struct {
	Table    string   `yaml:"table"`
	Column   string   `yaml:"column"`
	Where    string   `yaml:"where"`
	Is       []string `yaml:"is"`
	In       string   `yaml:"in"`
	Contains []string `yaml:"contains"`
}

// Component is a named share of a site: paths as doublestar patterns relative
// to the webroot.
type Component struct {
	Name  string   `yaml:"name"`
	Paths []string `yaml:"paths"`
}

// Maintenance is the CMS's own switch: a file whose presence closes the site.
type Maintenance struct {
	File    string `yaml:"file"`
	Content string `yaml:"content"`
	// Redirect is a content that leads visitors to the site's new place: {to} stands for its address,
	// {skip} for how many letters of an asked path belong to the old place. It is within PHP's single
	// quotes.
	Redirect string `yaml:"redirect"`
}

//go:embed recipes/*.yaml
var recipeFiles embed.FS

// Recipes returns every embedded recipe, ordered by name. They are read once and shared by all
// callers, who change nothing in them.
func Recipes() ([]*Recipe, error) { return embedded() }

var embedded = sync.OnceValues(func() ([]*Recipe, error) {
	names, err := fs.Glob(recipeFiles, "recipes/*.yaml")
	if err != nil {
		return nil, err
	}
	var all []*Recipe
	for _, name := range names {
		data, err := recipeFiles.ReadFile(name)
		if err != nil {
			return nil, err
		}
		r := &Recipe{}
		if err := yaml.UnmarshalWithOptions(data, r, yaml.Strict()); err != nil {
			return nil, fmt.Errorf("recipe %s: %w", path.Base(name), err)
		}
		all = append(all, r)
	}
	return all, nil
})

// RecipeNamed returns the recipe of that name.
func RecipeNamed(name string) (*Recipe, error) {
	all, err := Recipes()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, r := range all {
		if r.Name == name {
			return r, nil
		}
		names = append(names, r.Name)
	}
	return nil, fmt.Errorf("there is no recipe %q; the recipes are auto, none, %s, and the file of one of your own, such as ./%s.yaml", name, strings.Join(names, ", "), name)
}

// Recognise returns the recipe whose files the webroot holds, or nil. A machine that cannot
// be asked says nothing of what is there: the error wraps tree.ErrUnreachable.
func Recognise(read ReadFunc) (*Recipe, error) {
	all, err := Recipes()
	if err != nil {
		return nil, err
	}
	var unasked error
	lacks := func(f string) bool {
		_, err := read(f)
		if errors.Is(err, tree.ErrUnreachable) {
			unasked = err
		}
		return err != nil
	}
	for _, r := range all {
		missing := slices.ContainsFunc(r.Recognise, lacks)
		if unasked != nil {
			return nil, unasked
		}
		if !missing {
			return r, nil
		}
	}
	return nil, nil
}

// otherComponent is that of what the recipe does not say.
const otherComponent = "other"

// ComponentOfName is ComponentOf for a name in an archive's list. What is in another folder of a site is what links of the
// webroot that lead there make of it: through are such names, each with those of the links. Without one, folders mirror the
// webroot, as those that releases share, or are called like what they hold. What is among the uploads by any of that is so,
// whatever else leads there: no link takes suspicion from it.
func (r *Recipe) ComponentOfName(name string, through map[string][]string) string {
	label, rel, _ := strings.Cut(name, "/")
	if label == RootLabel {
		return r.ComponentOf(rel)
	}
	found := otherComponent
	may := func(rel string) {
		if c := r.ComponentOf(rel); c == UploadsComponent || found == otherComponent {
			found = c
		}
	}
	for real := name; real != "."; real = path.Dir(real) {
		for _, link := range through[real] {
			may(strings.TrimPrefix(link+strings.TrimPrefix(name, real), RootLabel+"/"))
		}
	}
	may(rel)
	may(name)
	return found
}

// LinkOf names the component that a link of the webroot is of, which leads to another folder of the site: that of what is there.
func (r *Recipe) LinkOf(rel string) string {
	if c := r.ComponentOf(rel); c != otherComponent {
		return c
	}
	return r.ComponentOf(rel + "/x")
}

// UploadsComponent is that of what is put on a site from outside.
const UploadsComponent = "uploads"

// ComponentOf names the component that a path, relative to the webroot,
// belongs to; "other" when the recipe does not say.
func (r *Recipe) ComponentOf(rel string) string {
	if r != nil {
		for _, c := range r.Components {
			if matchesAny(c.Paths, rel) {
				return c.Name
			}
		}
	}
	return otherComponent
}

// matchesAny tells whether a path matches one of the patterns. `dir/**` means
// what is in dir, not dir itself.
func matchesAny(patterns []string, rel string) bool {
	for _, p := range patterns {
		if dir, inside := strings.CutSuffix(p, "/**"); inside && !strings.ContainsAny(dir, "*?[{\\") {
			if strings.HasPrefix(rel, dir+"/") {
				return true
			}
			continue
		}
		if ok, err := doublestar.Match(p, rel); err == nil && ok {
			return true
		}
	}
	return false
}

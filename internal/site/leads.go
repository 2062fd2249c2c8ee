package site

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/site/phpliteral"
	"revlet/internal/site/sitepath"
)

// Leads reads to which databases a site's settings lead, by the recipe's labels. file
// is the settings file where it is not the recipe's own, root the webroot that the
// settings are for, whatever read reads from. An error wraps ErrSettings when that
// cannot be told.
func (r *Recipe) Leads(root, file string, read ReadFunc) (map[string]Database, error) {
	found, _, _, err := r.databases(root, file, read)
	if err != nil {
		return nil, err
	}
	all := map[string]Database{}
	for _, db := range found {
		all[db.Label] = db
	}
	return all, nil
}

// Same tells whether two descriptions lead to one database with one account, as far as
// they say so themselves.
func (db Database) Same(other Database) bool {
	if db.On != other.On {
		return false
	}
	if db.Engine == "sqlite" || other.Engine == "sqlite" {
		return db.Engine == other.Engine && resolved(db.Path) == resolved(other.Path)
	}
	local := func(d Database) Database {
		if d.Host == "localhost" && d.Socket == "" {
			d.Host = "127.0.0.1"
		}
		if d.Socket != "" {
			d.Host, d.Port = "", 0
		}
		return d
	}
	a, b := local(db), local(other)
	return a.Engine == b.Engine && a.Host == b.Host && a.Port == b.Port && a.Socket == b.Socket && a.Name == b.Name && a.User == b.User && a.Password == b.Password
}

// resolved is a path without links, as far as it is there.
func resolved(file string) string {
	dir, err := filepath.EvalSymlinks(sitepath.Dir(file))
	if err != nil {
		return sitepath.Clean(file)
	}
	return sitepath.Join(dir, sitepath.Base(file))
}

// ErrMayLeadElsewhere is wrapped when a copy of a site cannot be served, because it is
// not certain that it would use nothing but what was restored with it.
var ErrMayLeadElsewhere = errors.New("the copy might use what is live")

// selfContained refuses settings that take in other files which might say otherwise,
// CMS files that choose a database themselves, and networks of sites, whose addresses
// stand in many rows.
func (r *Recipe) selfContained(s Values, p Pointing, rel string, read ReadFunc) error {
	root := p.Root
	there := func(name string) bool {
		_, err := read(name)
		return err == nil || !errors.Is(err, fs.ErrNotExist)
	}
	for _, name := range r.Settings.Overrides {
		if there(name) {
			return fmt.Errorf("%w: %s chooses databases by itself", ErrMayLeadElsewhere, name)
		}
	}
	for _, name := range r.Settings.Network {
		if SaysYes(s, name) && !p.Network {
			return fmt.Errorf("%w: it is a network of sites (%s), whose addresses lead to the live one", ErrMayLeadElsewhere, name)
		}
	}
	php, ok := s.(*phpliteral.File)
	if !ok {
		return nil
	}
	for _, include := range php.Includes {
		file, known := include.(string)
		if !known {
			return fmt.Errorf("%w: %s takes in a file whose name only running it would tell", ErrMayLeadElsewhere, rel)
		}
		if !sitepath.IsAbs(file) {
			file = sitepath.Join(root, path.Dir(rel), file)
		}
		inside, err := sitepath.Rel(root, file)
		if err == nil && (slices.Contains(r.Settings.Includes, inside) || sitepath.IsLocal(inside) && !there(inside)) {
			continue
		}
		return fmt.Errorf("%w: %s takes in %s", ErrMayLeadElsewhere, rel, strings.TrimPrefix(file, root+"/"))
	}
	return nil
}

// SaysYes tells whether a setting is there and, as far as is known, says yes.
func SaysYes(s Values, name string) bool {
	v, is := s.Text(name)
	return s.Unknown(name) || is && v != "" && v != "0"
}

// pointed proves that changed settings lead to the databases of a copy, and nowhere
// else.
func (r *Recipe) pointed(p Pointing, rel string, content []byte, read ReadFunc) error {
	leads, err := r.Leads(p.Root, p.File, func(name string) ([]byte, error) {
		if name == rel {
			return content, nil
		}
		return read(name)
	})
	if err != nil {
		return err
	}
	for _, db := range p.Databases {
		if now, ok := leads[db.Label]; ok && (!now.Same(db) || p.Moved && now.Prefix != db.Prefix) {
			return fmt.Errorf("%w: its settings lead to %s still", ErrMayLeadElsewhere, now.Where())
		}
	}
	if p.Moved {
		return r.whateverTheEnvironment(rel, content)
	}
	return nil
}

// whateverTheEnvironment refuses settings that are other ones where a web server has
// variables in its environment: a copy that goes on as a site is served by one that nobody
// can ask.
func (r *Recipe) whateverTheEnvironment(rel string, content []byte) error {
	if r.Settings.Syntax != "php" {
		return nil
	}
	read := func(value string, set bool) *phpliteral.File {
		return phpliteral.Read(string(content), phpliteral.Options{Getenv: func(string) (string, bool) { return value, set }})
	}
	unset, set := read("", false), read("somebody else's", true)
	names := append([]string{r.Address.Setting}, r.Address.Settings...)
	for _, want := range r.Databases {
		names = append(names, want.Engine.Setting, want.Host, want.Port, want.Socket, want.Name, want.User, want.Password, want.Prefix)
	}
	for _, name := range names {
		a, there := unset.Text(name)
		b, still := set.Text(name)
		if name != "" && (a != b || there != still) {
			return fmt.Errorf("%w: %s in %s depends on the web server's environment", ErrMayLeadElsewhere, name, rel)
		}
	}
	return nil
}

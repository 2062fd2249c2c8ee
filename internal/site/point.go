package site

import (
	"fmt"
	"maps"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"revlet/internal/site/phpliteral"
	"revlet/internal/site/sitepath"
)

// Pointing is what a copy of a site is to be told about itself.
type Pointing struct {
	// Root is the copy's webroot, File its settings file if it is not the recipe's
	// own.
	Root, File string
	// Databases are those of the copy. Names, accounts and passwords are the
	// site's; servers and files differ.
	Databases []Database
	// Address is where the copy answers.
	Address string
	// Moved has the copy go on as a site of its own: names and accounts may differ, and
	// nothing is switched off.
	Moved bool
	// Network tells that the addresses of all sites of a network are changed, too.
	Network bool
	// Settings get other values where they are there; Insert are statements that are added
	// to settings in PHP.
	Settings map[string]string
	Insert   []string
}

// Pointed is a settings file that was changed: its path, relative to the webroot, and its
// content.
type Pointed struct {
	Rel     string
	Content []byte
	// Missing are those of Pointing.Settings that are not there, Unknown the addresses that
	// only running the file would tell, and that stay as they are.
	Missing, Unknown []string
}

// Point changes the settings of a copy so that they lead to its own databases. A setting
// that does not stand there as a plain value is an error: the copy would lead to what is
// live.
func (r *Recipe) Point(p Pointing, read ReadFunc) (out Pointed, err error) {
	s, rel, err := r.readSettings(p.Root, p.File, read)
	if err != nil {
		return out, err
	}
	content, err := read(rel)
	if err != nil {
		return out, err
	}
	if err := r.selfContained(s, p, rel, read); err != nil {
		return out, err
	}
	edit := &edit{syntax: r.Settings.Syntax, text: string(content), dir: sitepath.Dir(sitepath.Join(p.Root, rel)), was: s, moved: p.Moved}
	for _, db := range p.Databases {
		if want, ok := r.Databases[db.Label]; ok {
			edit.database(want, db, p.Root)
		}
	}
	address := p.Address
	if name := r.Address.Path; name != "" {
		if u, err := url.Parse(p.Address); err == nil {
			address = u.Scheme + "://" + u.Host
			if was, there := s.Text(name); there || u.Path != "" {
				edit.setAlong(name, slashed(strings.TrimRight(u.Path, "/"), was))
			}
		}
	}
	for _, name := range append([]string{r.Address.Setting}, r.Address.Settings...) {
		if _, there := s.Text(name); name != "" && there {
			edit.setAlong(name, address)
		} else if s.Unknown(name) {
			out.Unknown = append(out.Unknown, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Settings)) {
		if _, there := s.Text(name); there || s.Unknown(name) {
			edit.setAlong(name, p.Settings[name])
		} else {
			out.Missing = append(out.Missing, name)
		}
	}
	for _, constant := range r.Still {
		if _, there := s.Text(constant); !p.Moved && !there {
			edit.insert("define('" + constant + "', true);")
		}
	}
	for _, statement := range p.Insert {
		edit.insert(statement)
	}
	if edit.err != nil {
		return out, fmt.Errorf("point %s at the copy: %w", sitepath.Join(p.Root, rel), edit.err)
	}
	out.Rel, out.Content = rel, []byte(edit.text)
	return out, r.pointed(p, rel, out.Content, read)
}

// slashed is a path that ends with a slash if another does.
func slashed(path, like string) string {
	if strings.HasSuffix(like, "/") {
		path += "/"
	}
	return path
}

// defaultPorts are those that need not be said, by engine.
var defaultPorts = map[string]int{"mysql": 3306, "postgres": 5432}

// edit changes a settings file, one setting after the other.
type edit struct {
	syntax, text, dir string
	was               Values
	moved             bool
	err               error
}

func (e *edit) database(want DatabaseSettings, db Database, root string) {
	if db.Engine == "sqlite" {
		name := strings.Trim(want.Path, "{}")
		if inside, err := sitepath.Rel(root, db.Path); err == nil && sitepath.IsLocal(inside) {
			e.fileInside(want.Path, name, root, inside)
			return
		}
		if want.Path != "{"+name+"}" {
			e.err = fmt.Errorf("the setting for database %s is made of several", db.Label)
			return
		}
		e.set(name, db.Path)
		return
	}
	host, port := db.Host, strconv.Itoa(db.Port)
	if want.Socket != "" {
		if socket, there := e.was.Text(want.Socket); there && socket != "" {
			e.set(want.Socket, "")
		}
	}
	switch {
	case e.moved && db.Socket != "" && want.Socket != "":
		e.set(want.Socket, db.Socket)
		host = "localhost"
	case e.moved && db.Socket != "":
		host = "localhost:" + db.Socket
	case want.Port != "":
		e.set(want.Port, port)
	case !e.moved || db.Port != defaultPorts[db.Engine]:
		host = net.JoinHostPort(host, port)
	}
	if was, there := e.was.Text(want.Prefix); e.moved && want.Prefix != "" && was != db.Prefix && (there || db.Prefix != want.DefaultPrefix) {
		e.set(want.Prefix, db.Prefix)
	}
	e.set(want.Host, host)
	e.set(want.Name, db.Name)
	e.set(want.User, db.User)
	e.set(want.Password, db.Password)
}

// fileInside leaves the setting of a database file as it is that lies in the copy where it lay, unless that leads to the live
// one: by its whole path, or by a link.
func (e *edit) fileInside(path, name, root, inside string) {
	text, there := e.was.Text(name)
	if path != "{"+name+"}" || !there {
		return // whether it leads to the copy is looked at in the end
	}
	to, at := sitepath.Join(root, inside), sitepath.Join(root, text)
	if sitepath.IsAbs(text) {
		inside, at = to, text
	}
	if resolved(at) != resolved(to) {
		e.set(name, inside)
	}
}

// set changes a setting, and nothing else.
func (e *edit) set(name, value string) { e.setBy(phpliteral.Set, name, value) }

// setAlong changes a setting, and what is put together of it.
func (e *edit) setAlong(name, value string) { e.setBy(phpliteral.SetAlong, name, value) }

func (e *edit) setBy(how func(src, path, value string, o phpliteral.Options) (string, error), name, value string) {
	if e.err != nil {
		return
	}
	if e.syntax == "php" {
		var text string
		if text, e.err = how(e.text, name, value, phpliteral.Options{Dir: e.dir}); e.err == nil {
			e.text = text
		}
		return
	}
	line := regexp.MustCompile("(?m)^" + regexp.QuoteMeta(name) + `:.*$`)
	e.text = line.ReplaceAllLiteralString(e.text, name+": "+strconv.Quote(value))
}

// insert adds a statement, if the settings are PHP.
func (e *edit) insert(statement string) {
	if e.err == nil && e.syntax == "php" {
		if text, err := phpliteral.Insert(e.text, statement); err == nil {
			e.text = text
		} else {
			e.err = err
		}
	}
}

package site

import (
	"fmt"
	"net"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"revlet/internal/site/phpliteral"
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
}

// Point changes the settings of a copy so that they lead to its own databases. It
// returns the settings file, relative to the webroot, and its new content. A
// setting that does not stand there as a plain value is an error: the copy would
// lead to what is live.
func (r *Recipe) Point(p Pointing, read ReadFunc) (rel string, content []byte, err error) {
	s, rel, err := r.readSettings(p.Root, p.File, read)
	if err != nil {
		return "", nil, err
	}
	content, err = read(rel)
	if err != nil {
		return "", nil, err
	}
	if err := r.selfContained(s, p.Root, rel, read); err != nil {
		return "", nil, err
	}
	edit := &edit{syntax: r.Settings.Syntax, text: string(content), dir: filepath.Dir(filepath.Join(p.Root, rel)), was: s, moved: p.Moved}
	for _, db := range p.Databases {
		if want, ok := r.Databases[db.Label]; ok {
			edit.database(want, db, p.Root)
		}
	}
	for _, name := range append([]string{r.Address.Setting}, r.Address.Settings...) {
		if _, there := s.Text(name); name != "" && there {
			edit.set(name, p.Address)
		}
	}
	for _, constant := range r.Still {
		if !p.Moved {
			edit.still(constant)
		}
	}
	if edit.err != nil {
		return "", nil, fmt.Errorf("point %s at the copy: %w", filepath.Join(p.Root, rel), edit.err)
	}
	return rel, []byte(edit.text), r.pointed(p, rel, []byte(edit.text), read)
}

// defaultPorts are those that need not be said, by engine.
var defaultPorts = map[string]int{"mysql": 3306, "postgres": 5432}

// edit changes a settings file, one setting after the other.
type edit struct {
	syntax, text, dir string
	was               settings
	moved             bool
	err               error
}

func (e *edit) database(want DatabaseSettings, db Database, root string) {
	if db.Engine == "sqlite" {
		name := strings.Trim(want.Path, "{}")
		if inside, err := filepath.Rel(root, db.Path); err == nil && filepath.IsLocal(inside) {
			return // it lies where it lay, in the copy
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
	e.set(want.Host, host)
	e.set(want.Name, db.Name)
	e.set(want.User, db.User)
	e.set(want.Password, db.Password)
}

func (e *edit) set(name, value string) {
	if e.err != nil {
		return
	}
	if e.syntax == "php" {
		var text string
		if text, e.err = phpliteral.Set(e.text, name, value, phpliteral.Options{Dir: e.dir}); e.err == nil {
			e.text = text
		}
		return
	}
	line := regexp.MustCompile("(?m)^" + regexp.QuoteMeta(name) + `:.*$`)
	e.text = line.ReplaceAllLiteralString(e.text, name+": "+strconv.Quote(value))
}

// still defines a constant that keeps a copy from working for itself, such as
// sending mail, unless the file has it.
func (e *edit) still(constant string) {
	if _, there := e.was.Text(constant); there || e.syntax != "php" {
		return
	}
	if _, after, ok := strings.Cut(e.text, "<?php"); ok {
		e.text = "<?php\ndefine('" + constant + "', true);\n" + after
	}
}

package config

import (
	"errors"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"

	"revlet/internal/platform/schema"
)

// mostProblems is how many are looked for in one file.
const mostProblems = 100

// Problems finds all that is wrong with a configuration, not the first of it alone; what it cannot read it
// leaves out, and goes on with the rest. They are in the order of the file. The configuration is what is left
// then; nil if it cannot be read at all.
func Problems(path string) (*Config, []error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, []error{err}
	}
	d := &draft{path: path, lines: strings.Split(string(data), "\n")}
	var found []error
	for range mostProblems {
		c, err := Parse(path, []byte(strings.Join(d.lines, "\n")))
		if err == nil {
			slices.SortStableFunc(found, func(x, y error) int { return lineOf(x) - lineOf(y) })
			return c, found
		}
		if slices.ContainsFunc(found, func(known error) bool { return known.Error() == err.Error() }) {
			break // leaving it out has not helped
		}
		found = append(found, err)
		var e *Error
		if !errors.As(err, &e) || e.Path != path || e.Line < 1 || e.Line > len(d.lines) || !d.leaveOut(e) {
			break
		}
	}
	return nil, found
}

func lineOf(err error) int {
	var e *Error
	if errors.As(err, &e) {
		return e.Line
	}
	return 0
}

// draft is a file of which parts are left out; its lines keep their numbers.
type draft struct {
	path  string
	lines []string
}

// indent is how far in a line begins; -1 for one that says nothing.
func (d *draft) indent(i int) int {
	text := strings.TrimLeft(d.lines[i], " ")
	if text == "" || strings.HasPrefix(text, "#") {
		return -1
	}
	return len(d.lines[i]) - len(text)
}

// block are the lines from i on that belong to it.
func (d *draft) block(i int) (end int) {
	for end = i + 1; end < len(d.lines); end++ {
		if n := d.indent(end); n >= 0 && n <= d.indent(i) && !strings.HasPrefix(strings.TrimSpace(d.lines[end]), "- ") {
			break
		}
	}
	return end
}

func (d *draft) blank(from, to int) {
	for i := from; i < to; i++ {
		d.lines[i] = ""
	}
}

// leaveOut leaves out what an error is about: an unknown key, or else the site or the store that it stands
// in, or else the whole part of the file. It tells whether it could.
func (d *draft) leaveOut(e *Error) bool {
	at := e.Line - 1
	if d.indent(at) < 0 {
		return false
	}
	if e.unknown && d.indent(at)+1 == e.Column {
		d.blank(at, d.block(at))
		return true
	}
	top := at
	for top > 0 && d.indent(top) != 0 {
		top--
	}
	key, _, _ := strings.Cut(d.lines[top], ":")
	entry := at
	for entry > top && d.indent(entry) != d.first(top) {
		entry--
	}
	if entry > top && (key == "sites" || key == "stores") {
		name, _, _ := strings.Cut(d.lines[entry], ":")
		d.blank(entry, d.block(entry))
		if key == "stores" { // sites may name it
			d.lines[entry] = name + ": {folder: " + os.TempDir() + "}"
		}
		return true
	}
	d.blank(top, d.block(top))
	return true
}

// first is how far in the first line below a line begins.
func (d *draft) first(top int) int {
	for i := top + 1; i < len(d.lines); i++ {
		if n := d.indent(i); n >= 0 {
			return n
		}
	}
	return -1
}

// Secrets are files that hold secrets, as the configuration names them, and what each is for.
func (c *Config) Secrets() map[string]string {
	all := map[string]string{}
	add := func(file, what string) {
		if file != "" {
			all[file] = what
		}
	}
	for name, s := range c.Stores {
		add(s.PasswordFile, "the password of store "+name)
		if s.Link != nil {
			add(s.Link.SecretFile, "the client's secret of store "+name)
		}
		add(s.KeyFile, "the SSH key of store "+name)
		add(s.SecretFile, "the secret of store "+name)
	}
	for name, s := range c.Sites {
		if s.Reach != nil {
			add(s.Reach.PasswordFile, "the password of the machine of "+name)
			add(s.Reach.KeyFile, "the SSH key of the machine of "+name)
		}
		for label, db := range s.Databases {
			add(db.PasswordFile, fmt.Sprintf("the password of database %s of %s", label, name))
		}
	}
	if c.Notify != nil {
		for _, file := range c.Notify.secrets() {
			add(file, "a secret of `notify:`")
		}
	}
	if c.Encrypt != nil {
		add(c.Encrypt.PassphraseKey, "the locked key of `encrypt:`")
	}
	return all
}

// Schema describes the configuration file in JSON Schema (draft 2020-12); about says what a field is for.
func Schema(about func(t reflect.Type, field string) string) map[string]any {
	s := schema.Of(reflect.TypeFor[Config](), about)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Revlet's configuration"
	return s
}

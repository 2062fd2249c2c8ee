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

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"revlet/internal/platform/disk"
)

const header = "# Revlet: what is kept safe, and where.\n"

// Add writes new stores and sites into the file at path, creating it when missing and
// keeping what stands there, comments included, and returns what it has added. Their
// values may come from anywhere: before the new text replaces the file it is read, and
// has to say what was meant, nothing more, and all that was there before.
func Add(d *disk.Disk, path string, stores map[string]Store, sites map[string]Site) (added string, err error) {
	old, err := os.ReadFile(path)
	if err != nil && !os.IsNotExist(err) {
		return "", fmt.Errorf("read the configuration: %w", err)
	}
	text := string(old)
	if strings.TrimSpace(text) == "" {
		text = header
	}
	if added, err = Text(stores, sites); err != nil {
		return "", err
	}
	if text, err = addEntries(text, stores, sites); err != nil {
		return "", fmt.Errorf("add to %s: %w", path, err)
	}
	if err := asMeant(path, old, text, stores, sites); err != nil {
		return "", fmt.Errorf("the new configuration would not be valid: %w", err)
	}
	if err := d.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", fmt.Errorf("make the configuration folder: %w", err)
	}
	if err := d.WriteFile(path, []byte(text), 0o600); err != nil {
		return "", fmt.Errorf("write the configuration: %w", err)
	}
	return added, nil
}

// Text is what Add adds to a file.
func Text(stores map[string]Store, sites map[string]Site) (string, error) {
	text, err := addEntries(header, stores, sites)
	return strings.TrimPrefix(text, header), err
}

func addEntries(text string, stores map[string]Store, sites map[string]Site) (_ string, err error) {
	add := func(section, name, body string) {
		switch {
		case err != nil:
		case !ValidName(name):
			err = fmt.Errorf("%q cannot be the name of a site or store", name)
		default:
			if text, err = addEntry(text, section, name, body); err != nil {
				err = fmt.Errorf("%s in `%s:`: %w", name, section, err)
			}
		}
	}
	for _, name := range sortedKeys(stores) {
		add("stores", name, storeText(stores[name]))
	}
	for _, name := range sortedKeys(sites) {
		add("sites", name, siteText(sites[name]))
	}
	return text, err
}

// AddEncrypt writes into the file at path whom new archives are encrypted for. The file
// says nothing of it yet.
// passphraseKey is the file of the locked key, or empty.
func AddEncrypt(d *disk.Disk, path string, to []string, passphraseKey string) error {
	old, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("read the configuration: %w", err)
	}
	text, err := addEntry(string(old), "encrypt", "to", " "+flow(to)+"\n")
	if err == nil && passphraseKey != "" {
		text, err = addEntry(text, "encrypt", "passphrase_key", " "+quote(passphraseKey)+"\n")
	}
	var now *Config
	if err == nil {
		now, err = Parse(path, []byte(text))
	}
	if err == nil && (now.Encrypt == nil || !slices.Equal(now.Encrypt.To, to) || now.Encrypt.PassphraseKey != passphraseKey) {
		err = errors.New("it would not say what is meant")
	}
	if err == nil {
		err = d.WriteFile(path, []byte(text), 0o600)
	}
	if err != nil {
		return fmt.Errorf("add `encrypt:` to %s: %w", path, err)
	}
	return nil
}

// asMeant makes sure that a text says what an old one did, and of new stores and sites
// what was meant.
func asMeant(path string, old []byte, text string, stores map[string]Store, sites map[string]Site) error {
	if _, err := Parse(path, []byte(text)); err != nil {
		return err
	}
	var before, now Config
	if err := yaml.UnmarshalWithOptions(old, &before, yaml.DisallowUnknownField()); err != nil && len(strings.TrimSpace(string(old))) > 0 {
		return err
	}
	if err := yaml.UnmarshalWithOptions([]byte(text), &now, yaml.DisallowUnknownField()); err != nil {
		return err
	}
	want := before
	want.Stores, want.Sites = maps.Clone(before.Stores), maps.Clone(before.Sites)
	for name, s := range stores {
		if want.Stores == nil {
			want.Stores = map[string]Store{}
		}
		want.Stores[name] = s
	}
	for name, s := range sites {
		if want.Sites == nil {
			want.Sites = map[string]Site{}
		}
		want.Sites[name] = s
	}
	// As YAML, for what stands for nothing may be written in several ways.
	wanted, err := yaml.Marshal(want)
	if err != nil {
		return err
	}
	got, err := yaml.Marshal(now)
	if err == nil && string(got) != string(wanted) {
		err = errors.New("it would not say what is meant: " + firstDifference(string(wanted), string(got)))
	}
	return err
}

// firstDifference names the first line in which two texts differ.
func firstDifference(a, b string) string {
	of, than := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range of {
		if i >= len(than) || of[i] != than[i] {
			return fmt.Sprintf("%.120q", strings.TrimSpace(of[i]))
		}
	}
	return "more than that"
}

// addEntry inserts `name: body` at the end of a top-level section. It works on
// the text, so that everything else in the file stays as its owner wrote it.
func addEntry(text, section, name, body string) (string, error) {
	file, err := parser.ParseBytes([]byte(text), parser.ParseComments)
	if err != nil {
		return "", err
	}
	last, found, err := sectionEnd(file, section)
	if err != nil {
		return "", err
	}
	entry := "  " + quote(name) + ":" + body
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	if !found {
		return strings.Join(lines, "\n") + "\n" + section + ":\n" + entry, nil
	}
	tail := lines[last:]
	out := append(append([]string{}, lines[:last]...), strings.TrimRight(entry, "\n"))
	return strings.Join(append(out, tail...), "\n") + "\n", nil
}

// sectionEnd returns the number of the last line that belongs to a section.
func sectionEnd(file *ast.File, section string) (int, bool, error) {
	for _, doc := range file.Docs {
		mapping, ok := doc.Body.(*ast.MappingNode)
		if !ok {
			continue
		}
		for _, pair := range mapping.Values {
			if pair.Key.String() != section {
				continue
			}
			if m, isMap := pair.Value.(*ast.MappingNode); isMap && m.IsFlowStyle {
				return 0, false, fmt.Errorf("`%s: {…}` is written on one line; put its entries on lines of their own", section)
			}
			v := &lastLine{}
			ast.Walk(v, pair)
			return v.line, true, nil
		}
	}
	return 0, false, nil
}

type lastLine struct{ line int }

func (v *lastLine) Visit(n ast.Node) ast.Visitor {
	if t := n.GetToken(); t != nil {
		end := t.Position.Line + strings.Count(strings.TrimRight(t.Value, "\n"), "\n")
		v.line = max(v.line, end)
	}
	if m, ok := n.(*ast.MappingNode); ok && m.End != nil {
		v.line = max(v.line, m.End.Position.Line)
	}
	if s, ok := n.(*ast.SequenceNode); ok && s.End != nil {
		v.line = max(v.line, s.End.Position.Line)
	}
	return v
}

// storeText writes a store on one line, its address first.
func storeText(s Store) string { return flowOf(s) }

// flowOf writes the fields of a struct that are set on one line, in their order.
func flowOf(s any) string {
	var b strings.Builder
	v := reflect.ValueOf(s)
	for i := range v.NumField() {
		key := v.Type().Field(i).Tag.Get("yaml")
		if key == "-" || v.Field(i).IsZero() {
			continue
		}
		if b.Len() > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "%s: %s", key, flowValue(v.Field(i)))
	}
	return " {" + b.String() + "}\n"
}

// flowValue writes one value of a field.
func flowValue(v reflect.Value) string {
	switch v.Kind() {
	case reflect.String:
		return quote(v.String())
	case reflect.Pointer:
		return flowValue(v.Elem())
	case reflect.Struct:
		return strings.TrimSpace(flowOf(v.Interface()))
	case reflect.Slice:
		var items []string
		for i := range v.Len() {
			items = append(items, v.Index(i).String())
		}
		return flow(items)
	}
	return fmt.Sprint(v.Interface())
}

// suggested stands in a new entry as a comment: what most sites are well served by.
const suggested = "    # schedule: [\"full, every day at 03:20\", \"rehearse, on day 1 of every month at 05:30\"]\n" +
	"    # keep: [newest 4, one per day for 2 weeks, one per week for 2 months, one per month for 1 year]\n"

func siteText(s Site) string {
	var b strings.Builder
	line := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&b, "    %s: %s\n", key, quote(value))
		}
	}
	b.WriteString("\n")
	line("root", s.Root)
	if s.Reach != nil {
		b.WriteString("    reach:" + flowOf(*s.Reach))
	}
	line("address", s.Address)
	line("recipe", s.Recipe)
	line("settings", s.Settings)
	for _, label := range sortedKeys(s.Roots) {
		if label == sortedKeys(s.Roots)[0] {
			b.WriteString("    roots:\n")
		}
		fmt.Fprintf(&b, "      %s: %s\n", quote(label), quote(s.Roots[label]))
	}
	for _, label := range sortedKeys(s.Databases) {
		if label == sortedKeys(s.Databases)[0] {
			b.WriteString("    databases:\n")
		}
		b.WriteString("      " + quote(label) + ":" + databaseText(s.Databases[label]))
	}
	if len(s.Skip) > 0 {
		b.WriteString("    skip: " + flow(s.Skip) + "\n")
	}
	if len(s.Schedule) == 0 {
		b.WriteString(suggested)
	}
	b.WriteString("    stores: " + flow(s.Stores) + "\n")
	if len(s.SignedBy) > 0 {
		b.WriteString("    signed_by: " + flow(s.SignedBy) + "\n")
	}
	if c := s.Check; c != nil {
		fmt.Fprintf(&b, "    check: {path: %s, status: %d", quote(c.Path), c.Status)
		if c.Contains != "" {
			fmt.Fprintf(&b, ", contains: %s", quote(c.Contains))
		}
		b.WriteString("}\n")
	}
	return b.String()
}

func databaseText(d Database) string {
	var fields []string
	for _, f := range [][2]string{{"mysql", d.MySQL}, {"postgres", d.Postgres}, {"sqlite", d.SQLite}, {"password_file", d.PasswordFile}, {"password_env", d.PasswordEnv}, {"tls", d.TLS}, {"ca_file", d.CAFile}} {
		if f[1] != "" {
			fields = append(fields, f[0]+": "+quote(f[1]))
		}
	}
	if d.Dump != nil {
		fields = append(fields, "dump:"+strings.TrimSuffix(flowOf(*d.Dump), "\n"))
	}
	return " {" + strings.Join(fields, ", ") + "}\n"
}

func flow(items []string) string {
	quoted := make([]string, len(items))
	for i, s := range items {
		quoted[i] = quote(s)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

// quote writes a scalar as YAML, with quotes only where they are needed.
func quote(s string) string {
	if strings.ContainsAny(s, ",[]{}#&*!|>'\"%@`\n") {
		return fmt.Sprintf("%q", s)
	}
	out, err := yaml.Marshal(s)
	if err != nil {
		return fmt.Sprintf("%q", s)
	}
	return strings.TrimSpace(string(out))
}

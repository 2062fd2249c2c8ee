// Package config reads revlet.yaml: the stores, the sites and how they are kept.
// It is strict: what it does not know it refuses, naming file, line, column and
// the nearest known key.
package config

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/lazy"
	"revlet/internal/platform/loopback"
	"revlet/internal/platform/process"
	"revlet/internal/platform/reason"
)

// Config is the whole configuration file.
type Config struct {
	// Path is where the file was read from.
	Path string `yaml:"-"`
	// State is the folder for history, spool, logs and journals.
	State  string           `yaml:"state"`
	Stores map[string]Store `yaml:"stores"`
	Sites  map[string]Site  `yaml:"sites"`
	// Defaults are what an entry of a site says that does not say otherwise.
	Defaults *Site `yaml:"defaults"`
	// Include are patterns for files with more sites, such as sites/*.yaml.
	Include Patterns `yaml:"include"`
	// AtOnce is how many sites elsewhere are worked on at a time; 0 means 4.
	AtOnce  int      `yaml:"at_once"`
	Encrypt *Encrypt `yaml:"encrypt"`
	Notify  *Notify  `yaml:"notify"`
	// TimeZone is the zone of duties and keep rules, such as Europe/Berlin; the
	// default is this machine's.
	TimeZone string `yaml:"time_zone"`
	// Warnings are findings that do not stop work, such as a secret file that
	// others can read.
	Warnings []string `yaml:"-"`

	zone *time.Location
}

// Encrypt says who can read new archives.
type Encrypt struct {
	// To are age recipients (`age1…`).
	To []string `yaml:"to"`
	// PassphraseKey is a key file that is itself encrypted with a passphrase. A
	// copy lies in every store, so that the passphrase alone opens the archives.
	PassphraseKey string `yaml:"passphrase_key"`
}

// Error is a fault in the configuration, with the place where it stands.
type Error struct {
	Path         string
	Line, Column int
	Reason       string
	// unknown tells that it is a key that nothing knows: without it the rest can be read.
	unknown bool
}

// Error implements error.
func (e *Error) Error() string {
	if e.Line > 0 {
		return fmt.Sprintf("%s:%d:%d: %s", e.Path, e.Line, e.Column, e.Reason)
	}
	return fmt.Sprintf("%s: %s", e.Path, e.Reason)
}

// ErrNone is wrapped by Load when there is no configuration file yet.
var ErrNone = errors.New("no configuration file")

// Locate returns the file to read: explicit, then variable (what $REVLET_CONFIG is), then
// ./revlet.yaml, then the user's and the system's configuration folders. When
// none exists it returns the place where a new one belongs, and false.
func Locate(explicit, variable string) (string, bool) {
	exists := func(p string) bool { _, err := os.Stat(p); return err == nil }
	for _, named := range []string{explicit, variable} {
		if named != "" {
			return named, exists(named)
		}
	}
	var places []string
	places = append(places, "revlet.yaml")
	user := ""
	if dir, err := os.UserConfigDir(); err == nil {
		user = filepath.Join(dir, "revlet", "revlet.yaml")
		places = append(places, user)
	}
	places = append(places, "/etc/revlet/revlet.yaml")
	for _, p := range places {
		if exists(p) {
			return p, true
		}
	}
	if os.Geteuid() == 0 || user == "" {
		return "/etc/revlet/revlet.yaml", false
	}
	return user, false
}

// Trusted refuses a file that another account owns, or may change: what it says is done as this one. One
// that somebody has named may be another account's, but for root, and never everybody's; by is the account
// that has become root to do this (sudo), -1 if that is not known.
func Trusted(path string, named bool, by int) error {
	info, err := os.Stat(path)
	if err != nil {
		return nil // there is none, or reading it tells
	}
	if named && os.Geteuid() != 0 && info.Mode().Perm()&0o002 == 0 {
		return nil
	}
	trusted := by
	if !named {
		trusted = -1
	}
	if !ofOthers(path, info, trusted) {
		return exchangeable(path, by)
	}
	a, _ := disk.AttributesOf(info)
	if a.UID == 0 || a.UID == os.Geteuid() {
		return reason.New(reason.ConfigWritable, reason.Names{"path": path}, "others may change %s: what it says would be done as yours", path)
	}
	return reason.New(reason.ConfigOfOthers, reason.Names{"path": path, "account": fmt.Sprint(a.UID)}, "%s belongs to another account, or others may change it: what it says would be done as yours", path)
}

// exchangeable refuses, for root, a file in a folder in which others could put another one in its place by the time that it is
// read, or to which a link of theirs leads. by is as for Trusted.
func exchangeable(path string, by int) error {
	if os.Geteuid() != 0 {
		return nil
	}
	real, err := disk.Way(path)
	if err == nil && disk.OnlyOf(filepath.Dir(real), by) {
		path, err = filepath.Abs(path)
		if err == nil && disk.OnlyOf(filepath.Dir(path), by) { // nor can the link be exchanged
			return nil
		}
	}
	return reason.New(reason.ConfigFolder, reason.Names{"path": path}, "others could put another file in the place of %s: what it says would be done as root", path)
}

// ofOthers tells whether another account owns a file, or may change it; by is as for Trusted. An account that is not root may
// have given its group a hand in it.
func ofOthers(path string, info fs.FileInfo, by int) bool {
	a, ok := disk.AttributesOf(info)
	if ok && os.Geteuid() == 0 {
		return !disk.FileOnlyOf(path, info, by)
	}
	return ok && (a.UID != 0 && a.UID != os.Geteuid() || info.Mode().Perm()&0o002 != 0)
}

// Load reads and checks the file at path. A missing file gives an error that
// wraps ErrNone; a fault in it gives an *Error.
func Load(path string) (*Config, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, reason.New(reason.NoConfig, nil, "%w at %s", ErrNone, path)
	}
	if err != nil {
		return nil, fmt.Errorf("read the configuration: %w", err)
	}
	return Parse(path, data)
}

// Parse reads a configuration from data; path names it in messages and is what
// relative paths in it start from.
func Parse(path string, data []byte) (*Config, error) {
	c := &Config{Path: path}
	if len(strings.TrimSpace(string(data))) > 0 {
		if err := yaml.UnmarshalWithOptions(data, c, yaml.Strict()); err != nil {
			return nil, placed(path, err)
		}
	}
	if err := c.settle(data); err != nil {
		return nil, err
	}
	return c, nil
}

var unknownField = lazy.Regexp(`unknown field "([^"]+)"`)

// placed turns the parser's error into an Error with its position.
func placed(path string, err error) error {
	e := &Error{Path: path, Reason: err.Error()}
	var parsed yaml.Error
	if errors.As(err, &parsed) {
		e.Reason = parsed.GetMessage()
		if t := parsed.GetToken(); t != nil {
			e.Line, e.Column = t.Position.Line, t.Position.Column
		}
	}
	if m := unknownField().FindStringSubmatch(e.Reason); m != nil {
		e.unknown = true
		e.Reason = fmt.Sprintf("unknown key %q%s", m[1], elsewhere(m[1]))
	}
	e.Reason = plain(e.Reason)
	return e
}

var (
	unexpected = lazy.Regexp(`^(\w+) was used where (\w+) is expected$`)
	wrongType  = lazy.Regexp(`^cannot unmarshal (\S+(?: \{\})?) into Go (?:struct field|value) .*of type (\S+)$`)
	twice      = lazy.Regexp(`^mapping key "(.*)" already defined at \[(\d+):\d+\]$`)
	kinds      = map[string]string{"int": "a number", "uint64": "a number", "int64": "a number", "float64": "a number", "string": "a text", "bool": "true or false", "mapping": "entries (`key: value`)", "sequence": "a list (`[…]`)", "null": "nothing"}
)

// plain says in words what the parser finds wrong.
func plain(text string) string {
	kind := func(name string) string {
		switch {
		case kinds[name] != "":
			return kinds[name]
		case strings.HasPrefix(name, "[]"):
			return kinds["sequence"]
		}
		return kinds["mapping"]
	}
	if m := unexpected().FindStringSubmatch(text); m != nil {
		return fmt.Sprintf("%s belongs here, not %s", kind(m[2]), kind(m[1]))
	}
	if m := wrongType().FindStringSubmatch(text); m != nil {
		return fmt.Sprintf("%s belongs here, not %s", kind(m[2]), kind(m[1]))
	}
	if m := twice().FindStringSubmatch(text); m != nil {
		return fmt.Sprintf("%q stands in line %s already", m[1], m[2])
	}
	return text
}

// knownKeys gathers the keys of a configuration type and all below it.
func knownKeys(t reflect.Type) []string {
	switch t.Kind() {
	case reflect.Pointer, reflect.Map, reflect.Slice:
		return knownKeys(t.Elem())
	case reflect.Struct:
		var keys []string
		for f := range t.Fields() {
			if tag := f.Tag.Get("yaml"); tag != "-" && tag != "" {
				keys = append(append(keys, tag), knownKeys(f.Type)...)
			}
		}
		return keys
	default:
		return nil
	}
}

// elsewhere says where a key belongs that is unknown where it stands, or what it may be meant for.
func elsewhere(key string) string {
	if places := slices.Compact(slices.Sorted(slices.Values(placesOf(key, "", reflect.TypeFor[Config]())))); len(places) > 0 {
		return fmt.Sprintf(" here: it belongs in %s", strings.Join(places, ", or in "))
	}
	return nearest(key, knownKeys(reflect.TypeFor[Config]()))
}

// placesOf are the places of a configuration type, found at path, that have a key.
func placesOf(key, path string, t reflect.Type) (all []string) {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice:
		return placesOf(key, path, t.Elem())
	case reflect.Map:
		return placesOf(key, path+"NAME: ", t.Elem())
	case reflect.Struct:
		for f := range t.Fields() {
			tag := f.Tag.Get("yaml")
			switch {
			case tag == key && path == "":
				all = append(all, "the file itself")
			case tag == key:
				all = append(all, "`"+strings.TrimSuffix(path, " ")+"`")
			}
			if tag != "-" && tag != "" {
				all = append(all, placesOf(key, path+tag+": ", f.Type)...)
			}
		}
	}
	return all
}

// Nearest is the known name closest to a mistyped one; empty if none is close.
func Nearest(typed string, known []string) string {
	best, distance := "", min(4, max(3, len(typed)/3+1), (len(typed)+2)/2)
	for _, k := range known {
		if d := levenshtein.ComputeDistance(typed, k); d < distance {
			best, distance = k, d
		}
	}
	return best
}

// nearest words it.
func nearest(typed string, known []string) string {
	best := Nearest(typed, known)
	if best == "" {
		return ""
	}
	return fmt.Sprintf("; did you mean %q?", best)
}

var siteName = lazy.Regexp(`^[a-z0-9][a-z0-9._-]{0,60}$`)

// ValidName tells whether a site or store may be called that.
func ValidName(name string) bool { return siteName().MatchString(name) }

// settler checks a configuration and completes it. Faults are reported in the order
// of names, so that the first one is always the same.
type settler struct {
	*Config
	// file is the one that is checked, data what is in it.
	file string
	data []byte
	// base is the folder that relative paths start from.
	base string
}

// settle checks what the types cannot say and makes paths absolute.
func (c *Config) settle(data []byte) error {
	base, err := filepath.Abs(filepath.Dir(c.Path))
	if err != nil {
		return err
	}
	s := settler{Config: c, file: c.Path, data: data, base: base}
	c.State = absolute(base, c.State)
	if c.zone, err = parseZone(c.TimeZone); err != nil {
		return s.at("$.time_zone", "%v", err)
	}
	for _, step := range []func() error{s.notify, s.stores, s.encrypt, s.shared} {
		if err := step(); err != nil {
			return err
		}
	}
	for _, name := range c.SiteNames() {
		one := c.Sites[name]
		one.take(c.Defaults)
		if err := s.site(name, &one); err != nil {
			return err
		}
		c.Sites[name] = one
	}
	return s.include()
}

// at is a fault at a place in the file (a YAML path).
func (s settler) at(path string, format string, args ...any) error {
	e := &Error{Path: s.file, Reason: fmt.Sprintf(format, args...)}
	if p, err := yaml.PathString(path); err == nil {
		if node, err := p.ReadNode(strings.NewReader(string(s.data))); err == nil {
			position := node.GetToken().Position
			e.Line, e.Column = position.Line, position.Column
		}
	}
	return e
}

func (s settler) notify() error {
	if s.Notify == nil {
		return nil
	}
	if err := s.Notify.settle(s.base); err != nil {
		return s.at("$.notify", "%v", err)
	}
	for _, secret := range s.Notify.secrets() {
		s.warnIfReadable(secret)
	}
	for _, file := range s.Notify.authorities() {
		s.warnIfChangeable(file)
	}
	return nil
}

func (s settler) stores() error {
	for _, name := range sortedKeys(s.Stores) {
		one, where := s.Stores[name], "$.stores."+name
		if !ValidName(name) {
			return s.at(where, "store name %q: use small letters, digits, dots and dashes", name)
		}
		if err := one.Settle(s.base); err != nil {
			return s.at(where, "store %q: %v", name, err)
		}
		for _, secret := range []string{one.PasswordFile, one.KeyFile, one.SecretFile} {
			s.warnIfReadable(secret)
		}
		s.warnIfChangeable(one.CAFile)
		s.Stores[name] = one
	}
	return nil
}

func (s settler) encrypt() error {
	e := s.Encrypt
	if e == nil {
		return nil
	}
	if len(e.To) == 0 {
		return reason.Because(reason.NobodyToEncryptFor, nil, s.at("$.encrypt", "`encrypt:` names nobody in `to:`"))
	}
	for i, to := range e.To {
		if err := encryption.CheckRecipient(to); err != nil {
			return s.at(fmt.Sprintf("$.encrypt.to[%d]", i), "%v", err)
		}
	}
	e.PassphraseKey = absolute(s.base, e.PassphraseKey)
	return nil
}

func (c *Config) warnIfReadable(secret string) {
	if secret == "" {
		return
	}
	if info, err := os.Stat(secret); err == nil && disk.KeepsModes && info.Mode().Perm()&0o077 != 0 {
		c.Warnings = append(c.Warnings, fmt.Sprintf("%s holds a secret and others can read it; run: chmod 600 %s", secret, process.ShellQuote(secret)))
	}
}

// warnIfChangeable warns root of a `ca_file:` that a person's or a customer's account could change.
func (c *Config) warnIfChangeable(file string) {
	info, err := os.Stat(file)
	if file == "" || err != nil || os.Geteuid() != 0 {
		return // reading it tells
	}
	accounts := []int{0}
	for _, of := range []string{c.Path, file} { // whose word the configuration is, or a server's own
		if info, err := os.Stat(of); err == nil {
			if a, ok := disk.AttributesOf(info); ok && (of == c.Path || loopback.StandingOf(a.UID) == loopback.Trusted) {
				accounts = append(accounts, a.UID)
			}
		}
	}
	real, err := filepath.EvalSymlinks(file)
	if err == nil && disk.FileOnlyOf(real, info, accounts...) && disk.OnlyOf(filepath.Dir(real), accounts...) && disk.OnlyOf(filepath.Dir(file), accounts...) {
		return
	}
	c.Warnings = append(c.Warnings, fmt.Sprintf("others can change %s, or put another in its place, and so have any server pass for the right one; keep it in a folder of root's, such as /etc/revlet", file))
}

// readSecret reads a secret from a file or a variable.
func readSecret(what, file, variable string) (string, error) {
	switch {
	case file != "":
		data, err := os.ReadFile(file)
		if err != nil {
			return "", fmt.Errorf("read %s: %w", what, err)
		}
		return strings.TrimRight(string(data), "\r\n"), nil
	case variable != "":
		value, ok := os.LookupEnv(variable)
		if !ok {
			return "", fmt.Errorf("read %s: the environment variable %s is not set", what, variable)
		}
		return value, nil
	default:
		return "", nil
	}
}

// SiteNames returns the configured sites' names in order.
func (c *Config) SiteNames() []string { return sortedKeys(c.Sites) }

// Suggest words the nearest site name to a mistyped one, and what there is.
func (c *Config) Suggest(typed string) string {
	names := c.SiteNames()
	if len(names) == 0 {
		return "; no site is configured yet"
	}
	if s := nearest(typed, names); s != "" {
		return s
	}
	return "; the sites are: " + strings.Join(names, ", ")
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func absolute(base, p string) string {
	if p == "" {
		return ""
	}
	if rest, ok := strings.CutPrefix(p, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	if !filepath.IsAbs(p) {
		p = filepath.Join(base, p)
	}
	return filepath.Clean(p)
}

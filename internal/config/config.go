// Package config reads revlet.yaml: the stores, the sites and how they are kept.
// It is strict: what it does not know it refuses, naming file, line, column and
// the nearest known key.
package config

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"

	"revlet/internal/platform/encryption"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/signing"
	"revlet/internal/rules/retention"
	"revlet/internal/rules/schedule"
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

// Site describes a webroot, its databases and its public address.
type Site struct {
	// Root is a folder, or sftp://user@host:port/folder; Reach says how that is reached.
	Root  string `yaml:"root"`
	Reach *Reach `yaml:"reach"`
	// Roots are further folders that belong to the site, by name.
	Roots   map[string]string `yaml:"roots"`
	Address string            `yaml:"address"`
	// Recipe is auto, none, the name of a recipe, or the file of one.
	Recipe string `yaml:"recipe"`
	// Settings is the site's settings file relative to the webroot, where one
	// installation holds several sites.
	Settings  string              `yaml:"settings"`
	Databases map[string]Database `yaml:"databases"`
	Skip      []string            `yaml:"skip"`
	// Maintenance is a file whose presence closes the site, where the CMS has none.
	Maintenance *Maintenance `yaml:"maintenance"`
	Stores      []string     `yaml:"stores"`
	// SignedBy are the public keys (`ssh-ed25519 …`) of other machines that take archives
	// of the site.
	SignedBy []string `yaml:"signed_by"`
	Check    *Check   `yaml:"check"`
	// Checks are further ones.
	Checks   []Check   `yaml:"checks"`
	Rehearse *Rehearse `yaml:"rehearse"`
	// Fresh is how often everything is read again, such as `every 30 days`.
	Fresh string `yaml:"fresh"`
	// Schedule are the site's duties, Keep its keep rules, as phrases.
	Schedule []string  `yaml:"schedule"`
	Keep     *[]string `yaml:"keep"`
	// TimeZone takes the place of the configuration's for this site.
	TimeZone string `yaml:"time_zone"`

	// AnyDatabase lets the site's settings choose a database file outside its folders:
	// for somebody who looks at it, and has it written out.
	AnyDatabase bool `yaml:"-"`

	// FreshEvery is Fresh as read; 0 means never. Duties and KeepRules are
	// Schedule and Keep as read.
	FreshEvery time.Duration    `yaml:"-"`
	Duties     []schedule.Duty  `yaml:"-"`
	KeepRules  []retention.Rule `yaml:"-"`
	zone       *time.Location
	// ReachRate, in bytes a second, and ReachSilence are those of Reach as read.
	ReachRate    int64         `yaml:"-"`
	ReachSilence time.Duration `yaml:"-"`
}

// NamesDatabases tells whether the entry says where databases are.
func (s Site) NamesDatabases() bool {
	for _, db := range s.Databases {
		if db.MySQL+db.Postgres+db.SQLite != "" {
			return true
		}
	}
	return false
}

// Maintenance is a switch that the web server knows: a file in the webroot that
// closes the site while it is there.
type Maintenance struct {
	File    string `yaml:"file"`
	Content string `yaml:"content"`
}

// settle checks what the types cannot say.
func (m *Maintenance) settle() error {
	if m != nil && (m.File == "" || !filepath.IsLocal(m.File)) {
		return fmt.Errorf("`maintenance:` needs `file:`, a path in the webroot; it has %q", m.File)
	}
	return nil
}

// Database is one database described by hand. Exactly one of MySQL, Postgres
// and SQLite is set.
type Database struct {
	// MySQL and Postgres are user@host:port/name, or user@/path/of/socket/name.
	MySQL    string `yaml:"mysql"`
	Postgres string `yaml:"postgres"`
	SQLite   string `yaml:"sqlite"`
	// PasswordFile and PasswordEnv say where the password is read from.
	PasswordFile string `yaml:"password_file"`
	PasswordEnv  string `yaml:"password_env"`
	// TLS is how a server elsewhere is spoken to: verify (the default), unverified or off.
	// CAFile holds certificates, in PEM, of authorities that are trusted as well. Where a
	// recipe knows the database, an entry may say these two alone.
	TLS    string `yaml:"tls"`
	CAFile string `yaml:"ca_file"`
}

// Rehearse says how a site's archives are tried.
type Rehearse struct {
	// Serve is a command that serves the copy, such as `php -S 127.0.0.1:{port} -t
	// {root}`, to be asked with the site's checks.
	Serve string `yaml:"serve"`
	// Databases are empty ones to restore into, by the label of the site's, instead
	// of a private server.
	Databases map[string]Database `yaml:"databases"`
}

// Check is an HTTP request that tells whether the site works.
type Check struct {
	Path     string `yaml:"path"`
	Status   int    `yaml:"status"`
	Contains string `yaml:"contains"`
	Lacks    string `yaml:"lacks"`
	// Redirect is where the answer must lead to: an address, or a path of the site.
	Redirect string `yaml:"redirect"`
	// Within is how long the answer may take, such as `5 seconds`.
	Within string `yaml:"within"`
	// At is the IP address of the machine to ask under the site's name.
	At string `yaml:"at"`

	// Limit is Within as read; 0 means 20 seconds.
	Limit time.Duration `yaml:"-"`
}

// settle checks what the types cannot say.
func (c *Check) settle() (err error) {
	switch {
	case c.Path != "" && !strings.HasPrefix(c.Path, "/"):
		return fmt.Errorf("`path: %s` does not begin with /", c.Path)
	case c.Status != 0 && (c.Status < 100 || c.Status > 599):
		return fmt.Errorf("`status: %d` is no status of HTTP", c.Status)
	case c.At != "" && net.ParseIP(c.At) == nil:
		return fmt.Errorf("`at: %s` is no IP address", c.At)
	case c.Redirect != "" && c.Status != 0 && (c.Status < 300 || c.Status > 399):
		return fmt.Errorf("`redirect:` and `status: %d` exclude each other", c.Status)
	}
	if c.Within != "" {
		if c.Limit, err = ParseSpan(c.Within); err != nil {
			return fmt.Errorf("`within:` %w", err)
		}
	}
	return nil
}

// AllChecks are the site's checks.
func (s *Site) AllChecks() []Check {
	if s.Check == nil {
		return s.Checks
	}
	return append([]Check{*s.Check}, s.Checks...)
}

// settleChecks checks every one of them.
func (s *Site) settleChecks() error {
	if err := s.Maintenance.settle(); err != nil {
		return err
	}
	if s.Check != nil {
		if err := s.Check.settle(); err != nil {
			return fmt.Errorf("`check:` %w", err)
		}
	}
	for i := range s.Checks {
		if err := s.Checks[i].settle(); err != nil {
			return fmt.Errorf("check %d of `checks:`: %w", i+1, err)
		}
	}
	return nil
}

// Error is a fault in the configuration, with the place where it stands.
type Error struct {
	Path         string
	Line, Column int
	Reason       string
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

// Trusted refuses a file that was found in the current folder, and not named by anybody,
// if another account has put it there or may change it: what it says is done as this one.
func Trusted(path string) error {
	if filepath.IsAbs(path) {
		return nil
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil // there is none, or reading it tells
	}
	if ofOthers(info) {
		return reason.New(reason.ConfigOfOthers, reason.Names{"path": path}, "%s in this folder belongs to another account, or others may change it: what it says would be done as yours", path)
	}
	return nil
}

// ofOthers tells whether another account owns a file, or may change it.
func ofOthers(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && (st.Uid != 0 && int(st.Uid) != os.Geteuid() || info.Mode().Perm()&0o002 != 0)
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

var unknownField = regexp.MustCompile(`unknown field "([^"]+)"`)

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
	if m := unknownField.FindStringSubmatch(e.Reason); m != nil {
		e.Reason = fmt.Sprintf("unknown key %q%s", m[1], nearest(m[1], knownKeys(reflect.TypeFor[Config]())))
	}
	return e
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

// nearest words the known name closest to a mistyped one, or nothing.
func nearest(typed string, known []string) string {
	best, distance := "", 4
	for _, k := range known {
		if d := levenshtein.ComputeDistance(typed, k); d < distance {
			best, distance = k, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("; did you mean %q?", best)
}

var siteName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,60}$`)

// ValidName tells whether a site or store may be called that.
func ValidName(name string) bool { return siteName.MatchString(name) }

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

// site checks one site and completes it.
func (s settler) site(name string, one *Site) error {
	where := "$.sites." + name
	switch {
	case !ValidName(name):
		return s.at(where, "site name %q: use small letters, digits, dots and dashes", name)
	case one.Root == "":
		return s.at(where, "site %q has no `root:`", name)
	case len(one.Stores) == 0:
		return s.at(where, "site %q names no store in `stores:`; an archive needs a place", name)
	}
	for i, store := range one.Stores {
		if _, ok := s.Stores[store]; !ok {
			return s.at(fmt.Sprintf("%s.stores[%d]", where, i), "site %q: there is no store %q%s", name, store, nearest(store, sortedKeys(s.Stores)))
		}
	}
	if err := s.phrases(name, where, one); err != nil {
		return err
	}
	if err := one.settleReach(s.base); err != nil {
		return s.at(where+".root", "site %q: %v", name, err)
	}
	if r := one.Reach; r != nil {
		s.warnIfReadable(r.PasswordFile)
		s.warnIfReadable(r.KeyFile)
	}
	if err := s.roots(name, where, one); err != nil {
		return err
	}
	if err := s.databases(one.Databases, name, where+".databases", one.Far()); err != nil {
		return err
	}
	if one.Rehearse != nil {
		return s.databases(one.Rehearse.Databases, name, where+".rehearse.databases", false)
	}
	return nil
}

// phrases reads what a site's entry says in words: checks, times and keep rules.
func (s settler) phrases(name, where string, one *Site) (err error) {
	for _, step := range []struct {
		key  string
		read func() error
	}{
		{".signed_by", one.settleSigners},
		{".fresh", func() (err error) {
			if one.Fresh != "" {
				one.FreshEvery, err = ParseEvery(one.Fresh)
			}
			return err
		}},
		{"", one.settleChecks},
		{".schedule", func() (err error) { one.Duties, err = parseSchedule(one.Schedule); return err }},
		{".keep", func() (err error) { one.KeepRules, err = parseKeep(one.Keep); return err }},
		{".time_zone", func() (err error) { one.zone, err = parseZone(one.TimeZone); return err }},
	} {
		if err := step.read(); err != nil {
			return s.at(where+step.key, "site %q: %v", name, err)
		}
	}
	return nil
}

// settleSigners writes public keys in their one form, without comments.
func (s *Site) settleSigners() error {
	for i, typed := range s.SignedBy {
		key, err := signing.ParsePublic(typed)
		if err != nil {
			return err
		}
		s.SignedBy[i] = string(key)
	}
	return nil
}

// roots completes a site's folders and makes sure that none lies in another.
func (s settler) roots(name, where string, one *Site) error {
	if !one.Far() {
		one.Root = absolute(s.base, one.Root)
	}
	if isRecipeFile(one.Recipe) {
		one.Recipe = absolute(s.base, one.Recipe)
	}
	for _, label := range sortedKeys(one.Roots) {
		folder := one.Roots[label]
		if !one.Far() {
			folder = absolute(s.base, folder)
		}
		if !ValidName(label) || label == "webroot" || label == "above" || label == "database" {
			return s.at(where+".roots", "root name %q of site %q: use small letters and digits, and neither webroot, above nor database", label, name)
		}
		if within(folder, one.Root) || within(one.Root, folder) {
			return s.at(where+".roots."+label, "root %q of site %q and the webroot lie one inside the other", label, name)
		}
		one.Roots[label] = folder
	}
	return nil
}

// databases checks databases described by hand and completes their paths.
// databases checks those of a site; far tells that its files are meant on another machine.
func (s settler) databases(all map[string]Database, site, where string, far bool) error {
	for _, label := range sortedKeys(all) {
		db := all[label]
		if !ValidName(label) {
			return s.at(where, "database name %q of site %q: use small letters, digits, dots and dashes", label, site)
		}
		if kinds := count(db.MySQL, db.Postgres, db.SQLite); kinds != 1 && !(kinds == 0 && (db.TLS != "" || db.CAFile != "")) {
			return s.at(where+"."+label, "database %q of site %q needs one of `mysql:`, `postgres:` and `sqlite:`; it has %d", label, site, kinds)
		}
		if db.PasswordFile != "" && db.PasswordEnv != "" {
			return s.at(where+"."+label, "database %q of site %q has both `password_file:` and `password_env:`; keep one", label, site)
		}
		if !slices.Contains([]string{"", "verify", "unverified", "off"}, db.TLS) {
			return s.at(where+"."+label+".tls", "database %q of site %q: `tls: %s` is verify, unverified or off", label, site, db.TLS)
		}
		if db.CAFile != "" {
			db.CAFile = absolute(s.base, db.CAFile)
		}
		if db.SQLite != "" && !far {
			db.SQLite = absolute(s.base, db.SQLite)
		}
		if far && db.SQLite != "" && !path.IsAbs(db.SQLite) {
			return s.at(where+"."+label+".sqlite", "database %q of site %q: give the whole path of the file, as the site's machine has it", label, site)
		}
		if db.PasswordFile != "" {
			db.PasswordFile = absolute(s.base, db.PasswordFile)
			s.warnIfReadable(db.PasswordFile)
		}
		all[label] = db
	}
	return nil
}

// within tells whether p is dir or lies below it.
func within(p, dir string) bool { return p == dir || strings.HasPrefix(p, dir+"/") }

// count tells how many of the settings are given.
func count(settings ...string) (n int) {
	for _, s := range settings {
		if s != "" {
			n++
		}
	}
	return n
}

func (c *Config) warnIfReadable(secret string) {
	if secret == "" {
		return
	}
	if info, err := os.Stat(secret); err == nil && info.Mode().Perm()&0o077 != 0 {
		c.Warnings = append(c.Warnings, fmt.Sprintf("%s holds a secret and others can read it; run: chmod 600 %s", secret, secret))
	}
}

// Password returns the database's password, from its file or variable; without
// either it is empty.
func (db Database) Password() (string, error) {
	return readSecret("the database password", db.PasswordFile, db.PasswordEnv)
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

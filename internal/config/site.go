package config

import (
	"errors"
	"fmt"
	"net"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/platform/lazy"
	"revlet/internal/platform/signing"
	"revlet/internal/rules/retention"
	"revlet/internal/rules/schedule"
)

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
	// Commands are the user's own, run around the site's work on this machine.
	Commands *Commands `yaml:"commands"`
	// Report is how the site's own page of a report looks.
	Report *Report `yaml:"report"`
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
	// Dump says where a job of the site's host leaves dumps of the database, which are taken
	// in place of reading it. It may stand alone as well.
	Dump *Dump `yaml:"dump"`
}

// Dump is what a site's host leaves of a database, on the site's machine.
type Dump struct {
	// Path is absolute, or from the folder that the webroot lies in; its last element may be
	// a pattern. Of several files the newest counts. One that ends in .gz or .zst is
	// uncompressed.
	Path string `yaml:"path"`
	// AtMost is how old the newest may be, such as `1 day`, before there is an alarm.
	AtMost string `yaml:"at_most"`

	// Span is AtMost as read; 0 is any age.
	Span time.Duration `yaml:"-"`
}

// settle checks what the types cannot say.
func (d *Dump) settle() (err error) {
	if d == nil {
		return nil
	}
	if _, err := path.Match(path.Base(d.Path), ""); err != nil || d.Path == "" || strings.HasSuffix(d.Path, "/") || path.Base(d.Path) == ".." {
		return fmt.Errorf("`dump:` needs `path:`, a file or a pattern such as backups/*.sql.gz; it has %q", d.Path)
	}
	if d.AtMost != "" {
		if d.Span, err = ParseSpan(d.AtMost); err != nil {
			return fmt.Errorf("`dump: {at_most: %s}`: %w", d.AtMost, err)
		}
	}
	return nil
}

// Rehearse says how a site's archives are tried.
type Rehearse struct {
	// Serve is a command that serves the copy, such as `php -S 127.0.0.1:{port} -t
	// {root}`, to be asked with the site's checks.
	Serve string `yaml:"serve"`
	// As is the account that the command runs as. Without it root uses one without rights, for what the site brings
	// runs there.
	As string `yaml:"as"`
	// Databases are empty ones to restore into, by the label of the site's, instead
	// of a private server.
	Databases map[string]Database `yaml:"databases"`
}

// Report is how a page of a report looks that is for a client: its title, a colour such as #1f6aa5, and a
// picture (.png, .jpg, .gif or .webp) of at most 500 kB.
type Report struct {
	Title  string `yaml:"title"`
	Colour string `yaml:"colour"`
	Logo   string `yaml:"logo"`
}

var colour = lazy.Regexp(`^#[0-9a-fA-F]{6}$`)

func (r *Report) settle() error {
	if r != nil && r.Colour != "" && !colour().MatchString(r.Colour) {
		return fmt.Errorf("`colour: %s`: it is such as \"#1f6aa5\"", r.Colour)
	}
	return nil
}

// Commands are shell commands of the user's own, run on this machine by the account that runs the program.
type Commands struct {
	// Before is run before each backup; if it fails, no archive is taken. After is run when one was
	// taken; if it fails, that is told, and the archive stays.
	Before string `yaml:"before"`
	After  string `yaml:"after"`
	// OnTrouble is run when a backup, a verification, a rehearsal, a retention or a restore was not all right.
	OnTrouble string `yaml:"on_trouble"`
	// Limit is how long each may take, such as `10 minutes` (the default).
	Limit string `yaml:"limit"`

	// LimitOf is Limit as read.
	LimitOf time.Duration `yaml:"-"`
}

// usualLimit is how long a command may take that has no limit of its own.
const usualLimit = 10 * time.Minute

func (c *Commands) settle() (err error) {
	if c == nil {
		return nil
	}
	if c.Before+c.After+c.OnTrouble == "" {
		return errors.New("`commands:` has neither `before:`, `after:` nor `on_trouble:`")
	}
	c.LimitOf = usualLimit
	if c.Limit != "" {
		c.LimitOf, err = ParseSpan(c.Limit)
	}
	return err
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
		s.warnIfChangeable(r.CAFile)
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
		{".commands", one.Commands.settle},
		{".report", one.Report.settle},
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
	if one.Report != nil && one.Report.Logo != "" {
		one.Report.Logo = absolute(s.base, one.Report.Logo)
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
		if kinds := count(db.MySQL, db.Postgres, db.SQLite); kinds != 1 && !(kinds == 0 && (db.TLS != "" || db.CAFile != "" || db.Dump != nil)) {
			return s.at(where+"."+label, "database %q of site %q needs one of `mysql:`, `postgres:` and `sqlite:`; it has %d", label, site, kinds)
		}
		if db.PasswordFile != "" && db.PasswordEnv != "" {
			return s.at(where+"."+label, "database %q of site %q has both `password_file:` and `password_env:`; keep one", label, site)
		}
		if !slices.Contains([]string{"", "verify", "unverified", "off"}, db.TLS) {
			return s.at(where+"."+label+".tls", "database %q of site %q: `tls: %s` is verify, unverified or off", label, site, db.TLS)
		}
		if err := db.Dump.settle(); err != nil {
			return s.at(where+"."+label+".dump", "database %q of site %q: %v", label, site, err)
		}
		if db.Dump != nil && db.SQLite != "" {
			return s.at(where+"."+label+".dump", "database %q of site %q is a file, which is copied itself; `dump:` is for databases of a server", label, site)
		}
		if db.CAFile != "" {
			db.CAFile = absolute(s.base, db.CAFile)
			s.warnIfChangeable(db.CAFile)
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

// Password returns the database's password, from its file or variable; without
// either it is empty.
func (db Database) Password() (string, error) {
	return readSecret("the database password", db.PasswordFile, db.PasswordEnv)
}

package site

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"revlet/internal/platform/disk"
	"revlet/internal/site/phpliteral"
	"revlet/internal/site/sitepath"
)

// ReadFunc reads a file by its path relative to the webroot. It serves a live
// webroot as well as one inside an archive.
type ReadFunc func(rel string) ([]byte, error)

// mostSettings bounds what is read of a settings file.
const mostSettings = 8 << 20

// InFolder reads from a webroot on this machine.
func InFolder(root string) ReadFunc {
	return func(rel string) ([]byte, error) {
		return disk.ReadLed(filepath.Join(root, filepath.FromSlash(rel)), mostSettings)
	}
}

// Values answers for values in a site's settings file.
type Values interface {
	// Text returns a setting's value; false when it is absent or not a literal.
	Text(name string) (string, bool)
	// Unknown tells whether a setting is there, and only running the file would tell what
	// it is. What is unknown is not absent.
	Unknown(name string) bool
}

type yamlSettings map[string]any

func (y yamlSettings) Text(name string) (string, bool) {
	v, ok := y[name]
	if !ok || v == nil {
		return "", false
	}
	return fmt.Sprint(v), true
}

// Unknown implements Values: what YAML says is plain.
func (y yamlSettings) Unknown(string) bool { return false }

func parseSettings(syntax, dir string, data []byte) (Values, error) {
	switch syntax {
	case "php":
		return phpliteral.Read(string(data), phpliteral.Options{Dir: dir}), nil
	case "yaml":
		if err := flatYAML(data); err != nil {
			return nil, err
		}
		y := yamlSettings{}
		if err := yaml.Unmarshal(data, &y); err != nil {
			return nil, err
		}
		return y, nil
	default:
		return nil, fmt.Errorf("unknown settings syntax %q", syntax)
	}
}

const (
	// longestYAML is how many bytes settings in YAML may have, mostNested how many brackets
	// in all, and how far a line may be indented.
	longestYAML = 256 << 10
	mostNested  = 200
)

// named matches an anchor or an alias of YAML, where a value may begin: a text that
// unfolds.
var named = regexp.MustCompile(`(?m)(?:^[ \t]*|[:?-][ \t]+|[\[{,][ \t]*)(?:!\S*[ \t]+)?[&*][^\s&*]`)

// flatYAML refuses settings that would take far more memory than they are long: the
// library follows whatever is nested or named in them.
func flatYAML(data []byte) error {
	brackets := bytes.Count(data, []byte("[")) + bytes.Count(data, []byte("{"))
	nested := brackets > mostNested
	for line := range bytes.Lines(data) {
		nested = nested || len(line)-len(bytes.TrimLeft(line, " \t-?:")) > mostNested
	}
	switch {
	case len(data) > longestYAML:
		return fmt.Errorf("more than %d KiB of YAML", longestYAML>>10)
	case nested:
		return errors.New("YAML nested deeper than settings are")
	case named.Match(data):
		return errors.New("YAML with anchors or aliases, which settings have none of")
	}
	return nil
}

// ErrSettings is wrapped by errors about a site's settings file.
var ErrSettings = errors.New("cannot read the site's settings")

// readSettings finds and reads the recipe's settings file. It returns its path
// relative to the webroot as well.
func (r *Recipe) readSettings(root, file string, read ReadFunc) (Values, string, error) {
	files := r.Settings.Files
	if file != "" {
		files = []string{file}
	}
	for _, rel := range files {
		data, err := read(rel)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		where := sitepath.Join(root, rel)
		if err != nil {
			return nil, "", fmt.Errorf("%w: %w", ErrSettings, err)
		}
		s, err := parseSettings(r.Settings.Syntax, sitepath.Dir(where), data)
		if err != nil {
			return nil, "", fmt.Errorf("%w in %s: %w", ErrSettings, where, err)
		}
		return s, rel, nil
	}
	return nil, "", fmt.Errorf("%w: %s has none of %s; is this a finished %s installation?",
		ErrSettings, root, strings.Join(files, ", "), r.Title)
}

// Values reads the settings of a site. An error wraps ErrSettings.
func (r *Recipe) Values(root, file string, read ReadFunc) (Values, error) {
	s, _, err := r.readSettings(root, file, read)
	return s, err
}

// filled replaces {name} in a pattern by settings; false when one is missing.
func filled(pattern string, s Values) (string, bool) {
	all := true
	text := hole.ReplaceAllStringFunc(pattern, func(m string) string {
		v, ok := s.Text(m[1 : len(m)-1])
		all = all && ok
		return v
	})
	return text, all
}

var hole = regexp.MustCompile(`\{[^{}]+\}`)

// reading collects settings and remembers the first that cannot be read.
type reading struct {
	Values
	file string
	err  error
}

// need returns a setting that must be there as a plain value.
func (r *reading) need(name string) string {
	v, ok := r.Text(name)
	if !ok && r.err == nil {
		r.err = fmt.Errorf("%w: %s does not say %s as a plain value; describe the database under `databases:` in the configuration", ErrSettings, r.file, name)
	}
	return v
}

// maybe returns a setting, or nothing where it is not there.
func (r *reading) maybe(name string) string {
	if name == "" {
		return ""
	}
	if r.Unknown(name) {
		return r.need(name)
	}
	v, _ := r.Text(name)
	return v
}

// databases reads the database settings a recipe asks for, from the given
// settings file or the recipe's own.
func (r *Recipe) databases(root, file string, read ReadFunc) (all []Database, above, address string, err error) {
	s, used, err := r.readSettings(root, file, read)
	if err != nil {
		return nil, "", "", err
	}
	if strings.HasPrefix(used, "../") {
		above = sitepath.Join(root, used)
	}
	in := &reading{Values: s, file: sitepath.Join(root, used)}
	for label, want := range r.Databases {
		db := want.read(in, root)
		if in.err != nil {
			return nil, above, "", in.err
		}
		db.Label = label
		all = append(all, db)
	}
	// An address that is not known is none: a database cannot be reached by it.
	address, _ = s.Text(r.Address.Setting)
	if path, _ := s.Text(r.Address.Path); address != "" && !s.Unknown(r.Address.Path) {
		address += strings.TrimRight(path, "/")
	}
	return all, above, address, nil
}

func (want DatabaseSettings) read(in *reading, root string) Database {
	db := Database{Engine: want.Engine.Always, Prefix: want.DefaultPrefix, OwnTables: want.OwnTables}
	if want.Engine.Setting != "" {
		name := in.need(want.Engine.Setting)
		if db.Engine = want.Engine.Values[strings.ToLower(name)]; db.Engine == "" && in.err == nil {
			in.err = fmt.Errorf("%w: %s says the database is %q, which Revlet does not know", ErrSettings, in.file, name)
		}
	}
	if want.Prefix != "" {
		if p, ok := in.Text(want.Prefix); ok {
			db.Prefix = p
		} else if in.Unknown(want.Prefix) {
			in.need(want.Prefix)
		}
	}
	if db.Engine == "sqlite" {
		path, ok := filled(want.Path, in)
		if !ok && in.err == nil {
			in.err = fmt.Errorf("%w: %s does not say where the database file is", ErrSettings, in.file)
		}
		if !sitepath.IsAbs(path) {
			path = sitepath.Join(root, path)
		}
		db.Path = path
		return db
	}
	db.Name, db.User, db.Password = in.need(want.Name), in.need(want.User), in.need(want.Password)
	host := in.maybe(want.Host)
	if socket := in.maybe(want.Socket); socket != "" {
		host = "localhost:" + socket
	} else if port := in.maybe(want.Port); port != "" {
		host = net.JoinHostPort(strings.Trim(host, "[]"), port)
	}
	if in.err == nil {
		in.err = db.setHost(host)
	}
	return db
}

// setHost takes a host as PHP database settings write it: name, name:port,
// name:/socket, /socket, [v6]:port. `localhost` alone means the socket.
func (db *Database) setHost(s string) error {
	db.Host, db.Port, db.Socket, db.usualSocket = "", 3306, "", false
	if db.Engine == "postgres" {
		db.Port = 5432
	}
	host, rest := s, ""
	if strings.HasPrefix(s, "[") {
		inner, after, ok := strings.Cut(s[1:], "]")
		if !ok {
			return fmt.Errorf("%w: database host %q: the bracket is not closed", ErrSettings, s)
		}
		host, rest = inner, strings.TrimPrefix(after, ":")
	} else if strings.HasPrefix(s, "/") {
		host, rest = "localhost", s
	} else if net.ParseIP(s) == nil {
		host, rest, _ = strings.Cut(s, ":")
	}
	if host == "" {
		host = "localhost"
	}
	// MySQL clients take `p:` before a host as "keep the connection open".
	if host == "p" && rest != "" {
		return db.setHost(rest)
	}
	if strings.HasPrefix(rest, "/") {
		db.Host, db.Socket = host, rest
		// The name of a PostgreSQL server's socket has its port; settings name the folder.
		if port, ok := strings.CutPrefix(path.Base(rest), ".s.PGSQL."); ok && db.Engine == "postgres" {
			db.Socket, rest = path.Dir(rest), port
		} else {
			return nil
		}
	}
	if rest != "" {
		port, err := strconv.Atoi(strings.SplitN(rest, ":", 2)[0])
		if err != nil || port < 1 || port > 65535 {
			return fmt.Errorf("%w: database host %q: %q is not a port", ErrSettings, s, rest)
		}
		db.Port = port
	}
	db.Host = host
	if host == "localhost" && rest == "" && db.Engine == "mysql" {
		db.Socket, db.usualSocket = defaultSocket(), true
	}
	return nil
}

// defaultSocket is where distributions put the server's socket; empty when
// there is none, so that TCP is tried.
func defaultSocket() string {
	for _, p := range []string{"/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"} {
		if _, err := os.Stat(p); err == nil {
			return p
		}
	}
	return ""
}

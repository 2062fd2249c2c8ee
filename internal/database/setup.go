package database

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"unicode"

	"revlet/internal/platform/reason"
)

// TunnelError is why a connection was not led on to a server by the machine that it is reached
// through.
type TunnelError struct {
	// Why says it in words.
	Why string
	Err error
}

// Error implements error.
func (e *TunnelError) Error() string { return e.Why }

// Unwrap gives what that machine has answered.
func (e *TunnelError) Unwrap() error { return e.Err }

// ErrNotSetUp is wrapped when a server lacks the database, the account or its rights.
var ErrNotSetUp = errors.New("the server is not set up for the site")

// LetInError is about a server that lets an account in with its password and lacks something else: the account is not
// to be made, nor is it to get another password, for a site that lives may go by it.
type LetInError struct {
	// Account is what the server takes it for, as in a GRANT; empty when that is not known.
	Account string
	Err     error
}

// Error implements error.
func (e *LetInError) Error() string { return e.Err.Error() }

// Unwrap gives what the server lacks.
func (e *LetInError) Unwrap() error { return e.Err }

// Setup is what a server's administrator has to make for a site.
type Setup struct {
	// Engine is mysql or postgres; Host and Port are where the server is, empty for a
	// socket.
	Engine, Host string
	Port         int
	User, Name   string
	// Charset and Collation are those of the database that was saved.
	Charset, Collation string
	// Filled lets the database be one that is there, with tables in it.
	Filled bool
	// LetIn tells that the server lets the account in already, and as what.
	LetIn *LetInError
}

// CheckEmpty refuses a database that is there already and has tables, which are somebody's:
// nobody has said that the account may have them.
func (s Setup) CheckEmpty(tables int) error {
	if tables == 0 || s.Filled {
		return nil
	}
	return reason.New(reason.PlaceTaken, nil, "the server has a database %s already, with tables in it that account %s cannot see; nothing was made", s.Name, s.User)
}

// Placeholder stands for the password in Setup.SQL: it is not shown.
const Placeholder = "THE-PASSWORD"

// SQL is one block of statements that makes database, account and rights. It can be run
// again, and where there is something already. It is empty for accounts of the server's own, and for names that would not be read as they are. Only where Placeholder stands in it is a password to be put in.
func (s Setup) SQL() string {
	if !s.presentable() {
		return ""
	}
	lines := []string{s.CreateDatabase()}
	switch {
	case s.Engine == "postgres" && s.LetIn != nil:
	case s.Engine == "postgres":
		return s.postgres()
	case s.LetIn != nil && s.LetIn.Account != "":
		lines = append(lines, s.Grants(s.LetIn.Account)...)
	default:
		for _, account := range s.Accounts() {
			lines = append(lines, "CREATE USER IF NOT EXISTS "+account+" IDENTIFIED BY '"+Placeholder+"'")
			if s.LetIn == nil {
				lines = append(lines, "ALTER USER "+account+" IDENTIFIED BY '"+Placeholder+"'")
			}
			lines = append(lines, s.Grants(account)...)
		}
	}
	return strings.Join(lines, ";\n") + ";"
}

// serversOwn are accounts that servers come with.
var serversOwn = []string{"", "root", "mysql", "mysql.sys", "mysql.session", "mysql.infoschema", "mariadb.sys", "debian-sys-maint", "postgres"}

// presentable tells whether an administrator can be asked to make the account and the database. A site's settings name both: whoever
// may write them would otherwise have him change the password of an account of the server's own, or run what a name makes of it.
func (s Setup) presentable() bool {
	own := slices.Contains(serversOwn, strings.ToLower(s.User)) || strings.HasPrefix(s.User, "pg_")
	return !own && !strings.ContainsFunc(s.User+s.Name, unicode.IsControl)
}

// CreateDatabase is the statement that makes the database.
func (s Setup) CreateDatabase() string {
	if s.Engine == "postgres" {
		make := "CREATE DATABASE " + quoted(s.Name, `"`) + " OWNER " + quoted(s.User, `"`) + " TEMPLATE template0"
		if s.Charset != "" {
			make += " ENCODING " + pgLiteral(s.Charset)
		}
		if s.Collation != "" {
			make += " LC_COLLATE " + pgLiteral(s.Collation) + " LC_CTYPE " + pgLiteral(s.Collation)
		}
		return make
	}
	make := fmt.Sprintf("CREATE DATABASE IF NOT EXISTS %s", quoted(s.Name, "`"))
	if plainWord(s.Charset) {
		make += " CHARACTER SET " + s.Charset
		// Collations of one make of server are unknown to others.
		if plainWord(s.Collation) && !strings.Contains(s.Collation, "0900") && !strings.Contains(s.Collation, "uca1400") {
			make += " COLLATE " + s.Collation
		}
	}
	return make
}

// Accounts are the account as a MySQL server takes it, from each place that this machine
// may seem to be.
func (s Setup) Accounts() (all []string) {
	for _, host := range s.Hosts() {
		all = append(all, literal(s.User)+"@"+literal(host))
	}
	return all
}

// StageOf and AsideOf are what the names of databases begin with in which a database of a MySQL server is staged and set aside.
// They are of that database alone: an account that may use its own does not reach what another site has there.
func StageOf(name string) string { return "rv_new_" + markOf(name) }

// AsideOf is explained at StageOf.
func AsideOf(name string) string { return "rv_old_" + markOf(name) }

func markOf(name string) string {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:5]) + "_"
}

// Grants are the statements that give an account of Accounts its rights: on its database, and on those in which that is staged and
// set aside. In a GRANT, _ and % of a database's name are patterns.
func (s Setup) Grants(account string) (all []string) {
	for _, place := range []string{Pattern(s.Name), Pattern(StageOf(s.Name)) + "%", Pattern(AsideOf(s.Name)) + "%"} {
		all = append(all, "GRANT ALL PRIVILEGES ON "+quoted(place, "`")+".* TO "+account)
	}
	return all
}

// Pattern is the name of a database as a GRANT of MySQL takes it to mean that one alone.
func Pattern(name string) string { return strings.NewReplacer(`_`, `\_`, `%`, `\%`).Replace(name) }

// CreateAccount is the statement that makes an account of Accounts, or for postgres the
// account, with a password.
func (s Setup) CreateAccount(account, password string) string {
	if s.Engine == "postgres" {
		return "CREATE ROLE " + quoted(s.User, `"`) + " LOGIN PASSWORD " + pgLiteral(password)
	}
	return "CREATE USER " + account + " IDENTIFIED BY " + literal(password)
}

// Hosts are what a server may take the machine for that this program runs on.
func (s Setup) Hosts() []string {
	switch ip := net.ParseIP(s.Host); {
	case s.Host == "" || s.Host == "localhost":
		return []string{"localhost"}
	case ip.IsLoopback():
		return []string{"localhost", s.Host} // with and without the looking up of names
	}
	// Nothing is sent: the system only chooses the way.
	c, err := net.Dial("udp", net.JoinHostPort(s.Host, fmt.Sprint(s.Port)))
	if err != nil {
		return []string{"%"}
	}
	defer c.Close()
	if from, ok := c.LocalAddr().(*net.UDPAddr); ok {
		return []string{from.IP.String()}
	}
	return []string{"%"}
}

func (s Setup) postgres() string {
	role := quoted(s.User, `"`)
	return strings.Join([]string{
		"DO $$ BEGIN IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = " + pgLiteral(s.User) + ") THEN CREATE ROLE " + role + "; END IF; END $$",
		"ALTER ROLE " + role + " LOGIN PASSWORD '" + Placeholder + "'",
		s.CreateDatabase(),
	}, ";\n") + ";"
}

// pgLiteral writes a text for PostgreSQL, whatever it takes a backslash for.
func pgLiteral(text string) string {
	if !strings.Contains(text, `\`) {
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	return "E" + literal(text)
}

func quoted(name, quote string) string {
	return quote + strings.ReplaceAll(name, quote, quote+quote) + quote
}

func literal(text string) string {
	return "'" + strings.NewReplacer("'", "''", `\`, `\\`).Replace(text) + "'"
}

func plainWord(s string) bool {
	return s != "" && !slices.ContainsFunc([]byte(s), func(c byte) bool {
		return (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '_'
	})
}

package database

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
)

// ErrNotSetUp is wrapped when a server lacks the database, the account or its rights.
var ErrNotSetUp = errors.New("the server is not set up for the site")

// Setup is what a server's administrator has to make for a site.
type Setup struct {
	// Engine is mysql or postgres; Host and Port are where the server is, empty for a
	// socket.
	Engine, Host string
	Port         int
	User, Name   string
	// Charset and Collation are those of the database that was saved.
	Charset, Collation string
}

// Placeholder stands for the password in Setup.SQL: it is in the site's settings, and
// not shown.
const Placeholder = "THE-PASSWORD"

// SQL is one block of statements that makes database, account and rights. It can be run
// again, and where there is something already.
func (s Setup) SQL() string {
	if s.Engine == "postgres" {
		return s.postgres()
	}
	make := fmt.Sprintf("CREATE DATABASE IF NOT EXISTS %s", quoted(s.Name, "`"))
	if plainWord(s.Charset) {
		make += " CHARACTER SET " + s.Charset
		// Collations of one make of server are unknown to others.
		if plainWord(s.Collation) && !strings.Contains(s.Collation, "0900") && !strings.Contains(s.Collation, "uca1400") {
			make += " COLLATE " + s.Collation
		}
	}
	lines := []string{make}
	// In a GRANT, _ and % of a database's name are patterns.
	place := strings.NewReplacer(`_`, `\_`, `%`, `\%`).Replace(quoted(s.Name, "`"))
	for _, host := range s.hosts() {
		account := literal(s.User) + "@" + literal(host)
		lines = append(lines, "CREATE USER IF NOT EXISTS "+account+" IDENTIFIED BY '"+Placeholder+"'",
			"ALTER USER "+account+" IDENTIFIED BY '"+Placeholder+"'",
			"GRANT ALL PRIVILEGES ON "+place+".* TO "+account,
			"GRANT ALL PRIVILEGES ON `rv\\_%`.* TO "+account)
	}
	return strings.Join(lines, ";\n") + ";"
}

// hosts are what a server may take the machine for that this program runs on.
func (s Setup) hosts() []string {
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
	lines := []string{
		"DO $$ BEGIN IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = " + literal(s.User) + ") THEN CREATE ROLE " + role + "; END IF; END $$",
		"ALTER ROLE " + role + " LOGIN PASSWORD '" + Placeholder + "'",
	}
	make := "CREATE DATABASE " + quoted(s.Name, `"`) + " OWNER " + role + " TEMPLATE template0"
	if s.Charset != "" {
		make += " ENCODING " + literal(s.Charset)
	}
	if s.Collation != "" {
		make += " LC_COLLATE " + literal(s.Collation) + " LC_CTYPE " + literal(s.Collation)
	}
	return strings.Join(append(lines, make), ";\n") + ";"
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

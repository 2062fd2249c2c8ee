package loopback

import (
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
)

// ordinaryFrom is the lowest number of an account of a person or a customer where the system says nothing else (login.defs(5),
// UID_MIN).
const ordinaryFrom = 1000

// webServers are accounts of the system's that run what sites bring: whoever got into one of them runs programs as these.
var webServers = []string{"www-data", "www", "apache", "nginx", "httpd", "http", "lighttpd", "caddy", "lsadm"}

// Standing is what an account is to this program.
type Standing int

// The standings.
const (
	// Strange is an account of a person, a customer or a web server.
	Strange Standing = iota
	// Nobodys is the account without a number of its own, which servers run as and sites, too.
	Nobodys
	// Trusted is root, this account, or one that a package has made for a server.
	Trusted
)

// StandingOf tells what an account is, by its number.
func StandingOf(uid int) Standing {
	if uid == 0 || uid == os.Geteuid() {
		return Trusted
	}
	name := ""
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		name = u.Username
	}
	switch {
	case name == "nobody":
		return Nobodys
	case uid < lowestOrdinary() && !slices.Contains(webServers, name):
		return Trusted
	}
	return Strange
}

func lowestOrdinary() int {
	text, err := os.ReadFile("/etc/login.defs")
	if err != nil {
		return ordinaryFrom
	}
	for line := range strings.Lines(string(text)) {
		if words := strings.Fields(line); len(words) > 1 && words[0] == "UID_MIN" {
			if n, err := strconv.Atoi(words[1]); err == nil && n > 0 {
				return n
			}
		}
	}
	return ordinaryFrom
}

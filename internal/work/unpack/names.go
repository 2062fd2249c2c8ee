package unpack

import (
	"fmt"
	"path"
	"runtime"
	"strings"
	"sync"
)

// system says which names a system's file systems can have.
type system struct {
	// folds tells that names which differ in case only are the same.
	folds bool
	// possible is a name, made possible.
	possible func(string) string
}

// here is this system.
func here() system {
	switch runtime.GOOS {
	case "windows":
		return system{true, windowsName}
	case "darwin":
		return system{true, func(name string) string { return strings.ToValidUTF8(strings.ReplaceAll(name, ":", "%3A"), "%FF") }}
	}
	return system{}
}

// names are those that paths of an archive get here, where they cannot have their own.
type names struct {
	system
	mu    sync.Mutex
	known map[string]string // a path's name here
	taken map[string]string // the path that has a name
}

// of is what a path is called here. Paths that this system could not tell apart get names
// that differ.
func (n *names) of(rel string) string {
	if !n.folds && n.possible == nil {
		return rel
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.known == nil {
		n.known, n.taken = map[string]string{}, map[string]string{}
	}
	return n.find(rel)
}

func (n *names) find(rel string) string {
	if rel == "." {
		return rel
	}
	if at, ok := n.known[rel]; ok {
		return at
	}
	first := path.Join(n.find(path.Dir(rel)), n.possible(path.Base(rel)))
	at := first
	for i := 2; n.taken[strings.ToLower(at)] != ""; i++ {
		at = fmt.Sprintf("%s~%d", first, i)
	}
	n.known[rel], n.taken[strings.ToLower(at)] = at, rel
	return at
}

// renamed are the paths that have other names here.
func (n *names) renamed() map[string]string {
	n.mu.Lock()
	defer n.mu.Unlock()
	all := map[string]string{}
	for rel, at := range n.known {
		if rel != at {
			all[rel] = at
		}
	}
	return all
}

// devices are names that Windows has taken for devices, with whatever comes after a dot
// (Naming Files, Paths, and Namespaces; learn.microsoft.com).
var devices = []string{"CON", "PRN", "AUX", "NUL", "COM", "LPT", "CONIN$", "CONOUT$"}

// windowsName is a name that Windows can have: what it cannot is written as in addresses,
// %3A for a colon.
func windowsName(name string) string {
	var b strings.Builder
	for i, c := range []byte(name) {
		last := i == len(name)-1
		if c < 0x20 || strings.IndexByte(`<>:"|?*\`, c) >= 0 || last && (c == '.' || c == ' ') {
			fmt.Fprintf(&b, "%%%02X", c)
			continue
		}
		b.WriteByte(c)
	}
	stem, _, _ := strings.Cut(strings.ToUpper(name), ".")
	stem = strings.TrimRight(stem, " ")
	for _, d := range devices {
		number, is := strings.CutPrefix(stem, d)
		if is && (number == "" && d != "COM" && d != "LPT" || len([]rune(number)) == 1 && (d == "COM" || d == "LPT")) {
			return fmt.Sprintf("%%%02X%s", b.String()[0], b.String()[1:])
		}
	}
	return strings.ToValidUTF8(b.String(), "%FF")
}

package site

import (
	"fmt"
	"strings"
)

// Accounts says where a CMS keeps its accounts: a row of Table each. Tables are without
// prefix.
type Accounts struct {
	Table string `yaml:"table"`
	// Key is the column with an account's number, Name that with what it logs in with.
	Key  string `yaml:"key"`
	Name string `yaml:"name"`
	// Mail and Password are columns; without Mail the CMS keeps no address.
	Mail     string `yaml:"mail"`
	Password string `yaml:"password"`
	// Hashes are the schemes for Password, newest first.
	Hashes []HashSince `yaml:"hashes"`
	// Off tells which accounts cannot log in.
	Off Flag `yaml:"off"`
	// Administrators are rows that make an account one, by its number; Always are numbers
	// that are, whatever the rows say.
	Administrators []Members `yaml:"administrators"`
	Always         []string  `yaml:"always"`
	// Named are texts, as Watch.Pick finds them, that name further administrators: Table,
	// Where, Is, Column and Pick count.
	Named []Watch `yaml:"named"`
	// Forget are rows that go when an account changes: its sessions, and what is kept of it
	// in caches.
	Forget []Forget `yaml:"forget"`
	// Token is a column with random hexadecimal digits that sessions depend on.
	Token string `yaml:"token"`
}

// HashSince is the scheme of package password for versions of the CMS from Since on; the
// one without Since is for all before.
type HashSince struct {
	Since  string `yaml:"since"`
	Scheme string `yaml:"scheme"`
}

// Flag is a column with a value that says yes.
type Flag struct {
	Column string `yaml:"column"`
	Is     string `yaml:"is"`
}

// Forget are the rows of Table in which Column is Is, and Where is Equals if it is given.
// In Is, {key} stands for the account's number and {name} for its name.
type Forget struct {
	Table  string `yaml:"table"`
	Column string `yaml:"column"`
	Is     string `yaml:"is"`
	Where  string `yaml:"where"`
	Equals string `yaml:"equals"`
}

// SchemeFor is the scheme in which a version of the CMS takes passwords.
func (a Accounts) SchemeFor(version string) (string, error) {
	for _, h := range a.Hashes {
		if h.Since == "" {
			return h.Scheme, nil
		}
		newer, known := AtLeast(version, h.Since)
		if !known {
			break
		}
		if newer {
			return h.Scheme, nil
		}
	}
	return "", fmt.Errorf("in which form version %q keeps passwords is not known", version)
}

// Of fills in which account is meant.
func (f Forget) Of(key, name string) string {
	return strings.NewReplacer("{key}", key, "{name}", name).Replace(f.Is)
}

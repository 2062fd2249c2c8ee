// Package accounts reads the accounts of a content-managed site out of its rows, in an
// archive or as they are, and words the change of one as edits of its database. Begin with
// List and Reset. Where a CMS keeps its accounts, its recipe says.
package accounts

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"revlet/internal/database"
	"revlet/internal/platform/memory"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/compare"
)

// Account is one of a site's accounts. Passwords are not kept here.
type Account struct {
	// Key is its number, Name what it logs in with.
	Key  string `json:"key"`
	Name string `json:"name"`
	Mail string `json:"mail,omitempty"`
	// Administrator tells that it may do everything, on the site or, in a network of sites,
	// on one of them.
	Administrator bool `json:"administrator"`
	// Off tells that it cannot log in.
	Off bool `json:"off"`
	// rows is how many rows it has in the table of accounts: one for each language in some
	// systems.
	rows int64
}

// Place is where accounts are read.
type Place struct {
	Recipe *site.Recipe
	// Database labels the database; Engine and Prefix are its make and the prefix of its
	// tables, Tables all that there are.
	Database, Engine, Prefix string
	Tables                   []string
	// Rows gives the tables' rows.
	Rows compare.Texts

	memory memory.Watch
}

// Keeps tells whether it is known where a kind of CMS keeps its accounts.
func Keeps(r *site.Recipe) bool { return r != nil && r.Accounts.Table != "" }

func (p *Place) each(ctx context.Context, table string, visit func(compare.Row) error) error {
	if !slices.Contains(p.Tables, table) {
		return nil
	}
	return compare.EachRow(ctx, p.Rows, compare.TableName{Database: p.Database, Table: table}, p.Engine, visit)
}

// List returns the accounts that are wanted, administrators first, then by name. A table of
// accounts that is not there is an error; tables that say who is an administrator may be
// missing. Memory is bounded by what is wanted, and by the number of administrators.
func List(ctx context.Context, p *Place, want func(Account) bool) ([]Account, error) {
	if !Keeps(p.Recipe) {
		return nil, reason.New(reason.NoAccounts, nil, "where this kind of site keeps its accounts is not known")
	}
	of := p.Recipe.Accounts
	table := p.Prefix + of.Table
	if !slices.Contains(p.Tables, table) {
		return nil, reason.New(reason.NoAccounts, nil, "there is no table %s, in which a %s site keeps its accounts", table, p.Recipe.Title)
	}
	admins, err := p.administrators(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string]*Account{}
	err = p.each(ctx, table, func(r compare.Row) error {
		one := Account{Key: r[of.Key], Name: r[of.Name], Mail: r[of.Mail], rows: 1}
		if known := all[one.Key]; known != nil {
			known.rows++
			return nil
		}
		one.Administrator = admins.keys[one.Key] || admins.names[one.Name] || slices.Contains(of.Always, one.Key)
		one.Off = of.Off.Column != "" && r[of.Off.Column] == of.Off.Is
		if one.Name == "" || !want(one) {
			return nil
		}
		one.Key, one.Name, one.Mail = strings.Clone(one.Key), strings.Clone(one.Name), strings.Clone(one.Mail)
		all[one.Key] = &one
		return p.memory.One()
	})
	if err != nil {
		return nil, fmt.Errorf("read the accounts in %s: %w", table, err)
	}
	var list []Account
	for _, one := range all {
		list = append(list, *one)
	}
	slices.SortFunc(list, func(a, b Account) int {
		if a.Administrator != b.Administrator {
			if a.Administrator {
				return -1
			}
			return 1
		}
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Key, b.Key))
	})
	return list, nil
}

// members are accounts by number, and by name.
type members struct{ keys, names map[string]bool }

// administrators reads who may do everything, on any site of a network.
func (p *Place) administrators(ctx context.Context) (members, error) {
	m := members{map[string]bool{}, map[string]bool{}}
	for _, sub := range p.Recipe.SubPrefixes(p.Prefix, p.Tables) {
		for _, of := range p.Recipe.Accounts.Administrators {
			is := strings.NewReplacer("{prefix}", p.Prefix+sub)
			err := p.each(ctx, p.Recipe.TableOf(p.Prefix, sub, of.Table), func(r compare.Row) error {
				named := slices.ContainsFunc(of.Is, func(v string) bool { return is.Replace(v) == r[of.Where] })
				if named && (len(of.Contains) == 0 || slices.ContainsFunc(of.Contains, func(s string) bool { return strings.Contains(r[of.In], s) })) {
					m.keys[strings.Clone(r[of.Column])] = true
					return p.memory.One()
				}
				return nil
			})
			if err != nil {
				return m, err
			}
		}
	}
	for _, of := range p.Recipe.Accounts.Named {
		pick, err := regexp.Compile(of.Pick)
		if err != nil {
			return m, err
		}
		err = p.each(ctx, p.Prefix+of.Table, func(r compare.Row) error {
			if slices.Contains(of.Is, r[of.Where]) {
				for _, found := range pick.FindAllStringSubmatch(r[of.Column], -1) {
					m.names[strings.Clone(found[len(found)-1])] = true
				}
			}
			return nil
		})
		if err != nil {
			return m, err
		}
	}
	return m, nil
}

// Means tells whether somebody may mean an account by what was typed: its name, its mail
// address or its number.
func Means(one Account, typed string) bool { return meant(one, typed) < len(meanings) }

// meanings are the ways in which an account is called, the surest first.
var meanings = []func(one Account, typed string) bool{
	func(one Account, typed string) bool { return one.Name == typed },
	func(one Account, typed string) bool { return strings.EqualFold(one.Name, typed) },
	func(one Account, typed string) bool { return one.Mail != "" && strings.EqualFold(one.Mail, typed) },
	func(one Account, typed string) bool { return one.Key == typed },
}

func meant(one Account, typed string) int {
	for i, means := range meanings {
		if means(one, typed) {
			return i
		}
	}
	return len(meanings)
}

// Find returns the account of a site that somebody means. Anybody may have registered under
// the mail address of an administrator: where a name and an address lead to two accounts,
// neither is taken.
func Find(all []Account, name, typed string) (Account, error) {
	best := len(meanings)
	var found, also []Account
	for _, one := range all {
		switch how := meant(one, typed); {
		case how == len(meanings):
			continue
		case how < best:
			best, found = how, []Account{one}
		case how == best:
			found = append(found, one)
		}
		if byName(one, typed) {
			also = append(also, one)
		}
	}
	switch {
	case len(found) == 0:
		return Account{}, reason.New(reason.NoSuchAccount, reason.Names{"site": name}, "%s has no account %q", name, typed)
	case len(found) == 1 && len(also) < 2:
		return found[0], nil
	}
	var keys []string
	for _, one := range also {
		keys = append(keys, fmt.Sprintf("%s (%s)", one.Key, one.Name))
	}
	return Account{}, reason.BadUsage("%d accounts are called %q; say which by its number: %s", len(also), typed, strings.Join(keys, ", "))
}

// byName tells whether an account's name or mail address was typed, in whatever letters.
func byName(one Account, typed string) bool {
	return strings.EqualFold(one.Name, typed) || one.Mail != "" && strings.EqualFold(one.Mail, typed)
}

// Reset are the edits that give an account another value in a column of the table of
// accounts, and end its sessions.
func Reset(p *Place, one Account, column, value string) []database.Edit {
	of := p.Recipe.Accounts
	set := map[string]string{column: value}
	if of.Token != "" {
		set[of.Token] = token()
	}
	edits := []database.Edit{{Table: p.Prefix + of.Table, Where: map[string]string{of.Key: one.Key}, Set: set, Exactly: one.rows}}
	for _, f := range of.Forget {
		table := p.Prefix + f.Table
		if !slices.Contains(p.Tables, table) {
			continue
		}
		where := map[string]string{f.Column: f.Of(one.Key, one.Name)}
		if f.Where != "" {
			where[f.Where] = f.Equals
		}
		edits = append(edits, database.Edit{Table: table, Where: where})
	}
	return edits
}

// token is 32 random hexadecimal digits.
func token() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}

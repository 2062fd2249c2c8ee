package unpack

import (
	"archive/tar"
	"maps"
	"os"
	"os/user"
	"slices"
	"strconv"
	"sync"

	"revlet/internal/archives/archive"
)

// Owners says to whom what is put back belongs on this machine. Names count: another machine may number the web server's
// account otherwise, and have given a number to somebody who is another one here. It is safe for concurrent use.
type Owners struct {
	// Own tells that the archive was taken here, so that its numbers mean what they meant.
	Own bool
	// Heir has what belonged to Was, whose the webroot was, and whatever belonged to nobody who is known here. With
	// none, that is root.
	Was, Heir *archive.Owner

	mu            sync.Mutex
	users, groups ids
	// given are accounts and groups that are not those of the archive, with those that they became.
	given map[string]string
}

// ids are numbers on this machine by what the archive says.
type ids map[archive.Owner]int

// Given are the accounts and groups of the archive whose things belong to others here, in order, with those.
func (o *Owners) Given() (given [][2]string) {
	if o == nil {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, was := range slices.Sorted(maps.Keys(o.given)) {
		given = append(given, [2]string{was, o.given[was]})
	}
	return given
}

// Of is to whom something of an owner in the archive belongs.
func (o *Owners) Of(was archive.Owner) (uid, gid int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.users == nil {
		o.users, o.groups, o.given = ids{}, ids{}, map[string]string{}
	}
	account, group := archive.Owner{UID: was.UID, User: was.User}, archive.Owner{GID: was.GID, Group: was.Group}
	uid, known := o.users[account]
	if !known {
		uid = o.find(accounts, was.User, was.UID, userOf)
		o.users[account] = uid
	}
	gid, known = o.groups[group]
	if !known {
		gid = o.find(groups, was.Group, was.GID, groupOf)
		o.groups[group] = gid
	}
	return uid, gid
}

// register is where accounts, or groups, are looked up.
type register struct {
	word   string
	byName func(name string) (number string, err error)
	byID   func(number string) (name string, err error)
}

var (
	accounts = register{"account ", func(name string) (string, error) {
		u, err := user.Lookup(name)
		if err != nil {
			return "", err
		}
		return u.Uid, nil
	}, func(number string) (string, error) {
		u, err := user.LookupId(number)
		if err != nil {
			return "", err
		}
		return u.Username, nil
	}}
	groups = register{"group ", func(name string) (string, error) {
		g, err := user.LookupGroup(name)
		if err != nil {
			return "", err
		}
		return g.Gid, nil
	}, func(number string) (string, error) {
		g, err := user.LookupGroupId(number)
		if err != nil {
			return "", err
		}
		return g.Name, nil
	}}
)

// find is the number here of an account or group; part is that part of an owner.
func (o *Owners) find(in register, name string, number int, part func(*archive.Owner) (string, int)) int {
	heir := 0
	if o.Heir != nil {
		_, heir = part(o.Heir)
		if o.Was != nil {
			if wasName, was := part(o.Was); wasName == name && was == number {
				return o.give(in, name, number, heir)
			}
		}
	}
	if name != "" {
		if text, err := in.byName(name); err == nil {
			if id, err := strconv.Atoi(text); err == nil {
				return id
			}
		}
	}
	if _, err := in.byID(strconv.Itoa(number)); o.Own && name == "" || err != nil && o.Heir == nil {
		return number // it means what it meant, or nobody here
	}
	return o.give(in, name, number, heir)
}

// fixedIDs are the numbers of accounts and groups that a distribution gives to the same ones everywhere (Debian Policy
// Manual, section 9.2.2).
const fixedIDs = 100

// acl is a list of who may do what with a path, as it is on this machine: it names accounts and groups by their numbers
// alone. An entry for a number that is somebody else's here is left out; whole tells that none was.
func (o *Owners) acl(value []byte) (list []byte, whole bool) {
	if o.Own && o.Heir == nil {
		return value, true
	}
	whole = true
	in := func(r register, part func(*archive.Owner) (string, int)) func(id int) (int, bool) {
		return func(id int) (int, bool) {
			if o.Heir != nil && o.Was != nil {
				if _, was := part(o.Was); was == id {
					_, heir := part(o.Heir)
					return heir, true
				}
			}
			_, err := r.byID(strconv.Itoa(id))
			means := o.Own || id < fixedIDs || err != nil
			whole = whole && means
			return id, means
		}
	}
	list = archive.MapACL(value, in(accounts, userOf), in(groups, groupOf))
	return list, whole && list != nil
}

func userOf(of *archive.Owner) (name string, number int)  { return of.User, of.UID }
func groupOf(of *archive.Owner) (name string, number int) { return of.Group, of.GID }

// give notes that things are given to another one, if it is another.
func (o *Owners) give(in register, name string, number, to int) int {
	is, err := in.byID(strconv.Itoa(to))
	if err != nil {
		is = strconv.Itoa(to)
	}
	was := name
	if was == "" {
		was = strconv.Itoa(number)
	}
	if was != is {
		o.given[in.word+was] = is
	}
	return to
}

// apply sets the owner where this account may: as root. Otherwise everything
// belongs to the account that restores.
func (o *Owners) apply(h *tar.Header, chown func(uid, gid int) error) error {
	if os.Geteuid() != 0 {
		return nil
	}
	return chown(o.Of(archive.Owner{UID: h.Uid, GID: h.Gid, User: h.Uname, Group: h.Gname}))
}

//go:build linux

package unpack

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"revlet/internal/archives/archive"
)

// Numbers of another machine may be somebody else's here.
func TestWhoseThingsAre(t *testing.T) {
	const daemon, nobody = 1, 65534 // as on every Linux
	keeper := archive.Owner{UID: 61999, GID: 61998, User: "keeper-of-another-machine", Group: "keepers-of-another-machine"}
	nameless := archive.Owner{UID: 61999, GID: 61998}
	lighthouse := &archive.Owner{UID: 61777, GID: 61776}
	renumbered := archive.Owner{UID: 4711, GID: 4711, User: "daemon", Group: "daemon"}
	stranger := archive.Owner{UID: daemon, GID: daemon, User: "stranger", Group: "strangers"}
	for _, c := range []struct {
		name     string
		owners   *Owners
		was      archive.Owner
		uid, gid int
		given    [][2]string
	}{
		{"a name is known", &Owners{}, renumbered, daemon, daemon, nil},
		{"a name is known, at home", &Owners{Own: true}, renumbered, daemon, daemon, nil},
		{"a number is nobody's", &Owners{}, keeper, 61999, 61998, nil},
		{"a number is somebody else's", &Owners{}, stranger, 0, 0, [][2]string{{"account stranger", "root"}, {"group strangers", "root"}}},
		{"a number is somebody else's by now, at home", &Owners{Own: true}, stranger, 0, 0, [][2]string{{"account stranger", "root"}, {"group strangers", "root"}}},
		{"a number without a name, at home", &Owners{Own: true}, archive.Owner{UID: daemon, GID: daemon}, daemon, daemon, nil},
		{"a number without a name, from elsewhere", &Owners{}, archive.Owner{UID: daemon, GID: daemon}, 0, 0, [][2]string{{"account 1", "root"}, {"group 1", "root"}}},
		{"the site's account", &Owners{Was: &renumbered, Heir: lighthouse}, renumbered, 61777, 61776, [][2]string{{"account daemon", "61777"}, {"group daemon", "61776"}}},
		{"the site's account, moved at home", &Owners{Own: true, Was: &keeper, Heir: lighthouse}, keeper, 61777, 61776, [][2]string{{"account keeper-of-another-machine", "61777"}, {"group keepers-of-another-machine", "61776"}}},
		{"another account that is known", &Owners{Was: &keeper, Heir: lighthouse}, renumbered, daemon, daemon, nil},
		{"another account that is not", &Owners{Was: &renumbered, Heir: lighthouse}, nameless, 61777, 61776, [][2]string{{"account 61999", "61777"}, {"group 61998", "61776"}}},
		{"root", &Owners{Was: &keeper, Heir: lighthouse}, archive.Owner{User: "root", Group: "root"}, 0, 0, nil},
	} {
		for range 2 { // the second time it is remembered
			uid, gid := c.owners.Of(c.was)
			assert.Equal(t, [2]int{c.uid, c.gid}, [2]int{uid, gid}, c.name)
			assert.Equal(t, c.given, c.owners.Given(), c.name)
		}
	}

	entry := func(tag byte, id int) []byte { return []byte{tag, 0, 4, 0, byte(id), byte(id >> 8), 0, 0} }
	list := func(users ...int) (all []byte) {
		all = []byte{2, 0, 0, 0}
		for _, id := range users {
			all = append(all, entry(2, id)...)
		}
		return all
	}
	for _, c := range []struct {
		name       string
		owners     *Owners
		list, want []byte
		whole      bool
	}{
		{"at home", &Owners{Own: true}, list(nobody, 33), list(nobody, 33), true},
		{"from elsewhere", &Owners{}, list(nobody, 33, 61999), list(33, 61999), false},
		{"from elsewhere, nobody's", &Owners{}, list(33, 61999), list(33, 61999), true},
		{"the site's account", &Owners{Was: &keeper, Heir: lighthouse}, list(33, 61999), list(33, 61777), true},
		{"no list", &Owners{}, []byte("x"), nil, false},
	} {
		got, whole := c.owners.acl(c.list)
		assert.Equal(t, c.want, got, c.name)
		assert.Equal(t, c.whole, whole, c.name)
	}
}

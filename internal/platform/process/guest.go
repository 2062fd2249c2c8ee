package process

import (
	"errors"
	"fmt"
	"hash/fnv"
	"os/user"
	"strconv"
)

// Guest is an account of this machine that what may be hostile runs as.
type Guest struct {
	// UID and GID are its numbers. What it runs is in the group Way, too: it opens the folders on the way
	// to what the guest is given, and nothing else.
	UID, GID, Way int
	// named is set for an account that a person has named: it has a life of its own.
	named bool
}

// The numbers that guests get: those that systemd keeps for accounts which last as long as a service
// (its document "Users, Groups, UIDs and GIDs on systemd Systems", dynamic service users).
const (
	firstGuest = 61184
	lastGuest  = 65519
)

// errNoGuest is returned when every number is taken.
var errNoGuest = errors.New("no number is free for an account without rights")

// NewGuest chooses an account without a name, to which nothing on this machine belongs and which runs nothing.
// The same words give the same one, if it can be had; ours are those of the folders on the way to what it is
// given. Only root can use it.
func NewGuest(words, ours string) (*Guest, error) {
	busy, err := owners()
	if err != nil {
		return nil, err
	}
	id, err := freeNumber(words, busy)
	if err != nil {
		return nil, err
	}
	way, err := freeNumber(ours, map[int]bool{id: true})
	return &Guest{UID: id, GID: id, Way: way}, err
}

// NamedGuest is an account that a person has named.
func NamedGuest(name, ours string) (*Guest, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return nil, err
	}
	g := &Guest{named: true}
	if g.UID, err = strconv.Atoi(u.Uid); err != nil {
		return nil, fmt.Errorf("the account %s has no number: %w", name, err)
	}
	if g.GID, err = strconv.Atoi(u.Gid); err != nil {
		return nil, fmt.Errorf("the group of the account %s has no number: %w", name, err)
	}
	g.Way, err = freeNumber(ours, nil)
	return g, err
}

// IsGuest tells whether a number is one that guests get.
func IsGuest(id int) bool { return id >= firstGuest && id <= lastGuest }

// freeNumber is a number that no account and no group has, and that is not busy.
func freeNumber(words string, busy map[int]bool) (int, error) {
	const all = lastGuest - firstGuest + 1
	h := fnv.New32a()
	_, _ = h.Write([]byte(words))
	for i := range all {
		id := firstGuest + (int(h.Sum32()%all)+i)%all
		text := strconv.Itoa(id)
		_, err := user.LookupId(text)
		_, gerr := user.LookupGroupId(text)
		var none user.UnknownUserIdError
		var noGroup user.UnknownGroupIdError
		if errors.As(err, &none) && errors.As(gerr, &noGroup) && !busy[id] {
			return id, nil
		}
	}
	return 0, errNoGuest
}

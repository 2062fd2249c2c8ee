// Package storelock keeps machines that share a store out of each other's way, with
// nothing but what every store can do: put, list and remove small objects.
//
// A machine that writes to a site's folder leaves a lock object there first, and so
// does one that removes archives. Each puts its own before it lists the others', so
// that of two at least one sees the other. Writers wait for a removal to end
// (AwaitClear), a removal does not begin while somebody writes (Clear). Lock objects
// of machines that died stop counting after Age.
//
// This is advisory: it protects from accidents, not from malice.
package storelock

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"regexp"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/store"
	"revlet/internal/store/appendonly"
)

// Age is how long a mark that nobody has taken away counts.
const Age = 24 * time.Hour

// RenewEvery is how often a mark is written anew while its run goes on: a first upload
// may take longer than Age.
const RenewEvery = Age / 8

// Renew writes a mark anew every so often, until stop is called, which waits for that
// to end. That one cannot be written is left to the next time.
func Renew(ctx context.Context, s store.Store, mark string, text []byte, every time.Duration) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(every):
				_ = s.Put(ctx, mark, bytes.NewReader(text), int64(len(text)))
			}
		}
	}()
	return func() {
		cancel()
		<-ended
	}
}

// clearing begins the names of marks of those who clear up.
const clearing = "clearing."

// Recent tells whether a mark is young enough to count. A store that does not
// tell when it was written is judged by the archive's name.
func Recent(m store.Info) bool {
	began := m.Changed
	if began.IsZero() {
		_, began, _ = archive.SplitName(Archive(m.Name))
	}
	return time.Since(began) < Age
}

// Live leaves those of a listing of locks that count: not what is over, for the account
// that wrote it may not delete (package appendonly), and one of each that was renewed.
func Live(found []store.Info) (live []store.Info) {
	over := map[string]bool{}
	for _, m := range found {
		if name, ok := strings.CutSuffix(m.Name, appendonly.Over); ok {
			over[name] = true
		}
	}
	for _, m := range found {
		if !over[owner(m.Name)] && !strings.HasSuffix(m.Name, appendonly.Over) && Recent(m) {
			live = append(live, m)
		}
	}
	return live
}

// owner is the name of the lock that a lock object belongs to: <what>.<token>, and a token
// more for each time it was renewed without being replaced.
func owner(name string) string {
	dir, base := path.Split(name)
	what := Archive(name)
	if what == "" {
		what = strings.TrimSuffix(clearing, ".")
	}
	token, _, _ := strings.Cut(strings.TrimPrefix(base, what+"."), ".")
	return dir + what + "." + token
}

// whose is how the lock of a run begins: with an archive's name, which may have dots.
var whose = regexp.MustCompile(`^(.*-\d{8}-\d{6})\.`)

// Archive is the archive that the run of a lock takes, or empty for one that clears up.
func Archive(lock string) string {
	if m := whose.FindStringSubmatch(path.Base(lock)); m != nil {
		return m[1]
	}
	return ""
}

// clearDead removes the lock objects that count no more. What cannot be removed stays for
// the next time.
func clearDead(ctx context.Context, s store.Store, found []store.Info) {
	live := map[string]bool{}
	for _, m := range Live(found) {
		live[m.Name], live[m.Name+appendonly.Over] = true, true
	}
	for _, m := range found {
		if !live[m.Name] {
			_ = s.Remove(ctx, m.Name)
		}
	}
}

// Machine names this machine and its state folder, without telling them.
func Machine(stateDir string) string {
	host, _ := os.Hostname()
	sum := sha256.Sum256([]byte(host + "\x00" + stateDir))
	return hex.EncodeToString(sum[:6])
}

// ErrBusy is wrapped when another machine writes or clears up in the store.
var ErrBusy = errors.New("another machine works in this store")

// Clear leaves the mark of one who clears up after a site, unless somebody
// writes there: the error then wraps ErrBusy. The caller holds the site's lock
// on this machine. done takes the mark away.
func Clear(ctx context.Context, s store.Named, site, machine string) (done func(context.Context) error, err error) {
	mark, text := path.Join(archive.RunningDir(site), clearing+machine), []byte("clearing up\n")
	if err := s.Put(ctx, mark, bytes.NewReader(text), int64(len(text))); err != nil {
		return nil, fmt.Errorf("store %s: %w", s.Name, err)
	}
	stop := Renew(ctx, s, mark, text, RenewEvery)
	done = func(ctx context.Context) error { stop(); return s.Remove(ctx, mark) }
	others, err := s.List(ctx, archive.RunningDir(site))
	for _, m := range Live(others) {
		if owner(m.Name) != mark {
			err = fmt.Errorf("store %s: %w: it has left %s", s.Name, ErrBusy, m.Name)
		}
	}
	if err != nil {
		return nil, errors.Join(err, done(context.WithoutCancel(ctx)))
	}
	clearDead(ctx, s, others)
	return done, nil
}

const (
	// patience is how long AwaitClear waits for another machine, pause how long it
	// waits before it looks again.
	patience = 2 * time.Minute
	pause    = time.Second
)

// AwaitClear returns when nobody clears up after a site in a store. The caller
// has left a mark of its own. What this machine itself has left when it died is
// taken away: the caller holds the site's lock.
func AwaitClear(ctx context.Context, s store.Named, site, machine string) error {
	deadline := time.Now().Add(patience)
	for {
		busy, err := beingCleared(ctx, s, site, machine)
		if err != nil || !busy {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("store %s: %w: it has been clearing up for long", s.Name, ErrBusy)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

func beingCleared(ctx context.Context, s store.Named, site, machine string) (bool, error) {
	found, err := s.List(ctx, archive.RunningDir(site))
	busy := false
	for _, m := range Live(found) {
		switch name := path.Base(owner(m.Name)); {
		case name == clearing+machine:
			if err := s.Remove(ctx, m.Name); err != nil {
				return false, err
			}
		case strings.HasPrefix(name, clearing):
			busy = true
		}
	}
	return busy, err
}

// Write leaves a mark for one who writes to a store other than by a backup, and
// waits until nobody clears up there. done takes the mark away.
func Write(ctx context.Context, s store.Named, site, archiveName, machine string) (done func(context.Context) error, err error) {
	mark := path.Join(archive.RunningDir(site), archiveName+"."+store.Token())
	text := []byte("writing\n")
	if err := s.Put(ctx, mark, bytes.NewReader(text), int64(len(text))); err != nil {
		return nil, err
	}
	stop := Renew(ctx, s, mark, text, RenewEvery)
	done = func(ctx context.Context) error { stop(); return s.Remove(ctx, mark) }
	if err := AwaitClear(ctx, s, site, machine); err != nil {
		return nil, errors.Join(err, done(context.WithoutCancel(ctx)))
	}
	return done, nil
}

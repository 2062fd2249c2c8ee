// Package state is Revlet's own folder on a machine: locks, scratch space,
// journals, logs and history.
package state

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

// State is the state folder.
type State struct {
	Dir  string
	Disk *disk.Disk
}

// Open makes the folder when it is missing. One in which others could put something is refused: what lies there says what is
// renamed and deleted, which keys are trusted, and whom this machine is. For root, nobody but root and the accounts may be able
// to; for another account, nobody but itself and root, and its group.
func Open(d *disk.Disk, dir string, accounts ...int) (*State, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := d.MkdirAll(dir, 0o700); err != nil {
		return nil, reason.New(reason.StateFolder, nil, "the state folder (`state:`): %w", err)
	}
	if ofOthers(dir, accounts) {
		return nil, reason.New(reason.StateOfOthers, reason.Names{"path": dir}, "the state folder %s belongs to another account, or others may put something into it or in its place: what lies there says what is renamed and deleted", dir)
	}
	return &State{Dir: dir, Disk: d}, nil
}

func ofOthers(dir string, accounts []int) bool {
	if !disk.KeepsModes {
		return false
	}
	if os.Geteuid() == 0 {
		return !disk.OnlyOf(dir, accounts...)
	}
	info, err := os.Stat(dir)
	if err != nil {
		return true
	}
	a, ok := disk.AttributesOf(info)
	return ok && (a.UID != 0 && a.UID != os.Geteuid() || info.Mode().Perm()&0o002 != 0)
}

// DefaultDir is the usual folder: stateHome/revlet, where stateHome is what
// $XDG_STATE_HOME says (XDG Base Directory Specification), ~/.local/state/revlet, or
// /var/lib/revlet for root.
func DefaultDir(stateHome string) string {
	if stateHome != "" {
		return filepath.Join(stateHome, "revlet")
	}
	if home, err := os.UserHomeDir(); err == nil && os.Geteuid() != 0 {
		return filepath.Join(home, ".local", "state", "revlet")
	}
	return "/var/lib/revlet"
}

// ErrBusy is wrapped by Lock when another run works on the site.
var ErrBusy = errors.New("another run of Revlet works on this site")

// Lock keeps other runs off a site until the returned function is called. The
// lock ends with the process, however that ends.
func (s *State) Lock(site string) (unlock func(), err error) {
	dir := filepath.Join(s.Dir, "locks")
	if err := s.Disk.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("lock site %s: %w", site, err)
	}
	file := filepath.Join(dir, site+".lock")
	l := flock.New(file)
	got, err := l.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock site %s: %w", site, err)
	}
	if !got {
		holder, _ := os.ReadFile(file)
		return nil, fmt.Errorf("site %s: %w (process %s); wait for it to end", site, ErrBusy, strings.TrimSpace(string(holder)))
	}
	// Who holds the lock is a courtesy to readers of the error above.
	_ = os.WriteFile(file, []byte(fmt.Sprintln(os.Getpid())), 0o600)
	return func() { _ = l.Unlock() }, nil
}

// Spool returns an empty scratch folder for a site. The caller holds the
// site's lock, so whatever lay in it was left by a run that died.
func (s *State) Spool(site string) (string, error) {
	return Empty(s.Disk, filepath.Join(s.Dir, "spool", site))
}

// Inside returns an empty folder for database files that are loaded here, and not where
// they will lie. The caller holds the site's lock.
func (s *State) Inside(site string) (string, error) {
	return Empty(s.Disk, filepath.Join(s.Dir, "inside", site))
}

// Empty makes sure that dir exists and that nothing is in it.
func Empty(d *disk.Disk, dir string) (string, error) {
	if err := d.RemoveAll(dir); err != nil {
		return "", fmt.Errorf("clear the scratch folder: %w", err)
	}
	if err := d.MkdirAll(dir, 0o700); err != nil {
		return "", fmt.Errorf("make the scratch folder: %w", err)
	}
	return dir, nil
}

// Ledgers is the folder in which each backup of a site notes what it writes to
// stores, until it has written its record.
func (s *State) Ledgers(site string) string { return filepath.Join(s.Dir, "ledger", site) }

// Previous is the folder in which a site's last archives are remembered, so
// that the next one can name their parts again.
func (s *State) Previous(site string) string { return filepath.Join(s.Dir, "previous", site) }

// Records is the folder in which the records of a site's encrypted archives are
// kept open.
func (s *State) Records(site string) string { return filepath.Join(s.Dir, "records", site) }

// Seen is the folder of records that were read in stores elsewhere.
func (s *State) Seen() string { return filepath.Join(s.Dir, "seen") }

// Healthy is what a site's pages were like when it was last known to work.
func (s *State) Healthy(site string) string { return filepath.Join(s.Dir, "healthy", site+".json") }

// Cutover says what is remembered of where a site's names led.
func (s *State) Cutover(site string) string { return filepath.Join(s.Dir, "cutover", site+".json") }

// Finish says how far the end of a site's cutover has come.
func (s *State) Finish(site string) string { return filepath.Join(s.Dir, "finish", site+".json") }

// Outside is where it is noted which links of a site lead out of its folders.
func (s *State) Outside(site string) string { return filepath.Join(s.Dir, "outside", site) }

// Moved says how a site was moved to where it is.
func (s *State) Moved(site string) string { return filepath.Join(s.Dir, "moved", site+".json") }

// SigningKey is the file of the key that this machine signs records with.
func (s *State) SigningKey() string { return filepath.Join(s.Dir, "signing.key") }

// Signers is the file of those whose archives of a site are taken.
func (s *State) Signers(site string) string { return filepath.Join(s.Dir, "signers", site+".json") }

// KnownHosts is the file of SSH host keys that a person has accepted.
func (s *State) KnownHosts() string { return filepath.Join(s.Dir, "known_hosts") }

// Links is the folder of what was given when stores were linked: as good as their passwords.
func (s *State) Links() string { return filepath.Join(s.Dir, "links") }

// Report is what is remembered of the last report, of this machine's sites or of a store.
func (s *State) Report(store string) string {
	if store == "" {
		return filepath.Join(s.Dir, "report", "sites.json")
	}
	return filepath.Join(s.Dir, "report", "store-"+store+".json")
}

// History is the file that runs and checks are remembered in.
func (s *State) History() string { return filepath.Join(s.Dir, "history.db") }

// Inside tells whether p lies in dir or is dir, links resolved as far as they
// exist.
func Inside(p, dir string) bool {
	rel, err := filepath.Rel(resolve(dir), resolve(p))
	return err == nil && rel != ".." && !strings.HasPrefix(rel, "../")
}

// resolve follows links in the part of a path that exists.
func resolve(p string) string {
	rest := ""
	for at := p; ; at = filepath.Dir(at) {
		real, err := filepath.EvalSymlinks(at)
		if err == nil {
			return filepath.Join(real, rest)
		}
		if !errors.Is(err, fs.ErrNotExist) || at == filepath.Dir(at) {
			return p
		}
		rest = filepath.Join(filepath.Base(at), rest)
	}
}

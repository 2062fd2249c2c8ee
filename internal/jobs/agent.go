package jobs

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/engine"
	"revlet/internal/site/tree"
	"revlet/internal/store"
	"revlet/internal/store/marked"
	"revlet/internal/store/opener"
	"revlet/internal/watch/history"
)

// Agent carries out jobs. The fields above the line are set before Open, the
// others by it.
type Agent struct {
	Disk *disk.Disk
	// Now is the clock.
	Now func() time.Time
	// Program is the program's name and version, Person who asks.
	Program, Person string
	// Drain is how long a site that was just closed is given for the pages that
	// are being made.
	Drain time.Duration
	// SitePatience is how long others wait for a site that is worked on; 0 is half an hour.
	SitePatience time.Duration
	// RetryPause is the first pause before a call to a store is tried again; 0 is
	// the usual one.
	RetryPause time.Duration
	// Account and SSHAgent are what a store's address may leave out: who logs in,
	// and the socket of an agent that holds keys.
	Account, SSHAgent string
	// StateHome is the folder for the state of programs, or empty for the usual one.
	StateHome string
	// Zone is the name of this machine's time zone.
	Zone string
	// Passphrase asks for the words that open a locked key; KeyFile is the key that
	// was given, or empty.
	Passphrase func() (string, error)
	KeyFile    string
	// SignedBy is a key, its fingerprint, or SignedByNobody: archives signed so are taken
	// for this once, though nobody knows the key.
	SignedBy string
	// TrustHosts accepts the SSH keys of the machines of sites that are not known yet.
	TrustHosts bool
	// Sudoer is the account that has become root to do this (sudo(8)), -1 if none has: what only that one and root may change is
	// believed.
	Sudoer int
	// Tell is told what a person should hear of meanwhile.
	Tell func(Event)
	// Words writes a result as text for the history's log.
	Words func(result any) string
	// Remedy says what to do about a kind of alarm.
	Remedy func(kind string) string

	// Beat hears of the work that duties do.
	Beat progress.Beat

	// ---

	Config  *config.Config
	State   *state.State
	History *history.History
	Keys    *encryption.Keys
	// stateGiven is the state folder that was named besides the configuration.
	stateGiven string
	// records are those that were read already.
	records catalog.Cache
	// opened are the stores that were opened so far, by name.
	storesMu sync.Mutex
	opened   map[string]store.Named
	// places are the machines of sites elsewhere, by what leads to them.
	placesMu sync.Mutex
	// together is how many sites elsewhere are worked on at a time just now.
	together atomic.Int64
	// late is how many sites are worked on that the others do not wait for.
	late atomic.Int64
	// turns are those of duties that are taken just now, or were.
	turns  turns
	places map[string]tree.Place
}

// New returns an agent that tells nobody anything, with the clock of this
// machine; its fields can be set before it is used.
func New() *Agent {
	a := &Agent{Disk: &disk.Disk{}, Now: time.Now, Program: "revlet", Drain: DrainTime, Sudoer: -1, Tell: func(Event) {}, Words: func(any) string { return "" }, Remedy: func(string) string { return "" },
		Passphrase: func() (string, error) {
			return "", reason.New(reason.NoPassphrase, nil, "the key is locked with a passphrase")
		}}
	a.UseKey("")
	return a
}

// DrainTime is how long a closed site is given to finish the pages that it is at,
// unless Agent.Drain says otherwise.
const DrainTime = 250 * time.Millisecond

// ReadConfig reads the configuration at path; its warnings are told.
func (a *Agent) ReadConfig(path string) (err error) {
	if a.Config, err = config.Load(path); err != nil {
		return err
	}
	for _, w := range a.Config.Warnings {
		a.Tell(Warning{Text: w})
	}
	if whole, err := filepath.Abs(path); err == nil {
		if name := a.siteAround(whole); name != "" {
			a.Tell(Warning{Text: fmt.Sprintf("the configuration %s lies in a folder of site %s, where anyone could download it; keep it elsewhere", path, name)})
		}
	}
	return nil
}

// ReadConfigIfAny is ReadConfig, but begins an empty configuration when there is
// no file yet.
func (a *Agent) ReadConfigIfAny(path string, exists bool) error {
	if exists {
		return a.ReadConfig(path)
	}
	a.Config = &config.Config{Path: path}
	return nil
}

// OpenState opens the state folder dir, or the configured or usual one, and the
// history in it.
func (a *Agent) OpenState(ctx context.Context, dir string) (err error) {
	a.stateGiven = dir
	if a.State, err = state.Open(a.Disk, a.StateDir(dir), a.Sudoer); err != nil {
		return err
	}
	a.records.Dir, a.records.Disk = a.State.Seen(), a.Disk
	a.History, err = history.Open(ctx, a.State.History())
	return err
}

// StateDir is the state folder: dir, or the configured or usual one.
func (a *Agent) StateDir(dir string) string {
	if dir == "" && a.Config != nil {
		dir = a.Config.State
	}
	return cmp.Or(dir, state.DefaultDir(a.StateHome))
}

// Open reads the configuration, opens the state folder, has the history see the
// clock, and brings restores to an end that were interrupted.
func (a *Agent) Open(ctx context.Context, configPath, stateDir string) error {
	if err := a.ReadConfig(configPath); err != nil {
		return err
	}
	if err := a.OpenState(ctx, stateDir); err != nil {
		return err
	}
	if err := a.settleHistory(ctx); err != nil {
		return err
	}
	for _, name := range a.Config.SiteNames() {
		a.finishInterrupted(ctx, name)
	}
	a.tellOfDeadCutovers()
	return nil
}

// Reload reads the configuration anew, and tells its warnings; a faulty one changes nothing, nor does one that names another
// state folder: what runs keeps its history where it began.
func (a *Agent) Reload() error {
	fresh, err := config.Load(a.Config.Path)
	if err != nil {
		return err
	}
	if a.stateGiven == "" && fresh.State != a.Config.State {
		return fmt.Errorf("`state:` is another folder now, and what runs keeps its history in %s: end it and begin it anew", a.State.Dir)
	}
	for _, w := range fresh.Warnings {
		a.Tell(Warning{Text: w})
	}
	a.EndTurns()
	a.closeStores()
	a.closePlaces()
	a.Config = fresh
	return nil
}

// Close lets go of stores and history.
func (a *Agent) Close() {
	a.closeStores()
	a.closePlaces()
	if a.History != nil {
		_ = a.History.Close()
	}
}

func (a *Agent) closeStores() {
	a.storesMu.Lock()
	defer a.storesMu.Unlock()
	for _, s := range a.opened {
		_ = s.Close()
	}
	a.opened = nil
}

// settleHistory has the history see the clock. One that had to be begun anew is
// filled from the stores as far as they tell.
func (a *Agent) settleHistory(ctx context.Context) error {
	if a.History.SetAside != "" {
		a.Tell(HistoryLost{Fault: a.History.Fault, SetAside: a.History.SetAside})
		for _, name := range a.Config.SiteNames() {
			if _, err := a.List(ctx, name); err != nil {
				a.warn(err)
			}
		}
	}
	if err := a.History.SeeClock(ctx, a.Now()); err != nil {
		return err
	}
	return a.History.Tidy(ctx, a.Now())
}

// SiteConfig finds a configured site by the name that was typed.
func (a *Agent) SiteConfig(name string) (config.Site, error) {
	s, ok := a.Config.Sites[name]
	switch {
	case ok:
		return s, nil
	case len(a.Config.Sites) == 0:
		return s, reason.Because(reason.NoSites, nil, reason.BadUsage("there is no site %q in %s%s", name, a.Config.Path, a.Config.Suggest(name)))
	}
	return s, reason.BadUsage("there is no site %q in %s%s", name, a.Config.Path, a.Config.Suggest(name))
}

// SitesNamed returns the sites of these names, or all when there are none.
func (a *Agent) SitesNamed(names []string) ([]string, error) {
	if len(names) == 0 {
		return a.Config.SiteNames(), nil
	}
	var all []string
	for _, name := range names {
		if strings.ContainsAny(name, "*?[") {
			found, err := a.sitesLike(name)
			if err != nil {
				return nil, err
			}
			all = append(all, found...)
			continue
		}
		if _, err := a.SiteConfig(name); err != nil {
			return nil, err
		}
		all = append(all, name)
	}
	seen := map[string]bool{}
	return slices.DeleteFunc(all, func(name string) bool {
		before := seen[name]
		seen[name] = true
		return before
	}), nil
}

// sitesLike are the sites whose names match a pattern, such as client-*.
func (a *Agent) sitesLike(pattern string) (all []string, err error) {
	for _, name := range a.Config.SiteNames() {
		ok, err := path.Match(pattern, name)
		if err != nil {
			return nil, reason.BadUsage("%q is no pattern of names; one is such as client-*", pattern)
		}
		if ok {
			all = append(all, name)
		}
	}
	if len(all) == 0 {
		return nil, reason.BadUsage("no site in %s is called like %q", a.Config.Path, pattern)
	}
	return all, nil
}

// Stores opens the stores of a site.
func (a *Agent) Stores(s config.Site) []store.Named {
	var all []store.Named
	for _, name := range s.Stores {
		all = append(all, a.Store(name))
	}
	return all
}

// Store opens one store, once. One that cannot be opened answers every call
// with the reason, like one that is down.
func (a *Agent) Store(name string) store.Named {
	a.storesMu.Lock()
	defer a.storesMu.Unlock()
	if s, ok := a.opened[name]; ok {
		return s
	}
	if a.opened == nil {
		a.opened = map[string]store.Named{}
	}
	s, err := a.Opener().Open(name, a.Config.Stores[name])
	if err != nil {
		s = store.Named{Name: name, Store: store.Unusable{Err: err, Address: a.Config.Stores[name].Kind()}}
	} else {
		s = marked.Wrap(s, a.State.Stores())
	}
	a.opened[name] = s
	return s
}

// Opener makes stores of configuration entries.
func (a *Agent) Opener() *opener.Opener {
	return &opener.Opener{Disk: a.Disk, KnownHosts: a.State.KnownHosts(), Links: a.State.Links(), RetryPause: a.RetryPause, By: []int{a.Sudoer}, Account: a.Account, SSHAgent: a.SSHAgent, Alive: func() { a.Beat.Advance(0) }}
}

func (a *Agent) openSource(ctx context.Context, db site.Database, scratch string) (database.Source, error) {
	db, err := a.placed(db)
	if err != nil {
		return nil, err
	}
	return engine.Source(ctx, a.Disk, db, scratch)
}

func (a *Agent) openTarget(ctx context.Context, db site.Database, mode sqlite.FileMode, beside string) (database.Target, error) {
	db, err := a.placed(db)
	if err != nil {
		return nil, err
	}
	return engine.Target(ctx, a.Disk, db, mode, beside)
}

// warn tells of something that went wrong and fails nothing.
func (a *Agent) warn(err error) { a.Tell(Warning{Err: err}) }

func (a *Agent) warnf(format string, args ...any) { a.warn(fmt.Errorf(format, args...)) }

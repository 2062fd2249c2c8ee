package jobs

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/store"
)

// FoundSite is a site whose archives were found in a store.
type FoundSite struct {
	Site     string `json:"site"`
	Archives int    `json:"archives"`
	Newest   string `json:"newest"`
	Root     string `json:"root"`
	Address  string `json:"address"`
	// Known tells that the configuration has a site of this name already.
	Known bool `json:"known"`
	// Sealed tells that only the key says what the site is.
	Sealed bool `json:"sealed"`
	// Encrypted tells that the newest archive is encrypted.
	Encrypted bool `json:"encrypted"`
	// Signers are the keys that have signed archives of it; Unsigned counts those that
	// nobody has.
	Signers  []FoundSigner `json:"signers"`
	Unsigned int           `json:"unsigned"`
	// Refused is a path of it that no site can have, so that it is not written into the
	// configuration; empty as a rule.
	Refused string `json:"refused,omitempty"`
	// Entry describes the site for the configuration.
	Entry config.Site `json:"-"`
}

// FoundSigner is a key that has signed archives which were found.
type FoundSigner struct {
	Fingerprint string `json:"fingerprint"`
	// Host is what the machine called itself; only its own word for it.
	Host     string `json:"host"`
	Archives int    `json:"archives"`
	// Missing counts archives in between that are not there: removed, or withheld.
	Missing int64 `json:"missing"`
}

// signersFound says who has signed what was found; their keys are pinned.
func (f *FoundSite) signersFound(l *catalog.Listing) (pinned []string) {
	f.Signers, f.Unsigned = []FoundSigner{}, len(l.Archives)
	for _, row := range l.Rows() {
		f.Signers = append(f.Signers, FoundSigner{row.Signer.Fingerprint(), row.Host, row.Archives, row.Missing})
		f.Unsigned -= row.Archives
		pinned = append(pinned, string(row.Signer))
	}
	return pinned
}

// sitesIn finds the sites in a store. When there are none, it looks one folder
// deeper, and above, for copies are often nested by one.
func (a *Agent) sitesIn(ctx context.Context, s store.Named) (found *Discovered, deeper string, err error) {
	found = &Discovered{Name: s.Name, Where: s.Where()}
	names, err := s.Folders(ctx, "")
	if err != nil {
		return nil, "", fmt.Errorf("store %s: %w", s.Name, err)
	}
	if slices.Contains(names, "archives") && slices.Contains(names, "parts") {
		return nil, "", reason.BadUsage("%s is the folder of one site; give the folder above it", s.Where())
	}
	slices.Sort(names)
	for _, name := range names {
		if !config.ValidName(name) {
			continue
		}
		l, err := catalog.List(ctx, []store.Named{s}, name, catalog.Options{Keys: a.Keys, Cache: &a.records})
		if err != nil {
			return nil, "", err
		}
		found.Trouble = append(found.Trouble, troubles(l.Broken)...)
		if len(l.Archives) > 0 {
			one, err := a.describeFound(name, l)
			if err != nil {
				return nil, "", err
			}
			found.Sites = append(found.Sites, one)
		}
		if len(l.Archives)+len(l.Broken) > 0 {
			continue
		}
		inner, err := s.Folders(ctx, name)
		if err != nil {
			return nil, "", fmt.Errorf("store %s: %w", s.Name, err)
		}
		for _, sub := range inner {
			if l, err := catalog.List(ctx, []store.Named{s}, path.Join(name, sub), catalog.Options{}); err == nil && len(l.Archives)+len(l.Broken) > 0 {
				deeper = name
			}
		}
	}
	return found, deeper, nil
}

// describeFound makes a configuration entry of the newest archive's origin; what somebody has packed by hand says little of it.
func (a *Agent) describeFound(name string, l *catalog.Listing) (FoundSite, error) {
	at := slices.IndexFunc(l.Archives, func(h catalog.Held) bool { return h.Signer() != "" && !h.Scope.ByHand() })
	if at < 0 {
		at = slices.IndexFunc(l.Archives, func(h catalog.Held) bool { return h.Signer() != "" })
	}
	h := l.Archives[max(0, at)]
	f := FoundSite{Site: name, Archives: len(l.Archives), Newest: h.Name, Encrypted: h.Encrypted}
	pinned := f.signersFound(l)
	_, f.Known = a.Config.Sites[name]
	if err := h.Unseal(a.Keys); err != nil {
		f.Sealed = true
		return f, nil
	}
	o := h.Origin
	for _, older := range l.Archives { // a database archive does not say where files go
		if o.Roots == nil && older.Unseal(a.Keys) == nil {
			o.Roots, o.Place = older.Origin.Roots, older.Origin.Place
		}
	}
	f.Root, f.Address = o.Roots[site.RootLabel], o.Address
	if f.Root != "" {
		f.Root = o.Place + f.Root
	}
	f.Entry = config.Site{Root: f.Root, Address: o.Address, Recipe: o.Recipe, Skip: o.Skipped, SignedBy: pinned}
	if o.Recipe == "" {
		f.Entry.Recipe = "none"
		f.Entry.Databases = describedDatabases(o)
	}
	for label, dir := range o.Roots {
		if label != site.RootLabel && label != site.AboveLabel {
			if f.Entry.Roots == nil {
				f.Entry.Roots = map[string]string{}
			}
			f.Entry.Roots[label] = dir
		}
	}
	if o.Address != "" {
		f.Entry.Check = &config.Check{Path: "/", Status: 200}
	}
	if f.Root != "" {
		f.Refused = systemPlace(f.Entry)
	}
	return f, nil
}

// describedDatabases are the databases of a site that no recipe knows, but for
// their passwords, which no archive holds.
func describedDatabases(o archive.Origin) map[string]config.Database {
	all := map[string]config.Database{}
	for label, db := range o.Databases {
		switch db.Engine {
		case "mysql":
			all[label] = config.Database{MySQL: db.Where}
		case "postgres":
			all[label] = config.Database{Postgres: db.Where}
		default:
			all[label] = config.Database{SQLite: db.Where}
		}
	}
	return all
}

// discovered are the entries for what was found that the configuration lacks.
func (a *Agent) discovered(d Discovery, sites []FoundSite) (stores map[string]config.Store, entries map[string]config.Site) {
	stores, entries = map[string]config.Store{}, map[string]config.Site{}
	if _, inConfig := a.Config.Stores[d.Name]; !inConfig {
		stores[d.Name] = d.Store
	}
	for _, f := range sites {
		if !f.Known && !f.Sealed && f.Root != "" && f.Refused == "" {
			f.Entry.Stores = []string{d.Name}
			entries[f.Site] = f.Entry
		}
	}
	return stores, entries
}

func (a *Agent) writeDiscovered(stores map[string]config.Store, entries map[string]config.Site, sites []FoundSite) error {
	if len(stores)+len(entries) > 0 {
		if err := a.noteUnconfirmed(entries); err != nil {
			return err
		}
		if _, err := config.Add(a.Disk, a.Config.Path, stores, entries); err != nil {
			return err
		}
	}
	if to := a.recipientsFor(sites); len(to) > 0 {
		return config.AddEncrypt(a.Disk, a.Config.Path, to, "")
	}
	return nil
}

// recipientsFor are those whom new archives are to be encrypted for, because what was
// found is: the owners of the key that was given. Nobody where the configuration says.
func (a *Agent) recipientsFor(sites []FoundSite) []string {
	if a.Config.Encrypt != nil || !slices.ContainsFunc(sites, func(f FoundSite) bool { return f.Encrypted && !f.Sealed }) {
		return nil
	}
	return a.Publics()
}

// exportsIn are portable files that lie in a folder store.
func exportsIn(cfg config.Store) []string {
	var found []string
	for _, pattern := range []string{"*.zip", "*.tar", "*.tar.zst", "*.zip.001", "*.tar.001", "*.tar.zst.001"} {
		if cfg.Folder == "" {
			break
		}
		matches, _ := filepath.Glob(filepath.Join(cfg.Folder, pattern)) // the patterns are sound
		found = append(found, matches...)
	}
	return found
}

// Publics are the recipients of the key that was given, as text; none when it cannot
// be read.
func (a *Agent) Publics() []string {
	ids, err := a.identities()
	if err != nil {
		return nil
	}
	return encryption.Publics(ids)
}

// Discovery is a store to look into that this machine has never seen.
type Discovery struct {
	// Name is what to call it, Store its entry in the configuration.
	Name  string
	Store config.Store
	// Secret is a password that was typed: where something is written, it is kept in a file of its own beside the
	// configuration. Empty is none.
	Secret string
	// Trust accepts the key of an SSH machine that is not known yet.
	Trust bool
	// Write puts the store and its sites into the configuration.
	Write bool
}

// Discovered is what a store holds.
type Discovered struct {
	Name, Where string
	Sites       []FoundSite
	// Added is what was, or would be, written into the configuration.
	Added string
	// EncryptTo are the recipients that new archives are encrypted for from now on,
	// because those that were found are; none where nothing had to be added.
	EncryptTo []string
	// Exports are portable files that lie there.
	Exports []string
	// Trouble are records that are there and cannot be read.
	Trouble []Trouble
	// SecretFile is where a typed password is, if it was kept.
	SecretFile string
}

// Verdict is what to think of the records that are there.
func (d *Discovered) Verdict() catalog.Verdict { return worst(d.Trouble) }

// Discover finds the sites whose archives are in a store.
func (a *Agent) Discover(ctx context.Context, d Discovery) (found *Discovered, err error) {
	kept, undo := &StoreAdded{}, func() {}
	if d.Secret != "" {
		n := NewStore{Name: d.Name, Entry: d.Store, Secret: d.Secret}
		if undo, err = a.prepareStore(&n, kept); err != nil {
			return nil, err
		}
		d.Store = n.Entry
	}
	found, err = a.discover(ctx, d)
	if err != nil || !d.Write || len(found.Sites) == 0 {
		undo() // nothing names that file
	} else {
		found.SecretFile = kept.SecretFile
	}
	return found, err
}

func (a *Agent) discover(ctx context.Context, d Discovery) (*Discovered, error) {
	o := a.Opener()
	o.Trust, o.Trusted = d.Trust, a.trusted
	s, err := o.Open(d.Name, d.Store)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	found, deeper, err := a.sitesIn(ctx, s)
	if err != nil {
		return nil, err
	}
	sites := found.Sites
	if len(sites) == 0 && deeper != "" {
		return nil, reason.BadUsage("no archives are in %s itself, but some are in its folder %q; give that as the address", s.Where(), deeper)
	}
	encryptTo := a.recipientsFor(sites)
	stores, entries := a.discovered(d, sites)
	added, err := config.Text(stores, entries)
	if err == nil && d.Write && len(sites) > 0 {
		err = a.writeDiscovered(stores, entries, sites)
	}
	if err != nil {
		return nil, err
	}
	found.Added, found.EncryptTo, found.Exports = added, encryptTo, exportsIn(d.Store)
	return found, nil
}

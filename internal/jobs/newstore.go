package jobs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/store/link"
	"revlet/internal/work/backup"
)

// NewStore is a store that is to be written into the configuration.
type NewStore struct {
	Name  string
	Entry config.Store
	// Secret is a password that was typed: it is kept in a file of its own beside the configuration. Empty is none.
	Secret string
	// Trust accepts the key of an SSH machine that is not known yet.
	Trust bool
	// Asked hears of the page on which somebody is to say yes, for an entry that says `link:`.
	Asked func(*link.Consent)
}

// StoreAdded is what became of it.
type StoreAdded struct {
	Test StoreTest `json:"test"`
	// Added is what was written into the configuration; empty when the store does not work.
	Added string `json:"added"`
	// SecretFile is where the typed password is.
	SecretFile string `json:"secret_file,omitempty"`
}

// AddStore tries a store and, when it works, writes it into the configuration. Nothing is left of one that does not.
func (a *Agent) AddStore(ctx context.Context, n NewStore) (*StoreAdded, error) {
	if err := a.FreeStoreName(n.Name); err != nil {
		return nil, err
	}
	done := &StoreAdded{}
	undo, err := a.prepareStore(&n, done)
	if err != nil {
		return nil, err
	}
	works := false
	defer func() {
		if !works {
			undo()
		}
	}()
	entry := n.Entry
	if err := entry.Settle(filepath.Dir(a.Config.Path)); err != nil {
		return nil, reason.BadUsage("%w", err)
	}
	if entry.Link != nil {
		if err := a.linkUp(ctx, n.Name, entry, n.Asked); err != nil {
			return nil, err
		}
	}
	if done.Test, err = a.testEntry(ctx, n.Name, entry, n.Trust, false); err != nil || !done.Test.OK {
		done.SecretFile = ""
		if reason.Is(done.Test.Err, reason.HostUnknown) { // it is in no configuration yet
			done.Test.Err = reason.Because(reason.NewSiteHostUnknown, nil, hideReason{done.Test.Err})
		}
		return done, err
	}
	if done.Added, err = config.Add(a.Disk, a.Config.Path, map[string]config.Store{n.Name: n.Entry}, nil); err != nil {
		return nil, err
	}
	works = true
	return done, a.Reload()
}

// FreeStoreName refuses a name that a new store cannot have.
func (a *Agent) FreeStoreName(name string) error {
	if _, taken := a.Config.Stores[name]; taken || !config.ValidName(name) {
		return reason.Because(reason.NameTaken, nil, reason.BadUsage("%q cannot be the name of a new store: it is taken, or not of small letters, digits and dashes", name))
	}
	return nil
}

// UseStore has the archives of sites go to a store as well, from now on.
func (a *Agent) UseStore(name string, sites []string) error {
	if err := config.UseStore(a.Disk, a.Config.Path, name, sites); err != nil {
		return err
	}
	return a.Reload()
}

// siteAround names a configured site on this machine in one of whose folders a path lies, if there is one.
func (a *Agent) siteAround(path string) string {
	for _, name := range a.Config.SiteNames() {
		cfg := a.Config.Sites[name]
		if err := backup.Exposed(path, &site.Site{Name: name, Root: cfg.Root, Roots: cfg.Roots}, nil); err != nil && !cfg.Far() {
			return name
		}
	}
	return ""
}

// NotInSites refuses a place for a file that is not meant for everybody: one in a folder of a configured site on this machine.
func (a *Agent) NotInSites(file string) error {
	whole, err := filepath.Abs(file)
	if err != nil || a.Config == nil {
		return err
	}
	if name := a.siteAround(whole); name != "" {
		return reason.New(reason.FileInWebroot, reason.Names{"path": file}, "%s is not written: it would lie in a folder of site %s, where anyone could download it", file, name)
	}
	return nil
}

// prepareStore makes what the entry names: a folder, and a file for a typed password. undo removes what was made.
func (a *Agent) prepareStore(n *NewStore, done *StoreAdded) (undo func(), err error) {
	var made []string
	undo = func() {
		for _, name := range slices.Backward(made) {
			_ = a.Disk.Remove(name) // a folder goes only if nothing is in it
		}
		if n.Entry.Link != nil {
			if l, err := a.Opener().Link(n.Name, n.Entry); err == nil {
				_ = l.Forget()
			}
		}
	}
	if dir := n.Entry.Folder; dir != "" {
		if name := a.siteAround(dir); name != "" {
			return nil, reason.New(reason.StoreInWebroot, nil, "the store %s may not be there: it lies in a folder of site %s, where anyone could download it, or where it would be archived with it", dir, name)
		}
		if there, err := a.Disk.Exists(dir); err != nil {
			return nil, err
		} else if !there {
			if err := a.Disk.MkdirAll(dir, 0o700); err != nil {
				return nil, fmt.Errorf("make the store folder: %w", err)
			}
			made = append(made, dir)
		}
	}
	if n.Secret == "" {
		return undo, nil
	}
	file := filepath.Join(filepath.Dir(a.Config.Path), n.Name+".password")
	if err := a.Disk.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	f, err := a.Disk.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil, reason.BadUsage("the password would be kept in %s, and that is there already; move it away, or name it as the file of the password", file)
	}
	if err != nil {
		return nil, fmt.Errorf("keep the password: %w", err)
	}
	made = append(made, file)
	_, err = f.Write([]byte(n.Secret + "\n"))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		undo()
		return nil, fmt.Errorf("keep the password: %w", err)
	}
	done.SecretFile = file
	if n.Entry.Kind() == "s3" || n.Entry.Kind() == "plain_s3" {
		n.Entry.SecretFile = file
	} else {
		n.Entry.PasswordFile = file
	}
	return undo, nil
}

// linkUp asks for consent to use a store, and waits until it is given.
func (a *Agent) linkUp(ctx context.Context, name string, entry config.Store, asked func(*link.Consent)) error {
	if entry.Link == nil {
		return reason.BadUsage("store %s says nothing of `link:` in the configuration; docs/STORES.md shows which stores can be linked", name)
	}
	l, err := a.Opener().Link(name, entry)
	if err != nil {
		return err
	}
	c, err := l.Ask(ctx)
	if err != nil {
		return err
	}
	asked(c)
	return l.Wait(ctx, c)
}

// LinkStore links a store of the configuration, and tries it.
func (a *Agent) LinkStore(ctx context.Context, name string, asked func(*link.Consent)) (StoreTest, error) {
	if err := a.KnownStore(name); err != nil {
		return StoreTest{}, err
	}
	if err := a.linkUp(ctx, name, a.Config.Stores[name], asked); err != nil {
		return StoreTest{}, err
	}
	return a.TestStore(ctx, name, false, false, false)
}

// UnlinkStore takes a link back; told is whether whoever gave it has been told.
func (a *Agent) UnlinkStore(ctx context.Context, name string) (told bool, err error) {
	if err := a.KnownStore(name); err != nil {
		return false, err
	}
	entry := a.Config.Stores[name]
	if entry.Link == nil {
		return false, reason.BadUsage("store %s is not linked: its entry has no `link:`", name)
	}
	l, err := a.Opener().Link(name, entry)
	if err != nil {
		return false, err
	}
	return l.End(ctx)
}

package jobs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"filippo.io/age"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/reason"
	"revlet/internal/work/backup"
)

// recipients are those whom new archives are encrypted for.
type recipients struct {
	all    encryption.Recipients
	names  []string
	locked []byte
}

func (a *Agent) recipients() (recipients, error) {
	e := a.Config.Encrypt
	if e == nil {
		return recipients{}, nil
	}
	all, err := encryption.ParseRecipients(e.To)
	if err != nil {
		return recipients{}, err
	}
	to := recipients{all: all, names: e.To}
	if e.PassphraseKey == "" {
		return to, nil
	}
	if to.locked, err = os.ReadFile(e.PassphraseKey); err != nil {
		return to, fmt.Errorf("`passphrase_key:`: %w", err)
	}
	if !encryption.Locked(to.locked) {
		return to, reason.BadUsage("`passphrase_key: %s` is not locked with a passphrase: a copy of it in the stores would open every archive to anyone", e.PassphraseKey)
	}
	return to, nil
}

// untriedKey tells whether archives are encrypted for a key that was never seen
// to open one.
func (a *Agent) untriedKey(ctx context.Context) (bool, error) {
	if a.Config.Encrypt == nil {
		return false, nil
	}
	tried, err := a.History.IsKeyChecked(ctx, a.Config.Encrypt.To)
	return !tried, err
}

// identities reads the key file, or opens the locked key that lies in a store
// with a passphrase.
func (a *Agent) identities() ([]age.Identity, error) {
	if a.KeyFile != "" {
		return encryption.ReadKeyFile(a.KeyFile, a.Passphrase)
	}
	for _, name := range a.Config.SiteNames() {
		for _, s := range a.Stores(a.Config.Sites[name]) {
			locked, err := backup.Keys(context.Background(), s)
			if err == nil && len(locked) > 0 {
				return a.unlock(locked)
			}
		}
	}
	return nil, encryption.ErrNoKey
}

// unlock opens the locked keys that a passphrase opens; it is asked for once.
func (a *Agent) unlock(locked [][]byte) (all []age.Identity, err error) {
	words, err := a.Passphrase()
	if err != nil {
		return nil, err
	}
	var failed error
	for _, data := range locked {
		ids, err := encryption.ParseKey(data, func() (string, error) { return words, nil })
		failed = errors.Join(failed, err)
		all = append(all, ids...)
	}
	if len(all) == 0 {
		return nil, failed
	}
	return all, nil
}

// KeyCheck is what a key did with one site.
type KeyCheck struct {
	Site    string `json:"site"`
	Archive string `json:"archive"`
	Opens   bool   `json:"opens"`
	Why     string `json:"why,omitempty"`
}

// UseKey sets the key file that was given, or none. Nothing is read or asked until
// a key is needed.
func (a *Agent) UseKey(file string) {
	a.KeyFile = file
	a.Keys = &encryption.Keys{Find: a.identities, Ready: file != ""}
}

// KeyChecks is what a key did with every site.
type KeyChecks struct {
	// Named tells that new archives are encrypted for it.
	Named    bool
	Archives []KeyCheck
	// Opens tells that it opened all of them.
	Opens bool
}

// CheckKey tries the key in a file on the newest encrypted archive of each site; one
// that opens something is remembered as tried.
func (a *Agent) CheckKey(ctx context.Context, file string) (*KeyChecks, error) {
	ids, err := encryption.ReadKeyFile(file, a.Passphrase)
	if err != nil {
		return nil, err
	}
	keys := encryption.NewKeys(ids...)
	result := &KeyChecks{Opens: true}
	proved := false
	for _, name := range a.Config.SiteNames() {
		l, err := catalog.List(ctx, a.Stores(a.Config.Sites[name]), name, catalog.Options{Cache: &a.records})
		if err != nil {
			return nil, err
		}
		k, err := triedOn(ctx, name, l, keys)
		if err != nil {
			return nil, err
		}
		if k != nil {
			proved, result.Opens = proved || k.Opens, result.Opens && k.Opens
			result.Archives = append(result.Archives, *k)
		}
	}
	publics := encryption.Publics(ids)
	result.Named = a.Config.Encrypt != nil && slices.ContainsFunc(publics, func(p string) bool { return slices.Contains(a.Config.Encrypt.To, p) })
	if proved {
		for _, public := range publics {
			if err := a.History.KeyChecked(ctx, public, a.Now()); err != nil {
				return nil, err
			}
		}
	}
	return result, nil
}

// triedOn tries keys on the newest encrypted archive of a site that can be read; nil if there is no encrypted one.
// That an archive is damaged, or is not reached, says nothing of a key.
func triedOn(ctx context.Context, name string, l *catalog.Listing, keys *encryption.Keys) (*KeyCheck, error) {
	var untried error
	for i := range l.Archives {
		h := &l.Archives[i]
		if !h.Encrypted {
			continue
		}
		h.Keys = keys
		err := errors.Join(h.Unseal(keys), h.ReadList(ctx, func(archive.Entry) error { return nil }))
		switch {
		case err == nil:
			return &KeyCheck{Site: name, Archive: h.Name, Opens: true}, nil
		case errors.Is(err, encryption.ErrNoKey), errors.Is(err, encryption.ErrWrongKey):
			return &KeyCheck{Site: name, Archive: h.Name, Why: strings.SplitN(err.Error(), "\n", 2)[0]}, nil
		case ctx.Err() != nil:
			return nil, ctx.Err()
		}
		if untried == nil {
			untried = fmt.Errorf("the key could not be tried on %s: %w", h.Name, err)
		}
	}
	return nil, untried
}

// EncryptFor has new archives encrypted for a recipient, which the configuration says from now on; passphraseKey is
// the file of its locked key, or empty.
func (a *Agent) EncryptFor(recipient, passphraseKey string) error {
	if err := config.AddEncrypt(a.Disk, a.Config.Path, []string{recipient}, passphraseKey); err != nil {
		return err
	}
	return a.Reload()
}

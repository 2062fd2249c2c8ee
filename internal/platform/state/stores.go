package state

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
)

// Stores remembers the identities of stores by their address, each in a file of its
// own. It is safe for concurrent use, by several processes too.
type Stores struct{ s *State }

// Stores returns what is remembered of stores.
func (s *State) Stores() *Stores { return &Stores{s} }

// remembered is what is kept of one store.
type remembered struct {
	Where string `json:"where"`
	ID    string `json:"id"`
}

func (m *Stores) file(where string) string {
	sum := sha256.Sum256([]byte(where))
	return filepath.Join(m.s.Dir, "stores", hex.EncodeToString(sum[:8])+".json")
}

// Known returns the identity of the store at an address, or nothing.
func (m *Stores) Known(where string) (string, error) {
	r := remembered{}
	_, err := m.s.ReadNote(m.file(where), &r, "which store is at "+where)
	return r.ID, err
}

// Remember keeps the identity of the store at an address; an empty one forgets it.
func (m *Stores) Remember(where, id string) error {
	if id == "" {
		if err := m.s.Disk.Remove(m.file(where)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("forget store %s: %w", where, err)
		}
		return nil
	}
	data, err := json.MarshalIndent(remembered{where, id}, "", "  ")
	if err == nil {
		err = m.s.Disk.MkdirAll(filepath.Dir(m.file(where)), 0o700)
	}
	if err == nil {
		err = m.s.Disk.WriteFile(m.file(where), append(data, '\n'), 0o600)
	}
	if err != nil {
		return fmt.Errorf("remember store %s: %w", where, err)
	}
	return nil
}

package state

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"
)

// Stores remembers the identities of stores by their address, in a file of the state
// folder.
type Stores struct {
	mu sync.Mutex
	s  *State
}

// Stores returns what is remembered of stores.
func (s *State) Stores() *Stores { return &Stores{s: s} }

func (m *Stores) file() string { return filepath.Join(m.s.Dir, "stores.json") }

func (m *Stores) read() (map[string]string, error) {
	data, err := m.s.Disk.ReadFile(m.file())
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]string{}, nil
	}
	all := map[string]string{}
	if err == nil {
		err = json.Unmarshal(data, &all)
	}
	if err != nil {
		return nil, fmt.Errorf("read what is remembered of stores: %s: %w", m.file(), err)
	}
	return all, nil
}

// Known returns the identity of the store at an address, or nothing.
func (m *Stores) Known(where string) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	all, err := m.read()
	return all[where], err
}

// Remember keeps the identity of the store at an address; an empty one forgets it.
func (m *Stores) Remember(where, id string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	all, err := m.read()
	if err != nil {
		return err
	}
	if all[where] = id; id == "" {
		delete(all, where)
	}
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return m.s.Disk.WriteFile(m.file(), append(data, '\n'), 0o600)
}

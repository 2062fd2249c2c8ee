package state

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"revlet/internal/platform/reason"
)

// ReadNote reads a small file of the state folder into v, as JSON, and tells whether there
// is one; without one, v stays as it is. what says in an error what was wanted.
func (s *State) ReadNote(file string, v any, what string) (there bool, err error) {
	data, err := s.Disk.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("read %s: %w", what, err)
	}
	if err := json.Unmarshal(data, v); err != nil {
		return false, Damaged(file, "says "+what, err)
	}
	return true, nil
}

// Damaged is an error about a file of the state folder that is there and cannot be understood.
// It is not taken for one that is not there: what it remembers may be what keeps somebody out.
func Damaged(file, holds string, err error) error {
	return reason.New(reason.StateDamaged, reason.Names{"path": file}, "the file %s, which %s, is damaged: %w", file, holds, err)
}

// WriteNote writes what ReadNote reads, whole or not at all, for this account only.
func (s *State) WriteNote(file string, v any, what string) error {
	data, err := json.Marshal(v)
	if err == nil {
		err = s.Disk.MkdirAll(filepath.Dir(file), 0o700)
	}
	if err == nil {
		err = s.Disk.WriteFile(file, data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("remember %s: %w", what, err)
	}
	return nil
}

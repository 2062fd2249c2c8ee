package disk

import (
	"errors"
	"fmt"
	"path/filepath"
	"syscall"

	"revlet/internal/platform/reason"
)

// Locked refuses names that are locked against changes, as by `chattr +i`: neither they nor, of a folder,
// what is in it can be renamed or replaced, not even by root. Names that are not there are not locked.
func (d *Disk) Locked(names ...string) error {
	for _, name := range names {
		if locked(name) {
			return reason.New(reason.Locked, reason.Names{"path": name}, "%s is locked against changes (chattr +i, +a)", name)
		}
	}
	return nil
}

// sayLocked explains why renaming names of folders was not permitted, if that is why.
func sayLocked(err error, names ...string) error {
	if !errors.Is(err, syscall.EPERM) {
		return err
	}
	for _, name := range names {
		for _, one := range []string{name, filepath.Dir(name)} {
			if locked(one) {
				return reason.Because(reason.Locked, reason.Names{"path": one}, fmt.Errorf("%w: %s is locked against changes (chattr +i, +a)", err, one))
			}
		}
	}
	return err
}

package disk

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"
)

// Attributes is what a Unix file system says of a name beside what fs.FileInfo does.
type Attributes struct {
	Dev, Ino, Links uint64
	UID, GID        int
	// Changed is when the content or the attributes changed last (ctime).
	Changed time.Time
	// Blocks is the space that it takes, in units of 512 bytes.
	Blocks int64
}

// Info is what lstat says of a name, or why it says nothing.
type Info struct {
	fs.FileInfo
	Err error
}

// OnlyRoots tells whether nobody but root can rename or replace what root makes in a
// folder, nor the folder itself, nor one above it.
func OnlyRoots(dir string) bool { return OnlyOf(dir, 0) }

// OnlyOf is OnlyRoots for root and other accounts, by their numbers.
func OnlyOf(dir string, accounts ...int) bool {
	for at := dir; ; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		if err != nil || !info.IsDir() {
			return false
		}
		a, ok := AttributesOf(info)
		others := info.Mode().Perm()&0o002 != 0 || info.Mode().Perm()&0o020 != 0 && ok && (a.GID != 0 || hasACL(at))
		if !ok || a.UID != 0 && !slices.Contains(accounts, a.UID) || others && info.Mode()&fs.ModeSticky == 0 {
			return false
		}
		if at == filepath.Dir(at) {
			return true
		}
	}
}

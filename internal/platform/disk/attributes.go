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

// FileOnlyOf tells whether nobody but root and other accounts, by their numbers, can write to what info describes, a file or a
// folder at path. A group may that is root's, or that has the owner's number: the one that many systems make for each account.
func FileOnlyOf(path string, info fs.FileInfo, accounts ...int) bool {
	a, ok := AttributesOf(info)
	if !ok || a.UID != 0 && !slices.Contains(accounts, a.UID) {
		return false
	}
	perm := info.Mode().Perm()
	return perm&0o002 == 0 && (perm&0o020 == 0 || (a.GID == 0 || a.GID == a.UID) && !hasACL(path))
}

// OnlyOf is OnlyRoots for root and other accounts, by their numbers. A link on the way has to be one of theirs, and what it
// leads to, too.
func OnlyOf(dir string, accounts ...int) bool {
	for at := dir; ; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		if err != nil {
			return false
		}
		a, ok := AttributesOf(info)
		if !ok || a.UID != 0 && !slices.Contains(accounts, a.UID) {
			return false
		}
		perm := info.Mode().Perm()
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			if real, err := filepath.EvalSymlinks(at); err != nil || !OnlyOf(real, accounts...) {
				return false
			}
		case !info.IsDir():
			return false
		case info.Mode()&fs.ModeSticky == 0 && (perm&0o002 != 0 || perm&0o020 != 0 && (a.GID != 0 || hasACL(at))):
			return false
		}
		if at == filepath.Dir(at) {
			return true
		}
	}
}

//go:build unix

package disk

import (
	"io/fs"
	"syscall"
	"time"
)

// Inode is the number of what lstat has told of, which no other name on the file system has
// as long as it is there.
func (d *Disk) Inode(_ string, info fs.FileInfo) (uint64, error) {
	a, _ := AttributesOf(info)
	return a.Ino, nil
}

// AttributesOf returns the attributes of what os.Lstat has given, or one of this package's
// methods. It is false for anything else, and on systems that have none.
func AttributesOf(info fs.FileInfo) (Attributes, bool) {
	if info == nil {
		return Attributes{}, false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return Attributes{}, false
	}
	return Attributes{Dev: uint64(st.Dev), Ino: st.Ino, Links: uint64(st.Nlink), UID: int(st.Uid), GID: int(st.Gid), Changed: time.Unix(changed(st).Unix()), Blocks: st.Blocks}, true
}

package disk

import (
	"io/fs"

	"golang.org/x/sys/windows"
)

// AttributesOf is false: there are none here.
func AttributesOf(fs.FileInfo) (Attributes, bool) { return Attributes{}, false }

// Inode is the number of what lstat has told of, which no other name on the file system has
// as long as it is there.
func (d *Disk) Inode(name string, _ fs.FileInfo) (uint64, error) {
	at, err := windows.UTF16PtrFromString(longPath(name))
	if err != nil {
		return 0, err
	}
	h, err := windows.CreateFile(at, 0, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil, windows.OPEN_EXISTING,
		windows.FILE_FLAG_BACKUP_SEMANTICS|windows.FILE_FLAG_OPEN_REPARSE_POINT, 0)
	if err != nil {
		return 0, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	defer func() { _ = windows.CloseHandle(h) }()
	var of windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(h, &of); err != nil {
		return 0, &fs.PathError{Op: "stat", Path: name, Err: err}
	}
	return uint64(of.FileIndexHigh)<<32 | uint64(of.FileIndexLow), nil
}

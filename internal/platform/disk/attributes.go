package disk

import (
	"io/fs"
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

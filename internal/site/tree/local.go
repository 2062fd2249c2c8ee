package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pkg/xattr"

	"revlet/internal/platform/disk"
)

// local is this machine.
type local struct {
	disk   *disk.Disk
	owners *owners
}

// Local is this machine as a place. A disk that is nil is one without faults.
func Local(d *disk.Disk) Place {
	if d == nil {
		d = &disk.Disk{}
	}
	return local{d, &owners{users: map[int]string{}, groups: map[int]string{}}}
}

// Base implements Place.
func (local) Base() string { return "" }

// Close implements Place.
func (local) Close() error { return nil }

// Now implements Place.
func (local) Now(context.Context) (time.Time, bool) { return time.Now(), true }

// Dial implements Place.
func (local) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

// Folder implements Place.
func (l local) Folder(_ context.Context, dir string) (Folder, error) {
	info, err := l.disk.Stat(dir)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: ErrNoFolder}
	}
	confined, done, err := l.disk.Confined(dir)
	if err != nil {
		return nil, err
	}
	return &localFolder{l, confined, filepath.Clean(dir), done}, nil
}

// Absolute implements Place.
func (l local) Absolute(_ context.Context, dir string) (string, error) {
	real, err := disk.Way(dir)
	if err == nil {
		_, err = l.disk.Lstat(real)
	}
	return real, err
}

// Anywhere implements Place.
func (l local) Anywhere(context.Context) Folder { return &localFolder{l, l.disk, "", func() {}} }

// localFolder is a folder on this machine; without dir, names are absolute paths.
type localFolder struct {
	local
	disk *disk.Disk
	dir  string
	done func()
}

// Path is a name's path on this machine.
func (f *localFolder) Path(name string) string {
	switch {
	case f.dir == "":
		return name
	case name == "." || name == "":
		return f.dir
	}
	return strings.TrimSuffix(f.dir, string(filepath.Separator)) + string(filepath.Separator) + filepath.FromSlash(name)
}

// Close implements Folder.
func (f *localFolder) Close() error {
	f.done()
	return nil
}

// Lstat implements Folder.
func (f *localFolder) Lstat(name string) (fs.FileInfo, error) {
	if f.dir == "" {
		return f.disk.Stat(name)
	}
	return f.disk.Lstat(f.Path(name))
}

// ReadFolder implements Folder.
func (f *localFolder) ReadFolder(name string, most int) ([]string, []Info, error) {
	return f.disk.ReadFolder(f.Path(name), most)
}

// Lstats implements Folder.
func (f *localFolder) Lstats(dir string, names []string) []Info {
	return f.disk.Lstats(f.Path(dir), names)
}

// Readlink implements Folder.
func (f *localFolder) Readlink(name string) (string, error) { return f.disk.Readlink(f.Path(name)) }

// Open implements Folder.
func (f *localFolder) Open(name string) (File, error) {
	file, err := f.disk.Open(f.Path(name))
	if err != nil {
		return nil, err
	}
	return file, nil
}

// passingXAttrs belong to the machine, not to the site.
var passingXAttrs = []string{"security.selinux", "security.ima", "security.evm"}

// XAttrs implements Folder. A file system without any, or one that hides them, gives none.
func (f *localFolder) XAttrs(name string) map[string][]byte {
	var all map[string][]byte
	_ = f.disk.Handle(f.Path(name), func(path string) error {
		names, err := xattr.LList(path)
		if err != nil || len(names) == 0 {
			return err
		}
		all = map[string][]byte{}
		for _, name := range names {
			if slices.Contains(passingXAttrs, name) {
				continue
			}
			if value, err := xattr.LGet(path, name); err == nil {
				all[name] = value
			}
		}
		return nil
	})
	return all
}

// Owner implements Folder.
func (l local) Owner(uid, gid int) (string, string) { return l.owners.names(uid, gid) }

// owners looks up the names of accounts and groups, once each.
type owners struct {
	mu            sync.Mutex
	users, groups map[int]string
}

func (o *owners) names(uid, gid int) (string, string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if _, ok := o.users[uid]; !ok {
		o.users[uid] = ""
		if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
			o.users[uid] = u.Username
		}
	}
	if _, ok := o.groups[gid]; !ok {
		o.groups[gid] = ""
		if g, err := user.LookupGroupId(strconv.Itoa(gid)); err == nil {
			o.groups[gid] = g.Name
		}
	}
	return o.users[uid], o.groups[gid]
}

// StatOf is what a place has told with info; false where it has told nothing.
func StatOf(info fs.FileInfo) (Stat, bool) {
	if info == nil {
		return Stat{}, false
	}
	if st, ok := info.Sys().(*Stat); ok {
		return *st, true
	}
	a, ok := disk.AttributesOf(info)
	if !ok {
		return Stat{}, false
	}
	return Stat{UID: a.UID, GID: a.GID, Dev: a.Dev, Inode: a.Ino, Links: a.Links, CTime: a.Changed.UTC(), Blocks: a.Blocks, HasBlocks: true}, true
}

// ErrTooLarge is wrapped when a file is larger than what was to be read of it.
var ErrTooLarge = errors.New("it is too large")

func tooLarge(name string, most int64) error {
	return &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("%w: more than %d bytes", ErrTooLarge, most)}
}

var _ File = (*disk.File)(nil)
var _ io.ReaderAt = (*disk.File)(nil)

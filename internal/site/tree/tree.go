// Package tree is where the files of a site live: on this machine, or on another one that
// is reached over SFTP. Nothing else asks which.
//
// A Place is a machine and the way to it; Local and NewSSH make one. Its Folder opens one
// of the site's folders for reading, as os.Root does: names are relative to it, with
// slashes, "." is the folder itself. Whoever can write to the site is taken for hostile: no
// symbolic link is followed below a Folder, and nothing is opened that one might wait for.
// On this machine that holds at every moment. Over SFTP, which has no such calls, a path is
// looked at before and after it is read; see docs/SECURITY.md for what that leaves.
//
// Errors: fs.ErrNotExist and fs.ErrPermission are wrapped where they are the reason. An
// error that wraps ErrUnreachable says nothing of the file: the place itself could not be
// asked. A Place and its Folders are safe for concurrent use, a File is not.
package tree

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net"
	"strings"
	"time"

	"revlet/internal/platform/disk"
)

// ErrUnreachable is wrapped when a place cannot be asked, however often it was tried.
var ErrUnreachable = errors.New("the machine of the site cannot be reached")

// ErrNoFolder is wrapped when what was to be opened as a folder is none.
var ErrNoFolder = errors.New("it is not a folder")

// Info is what lstat says of a name, or why it says nothing.
type Info = disk.Info

// Place is a machine on which the folders of sites are.
type Place interface {
	// Base begins the URL of everything at the place, such as sftp://keeper@host.example:22;
	// it is empty for this machine.
	Base() string
	// Folder opens a folder by its absolute path there. Links that lead to it are followed.
	// Until it is closed, ctx ends whatever is under way.
	Folder(ctx context.Context, dir string) (Folder, error)
	// Absolute is a folder's path from the root of the place, with links resolved; one that
	// begins with /~/ is in the account's home.
	Absolute(ctx context.Context, dir string) (string, error)
	// Anywhere is a Folder of everything at the place, by absolute paths; links are
	// followed. It is for single files that a person or a recipe has named.
	Anywhere(ctx context.Context) Folder
	// Dial connects from the place to an address: network is tcp or unix.
	Dial(ctx context.Context, network, address string) (net.Conn, error)
	// Now is the place's own clock; false where it cannot be told.
	Now(ctx context.Context) (time.Time, bool)
	Close() error
}

// Folder is a folder of a site that is open for reading.
type Folder interface {
	// Lstat describes a name itself, not what a link leads to.
	Lstat(name string) (fs.FileInfo, error)
	// ReadFolder returns the names in a folder, in order, and what lstat says of the first
	// of them: at least of as many as most, if there are so many.
	ReadFolder(name string, most int) (names []string, infos []Info, err error)
	// Lstats is Lstat for names in one folder.
	Lstats(dir string, names []string) []Info
	Readlink(name string) (string, error)
	// Open opens a regular file. Nothing else is opened: the error wraps disk.ErrSpecial.
	Open(name string) (File, error)
	// XAttrs are a path's extended attributes; none where the place has no word for them.
	XAttrs(name string) map[string][]byte
	// Owner names an account and a group of the place, where it tells.
	Owner(uid, gid int) (user, group string)
	Close() error
}

// File is a file that is read. A reading that was interrupted goes on where it was, as
// long as the file is still the same; one that is not gives io.ErrUnexpectedEOF.
type File interface {
	io.ReadSeekCloser
	io.ReaderAt
	// Stat describes what has the file's name now.
	Stat() (fs.FileInfo, error)
}

// Whole is a file that was read in one go.
type Whole struct {
	Data []byte
	// Info is what was said of it before and after: the same, or it would not be whole.
	Info fs.FileInfo
}

// WholeReader is a Folder that is far away, where a small file costs less when it is read
// in one go.
type WholeReader interface {
	// ReadWhole reads a regular file of at most most bytes. One that changes meanwhile gives
	// an error that wraps io.ErrUnexpectedEOF.
	ReadWhole(name string, most int64) (Whole, error)
}

// Stat is what a place tells of a path beside fs.FileInfo. A field that it does not tell
// is zero.
type Stat struct {
	UID, GID int
	// Unowned tells that the place has no word for owners.
	Unowned bool
	// Dev, Inode and Links say which names are of the same file.
	Dev, Inode, Links uint64
	// CTime is when the file, or what is known of it, was last changed; nobody can set it.
	CTime time.Time
	// Blocks are the blocks of 512 bytes that it takes; HasBlocks tells that this is known.
	Blocks    int64
	HasBlocks bool
}

// IsFar tells whether an address, as a configuration has it, is one of another machine.
func IsFar(root string) bool {
	return strings.Contains(root, "://")
}

// ReadFile reads a regular file of at most most bytes.
func ReadFile(in Folder, name string, most int64) ([]byte, error) {
	if far, ok := in.(WholeReader); ok {
		w, err := far.ReadWhole(name, most)
		return w.Data, err
	}
	f, err := in.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most {
		err = tooLarge(name, most)
	}
	return data, err
}

// FilesOnly tells whether a place carries files and nothing else: what only it reaches cannot
// be connected to.
func FilesOnly(p Place) bool {
	only, ok := p.(interface{ filesOnly() bool })
	return ok && only.filesOnly()
}

// Surveyed opens a folder of which everything is about to be looked at: see Surveyor.
func Surveyed(ctx context.Context, p Place, dir string) (Folder, error) {
	return SurveyedIn(ctx, p, dir, ".")
}

// SurveyedIn opens a folder of which everything in the folder name of it is about to be looked
// at, and not much more.
func SurveyedIn(ctx context.Context, p Place, dir, name string) (Folder, error) {
	in, err := p.Folder(ctx, dir)
	if err != nil {
		return nil, err
	}
	if s, ok := in.(Surveyor); ok {
		if err := s.Survey(name); err != nil {
			return nil, errors.Join(err, in.Close())
		}
	}
	return in, nil
}

// Walk visits every path below a folder of in, and the folder itself, in the order of
// names. Of a folder that cannot be read, visit is told with the error; when it returns
// fs.SkipDir of a folder, what is in it is left out.
func Walk(ctx context.Context, in Folder, name string, visit func(name string, info fs.FileInfo, err error) error) error {
	info, err := in.Lstat(name)
	return walk(ctx, in, name, Info{FileInfo: info, Err: err}, visit)
}

// allInfos asks for what lstat says of every name in a folder.
const allInfos = 1 << 30

func walk(ctx context.Context, in Folder, name string, info Info, visit func(string, fs.FileInfo, error) error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	err := visit(name, info.FileInfo, info.Err)
	if errors.Is(err, fs.SkipDir) {
		return nil
	}
	if err != nil || info.Err != nil || !info.IsDir() {
		return err
	}
	names, infos, err := in.ReadFolder(name, allInfos)
	if errors.Is(err, fs.ErrNotExist) && name != "." {
		return nil
	}
	if err != nil {
		if err = visit(name, info.FileInfo, err); errors.Is(err, fs.SkipDir) {
			return nil
		}
		return err
	}
	for i, base := range names {
		if err := walk(ctx, in, Join(name, base), infos[i], visit); err != nil {
			return err
		}
	}
	return nil
}

// Join adds a name to that of a folder.
func Join(dir, name string) string {
	if dir == "." || dir == "" {
		return name
	}
	return dir + "/" + name
}

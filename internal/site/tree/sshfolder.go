package tree

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/sshconn"
)

// errNames is wrapped when a far end lists what no folder has: names of several elements,
// or the same one twice.
var errNames = errors.New("the far end gives names that no folder has")

// errSize is wrapped when a far end gives a length that no file has.
var errSize = errors.New("the far end gives a length that no file has")

// longestListing bounds what the listings under way may take, in bytes as they are sent.
const longestListing = 256 << 20

// errChanged is wrapped when a file has changed while it was read.
var errChanged = fmt.Errorf("it changed while it was read: %w", io.ErrUnexpectedEOF)

// randomName is a name that nobody can foresee.
func randomName() string {
	raw := make([]byte, 12)
	_, _ = rand.Read(raw)
	return ".revlet-" + hex.EncodeToString(raw)
}

// pathError names the path in an error, once.
func pathError(op, name string, err error) error {
	var named *fs.PathError
	if err == nil || errors.Is(err, ErrUnreachable) || errors.As(err, &named) {
		return err
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// sshFolder is a folder on a machine that is reached over SSH; without dir, names are
// absolute paths and links are followed.
type sshFolder struct {
	place   *sshPlace
	ctx     context.Context
	dir     string
	surveys surveys
}

// Close implements Folder.
func (f *sshFolder) Close() error { return nil }

func (f *sshFolder) path(name string) string {
	switch {
	case f.dir == "":
		return path.Clean("/" + name)
	case name == "." || name == "":
		return f.dir
	}
	return f.dir + "/" + name
}

// Lstat implements Folder.
func (f *sshFolder) Lstat(name string) (info fs.FileInfo, err error) {
	err = f.place.do(f.ctx, func(files *sshconn.Files) (err error) {
		info, err = f.lstat(files, name)
		return err
	})
	return info, pathError("lstat", f.path(name), err)
}

func (f *sshFolder) lstat(files *sshconn.Files, name string) (fs.FileInfo, error) {
	stat := files.Lstat
	if f.dir == "" {
		stat = files.Stat
	}
	info, err := stat(f.path(name))
	if err != nil {
		return nil, err
	}
	if info.Size() < 0 {
		return nil, errSize
	}
	return f.enriched(name, farInfo{info}), nil
}

// farInfo is what SFTP says of a path.
type farInfo struct{ fs.FileInfo }

// Sys implements fs.FileInfo with a *Stat.
func (i farInfo) Sys() any {
	st, ok := i.FileInfo.Sys().(*sftp.FileStat)
	if !ok {
		return &Stat{}
	}
	return &Stat{UID: int(st.UID), GID: int(st.GID)}
}

// listings bounds what listings take that are under way at a time in one session.
type listings struct {
	mu     sync.Mutex
	active int
	lift   func()
}

func (l *listings) begin(m *store.Meter) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.active++; l.active == 1 {
		l.lift = m.Bound(longestListing)
	}
}

// entryBytes is what a name takes in a listing beside itself, twice.
const entryBytes = 96

func (l *listings) end(m *store.Meter, found []fs.FileInfo) {
	took := int64(0)
	for _, info := range found {
		took += int64(2*len(info.Name()) + entryBytes)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	m.Return(took, longestListing)
	if l.active--; l.active == 0 {
		l.lift()
	}
}

// ReadFolder implements Folder: a listing over SFTP says of every name what it is.
func (f *sshFolder) ReadFolder(name string, _ int) (names []string, infos []Info, err error) {
	if s := f.surveys.get(); s != nil {
		if all, known := s.folders[dotted(name)]; known {
			for i := range all {
				names, infos = append(names, all[i].name), append(infos, Info{FileInfo: &all[i]})
			}
			return names, infos, nil
		}
	}
	var all []fs.FileInfo
	err = f.place.withRetry(f.ctx, f.place.pick, func(c *conn) error {
		files, err := c.sftp(&c.lists, sshconn.OpenLists)
		if err != nil {
			return err
		}
		c.listings.begin(files.Meter)
		defer func() { c.listings.end(files.Meter, all) }()
		all, err = files.ReadDirContext(f.ctx, f.path(name))
		if err != nil && files.Meter.Exceeded() {
			f.place.dropLists(c)
			return fmt.Errorf("%w: %w", errNames, store.ErrEndless)
		}
		if err != nil || f.dir == "" {
			return err
		}
		// What was listed is what is there: a link in the place of a folder, or of one
		// above it, leads elsewhere.
		var real string
		var g errgroup.Group // two journeys at a time; not every server's real path has links resolved
		g.Go(func() (err error) { real, err = files.RealPath(f.path(name)); return err })
		info, err := files.Lstat(f.path(name))
		if err = cmp.Or(err, g.Wait()); err == nil && (real != f.path(name) || !info.IsDir()) {
			err = &fs.PathError{Op: "readdir", Path: f.path(name), Err: disk.ErrLinkOnTheWay}
		}
		return err
	})
	if err != nil {
		return nil, nil, pathError("readdir", f.path(name), err)
	}
	slices.SortFunc(all, func(a, b fs.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	for i, info := range all {
		base := info.Name()
		if !validName(base) || len(f.path(name))+1+len(base) > longestPath || i > 0 && all[i-1].Name() == base {
			return nil, nil, pathError("readdir", f.path(name), errNames)
		}
		one := Info{FileInfo: farInfo{info}}
		if info.Size() < 0 {
			one = Info{Err: pathError("lstat", f.path(Join(name, base)), errSize)}
		}
		names, infos = append(names, base), append(infos, one)
	}
	return names, infos, nil
}

// Lstats implements Folder.
func (f *sshFolder) Lstats(dir string, names []string) []Info {
	infos := make([]Info, len(names))
	for i, name := range names {
		infos[i].FileInfo, infos[i].Err = f.Lstat(Join(dir, name))
	}
	return infos
}

// dotted is a folder's name, "." for the outermost one.
func dotted(name string) string {
	if name == "" {
		return "."
	}
	return name
}

// Readlink implements Folder.
func (f *sshFolder) Readlink(name string) (target string, err error) {
	if s := f.surveys.get(); s != nil {
		if one := s.at(name); one != nil && one.mode&fs.ModeSymlink != 0 {
			return one.link, nil
		}
	}
	err = f.place.do(f.ctx, func(files *sshconn.Files) (err error) {
		if target, err = files.ReadLink(f.path(name)); err == nil && !validTarget(target) {
			err = errNames
		}
		return err
	})
	return target, pathError("readlink", f.path(name), err)
}

// XAttrs implements Folder: SFTP has no word for them.
func (f *sshFolder) XAttrs(string) map[string][]byte { return nil }

// Owner implements Folder: SFTP gives numbers, and what accounts of this machine have the
// same ones says nothing.
func (f *sshFolder) Owner(uid, gid int) (user, group string) {
	if s := f.surveys.get(); s != nil {
		names := s.owners[[2]int{uid, gid}]
		return names[0], names[1]
	}
	return "", ""
}

// regular asks what has a name now, and refuses what is no regular file.
func (f *sshFolder) regular(files *sshconn.Files, name string) (fs.FileInfo, error) {
	info, err := f.lstat(files, name)
	if err == nil && !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: f.path(name), Err: disk.ErrSpecial}
	}
	return info, err
}

// same tells whether two looks at a file have found the same.
func same(a, b fs.FileInfo) bool {
	return a.Size() == b.Size() && a.ModTime().Equal(b.ModTime()) && a.Mode() == b.Mode()
}

// ReadWhole implements WholeReader.
func (f *sshFolder) ReadWhole(name string, most int64) (Whole, error) {
	w := &wholeFile{in: f, name: name, most: most}
	err := f.place.do(f.ctx, w.read)
	for got := -1; errors.Is(err, ErrUnreachable) && w.got > got && f.ctx.Err() == nil; { // bit by bit
		got = w.got
		err = f.place.do(f.ctx, w.read)
	}
	if err != nil {
		return Whole{}, pathError("read", f.path(name), err)
	}
	return Whole{w.data, w.was}, nil
}

// wholeFile is a file that is read in one go: in several, if the connection breaks.
type wholeFile struct {
	in   *sshFolder
	name string
	most int64
	// was is what was said of the file when its reading began, got how many bytes of data
	// are there.
	was  fs.FileInfo
	data []byte
	got  int
}

// read reads what is missing. What one might wait for is not opened.
func (w *wholeFile) read(files *sshconn.Files) error {
	now, err := w.in.regular(files, w.name)
	switch {
	case err != nil:
		return err
	case now.Size() > w.most:
		return tooLarge(w.in.path(w.name), w.most)
	case w.was == nil:
		w.was, w.data = now, make([]byte, now.Size())
	case !same(w.was, now):
		return errChanged
	}
	file, err := files.Open(w.in.path(w.name))
	if err != nil {
		return err
	}
	if w.got < len(w.data) {
		n, err := file.ReadAt(w.data[w.got:], int64(w.got))
		w.got += n
		if errors.Is(err, io.EOF) && w.got < len(w.data) {
			err = errChanged // it has become shorter
		}
		if err != nil && !errors.Is(err, io.EOF) {
			_ = file.Close()
			return err
		}
	}
	var g errgroup.Group // two journeys at a time
	g.Go(file.Close)
	after, err := w.in.regular(files, w.name)
	if err == nil && !same(w.was, after) {
		err = errChanged
	}
	return cmp.Or(err, g.Wait())
}

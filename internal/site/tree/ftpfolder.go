package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"revlet/internal/platform/disk"
	"revlet/internal/store/ftpconn"
)

// HiddenTeller is a Folder far away that may not be told of everything in it.
type HiddenTeller interface {
	// Hides tells whether names that begin with a dot seem to be left out of listings.
	Hides() (bool, error)
}

// ftpFolder is a folder on a machine that is reached over FTP; without dir, names are absolute
// paths and links are followed.
type ftpFolder struct {
	place *ftpPlace
	ctx   context.Context
	dir   string
	mu    sync.Mutex
	// known is what was listed of folders, by their names; held counts the names.
	known map[string]map[string]ftpconn.Entry
	held  int
}

// mostHeld bounds how many names are held of listings.
const mostHeld = 200_000

// Close implements Folder.
func (f *ftpFolder) Close() error { return nil }

func (f *ftpFolder) path(name string) string {
	switch {
	case f.dir == "":
		return path.Clean("/" + name)
	case name == "." || name == "":
		return f.dir
	}
	return path.Join(f.dir, name)
}

// ftpInfo is what FTP says of a path.
type ftpInfo struct{ e ftpconn.Entry }

// Name implements fs.FileInfo.
func (i ftpInfo) Name() string { return i.e.Name }

// Size implements fs.FileInfo.
func (i ftpInfo) Size() int64 { return i.e.Size }

// Mode implements fs.FileInfo; rights that are not told are the usual ones.
func (i ftpInfo) Mode() fs.FileMode {
	switch {
	case i.e.HasMode:
		return i.e.Mode
	case i.e.Mode.IsDir():
		return i.e.Mode | 0o755
	}
	return i.e.Mode | 0o644
}

// ModTime implements fs.FileInfo.
func (i ftpInfo) ModTime() time.Time { return i.e.ModTime }

// IsDir implements fs.FileInfo.
func (i ftpInfo) IsDir() bool { return i.e.Mode.IsDir() }

// Sys implements fs.FileInfo with a *Stat.
func (i ftpInfo) Sys() any { return &Stat{Unowned: true} }

// list lists a folder, and remembers what it says.
func (f *ftpFolder) list(c *ftpconn.Conn, dir string) ([]ftpconn.Entry, error) {
	all, _, err := c.List(f.path(dir), time.Now())
	if err != nil {
		return nil, err
	}
	byName := make(map[string]ftpconn.Entry, len(all))
	for _, e := range all {
		if !validName(e.Name) || len(f.path(dir))+1+len(e.Name) > longestPath || e.Target != "" && !validTarget(e.Target) {
			return nil, errNames
		}
		byName[e.Name] = e
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.held += len(all); f.known == nil || f.held > mostHeld {
		f.known, f.held = map[string]map[string]ftpconn.Entry{}, len(all)
	}
	f.known[dotted(dir)] = byName
	return all, nil
}

func (f *ftpFolder) remembered(name string) (e ftpconn.Entry, listed, there bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	all, listed := f.known[path.Dir(name)]
	e, there = all[path.Base(name)]
	return e, listed, there
}

// Lstat implements Folder.
func (f *ftpFolder) Lstat(name string) (info fs.FileInfo, err error) {
	err = f.place.do(f.ctx, func(c *ftpconn.Conn) (err error) {
		info, err = f.lstat(c, name)
		return err
	})
	return info, pathError("lstat", f.path(name), err)
}

func (f *ftpFolder) lstat(c *ftpconn.Conn, name string) (fs.FileInfo, error) {
	if f.dir == "" || name == "." || name == "" {
		return f.followed(c, f.path(name))
	}
	e, listed, there := f.remembered(name)
	if !listed || !there {
		all, err := f.list(c, path.Dir(name))
		if err != nil {
			_, why := look(c, f.path(name))
			if why == nil {
				why = err
			}
			return nil, why
		}
		there = false
		for i := range all {
			if all[i].Name == path.Base(name) {
				e, there = all[i], true
			}
		}
	}
	if !there {
		return nil, fs.ErrNotExist
	}
	if !e.Mode.IsRegular() {
		return ftpInfo{e}, nil
	}
	fresh, err := f.fresh(c, name, e)
	if err != nil {
		return nil, err
	}
	return ftpInfo{fresh}, nil
}

// fresh is what a file is like now.
func (f *ftpFolder) fresh(c *ftpconn.Conn, name string, e ftpconn.Entry) (ftpconn.Entry, error) {
	full := f.path(name)
	now, err := ftpconn.Entry{}, error(nil)
	if c.CanFacts() {
		now, err = c.Facts(full)
	}
	if c.CanFacts() { // still
		if err != nil && ftpconn.Code(err) == 550 {
			return look(c, full)
		}
		if err != nil {
			return e, err
		}
		if now.Mode.Type() != e.Mode.Type() {
			return look(c, full)
		}
		e.Size, e.ModTime, e.Exact = now.Size, now.ModTime, now.Exact
		if now.HasMode {
			e.Mode, e.HasMode = now.Mode, true
		}
		return e, nil
	}
	size, err := c.Size(full)
	if err != nil {
		return look(c, full) // as when it is gone, or SIZE is not known
	}
	e.Size = size
	if c.Can("MDTM") {
		if at, err := c.Modified(full); err == nil {
			e.ModTime, e.Exact = at, true
		} else if !ftpconn.Answered(err) {
			return e, err
		}
	}
	return e, nil
}

// followed is what a path leads to.
func (f *ftpFolder) followed(c *ftpconn.Conn, full string) (fs.FileInfo, error) {
	if full == "/" {
		return ftpInfo{ftpconn.Entry{Name: "/", Mode: fs.ModeDir}}, nil
	}
	e, err := look(c, full)
	if err != nil || e.Mode&fs.ModeSymlink == 0 {
		return ftpInfo{e}, err
	}
	if c.CanFacts() {
		if to, err := c.Facts(full); err == nil || !ftpconn.Answered(err) {
			return ftpInfo{to}, err
		}
	}
	if err := c.Enter(full); err == nil || !ftpconn.Answered(err) {
		return ftpInfo{ftpconn.Entry{Name: path.Base(full), Mode: fs.ModeDir}}, err
	}
	size, err := c.Size(full)
	if err != nil {
		if ftpconn.Answered(err) {
			err = fs.ErrNotExist
		}
		return nil, err
	}
	return ftpInfo{ftpconn.Entry{Name: path.Base(full), Size: size}}, nil
}

// ReadFolder implements Folder.
func (f *ftpFolder) ReadFolder(name string, _ int) (names []string, infos []Info, err error) {
	var all []ftpconn.Entry
	err = f.place.do(f.ctx, func(c *ftpconn.Conn) (err error) {
		if all, err = f.list(c, name); err != nil && ftpconn.Answered(err) && !errors.Is(err, errNames) {
			e, why := look(c, f.path(name))
			switch {
			case why != nil:
				err = why
			case !e.Mode.IsDir():
				err = ErrNoFolder
			default:
				err = fmt.Errorf("%w: %w", fs.ErrPermission, err)
			}
		}
		return err
	})
	if err != nil {
		return nil, nil, pathError("readdir", f.path(name), err)
	}
	sortEntries(all)
	for _, e := range all {
		names, infos = append(names, e.Name), append(infos, Info{FileInfo: ftpInfo{e}})
	}
	return names, infos, nil
}

// Hides implements HiddenTeller.
func (f *ftpFolder) Hides() (hides bool, err error) {
	err = f.place.do(f.ctx, func(c *ftpconn.Conn) error {
		_, shown, err := c.List(f.path("."), time.Now())
		hides = !shown
		return err
	})
	return hides, err
}

// Lstats implements Folder.
func (f *ftpFolder) Lstats(dir string, names []string) []Info {
	infos := make([]Info, len(names))
	for i, name := range names {
		infos[i].FileInfo, infos[i].Err = f.Lstat(Join(dir, name))
	}
	return infos
}

// Readlink implements Folder.
func (f *ftpFolder) Readlink(name string) (string, error) {
	e, _, there := f.remembered(name)
	var err error
	if !there || e.Target == "" {
		err = f.place.do(f.ctx, func(c *ftpconn.Conn) (err error) {
			e, err = look(c, f.path(name))
			return err
		})
	}
	if err == nil && e.Target == "" {
		err = errors.New("the server does not say where it leads")
	}
	return e.Target, pathError("readlink", f.path(name), err)
}

// XAttrs implements Folder: FTP has no word for them.
func (f *ftpFolder) XAttrs(string) map[string][]byte { return nil }

// Owner implements Folder: FTP names accounts for people only.
func (f *ftpFolder) Owner(int, int) (user, group string) { return "", "" }

// regular asks what has a name now, and refuses what is no regular file.
func (f *ftpFolder) regular(c *ftpconn.Conn, name string) (fs.FileInfo, error) {
	info, err := f.lstat(c, name)
	if err == nil && !info.Mode().IsRegular() {
		return nil, special(f.path(name))
	}
	return info, err
}

// ReadWhole implements WholeReader.
func (f *ftpFolder) ReadWhole(name string, most int64) (Whole, error) {
	w := &ftpWhole{in: f, name: name, most: most}
	var err error
	for got := -1; !w.done && f.ctx.Err() == nil; { // bit by bit
		if err = f.place.do(f.ctx, w.read); err != nil && (!errors.Is(err, ErrUnreachable) || len(w.data) <= got) {
			break
		}
		got = len(w.data)
	}
	if err == nil {
		err = context.Cause(f.ctx)
	}
	if err != nil {
		return Whole{}, pathError("read", f.path(name), err)
	}
	return Whole{w.data, w.was}, nil
}

// errCut is wrapped when less of a file has arrived than was sent, whatever the server says.
var errCut = errors.New("the transfer broke off")

// errBroken is wrapped when a server breaks off whenever a file is read, and nothing else that it sends.
var errBroken = errors.New("the server breaks off whenever it is read")

// breaks counts transfers of a file that the server has broken off, by its own word, before anything came. That may be the
// line, or the file: of a bad block, or a folder that is told as a file, servers say the same (426, or 451).
type breaks struct {
	times int
	last  error
}

// saw hears how a transfer ended that has brought some bytes.
func (b *breaks) saw(got int, err error) {
	code := ftpconn.Code(err)
	switch {
	case got > 0:
		b.times = 0
	case code == 426 || code == 451:
		b.times++
		b.last = err
	}
}

// blames tells of a file that it is to blame, once it was broken off several times: a listing of its folder comes all the same.
func (b *breaks) blames(c *ftpconn.Conn, full string) error {
	if b.times < mostStuck {
		return nil
	}
	b.times = 0
	if _, _, err := c.List(path.Dir(full), time.Now()); err != nil {
		return err
	}
	return fmt.Errorf("%w: %w", errBroken, b.last)
}

// ftpWhole is a file that is read in one go: in several, if transfers break off. To the server,
// all is sent that is on its way: what is short, and still the same there, has not changed.
type ftpWhole struct {
	in   *ftpFolder
	name string
	most int64
	// was is what was said of the file when its reading began, data what has come.
	was  fs.FileInfo
	data []byte
	// stuck counts transfers of which nothing came, and which had not broken off.
	stuck  int
	breaks breaks
	done   bool
}

// read reads what is missing; of a file that has become longer, a little more.
func (w *ftpWhole) read(c *ftpconn.Conn) error {
	now, err := w.in.regular(c, w.name)
	switch {
	case err != nil:
		return err
	case now.Size() > w.most:
		return tooLarge(w.in.path(w.name), w.most)
	case w.was == nil:
		w.was = now
	case !same(w.was, now):
		return errChanged
	}
	if err := w.breaks.blames(c, w.in.path(w.name)); err != nil {
		return err
	}
	in, err := c.Retr(w.in.path(w.name), int64(len(w.data)))
	if err != nil {
		w.breaks.saw(0, err)
		if ftpconn.Answered(err) && len(w.data) > 0 {
			w.data = nil // it may not be able to go on within a file: from its beginning, then
			return errCut
		}
		return unreadable(err)
	}
	more, err := io.ReadAll(io.LimitReader(in, w.was.Size()+1-int64(len(w.data))))
	w.data = append(w.data, more...)
	err = errors.Join(err, in.Close())
	if w.breaks.saw(len(more), err); err != nil {
		return err
	}
	if now, err = w.in.regular(c, w.name); err != nil {
		return err
	}
	missing := w.was.Size() - int64(len(w.data))
	if len(more) > 0 {
		w.stuck = 0
	} else if missing > 0 {
		w.stuck++
	}
	if !same(w.was, now) || missing < 0 || w.stuck == mostStuck {
		return errChanged
	}
	if w.done = missing == 0; !w.done {
		w.in.place.cut.Store(true)
	}
	return nil
}

// mostStuck is how often nothing comes of a file until that is all there is of it.
const mostStuck = 3

// unreadable is why a file that is there cannot be read.
func unreadable(err error) error {
	if ftpconn.Code(err) == 550 {
		return fmt.Errorf("%w: %w", fs.ErrPermission, err)
	}
	return err
}

// special refuses what is no regular file.
func special(name string) error { return &fs.PathError{Op: "open", Path: name, Err: disk.ErrSpecial} }

func sortEntries(all []ftpconn.Entry) {
	slices.SortFunc(all, func(a, b ftpconn.Entry) int { return strings.Compare(a.Name, b.Name) })
}

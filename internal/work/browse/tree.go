package browse

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/webdav"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
)

// tree is the list of an archive as folders; the top has a folder for each root.
type tree struct {
	nodes    map[string]*node
	children map[string][]*node
	tables   []archive.Entry
	// rows are the places in tables.
	rows map[tableKey]int
	// held is about how many bytes all of it takes.
	held int64
}

// node is a path of an archive.
type node struct {
	archive.Entry
	// name is the last part of its path.
	name string
}

func (n *node) folder() bool { return n.Type == archive.TypeFolder }

// mostHeld is how much of a list is held in memory at most, in bytes, and eachHeld what a path or table takes there beside what
// the list says of it: 300,000 paths of the usual length are 180 MB.
const mostHeld, eachHeld = 180 << 20, 500

// errTooMuch is returned for a list that does not fit.
var errTooMuch = errors.New("it holds too much to be shown so; a pattern of paths lists some of it")

func newTree() *tree {
	t := &tree{nodes: map[string]*node{}, children: map[string][]*node{}, rows: map[tableKey]int{}}
	t.add(archive.Entry{Type: archive.TypeFolder})
	return t
}

// readTree reads the list. A further name of a file is shown as a file of its own.
func readTree(ctx context.Context, h *catalog.Held) (*tree, error) {
	t := newTree()
	if err := h.ReadList(ctx, t.take); err != nil {
		return nil, fmt.Errorf("%s: %w", h.Name, err)
	}
	for _, all := range t.children {
		slices.SortFunc(all, func(a, b *node) int {
			if a.folder() != b.folder() {
				return map[bool]int{true: -1, false: 1}[a.folder()]
			}
			return strings.Compare(a.name, b.name)
		})
	}
	return t, nil
}

// take takes a line of the list in.
func (t *tree) take(e archive.Entry) error {
	if t.held > mostHeld {
		return errTooMuch
	}
	e.XAttrs, e.CTime, e.Inode = nil, time.Time{}, 0 // nobody asks for these here
	switch {
	case e.Type == archive.TypeRows:
		key := tableKey{e.Database, e.Table}
		i, known := t.rows[key]
		if !known {
			i = len(t.tables)
			t.rows[key] = i
			t.tables = append(t.tables, archive.Entry{Database: e.Database, Table: e.Table})
			t.held += eachHeld + int64(len(e.Database)+len(e.Table))
		}
		t.tables[i].Rows += e.Rows
		t.tables[i].Size += e.Size
	case e.IsFileTree():
		t.add(e)
	}
	return nil
}

type tableKey struct{ database, table string }

// add puts an entry into its folder; folders that the list does not name are made.
func (t *tree) add(e archive.Entry) {
	if t.nodes[e.Path] != nil {
		return
	}
	n := &node{Entry: e, name: path.Base("/" + e.Path)}
	t.nodes[e.Path] = n
	t.held += eachHeld + int64(len(e.Path)+len(e.Target)+len(e.User)+len(e.Group)+len(e.SHA256)+len(e.Part)+len(e.Mode))
	if e.Path == "" {
		return
	}
	above := strings.TrimPrefix(path.Dir("/"+e.Path), "/")
	if t.nodes[above] == nil {
		t.add(archive.Entry{Type: archive.TypeFolder, Path: above})
	}
	t.children[above] = append(t.children[above], n)
}

// content is the entry that holds what a file has: its own, or the one that it is a further name of.
func (t *tree) content(n *node) (*node, bool) {
	if n.Type == archive.TypeHardlink {
		n = t.nodes[n.Target]
	}
	return n, n != nil && n.Type == archive.TypeFile
}

// Scratch is a file that nobody else can read, and that is gone once it is closed.
type Scratch interface {
	io.ReadWriteSeeker
	io.Closer
	Truncate(size int64) error
}

// open gives the content of a file, proved by its digest before any of it is shown.
func (s *Server) open(ctx context.Context, n *node) (Scratch, error) {
	n, ok := s.tree.content(n)
	if !ok {
		return nil, fs.ErrNotExist
	}
	select {
	case s.reading <- struct{}{}:
		defer func() { <-s.reading }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	f, err := s.Scratch(n.Size)
	if err != nil {
		return nil, err
	}
	err = s.Archive.CopyFile(ctx, n.Entry, func() (io.Writer, error) {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		return f, f.Truncate(0)
	})
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// davTree is the tree for file managers. It cannot be changed.
type davTree struct{ s *Server }

func (d davTree) Mkdir(context.Context, string, os.FileMode) error { return os.ErrPermission }
func (d davTree) RemoveAll(context.Context, string) error          { return os.ErrPermission }
func (d davTree) Rename(context.Context, string, string) error     { return os.ErrPermission }

// find is a folder or file of the tree. Links are not shown: they may lead anywhere.
func (d davTree) find(name string) (*node, error) {
	n := d.s.tree.nodes[strings.Trim(path.Clean("/"+name), "/")]
	if n == nil {
		return nil, os.ErrNotExist
	}
	if _, ok := d.s.tree.content(n); !ok && !n.folder() {
		return nil, os.ErrNotExist
	}
	return n, nil
}

// Stat implements webdav.FileSystem.
func (d davTree) Stat(_ context.Context, name string) (os.FileInfo, error) {
	n, err := d.find(name)
	if err != nil {
		return nil, err
	}
	return d.s.info(n), nil
}

// OpenFile implements webdav.FileSystem. The content is fetched when it is read first.
func (d davTree) OpenFile(ctx context.Context, name string, flag int, _ os.FileMode) (webdav.File, error) {
	if flag&(os.O_WRONLY|os.O_RDWR|os.O_CREATE|os.O_TRUNC) != 0 {
		return nil, os.ErrPermission
	}
	n, err := d.find(name)
	if err != nil {
		return nil, err
	}
	return &davFile{ctx: ctx, s: d.s, n: n}, nil
}

// info is a node as a file system knows it.
type info struct {
	*node
	size int64
}

func (s *Server) info(n *node) info {
	size := int64(0)
	if c, ok := s.tree.content(n); ok {
		size = c.Size
	}
	return info{n, size}
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) ModTime() time.Time { return i.MTime }
func (i info) IsDir() bool        { return i.folder() }
func (i info) Sys() any           { return nil }
func (i info) Mode() os.FileMode {
	if i.folder() {
		return os.ModeDir | 0o555
	}
	return 0o444
}

// ContentType implements webdav.ContentTyper: what a file is is not looked for in its content.
func (i info) ContentType(context.Context) (string, error) { return "application/octet-stream", nil }

// davFile is an open file or folder.
type davFile struct {
	ctx  context.Context
	s    *Server
	n    *node
	data Scratch
	at   int
}

func (f *davFile) fetch() (err error) {
	if f.data == nil {
		f.data, err = f.s.open(f.ctx, f.n)
	}
	return err
}

func (f *davFile) Read(p []byte) (int, error) {
	if err := f.fetch(); err != nil {
		return 0, err
	}
	return f.data.Read(p)
}

func (f *davFile) Seek(offset int64, whence int) (int64, error) {
	if err := f.fetch(); err != nil {
		return 0, err
	}
	return f.data.Seek(offset, whence)
}

func (f *davFile) Close() error {
	if f.data != nil {
		return f.data.Close()
	}
	return nil
}

func (f *davFile) Write([]byte) (int, error)  { return 0, os.ErrPermission }
func (f *davFile) Stat() (os.FileInfo, error) { return f.s.info(f.n), nil }

func (f *davFile) Readdir(count int) (all []os.FileInfo, err error) {
	children := f.s.tree.children[f.n.Path]
	for f.at < len(children) && (count <= 0 || len(all) < count) {
		n := children[f.at]
		f.at++
		if _, ok := f.s.tree.content(n); ok || n.folder() {
			all = append(all, f.s.info(n))
		}
	}
	if count > 0 && len(all) == 0 {
		err = io.EOF
	}
	return all, err
}

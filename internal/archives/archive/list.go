package archive

import (
	"bufio"
	"bytes"
	"cmp"
	"container/heap"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	fastjson "github.com/go-json-experiment/json"
	"github.com/klauspost/compress/zstd"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/memory"
)

// The types of list entries.
const (
	TypeFile     = "file"
	TypeFolder   = "folder"
	TypeSymlink  = "symlink"
	TypeHardlink = "hardlink"
	TypeSchema   = "schema"
	TypeRows     = "rows"
	TypeObjects  = "objects"
)

// Entry is one line of a list: a path of the site, or a share of a database.
type Entry struct {
	Type string `json:"type"`
	// Path begins with a root's label for files, with `database/` for tables.
	// A path that is not UTF-8 stands in PathRaw instead, as base64.
	Path    string `json:"path,omitempty"`
	PathRaw []byte `json:"path_raw,omitempty"`
	// Mode is octal, set-id and sticky bits included.
	Mode  string    `json:"mode,omitempty"`
	UID   int       `json:"uid,omitempty"`
	GID   int       `json:"gid,omitempty"`
	User  string    `json:"user,omitempty"`
	Group string    `json:"group,omitempty"`
	MTime time.Time `json:"mtime,omitzero"`
	CTime time.Time `json:"ctime,omitzero"`
	Inode uint64    `json:"inode,omitempty"`
	// Size and SHA256 are of the file's content, or of the SQL text.
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256,omitempty"`
	// Target is where a link leads.
	Target    string `json:"target,omitempty"`
	TargetRaw []byte `json:"target_raw,omitempty"`
	// XAttrs are extended attributes, access control lists among them.
	XAttrs map[string][]byte `json:"xattrs,omitempty"`
	// Sparse is set for a file that had holes.
	Sparse bool `json:"sparse,omitempty"`
	// Copied is set for a database file that was saved as a copy of one moment.
	Copied bool `json:"copied,omitempty"`
	// Part is the name of the part that holds it.
	Part string `json:"part"`

	Database string `json:"database,omitempty"`
	Table    string `json:"table,omitempty"`
	Slice    int    `json:"slice,omitempty"`
	Rows     int64  `json:"rows,omitempty"`
}

// IsFileTree tells whether the entry is a path of the site, not of a database.
func (e *Entry) IsFileTree() bool {
	switch e.Type {
	case TypeFile, TypeFolder, TypeSymlink, TypeHardlink:
		return true
	}
	return false
}

// Encode writes the entry as a line of a list. Names that JSON cannot carry go
// into their raw fields.
func (e Entry) Encode() ([]byte, error) {
	if !utf8.ValidString(e.Path) {
		e.PathRaw, e.Path = []byte(e.Path), ""
	}
	if !utf8.ValidString(e.Target) {
		e.TargetRaw, e.Target = []byte(e.Target), ""
	}
	data, err := json.Marshal(e)
	return append(data, '\n'), err
}

func decodeEntry(line []byte) (Entry, error) {
	var e Entry
	if err := fastjson.Unmarshal(line, &e); err != nil {
		return e, err
	}
	if e.PathRaw != nil {
		e.Path, e.PathRaw = string(e.PathRaw), nil
	}
	if e.TargetRaw != nil {
		e.Target, e.TargetRaw = string(e.TargetRaw), nil
	}
	return e, e.check()
}

// plainPath tells whether a path is one that a walk meets: below its root's label, as short as it can be written. It may be
// any bytes else.
func plainPath(name string) bool {
	return path.Clean(name) == name && name != "." && name != ".." && !strings.HasPrefix(name, "../") && !strings.HasPrefix(name, "/")
}

// check refuses an entry that no backup writes.
func (e *Entry) check() error {
	switch {
	case e.Path == "":
		return errors.New("an entry without a path")
	case e.IsFileTree() && !plainPath(e.Path):
		return fmt.Errorf("%.80q is no path in a folder of a site", e.Path)
	case e.Size < 0 || e.Rows < 0 || e.UID < 0 || e.GID < 0 || e.Slice < 0 || e.Slice > mostSlices:
		return fmt.Errorf("%.80q counts wrongly", e.Path)
	case e.Type == TypeRows && (e.Slice == 0 || e.Table == ""):
		return fmt.Errorf("%.80q is of no table", e.Path)
	}
	return nil
}

// ComparePaths orders paths as a walk meets them: a folder, then all below it,
// then its next sibling.
func ComparePaths(a, b string) int {
	for i := range min(len(a), len(b)) {
		x, y := a[i], b[i]
		if x == y {
			continue
		}
		if x == '/' {
			x = 0
		}
		if y == '/' {
			y = 0
		}
		return cmp.Compare(x, y)
	}
	return cmp.Compare(len(a), len(b))
}

// runLength is how many lines are sorted in memory before they are spilled.
const runLength = 32 << 10

// ListWriter collects lines in any order and writes them in path order. It
// keeps few in memory and spills the rest to scratch files. It is safe for
// concurrent use.
type ListWriter struct {
	d       *disk.Disk
	scratch func() string

	mu    sync.Mutex
	run   []Line
	spill []*disk.File
	lines int64
}

// NewListWriter returns a ListWriter whose scratch files get the names that
// scratch makes up.
func NewListWriter(d *disk.Disk, scratch func() string) *ListWriter {
	return &ListWriter{d: d, scratch: scratch}
}

// Add takes entries into the list.
func (l *ListWriter) Add(entries ...Entry) error {
	lines := make([]Line, len(entries))
	for i, e := range entries {
		var err error
		if lines[i], err = e.Line(); err != nil {
			return err
		}
	}
	return l.AddLines(lines...)
}

// AddLines takes lines of an earlier list into this one.
func (l *ListWriter) AddLines(lines ...Line) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.run = append(l.run, lines...)
	l.lines += int64(len(lines))
	if len(l.run) < runLength {
		return nil
	}
	return l.spillRun()
}

func (l *ListWriter) sortRun() {
	slices.SortFunc(l.run, func(a, b Line) int { return ComparePaths(a.Path, b.Path) })
}

func (l *ListWriter) spillRun() error {
	l.sortRun()
	f, err := l.d.Create(l.scratch())
	if err != nil {
		return fmt.Errorf("set list entries aside: %w", err)
	}
	l.spill = append(l.spill, f)
	w := bufio.NewWriterSize(f, 1<<18)
	var buf []byte
	for _, line := range l.run {
		buf = line.append(buf[:0])
		if _, err := w.Write(buf); err != nil {
			return fmt.Errorf("set list entries aside: %w", err)
		}
	}
	l.run = l.run[:0]
	if err := w.Flush(); err != nil {
		return fmt.Errorf("set list entries aside: %w", err)
	}
	_, err = f.Seek(0, io.SeekStart)
	return err
}

// Finish writes the whole list, compressed, to w, and in the form that ReadLines
// reads to local, if that is not nil. treePart is put in for lines
// whose part is still empty: those of the part of kind tree.
func (l *ListWriter) Finish(w, local io.Writer, treePart string) (lines int64, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	out, err := newListOutput(w, local, treePart)
	if err != nil {
		return 0, err
	}
	l.sortRun()
	sources := mergeHeap{&runSource{lines: l.run}}
	for _, f := range l.spill {
		sources = append(sources, &runSource{spilled: &lineReader{in: bufio.NewReaderSize(f, 1<<16)}})
	}
	ready := sources[:0]
	for _, s := range sources {
		if more, err := s.advance(); err != nil {
			return 0, err
		} else if more {
			ready = append(ready, s)
		}
	}
	heap.Init(&ready)
	for ready.Len() > 0 {
		s := ready[0]
		if err := out.line(s.head); err != nil {
			return 0, err
		}
		more, err := s.advance()
		if err != nil {
			return 0, err
		}
		if more {
			heap.Fix(&ready, 0)
		} else {
			heap.Pop(&ready)
		}
	}
	return l.lines, out.close()
}

// Close removes the scratch files.
func (l *ListWriter) Close() {
	for _, f := range l.spill {
		_ = f.Close()
		_ = l.d.Remove(f.Name())
	}
	l.spill = nil
}

// listOutput writes a list and the local form of it.
type listOutput struct {
	enc, local *zstd.Encoder
	tree       []byte
	buf        []byte
}

func newListOutput(w, local io.Writer, treePart string) (*listOutput, error) {
	o := &listOutput{tree: []byte(`"part":"` + treePart + `"`)}
	var err error
	if o.enc, err = newListEncoder(); err != nil {
		return nil, err
	}
	o.enc.Reset(w)
	if local == nil {
		return o, nil
	}
	if o.local, err = newListEncoder(); err != nil {
		return nil, err
	}
	o.local.Reset(local)
	return o, nil
}

// newListEncoder returns an encoder that works beside its user, for there are
// two of them at work on a list.
func newListEncoder() (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderConcurrency(2), zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(1<<20), zstd.WithEncoderCRC(true))
}

var noPart = []byte(`"part":""`)

func (o *listOutput) line(l Line) error {
	if l.Part == "" {
		// The quotes of a name are escaped, so only the key itself reads so.
		l.JSON = bytes.Replace(l.JSON, noPart, o.tree, 1)
	}
	if _, err := o.enc.Write(l.JSON); err != nil {
		return err
	}
	if o.local == nil {
		return nil
	}
	o.buf = l.append(o.buf[:0])
	_, err := o.local.Write(o.buf)
	return err
}

func (o *listOutput) close() error {
	err := o.enc.Close()
	if o.local != nil {
		err = errors.Join(err, o.local.Close())
	}
	return err
}

// runSource is one sorted run: lines in memory, or in a scratch file.
type runSource struct {
	lines   []Line
	spilled *lineReader
	head    Line
}

func (s *runSource) advance() (more bool, err error) {
	if s.spilled == nil {
		if len(s.lines) == 0 {
			return false, nil
		}
		s.head, s.lines = s.lines[0], s.lines[1:]
		return true, nil
	}
	s.head, err = s.spilled.next()
	if errors.Is(err, io.EOF) {
		return false, nil
	}
	return err == nil, err
}

type mergeHeap []*runSource

func (h mergeHeap) Len() int           { return len(h) }
func (h mergeHeap) Less(i, j int) bool { return ComparePaths(h[i].head.Path, h[j].head.Path) < 0 }
func (h mergeHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *mergeHeap) Push(x any)        { *h = append(*h, x.(*runSource)) }
func (h *mergeHeap) Pop() any {
	old := *h
	last := old[len(old)-1]
	*h = old[:len(old)-1]
	return last
}

// ErrList is wrapped by errors about a list that is damaged.
var ErrList = errors.New("the list is damaged")

// longestLine bounds one line of a list; paths are at most some KiB.
const longestLine = 1 << 20

// ReadList calls visit for every entry of a stored list, in path order. It ends with an
// error that wraps memory.ErrShort when so much was gathered of a long list that the
// machine has no room for more.
func ReadList(r io.Reader, visit func(Entry) error) error {
	return ReadListOf(r, func([]byte) (bool, error) { return true, nil }, visit)
}

// OfDatabase tells whether a line of a list may be one of a database. It is asked before a line is decoded: those of the
// site's paths, as they are written, are most of a list.
func OfDatabase(line []byte) bool {
	rest, ours := bytes.CutPrefix(line, []byte(`{"type":"`))
	kind, _, ended := bytes.Cut(rest, []byte(`"`))
	return !ours || !ended || !(&Entry{Type: string(kind)}).IsFileTree()
}

// ReadListOf is ReadList for the lines that are wanted: others are not decoded.
func ReadListOf(r io.Reader, wanted func(line []byte) (bool, error), visit func(Entry) error) error {
	dec, err := borrowDecoder(r)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrList, err)
	}
	defer returnDecoder(dec)
	lines := bufio.NewScanner(dec)
	lines.Buffer(make([]byte, 0, 1<<16), longestLine)
	n, room := 0, memory.Watch{}
	for lines.Scan() {
		n++
		if err := room.One(); err != nil {
			return err
		}
		switch take, err := wanted(lines.Bytes()); {
		case err != nil:
			return err
		case !take:
			continue
		}
		e, err := decodeEntry(lines.Bytes())
		if err != nil {
			return fmt.Errorf("%w: line %d: %w", ErrList, n, err)
		}
		if err := visit(e); err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("%w: after line %d: %w", ErrList, n, err)
	}
	return nil
}

package archive

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Line is one line of a list with what has to be at hand to sort it, and to
// tell whether a file has changed, without reading the JSON.
type Line struct {
	Path, Part string
	Size       int64
	// MTime and CTime are nanoseconds since 1970; a CTime of 0 is not known.
	MTime, CTime int64
	Inode        uint64
	File, Copied bool
	// JSON is the line itself.
	JSON []byte
}

// Line encodes the entry.
func (e Entry) Line() (Line, error) {
	data, err := e.Encode()
	l := Line{Path: e.Path, Part: e.Part, Size: e.Size, Inode: e.Inode, File: e.Type == TypeFile, Copied: e.Copied, JSON: data}
	if l.File {
		l.MTime = e.MTime.UnixNano()
		if !e.CTime.IsZero() {
			l.CTime = e.CTime.UnixNano()
		}
	}
	return l, err
}

// Entry decodes the line.
func (l Line) Entry() (Entry, error) { return decodeEntry(l.JSON) }

const (
	lineFile = 1 << iota
	lineCopied
)

// append encodes the line with lengths and numbers before the JSON.
func (l Line) append(buf []byte) []byte {
	flags := uint64(0)
	if l.File {
		flags |= lineFile
	}
	if l.Copied {
		flags |= lineCopied
	}
	buf = binary.AppendUvarint(buf, flags)
	buf = binary.AppendVarint(buf, l.Size)
	buf = binary.AppendVarint(buf, l.MTime)
	buf = binary.AppendVarint(buf, l.CTime)
	buf = binary.AppendUvarint(buf, l.Inode)
	for _, text := range []string{l.Path, l.Part} {
		buf = binary.AppendUvarint(buf, uint64(len(text)))
		buf = append(buf, text...)
	}
	buf = binary.AppendUvarint(buf, uint64(len(l.JSON)))
	return append(buf, l.JSON...)
}

// lineReader reads what append has written.
type lineReader struct {
	in *bufio.Reader
	// part is the last one: lines of one part stand together.
	part string
	// slab is what JSON lines are cut from.
	slab []byte
}

const (
	// longestHead is how long the numbers of a line are at most.
	longestHead = 5 * binary.MaxVarintLen64
	slabBytes   = 64 << 10
)

// next reads a line; io.EOF is the end.
func (r *lineReader) next() (Line, error) {
	head, err := r.in.Peek(longestHead)
	switch {
	case len(head) > 0:
	case errors.Is(err, io.EOF):
		return Line{}, io.EOF
	default:
		return Line{}, fmt.Errorf("%w: %w", ErrList, err)
	}
	at := 0
	number := func() uint64 {
		if at > len(head) {
			return 0
		}
		n, width := binary.Uvarint(head[at:])
		if width <= 0 {
			at = len(head) + 1
			return 0
		}
		at += width
		return n
	}
	signed := func() int64 {
		n := number()
		return int64(n>>1) ^ -int64(n&1)
	}
	flags := number()
	l := Line{File: flags&lineFile != 0, Copied: flags&lineCopied != 0, Size: signed(), MTime: signed(), CTime: signed(), Inode: number()}
	if at > len(head) {
		return l, cut(io.ErrUnexpectedEOF)
	}
	if _, err := r.in.Discard(at); err != nil {
		return l, cut(err)
	}
	return l, r.texts(&l)
}

// texts reads what comes after a line's numbers.
func (r *lineReader) texts(l *Line) error {
	path, err := r.bytes()
	if err != nil {
		return err
	}
	l.Path = string(path)
	part, err := r.bytes()
	if err != nil {
		return err
	}
	if r.part != string(part) {
		r.part = string(part)
	}
	l.Part = r.part
	l.JSON, err = r.bytes()
	return err
}

// bytes reads a text with its length before it. It is cut from a slab and stays
// good.
func (r *lineReader) bytes() ([]byte, error) {
	n, err := binary.ReadUvarint(r.in)
	if err != nil {
		return nil, cut(err)
	}
	if n > longestLine {
		return nil, fmt.Errorf("%w: a line of %d bytes", ErrList, n)
	}
	if n > uint64(len(r.slab)) {
		r.slab = make([]byte, max(slabBytes, int(n)))
	}
	b := r.slab[:n:n]
	r.slab = r.slab[n:]
	_, err = io.ReadFull(r.in, b)
	return b, cut(err)
}

// cut tells the end of the file inside a line from the one after it.
func cut(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("%w: it is cut", ErrList)
	}
	return err
}

// ReadLines calls visit for every line of the local form of a list.
func ReadLines(r io.Reader, visit func(Line) error) error {
	dec, err := borrowDecoder(r)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrList, err)
	}
	defer returnDecoder(dec)
	lines := &lineReader{in: bufio.NewReaderSize(dec, 1<<16)}
	for {
		l, err := lines.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = visit(l)
		}
		if err != nil {
			return err
		}
	}
}

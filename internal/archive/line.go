package archive

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

// Line is one line of a list with what has to be at hand to sort it, and to
// tell whether a file has changed, without reading the JSON.
type Line struct {
	Path, Part string
	Size       int64
	// MTime and CTime are nanoseconds since 1970.
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
		l.MTime, l.CTime = e.MTime.UnixNano(), e.CTime.UnixNano()
	}
	return l, err
}

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

// readLine reads what append has written; io.EOF is the end.
func readLine(r *bufio.Reader) (Line, error) {
	flags, err := binary.ReadUvarint(r)
	if errors.Is(err, io.EOF) {
		return Line{}, err
	}
	if err != nil {
		return Line{}, fmt.Errorf("%w: %w", ErrList, err)
	}
	l := Line{File: flags&lineFile != 0, Copied: flags&lineCopied != 0}
	for _, n := range []*int64{&l.Size, &l.MTime, &l.CTime} {
		if *n, err = binary.ReadVarint(r); err != nil {
			return l, cut(err)
		}
	}
	if l.Inode, err = binary.ReadUvarint(r); err != nil {
		return l, cut(err)
	}
	for _, text := range []*string{&l.Path, &l.Part} {
		b, err := readBytes(r)
		if err != nil {
			return l, err
		}
		*text = string(b)
	}
	l.JSON, err = readBytes(r)
	return l, err
}

func readBytes(r *bufio.Reader) ([]byte, error) {
	n, err := binary.ReadUvarint(r)
	if err != nil {
		return nil, cut(err)
	}
	if n > longestLine {
		return nil, fmt.Errorf("%w: a line of %d bytes", ErrList, n)
	}
	b := make([]byte, n)
	_, err = io.ReadFull(r, b)
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
	dec, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrList, err)
	}
	defer dec.Close()
	in := bufio.NewReaderSize(dec, 1<<16)
	for {
		l, err := readLine(in)
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

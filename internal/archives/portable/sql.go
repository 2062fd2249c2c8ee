package portable

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// This file reads SQL texts that others have made: what they are compressed with tells
// their beginning, not their name, and a text that breaks off is no text.

// IsSQL tells by its name whether a file is an SQL text.
func IsSQL(name string) bool {
	name = strings.ToLower(name)
	return slices.ContainsFunc([]string{".sql", ".sql.gz", ".sql.zst", ".sql.bz2", ".sql.zip"}, func(end string) bool { return strings.HasSuffix(name, end) })
}

// OpenSQL opens an SQL file, compressed or not, or the only file of a ZIP file. The reader
// gives an error, and no io.EOF, at the end of a text that was cut.
func OpenSQL(file string) (io.Reader, func(), error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, nil, fmt.Errorf("the SQL file: %w", err)
	}
	r, closeText, err := openSQL(f)
	if err != nil {
		_ = f.Close()
		return nil, nil, fmt.Errorf("the SQL file %s: %w", file, err)
	}
	return r, func() { closeText(); _ = f.Close() }, nil
}

func openSQL(f *os.File) (io.Reader, func(), error) {
	var begin [len(zipMagic)]byte
	if _, err := f.ReadAt(begin[:], 0); err == nil && string(begin[:]) == zipMagic {
		return onlyFile(f)
	}
	r, closeText, err := Decompressed(f)
	if err != nil {
		return nil, nil, err
	}
	text, err := NewText(r)
	if err != nil {
		closeText()
	}
	return text, closeText, err
}

// onlyFile is the text of the only file in a ZIP file.
func onlyFile(f *os.File) (io.Reader, func(), error) {
	info, err := f.Stat()
	if err != nil {
		return nil, nil, err
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil {
		return nil, nil, fmt.Errorf("it is a ZIP file that is cut: %w", err)
	}
	files := slices.DeleteFunc(z.File, func(f *zip.File) bool { return !f.Mode().IsRegular() })
	if len(files) != 1 {
		return nil, nil, fmt.Errorf("it is a ZIP file of %d files; unpack it, and name the one that is meant", len(files))
	}
	in, err := files[0].Open()
	if err != nil {
		return nil, nil, err
	}
	text, err := NewText(in)
	return text, func() { _ = in.Close() }, err
}

// The first bytes of compressed files.
const (
	gzipMagic  = "\x1f\x8b"
	zstdMagic  = "\x28\xb5\x2f\xfd"
	bzip2Magic = "BZh"
	xzMagic    = "\xfd7zXZ\x00"
	zipMagic   = "PK\x03\x04"
)

// mostWindow bounds the memory that a foreign zstd stream may ask for, in bytes.
const mostWindow = 64 << 20

// Decompressed is what a file holds, by its first bytes: gzip, Zstandard and bzip2 are
// uncompressed, until done is called.
func Decompressed(in io.Reader) (text io.Reader, done func(), err error) {
	r := bufio.NewReaderSize(in, 64<<10)
	begin, err := r.Peek(len(xzMagic))
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, nil, err
	}
	is := func(magic string) bool { return bytes.HasPrefix(begin, []byte(magic)) }
	switch {
	case is(gzipMagic):
		z, err := gzip.NewReader(r)
		if err != nil {
			err = fmt.Errorf("it is cut or damaged: %w", err)
		}
		return z, func() {}, err
	case is(zstdMagic):
		z, err := zstd.NewReader(r, zstd.WithDecoderMaxWindow(mostWindow))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	case is(bzip2Magic):
		return bzip2.NewReader(r), func() {}, nil
	case is(xzMagic):
		return nil, nil, errors.New("it is compressed by xz; unpack it first")
	}
	return r, func() {}, nil
}

// kept is how much of the beginning and of the end of an SQL text is looked at.
const kept = 64 << 10

// Text is an SQL text that tells at its end whether it is whole.
type Text struct {
	in io.Reader
	// begin and end are what stands there.
	begin, end []byte
}

// byteOrderMark stands at the beginning of what some editors save.
const byteOrderMark = "\ufeff"

// warning matches what a client has said that was written into its own dump.
var warning = regexp.MustCompile(`^(?:mysqldump|mariadb-dump|mysql|mariadb): (?:\[Warning\]|Warning:)[^\n]*\n`)

// NewText reads a text without what does not belong to it: a byte order mark, a warning of
// the client that has made it. UTF-16 is refused: what wrote it has read the client's text
// as something that it is not.
func NewText(in io.Reader) (*Text, error) {
	r := bufio.NewReaderSize(in, kept)
	begin, err := r.Peek(4 << 10)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	skip := 0
	switch {
	case bytes.HasPrefix(begin, []byte(byteOrderMark)):
		skip = len(byteOrderMark)
	case bytes.HasPrefix(begin, []byte("\xff\xfe")), bytes.HasPrefix(begin, []byte("\xfe\xff")):
		return nil, errors.New("it is UTF-16, as > writes it in PowerShell; export it again with the client's own option for a file, such as --result-file")
	}
	for w := warning.Find(begin[skip:]); w != nil; w = warning.Find(begin[skip:]) {
		skip += len(w)
	}
	_, err = r.Discard(skip)
	return &Text{in: r}, err
}

// Read implements io.Reader.
func (t *Text) Read(p []byte) (int, error) {
	n, err := t.in.Read(p)
	t.begin = append(t.begin, p[:min(n, kept-len(t.begin))]...)
	t.end = append(t.end, p[max(0, n-kept):n]...)
	if len(t.end) > 2*kept {
		t.end = append(t.end[:0], t.end[len(t.end)-kept:]...)
	}
	if errors.Is(err, io.EOF) {
		if bad := t.whole(); bad != nil {
			return n, bad
		}
	} else if err != nil {
		err = fmt.Errorf("it is cut or damaged: %w", err)
	}
	return n, err
}

// frames are the lines that clients write around a dump.
var frames = []struct{ first, last *regexp.Regexp }{
	{regexp.MustCompile(`(?m)^-- (?:MySQL|MariaDB) dump `), regexp.MustCompile(`(?m)^-- Dump completed`)},
	{regexp.MustCompile(`(?m)^-- PostgreSQL database (?:cluster )?dump\r?$`), regexp.MustCompile(`(?m)^-- PostgreSQL database (?:cluster )?dump complete`)},
}

// whole gives an error for a text that does not end as it begins, or not with a statement:
// it was cut, or is none.
func (t *Text) whole() error {
	if len(t.begin) == 0 {
		return errors.New("it is empty")
	}
	for _, f := range frames {
		if f.first.Match(t.begin) && !f.last.Match(t.end) {
			return errors.New("it is cut: the line that its client ends a dump with is not there; export it again")
		}
	}
	for _, line := range slices.Backward(strings.Split(string(t.end), "\n")) {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || strings.HasPrefix(line, "--") || strings.HasPrefix(line, "/*") && strings.HasSuffix(line, "*/;") || strings.HasPrefix(line, "#"):
		case strings.HasSuffix(line, ";") || strings.HasPrefix(line, `\`) || strings.HasSuffix(line, "*/"):
			return nil
		default:
			return errors.New("it ends in the middle of a statement: it is cut; export it again")
		}
	}
	return errors.New("it holds no statement")
}

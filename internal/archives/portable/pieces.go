package portable

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"revlet/internal/platform/disk"
)

// sums ends the name of the file with the digests of pieces, as sha256sum(1)
// writes and checks them.
const sums = ".sha256"

var pieceName = regexp.MustCompile(`^(.*)\.(\d{3,})$`)

type hashWriter struct{ hash.Hash }

func newHashWriter() *hashWriter { return &hashWriter{sha256.New()} }

func (s *hashWriter) hex() string { return hex.EncodeToString(s.Sum(nil)) }

// joined is one file, or several read one after the other.
type joined struct {
	name  string
	files []*os.File
	ends  []int64
}

// Close closes all.
func (j *joined) Close() error {
	var err error
	for _, f := range j.files {
		err = errors.Join(err, f.Close())
	}
	return err
}

// Size is the length of all together.
func (j *joined) Size() int64 { return j.ends[len(j.ends)-1] }

// ReadAt implements io.ReaderAt.
func (j *joined) ReadAt(p []byte, at int64) (n int, err error) {
	for i, f := range j.files {
		if at >= j.ends[i] {
			continue
		}
		begin := int64(0)
		if i > 0 {
			begin = j.ends[i-1]
		}
		want := p[n:min(int64(len(p)), int64(n)+j.ends[i]-at)]
		got, err := f.ReadAt(want, at-begin)
		n, at = n+got, at+int64(got)
		if err != nil && !errors.Is(err, io.EOF) {
			return n, err
		}
		if got < len(want) {
			return n, io.ErrUnexpectedEOF
		}
		if n == len(p) {
			return n, nil
		}
	}
	return n, io.EOF
}

func join(name string, paths []string) (*joined, error) {
	j := &joined{name: name}
	var end int64
	for _, p := range paths {
		f, err := os.Open(p)
		if err != nil {
			return nil, errors.Join(err, j.Close())
		}
		j.files = append(j.files, f)
		info, err := f.Stat()
		if err != nil {
			return nil, errors.Join(err, j.Close())
		}
		end += info.Size()
		j.ends = append(j.ends, end)
	}
	return j, nil
}

// gather finds all pieces of a portable file: those that were named, in any
// order, or, when one was named, those beside it. Without pieces it is the file
// itself.
func gather(named []string) (*joined, error) {
	first := named[0]
	m := pieceName.FindStringSubmatch(first)
	if m == nil && len(named) == 1 {
		if _, err := os.Stat(first); err == nil {
			return join(first, named)
		}
		if beside, _ := filepath.Glob(first + ".[0-9][0-9][0-9]*"); len(beside) == 0 {
			return nil, fmt.Errorf("%s does not exist", first)
		}
	}
	base := first
	if m != nil {
		base = m[1]
	}
	if len(named) == 1 {
		beside, err := filepath.Glob(escapeGlob(base) + ".[0-9][0-9][0-9]*")
		if err != nil {
			return nil, err
		}
		named = beside
	}
	named = slices.DeleteFunc(slices.Clone(named), func(p string) bool { return strings.HasSuffix(p, sums) })
	if data, err := disk.ReadRegular(base+sums, mostSums); err == nil {
		paths, err := bySums(base, string(data), named)
		if err != nil {
			return nil, err
		}
		return join(base, paths)
	}
	paths, err := byNumber(base, named)
	if err != nil {
		return nil, err
	}
	return join(base, paths)
}

// mostSums bounds a file of checksums, in bytes: one line for each piece.
const mostSums = 1 << 20

func escapeGlob(s string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(s)
}

// bySums orders pieces by their digests, whatever their names.
func bySums(base, text string, named []string) ([]string, error) {
	type line struct{ sum, name string }
	var lines []line
	for l := range strings.Lines(text) {
		if sum, name, ok := strings.Cut(strings.TrimSpace(l), "  "); ok {
			lines = append(lines, line{sum, name})
		}
	}
	found := make([]string, len(lines))
	for _, p := range named {
		sum, size, err := sumOf(p)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(lines, func(l line) bool { return l.sum == sum })
		switch {
		case i < 0:
			return nil, fmt.Errorf("%s (%d bytes) is none of the pieces that %s lists: it is cut, damaged, or of another archive; copy it again", p, size, filepath.Base(base)+sums)
		case found[i] != "":
			return nil, fmt.Errorf("%s and %s are the same piece (%s)%s", found[i], p, lines[i].name, missing(found, lines[i].name, func(n int) string { return lines[n].name }))
		}
		found[i] = p
	}
	for i, p := range found {
		if p == "" {
			return nil, fmt.Errorf("piece %d of %d (%s) is missing; put it beside the others", i+1, len(lines), lines[i].name)
		}
	}
	return found, nil
}

// missing words which piece is not there while another is there twice.
func missing(found []string, double string, name func(int) string) string {
	for i, p := range found {
		if p == "" && name(i) != double {
			return fmt.Sprintf("; %s is missing", name(i))
		}
	}
	return ""
}

func sumOf(file string) (string, int64, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	s := newHashWriter()
	n, err := io.Copy(s, f)
	return s.hex(), n, err
}

// byNumber orders pieces by their names, when their digests are not known.
func byNumber(base string, named []string) ([]string, error) {
	at := map[int]string{}
	last := 0
	for _, p := range named {
		m := pieceName.FindStringSubmatch(p)
		if m == nil || filepath.Base(m[1]) != filepath.Base(base) {
			return nil, fmt.Errorf("%s is not named like a piece of %s (%s.001, .002, …)", p, filepath.Base(base), filepath.Base(base))
		}
		n, _ := strconv.Atoi(m[2]) // digits, by the pattern
		if other, twice := at[n]; twice {
			return nil, fmt.Errorf("%s and %s have the same number", other, p)
		}
		at[n], last = p, max(last, n)
	}
	var paths []string
	var size int64
	for n := 1; n <= last; n++ {
		p, ok := at[n]
		if !ok {
			return nil, fmt.Errorf("piece %s.%03d is missing; put it beside the others", filepath.Base(base), n)
		}
		info, err := os.Stat(p)
		if err != nil {
			return nil, err
		}
		if n > 1 && n < last && info.Size() != size || n == last && n > 1 && info.Size() > size {
			return nil, fmt.Errorf("%s has %d bytes, the pieces before it have %d: one of them is cut or of another archive; copy it again", p, info.Size(), size)
		}
		size = info.Size()
		paths = append(paths, p)
	}
	if len(paths) == 0 {
		return nil, fmt.Errorf("no piece of %s is there", base)
	}
	return paths, nil
}

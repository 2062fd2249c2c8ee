// Package portable turns an archive into one file that any computer opens, and
// reads such files, and pairs of files that people have made by hand.
package portable

import (
	"archive/tar"
	"archive/zip"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"

	"revlet/internal/archives/archive"
)

// The names inside a portable file. Files lie below FilesDir under their root's
// label, databases below DatabaseDir as LABEL.sql.
const (
	RecordName  = "revlet-record.json"
	ListName    = "revlet-list.jsonl.zst"
	FilesDir    = "files/"
	DatabaseDir = "database/"
)

// Formats are the endings that a portable file may have.
var Formats = []string{".zip", ".tar.zst", ".tar.gz", ".tgz", ".tar"}

// format is the ending of a file's name that says what it is; empty when none
// does.
func format(name string) string {
	for _, f := range Formats {
		if strings.HasSuffix(strings.ToLower(name), f) {
			return f
		}
	}
	return ""
}

// container is a portable file being written.
type container interface {
	// File begins a file of a known length; what is written next is its content.
	File(name string, h *tar.Header) (io.Writer, error)
	// Other writes a folder or a link.
	Other(name string, h *tar.Header) error
	Close() error
}

func newContainer(format string, w io.Writer) (container, error) {
	switch format {
	case ".zip":
		z := zip.NewWriter(w)
		z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { return flate.NewWriter(w, flate.BestSpeed) })
		return &zipContainer{z}, nil
	case ".tar":
		return &tarContainer{tar.NewWriter(w), nil}, nil
	case ".tar.zst":
		enc, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest))
		if err != nil {
			return nil, err
		}
		return &tarContainer{tar.NewWriter(enc), enc}, nil
	}
	return nil, fmt.Errorf("a portable file's name ends in .zip, .tar or .tar.zst")
}

type tarContainer struct {
	*tar.Writer
	enc *zstd.Encoder
}

// File implements container.
func (t *tarContainer) File(name string, h *tar.Header) (io.Writer, error) {
	return t.Writer, t.Other(name, h)
}

// Other implements container.
func (t *tarContainer) Other(name string, h *tar.Header) error {
	own := *h
	own.Name, own.Format = name, tar.FormatPAX
	if own.Typeflag == tar.TypeLink {
		own.Linkname = FilesDir + h.Linkname
	}
	return t.WriteHeader(&own)
}

// Close implements container.
func (t *tarContainer) Close() error {
	err := t.Writer.Close()
	if t.enc != nil && err == nil {
		err = t.enc.Close()
	}
	return err
}

type zipContainer struct{ *zip.Writer }

func (z *zipContainer) header(name string, h *tar.Header, mode fs.FileMode) *zip.FileHeader {
	zh := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: h.ModTime}
	zh.SetMode(fs.FileMode(h.Mode).Perm() | mode)
	return zh
}

// File implements container.
func (z *zipContainer) File(name string, h *tar.Header) (io.Writer, error) {
	zh := z.header(name, h, 0)
	if archive.Packed(name) {
		zh.Method = zip.Store
	}
	return z.CreateHeader(zh)
}

// Other implements container. ZIP knows no hard links; they become symbolic ones.
func (z *zipContainer) Other(name string, h *tar.Header) error {
	target := h.Linkname
	switch h.Typeflag {
	case tar.TypeDir:
		_, err := z.CreateHeader(z.header(name, h, fs.ModeDir))
		return err
	case tar.TypeLink:
		relative, err := filepath.Rel(path.Dir(name), FilesDir+h.Linkname)
		if err != nil {
			return err
		}
		target = relative
	}
	w, err := z.CreateHeader(z.header(name, h, fs.ModeSymlink))
	if err == nil {
		_, err = io.WriteString(w, target)
	}
	return err
}

// plain is a header for a file that is not one of the site's.
func plain(size int64, when time.Time) *tar.Header {
	return &tar.Header{Typeflag: tar.TypeReg, Mode: 0o600, Size: size, ModTime: when}
}

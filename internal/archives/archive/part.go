package archive

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"

	"revlet/internal/platform/encryption"
)

// The endings of part names: what the stored bytes are.
const (
	Tar     = ".tar"
	TarZstd = ".tar.zst"
	SQLZstd = ".sql.zst"
)

// PAXXAttr begins the pax records for extended attributes, as other tar programs
// write them; PAXSparse marks a file that had holes.
const (
	PAXXAttr  = "SCHILY.xattr."
	PAXSparse = "REVLET.sparse"
)

// maxWindow bounds the memory that a hostile zstd frame may ask for.
const maxWindow = 32 << 20

// NewEncoder returns an encoder as parts and lists are written with; it works
// on one goroutine and can be used again with Reset.
func NewEncoder() (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithWindowSize(4<<20), zstd.WithEncoderCRC(true))
}

// PartWriter turns content into a part's stored bytes, and names it.
type PartWriter struct {
	ending  string
	out     *bufio.Writer
	into    io.Writer
	digest  hash.Hash
	stored  int64
	content int64
	enc     *zstd.Encoder
	sealed  io.WriteCloser
}

// NewPartWriter writes a part with the given ending to w. enc is used unless
// the ending is plain tar; with recipients, the part is encrypted for them.
func NewPartWriter(w io.Writer, ending string, enc *zstd.Encoder, to encryption.Recipients) (*PartWriter, error) {
	p := &PartWriter{ending: ending, digest: sha256.New()}
	p.out = bufio.NewWriterSize(io.MultiWriter(w, p.digest, counter{&p.stored}), 1<<18)
	p.into = p.out
	if len(to) > 0 {
		var err error
		if p.sealed, err = to.Writer(p.out); err != nil {
			return nil, fmt.Errorf("encrypt a part: %w", err)
		}
		p.into, p.ending = p.sealed, ending+encryption.Ending
	}
	if strings.HasSuffix(ending, ".zst") {
		p.enc = enc
		enc.Reset(p.into)
	}
	return p, nil
}

type counter struct{ n *int64 }

func (c counter) Write(p []byte) (int, error) { *c.n += int64(len(p)); return len(p), nil }

// Write takes content.
func (p *PartWriter) Write(b []byte) (int, error) {
	p.content += int64(len(b))
	if p.enc != nil {
		return p.enc.Write(b)
	}
	return p.into.Write(b)
}

// Content is the number of content bytes taken so far.
func (p *PartWriter) Content() int64 { return p.content }

// Finish ends the part and describes it, but for its kind and entries.
func (p *PartWriter) Finish() (Part, error) {
	if p.enc != nil {
		if err := p.enc.Close(); err != nil {
			return Part{}, err
		}
	}
	if p.sealed != nil {
		if err := p.sealed.Close(); err != nil {
			return Part{}, err
		}
	}
	if err := p.out.Flush(); err != nil {
		return Part{}, err
	}
	sum := hex.EncodeToString(p.digest.Sum(nil))
	return Part{Name: sum + p.ending, SHA256: sum, Bytes: p.stored, ContentBytes: p.content}, nil
}

// ErrDamaged is wrapped by errors about a part whose bytes are not the ones
// that were written.
var ErrDamaged = errors.New("damaged")

// StaleDir is the folder in a part of kind tree that names, part by part, the
// entries that do not belong to the archive.
const StaleDir = "REVLET-STALE/"

// PartReader gives a part's content and checks the stored bytes on the way.
type PartReader struct {
	part    Part
	mu      sync.Mutex    // of Read and Close
	in      *bufio.Reader // nil once it is closed
	content io.Reader
	dec     *zstd.Decoder
	digest  hash.Hash
	stored  int64
	left    int64
	pace    func(int64)
	// broke is why the stored bytes could not be read to their end; nil as long as
	// they could.
	broke error
}

// NewPartReader reads the stored bytes of part from r; keys open one that is
// encrypted. pace, if not nil, is told of stored bytes as they pass.
func NewPartReader(r io.Reader, part Part, keys *encryption.Keys, pace func(int64)) (*PartReader, error) {
	p := &PartReader{part: part, digest: sha256.New(), left: part.ContentBytes, pace: pace}
	p.in = borrowBuffer(tapped{r, p})
	p.content = p.in
	name, encrypted := strings.CutSuffix(part.Name, encryption.Ending)
	if encrypted {
		var err error
		if p.content, err = keys.Reader(p.in); err != nil {
			return nil, p.keyOrBlame(err)
		}
	}
	if strings.HasSuffix(name, ".zst") {
		dec, err := borrowDecoder(p.content)
		if err != nil {
			return nil, p.Blame(err)
		}
		p.dec, p.content = dec, dec
	}
	return p, nil
}

// keyOrBlame tells a missing key from a header that is damaged.
func (p *PartReader) keyOrBlame(err error) error {
	if errors.Is(err, encryption.ErrNoKey) || errors.Is(err, encryption.ErrWrongKey) {
		return fmt.Errorf("part %s: %w", p.part.Name, err)
	}
	return p.Blame(err)
}

// Blame names the cause of an error about the part's content: damage, unless its
// stored bytes could not be read to their end. What a broken connection has cut is
// not damaged, whatever the decoder makes of it.
func (p *PartReader) Blame(err error) error {
	switch {
	case p.broke != nil:
		return fmt.Errorf("part %s: %w", p.part.Name, p.broke)
	case errors.Is(err, ErrDamaged):
		return err
	}
	return fmt.Errorf("part %s: %w: %w", p.part.Name, ErrDamaged, err)
}

// tapped counts and hashes the stored bytes as they are read.
type tapped struct {
	r io.Reader
	p *PartReader
}

func (t tapped) Read(b []byte) (int, error) {
	n, err := t.r.Read(b)
	t.p.digest.Write(b[:n])
	t.p.stored += int64(n)
	if t.p.pace != nil {
		t.p.pace(int64(n))
	}
	if err != nil && !errors.Is(err, io.EOF) {
		t.p.broke = err
	}
	return n, err
}

// Read gives content, never more than the record promises.
func (p *PartReader) Read(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.in == nil {
		return 0, errClosed
	}
	if p.left == 0 {
		return 0, io.EOF
	}
	if int64(len(b)) > p.left {
		b = b[:p.left]
	}
	n, err := p.content.Read(b)
	p.left -= int64(n)
	switch {
	case errors.Is(err, io.EOF) && p.left > 0:
		return n, p.Blame(fmt.Errorf("it ends %d bytes early", p.left))
	case err != nil && !errors.Is(err, io.EOF):
		return n, p.Blame(err)
	}
	return n, err
}

// errClosed is for whoever reads on after Close.
var errClosed = errors.New("the part is closed")

// Finish reads what is left and tells whether the part is what the record says.
func (p *PartReader) Finish() error {
	if p.in == nil {
		return errClosed
	}
	if _, err := io.Copy(io.Discard, p); err != nil {
		return err
	}
	var extra [1]byte
	if p.dec != nil {
		// Reading past the promised end makes the decoder check its own sum.
		n, err := p.dec.Read(extra[:])
		if n > 0 {
			return p.Blame(errors.New("it holds more than the record says"))
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return p.Blame(err)
		}
	}
	if _, err := io.Copy(io.Discard, p.in); err != nil {
		return p.Blame(err)
	}
	if sum := hex.EncodeToString(p.digest.Sum(nil)); sum != p.part.SHA256 || p.stored != p.part.Bytes {
		return fmt.Errorf("part %s: %w: its %d bytes have the SHA-256 %s", p.part.Name, ErrDamaged, p.stored, sum)
	}
	return nil
}

// Close gives the decoder and the buffer back once a Read under way has ended: a driver
// whose connection broke may still be reading. Nothing can be read after it.
func (p *PartReader) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.dec != nil {
		returnDecoder(p.dec)
		p.dec = nil
	}
	if p.in != nil {
		returnBuffer(p.in)
		p.in = nil
	}
	p.content = nil
}

// Package digest makes SHA-256 digests: of what is long on a goroutine of its own, while whoever writes it does
// something else with the same bytes.
package digest

import (
	"crypto/sha256"
	"hash"
	"io"
)

// Long is the length in bytes from which on it is worth a goroutine.
const Long = 4 << 20

// Digest is a SHA-256 that is being made. It has to be closed.
type Digest struct {
	io.Writer
	sha    hash.Hash
	beside *beside
}

// New begins the digest of so many bytes, or about so many.
func New(length int64) *Digest {
	d := &Digest{sha: sha256.New()}
	d.Writer = d.sha
	if length >= Long {
		d.beside = newBeside(d.sha)
		d.Writer = d.beside
	}
	return d
}

// Sum closes it and returns the digest of all that was written.
func (d *Digest) Sum() [sha256.Size]byte {
	d.Close()
	return [sha256.Size]byte(d.sha.Sum(nil))
}

// Close ends it. Nothing may be written after it.
func (d *Digest) Close() {
	if d.beside != nil {
		d.beside.close()
	}
}

const (
	blockBytes = 256 << 10
	blocks     = 4
)

// beside is a hash that runs beside its writer.
type beside struct {
	full, empty chan []byte
	now         []byte
	done        chan struct{}
	closed      bool
}

// newBeside starts hashing with h, which nobody else may use until close.
func newBeside(h hash.Hash) *beside {
	b := &beside{full: make(chan []byte, blocks), empty: make(chan []byte, blocks), done: make(chan struct{})}
	for range blocks {
		b.empty <- make([]byte, 0, blockBytes)
	}
	go func() {
		defer close(b.done)
		for block := range b.full {
			h.Write(block)
			b.empty <- block[:0]
		}
	}()
	return b
}

// Write implements io.Writer; it copies p, and never fails.
func (b *beside) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		if b.now == nil {
			b.now = <-b.empty
		}
		some := p[:min(len(p), blockBytes-len(b.now))]
		b.now, p = append(b.now, some...), p[len(some):]
		if len(b.now) == blockBytes {
			b.full <- b.now
			b.now = nil
		}
	}
	return n, nil
}

// close has what was written hashed, and ends the goroutine. Nothing may be written after it.
func (b *beside) close() {
	if b.closed {
		return
	}
	b.closed = true
	if b.now != nil {
		b.full <- b.now
	}
	close(b.full)
	<-b.done
}

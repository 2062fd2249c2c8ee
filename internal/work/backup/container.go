package backup

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"io"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
)

// container is what the tar of a part is written into: one object, or several.
type container interface {
	io.Writer
	// headed is told that the header of a file was written, and that its content follows.
	headed() error
	// finish ends the part and gives its objects, but for those that the stores have.
	finish() (archive.Part, []spooled, error)
	// discard removes what was written.
	discard()
}

// spooled is an object in its scratch file.
type spooled struct {
	archive.Part
	file *disk.File
}

// contain begins the container for a job.
func (k *packer) contain(j job) (container, error) {
	if len(j.files) == 1 && j.files[0].info.Size() >= partBytes {
		return k.newCut(j.files[0].info.Size(), j.compress)
	}
	ending := archive.Tar
	if j.compress {
		ending = archive.TarZstd
	}
	return k.newWhole(ending)
}

// whole is a part of one object.
type whole struct {
	*archive.PartWriter
	spool *spool
	file  *disk.File
}

func (k *packer) newWhole(ending string) (*whole, error) {
	file, err := k.spool.create()
	if err != nil {
		return nil, err
	}
	pw, err := archive.NewPartWriter(file, ending, k.enc, k.to)
	if err != nil {
		k.spool.discard(file)
		return nil, err
	}
	return &whole{pw, k.spool, file}, nil
}

func (w *whole) headed() error { return nil }

func (w *whole) finish() (archive.Part, []spooled, error) {
	part, err := w.Finish()
	return part, []spooled{{part, w.file}}, err
}

func (w *whole) discard() { w.spool.discard(w.file) }

const (
	// pieceBytes is how much content a piece gets of a file of up to mostPieces of them. A larger file is cut into
	// larger ones, in steps of pieceStep: one that grows is cut anew once in a long while.
	pieceBytes = 16 << 20
	mostPieces = 1024
	pieceStep  = 4
)

// pieceOf is how much content the pieces of a file of some length get.
func pieceOf(size int64) int64 {
	n := int64(pieceBytes)
	for size/n > mostPieces {
		n *= pieceStep
	}
	return n
}

// cut is the part of one large file: an object that ends behind its header, and pieces of a fixed length behind it,
// the end of the tar included. Those that the last archive has are neither kept nor sent.
type cut struct {
	*packer
	ending string
	length int64

	part archive.Part
	new  []spooled
	now  *whole
	// left is how much content the open piece still takes, digest that of its content where its name does not tell.
	left   int64
	digest hash.Hash
}

func (k *packer) newCut(size int64, compress bool) (container, error) {
	c := &cut{packer: k, ending: archive.PieceEnding, length: pieceOf(size)}
	if compress {
		c.ending = archive.PieceZstdEnding
	}
	var err error
	c.now, err = k.newWhole(archive.Tar)
	return c, err
}

func (c *cut) headed() error {
	part, objects, err := c.now.finish()
	if err != nil {
		return err
	}
	c.part, c.new, c.now = part, objects, nil
	return nil
}

// Write implements io.Writer.
func (c *cut) Write(b []byte) (int, error) {
	done := 0
	for done < len(b) {
		if c.now != nil && c.part.Name == "" { // the header
			return c.now.Write(b)
		}
		if c.left == 0 {
			if err := c.nextPiece(); err != nil {
				return done, err
			}
		}
		some := b[done:min(int64(len(b)), int64(done)+c.left)]
		if c.digest != nil {
			c.digest.Write(some)
		}
		n, err := c.now.Write(some)
		done += n
		c.left -= int64(n)
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// nextPiece ends the piece that is open and begins another.
func (c *cut) nextPiece() (err error) {
	if err := c.endPiece(); err != nil {
		return err
	}
	c.now, err = c.newWhole(c.ending)
	c.left, c.digest = c.length, nil
	if len(c.to) > 0 {
		c.digest = sha256.New()
	}
	return err
}

func (c *cut) endPiece() error {
	if c.now == nil {
		return nil
	}
	object, err := c.now.Finish()
	if err != nil {
		return err
	}
	piece := archive.Piece{Name: object.Name, Bytes: object.Bytes, ContentBytes: object.ContentBytes}
	if c.digest != nil {
		piece.ContentSHA256 = hex.EncodeToString(c.digest.Sum(nil))
	}
	if old, ok := c.known(piece); ok {
		c.part.Pieces = append(c.part.Pieces, old)
		c.now.discard()
	} else {
		c.part.Pieces = append(c.part.Pieces, piece)
		c.new = append(c.new, spooled{piece.Object(), c.now.file})
	}
	c.now = nil
	return nil
}

func (c *cut) finish() (archive.Part, []spooled, error) {
	if c.part.Name == "" {
		return archive.Part{}, nil, errors.New("a large file without a header")
	}
	err := c.endPiece()
	return c.part, c.new, err
}

func (c *cut) discard() {
	if c.now != nil {
		c.now.discard()
	}
	for _, o := range c.new {
		c.spool.discard(o.file)
	}
}

// pieceIn finds a piece among those of the last archive: by its name, or by its content where nothing has the same
// bytes twice. All stores that are written to have it still.
func (r *run) pieceIn(before *reuse) func(archive.Piece) (archive.Piece, bool) {
	last := map[string]archive.Piece{}
	if before != nil {
		for _, part := range before.Record.Parts {
			for _, piece := range part.Pieces {
				last[pieceKey(piece)] = piece
			}
		}
	}
	return func(piece archive.Piece) (archive.Piece, bool) {
		old, ok := last[pieceKey(piece)]
		return old, ok && old.ContentBytes == piece.ContentBytes && r.present(old.Object())
	}
}

func pieceKey(p archive.Piece) string {
	if p.ContentSHA256 != "" {
		return p.ContentSHA256
	}
	return p.Name
}

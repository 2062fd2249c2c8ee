package archive

import (
	"fmt"
	"iter"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"revlet/internal/platform/encryption"
)

// The endings of names of pieces.
const (
	PieceEnding     = ".piece"
	PieceZstdEnding = ".piece.zst"
)

// Piece is an object that holds a stretch of a part's content, behind that of the object before it. A large file
// is cut at fixed lengths, so that one which has grown, or has changed somewhere, has most of its pieces in common
// with what it was.
type Piece struct {
	// Name is the SHA-256 of the stored bytes and an ending: .piece or .piece.zst, and .age after it when it is
	// encrypted.
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
	// ContentBytes is the length after decompression.
	ContentBytes int64 `json:"content_bytes"`
	// ContentSHA256 is of the content where that cannot be told from the name: of an encrypted piece.
	ContentSHA256 string `json:"content_sha256,omitempty"`
}

var pieceName = regexp.MustCompile(`^[0-9a-f]{64}\.piece(\.zst)?(\.age)?$`)

// mostPieces bounds how many pieces a part may have; a backup makes some 1024.
const mostPieces = 4096

// SHA256 is that of the stored bytes.
func (p *Piece) SHA256() string { sum, _, _ := strings.Cut(p.Name, "."); return sum }

// Object describes the piece as a part that is an object of its own.
func (p *Piece) Object() Part {
	return Part{Name: p.Name, Bytes: p.Bytes, SHA256: p.SHA256(), Kind: KindFiles, ContentBytes: p.ContentBytes, ContentSHA256: p.ContentSHA256}
}

// Objects gives the objects that the part's content consists of, in their order, each as a part without pieces: one
// for most parts.
func (p *Part) Objects() iter.Seq[Part] {
	return func(yield func(Part) bool) {
		first := *p
		first.Pieces = nil
		if !yield(first) {
			return
		}
		for i := range p.Pieces {
			if !yield(p.Pieces[i].Object()) {
				return
			}
		}
	}
}

// StoredBytes is the length of all its objects.
func (p *Part) StoredBytes() (n int64) {
	for o := range p.Objects() {
		n += o.Bytes
	}
	return n
}

// AllContentBytes is the length of the content of all its objects.
func (p *Part) AllContentBytes() (n int64) {
	for o := range p.Objects() {
		n += o.ContentBytes
	}
	return n
}

// checkPieces refuses pieces that cannot be fetched as they are described.
func (p *Part) checkPieces(encrypted bool) error {
	if len(p.Pieces) > mostPieces {
		return fmt.Errorf("it has %d pieces", len(p.Pieces))
	}
	for _, piece := range p.Pieces {
		if !pieceName.MatchString(piece.Name) || strings.HasSuffix(piece.Name, encryption.Ending) != encrypted ||
			min(piece.Bytes, piece.ContentBytes) < 0 || max(piece.Bytes, piece.ContentBytes) > mostBytes ||
			piece.ContentSHA256 != "" && !sum256.MatchString(piece.ContentSHA256) {
			return fmt.Errorf("piece %.80q is not described soundly", piece.Name)
		}
	}
	return nil
}

// public is what of a part stands in the clear: enough to check and to remove its objects.
func (p *Part) public() Part {
	public := Part{Name: p.Name, Bytes: p.Bytes, SHA256: p.SHA256}
	for _, piece := range p.Pieces {
		public.Pieces = append(public.Pieces, Piece{Name: piece.Name, Bytes: piece.Bytes})
	}
	return public
}

// samePublic tells whether parts are the same in the clear.
func samePublic(some, others []Part) bool {
	return slices.EqualFunc(some, others, func(a, b Part) bool { return reflect.DeepEqual(a.public(), b.public()) })
}

package backup

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A file that grows is cut anew once in a long while, and never into more pieces than a record can bear.
func TestPiecesGrowWithTheFile(t *testing.T) {
	const gib = 1 << 30
	before, changes := int64(pieceBytes), 0
	for size := int64(partBytes); size < 1<<44; size += size/50 + 1 {
		n := pieceOf(size)
		assert.LessOrEqual(t, size/n, int64(mostPieces))
		assert.Zero(t, n%pieceBytes)
		if n != before {
			changes++
			assert.Equal(t, before*pieceStep, n)
		}
		before = n
	}
	assert.Equal(t, 5, changes, "up to 16 TiB")
	assert.Equal(t, []int64{pieceBytes, pieceBytes, partBytes, 256 << 20}, []int64{pieceOf(64 << 20), pieceOf(16 * gib), pieceOf(64 * gib), pieceOf(100 * gib)})
}

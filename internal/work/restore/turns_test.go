package restore

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"revlet/internal/archives/archive"
)

// Parts of one table are loaded one after the other, as far as there are other tables; the largest come first.
func TestPartsAreLoadedByTurns(t *testing.T) {
	part := func(table string, bytes int64) archive.Part {
		return archive.Part{Database: "main", Table: table, ContentBytes: bytes}
	}
	a, b, c := func(n int64) archive.Part { return part("a", n) }, func(n int64) archive.Part { return part("b", n) }, part("c", 90)
	assert.Equal(t, []archive.Part{c, a(16), b(9), a(15), b(8), a(14)}, byTurns([]archive.Part{a(16), a(15), a(14), b(9), b(8), c}))
	other := archive.Part{Database: "shop", Table: "a", ContentBytes: 10}
	assert.Equal(t, []archive.Part{a(16), other, a(15)}, byTurns([]archive.Part{a(16), a(15), other}), "a table of another database is another one")
	assert.Empty(t, byTurns(nil))
}

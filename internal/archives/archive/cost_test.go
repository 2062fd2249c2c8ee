package archive

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/signing"
)

// taken is how much memory was taken meanwhile, in bytes.
func taken(work func()) int64 {
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	work()
	runtime.ReadMemStats(&after)
	return int64(after.TotalAlloc - before.TotalAlloc)
}

// Records of some MiB that took GiB: they are refused before anything is decoded.
func TestARecordTakesNoMoreThanItIsLong(t *testing.T) {
	fill := func(before, unit, after string) []byte {
		n := 8 << 20 / len(unit)
		return []byte(before + strings.Repeat(unit+",", n) + unit + after)
	}
	for name, data := range map[string][]byte{
		"empty parts":         fill(`{"format": 1, "parts": [`, `{}`, `]}`),
		"parts with spaces":   fill(`{"format": 1, "parts": [`, "{\n\n\n}", `]}`),
		"empty gaps":          fill(`{"format": 1, "gaps": [`, `{"why":"","path":""}`, `]}`),
		"empty rules":         fill(`{"format": 1, "origin": {"skip": [`, `""`, `]}}`),
		"empty folders":       fill(`{"format": 1, "origin": {"roots": {`, `"":""`, `}}}`),
		"databases":           fill(`{"format": 1, "origin": {"databases": {`, `"":{}`, `}}}`),
		"sequences":           fill(`{"format": 1, "origin": {"databases": {"main": {"sequences": [`, `""`, `]}}}}`),
		"lists in lists":      []byte(`{"format": 1, "parts": ` + strings.Repeat("[", 8<<20)),
		"a quote that is one": fill(`{"format": 1, "note": "\"", "parts": [`, `{}`, `]}`),
		"the same key again":  fill(`{"format": 1, `, `"parts":[{}]`, `}`),
	} {
		var err error
		used := taken(func() { _, err = DecodeRecord(data) })
		assert.ErrorIs(t, err, ErrRecord, name)
		assert.Less(t, used, int64(4<<20), "%s: %d MiB", name, used>>20)
	}
}

// A record of a very large site is none of those.
func TestALargeRecordIsTaken(t *testing.T) {
	key, err := signing.Generate()
	require.NoError(t, err)
	r := aRecord()
	part := r.Parts[1]
	r.Parts = nil
	for i := range 20_000 {
		p := part
		p.SHA256 = fmt.Sprintf("%064x", i)
		p.Name, p.Slice = p.SHA256+".sql.zst", i+1
		r.Parts = append(r.Parts, p)
		r.Gaps = append(r.Gaps, Gap{Path: fmt.Sprintf("webroot/{%d}", i), Kind: GapMoving, Why: "["})
	}
	data, err := r.Encode(key)
	require.NoError(t, err)
	back, err := DecodeRecord(data)
	require.NoError(t, err)
	assert.Len(t, back.Parts, 20_000)
	assert.Less(t, decodedCost(data), 3*int64(len(data)))
}

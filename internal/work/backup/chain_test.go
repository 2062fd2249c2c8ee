package backup

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/signing"
	"revlet/internal/platform/state"
)

// Each record names the one before, also when the run that wrote that one has died; what
// somebody else has laid there is none of them.
func TestTheChainGoesOnAfterADeadRun(t *testing.T) {
	st, err := state.Open(&disk.Disk{}, t.TempDir())
	require.NoError(t, err)
	key, err := signing.Generate()
	require.NoError(t, err)
	stranger, err := signing.Generate()
	require.NoError(t, err)
	record := func(day string, key *signing.Key, number int64, before *archive.Link) *archive.Record {
		r := &archive.Record{Format: 1, Name: "kp-202611" + day + "-032000", Site: "kp", Scope: archive.Files, Number: number, Before: before, List: archive.ListRef{SHA256: strings.Repeat("a", 64)}}
		data, err := r.Encode(key)
		require.NoError(t, err)
		back, err := archive.DecodeRecord(data)
		require.NoError(t, err)
		return back
	}
	c, err := openChain(st, "kp")
	require.NoError(t, err)
	first := record("01", key, 1, nil)
	require.NoError(t, c.append(first))
	link := &archive.Link{Name: first.Name, SHA256: first.Checksum}
	written := record("02", key, 2, link)
	for name, v := range map[string]struct {
		there *archive.Record
		want  *archive.Link
	}{
		"it came to its record":           {written, &archive.Link{Name: written.Name, SHA256: written.Checksum}},
		"somebody else's lies there":      {record("02", stranger, 2, link), link},
		"nobody's lies there":             {record("02", nil, 2, link), link},
		"an older one of ours lies there": {record("02", key, 1, nil), link},
		"it did not":                      {first, link},
	} {
		require.NoError(t, c.append(first))
		listing := &catalog.Listing{Archives: []catalog.Held{{Record: v.there}}}
		require.NoError(t, adoptDead(st, "kp", key.Public(), []deadRun{{name: written.Name}}, listing), name)
		now, err := openChain(st, "kp")
		require.NoError(t, err)
		assert.Equal(t, v.want, now.Last, name)
	}
}

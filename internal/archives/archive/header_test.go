package archive

import (
	"archive/tar"
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a tar header says of a path is what the list says, also of files beyond what the
// formats before pax could hold: 4 GiB, and 8.
func TestHeadersSayWhatTheListSays(t *testing.T) {
	when := time.Date(2026, 11, 20, 3, 20, 1, 123456789, time.UTC)
	for _, e := range []Entry{
		{Type: TypeFile, Path: "webroot/a", Mode: "0640", UID: 33, GID: 4_000_000_000, User: "www-data", Size: 4<<30 + 1, MTime: when},
		{Type: TypeFile, Path: "webroot/big.iso", Mode: "4755", Size: 9 << 40, MTime: when, Sparse: true, XAttrs: map[string][]byte{"user.origin": []byte("kestrel\x00point")}},
		{Type: TypeFolder, Path: "webroot/folder", Mode: "2775", MTime: when},
		{Type: TypeSymlink, Path: "webroot/l", Mode: "0777", Target: "../../x", MTime: when},
		{Type: TypeHardlink, Path: "webroot/h", Mode: "0644", Target: "webroot/a", MTime: when},
	} {
		var text bytes.Buffer
		require.NoError(t, tar.NewWriter(&text).WriteHeader(Header(e)))
		h, err := tar.NewReader(&text).Next()
		require.NoError(t, err, e.Path)
		got := EntryOf(h)
		got.MTime = got.MTime.UTC()
		assert.Equal(t, e, got)
	}
}

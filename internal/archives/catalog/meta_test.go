package catalog

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/store"
)

// A store that answers first changed owner and permissions of entries and left their
// content: what it sent was taken, set-id bits and all, and only the part as a whole was
// found damaged, when it was too late.
func TestWhatAnEntryIsGivenIsWhatTheListSays(t *testing.T) {
	when := time.Date(2026, 11, 20, 3, 20, 0, 123456789, time.UTC)
	sum, empty := sha256.Sum256([]byte("lamp")), sha256.Sum256(nil)
	file := archive.Entry{Type: archive.TypeFile, Path: "webroot/a", Mode: "0640", UID: 1000, GID: 33, User: "keeper", Group: "www-data", MTime: when, CTime: when, Size: 4, SHA256: hex.EncodeToString(sum[:])}
	folder := archive.Entry{Type: archive.TypeFolder, Path: "webroot", Mode: "0755", UID: 1000, GID: 33, MTime: when}
	link := archive.Entry{Type: archive.TypeSymlink, Path: "webroot/l", Mode: "0777", Target: "a", MTime: when}
	second := archive.Entry{Type: archive.TypeHardlink, Path: "webroot/h", Mode: "0640", Target: "webroot/a", MTime: when}
	before := archive.Entry{Type: archive.TypeFile, Path: "webroot/old", Mode: "4755", MTime: time.Unix(-5, 0), SHA256: hex.EncodeToString(empty[:]), XAttrs: map[string][]byte{"user.note": []byte("x\x00y")}, Sparse: true}
	for name, v := range map[string]struct {
		entry archive.Entry
		forge func(*tar.Header)
	}{
		"a file as it is":     {file, nil},
		"a folder as it is":   {folder, nil},
		"a link as it is":     {link, nil},
		"a second name":       {second, nil},
		"odd, and as it is":   {before, nil},
		"set-id":              {file, func(h *tar.Header) { h.Mode |= 0o4000 }},
		"set-group-id":        {folder, func(h *tar.Header) { h.Mode |= 0o2000 }},
		"for all to write":    {file, func(h *tar.Header) { h.Mode |= 0o002 }},
		"root's":              {file, func(h *tar.Header) { h.Uid = 0 }},
		"root's group's":      {folder, func(h *tar.Header) { h.Gid = 0 }},
		"root's by name":      {file, func(h *tar.Header) { h.Uname = "root" }},
		"a group's by name":   {file, func(h *tar.Header) { h.Gname = "shadow" }},
		"a link elsewhere":    {link, func(h *tar.Header) { h.Linkname = "/etc/shadow" }},
		"a name of another":   {second, func(h *tar.Header) { h.Linkname = "webroot/l" }},
		"a link for a file":   {file, func(h *tar.Header) { h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, "/etc/shadow", 0 }},
		"a device for a file": {file, func(h *tar.Header) { h.Typeflag, h.Size = tar.TypeChar, 0 }},
		"with a capability": {file, func(h *tar.Header) {
			h.PAXRecords = map[string]string{archive.PAXXAttr + "security.capability": "\x01"}
		}},
		"another attribute":     {before, func(h *tar.Header) { h.PAXRecords[archive.PAXXAttr+"user.note"] = "z" }},
		"an attribute less":     {before, func(h *tar.Header) { delete(h.PAXRecords, archive.PAXXAttr+"user.note") }},
		"without holes":         {before, func(h *tar.Header) { delete(h.PAXRecords, archive.PAXSparse) }},
		"a nanosecond later":    {file, func(h *tar.Header) { h.ModTime = h.ModTime.Add(1) }},
		"of another time (old)": {before, func(h *tar.Header) { h.ModTime = time.Unix(5, 0) }},
	} {
		again := archive.Header(archive.EntryOf(archive.Header(v.entry)))
		assert.Equal(t, metaOf(archive.Header(v.entry)), metaOf(again), "%s: what a list is made anew of says the same", name)
		s, dir := newShelf(t, "here", false)
		var out bytes.Buffer
		enc, err := archive.NewEncoder()
		require.NoError(t, err)
		pw, err := archive.NewPartWriter(&out, archive.TarZstd, enc, nil)
		require.NoError(t, err)
		tw := tar.NewWriter(pw)
		h := archive.Header(v.entry)
		if v.forge != nil {
			v.forge(h)
		}
		require.NoError(t, tw.WriteHeader(h), name)
		if h.Size > 0 {
			_, err = io.WriteString(tw, "lamp")
			require.NoError(t, err)
		}
		require.NoError(t, tw.Close())
		part, err := pw.Finish()
		require.NoError(t, err)
		part.Kind = archive.KindFiles
		r := record(t, 0, "a")
		r.Parts, v.entry.Part = []archive.Part{part}, part.Name
		require.NoError(t, s.Put(t.Context(), archive.PartPath("kp", part.Name), bytes.NewReader(out.Bytes()), int64(out.Len())))
		layList(t, dir, r, v.entry)

		held := &Held{Record: r, Stores: []store.Named{s}}
		ix, err := held.ReadIndex(t.Context())
		require.NoError(t, err)
		p, err := held.OpenPart(t.Context(), s, part, nil)
		require.NoError(t, err)
		visited := false
		err = ix.ReadTar(p, part, func(*tar.Header, io.Reader) error { visited = true; return nil })
		p.Close()
		if v.forge == nil {
			assert.NoError(t, err, name)
			assert.True(t, visited, name)
			continue
		}
		assert.ErrorIs(t, err, archive.ErrDamaged, name)
		assert.False(t, visited, "%s: nothing of it is written", name)
	}
}

// layList lays an archive's list of some entries.
func layList(t *testing.T, dir string, r *archive.Record, entries ...archive.Entry) {
	t.Helper()
	var stored bytes.Buffer
	enc, err := zstd.NewWriter(&stored)
	require.NoError(t, err)
	for _, e := range entries {
		line, err := e.Encode()
		require.NoError(t, err)
		_, err = enc.Write(line)
		require.NoError(t, err)
	}
	require.NoError(t, enc.Close())
	sum := sha256.Sum256(stored.Bytes())
	r.List = archive.ListRef{Lines: int64(len(entries)), Bytes: int64(stored.Len()), SHA256: hex.EncodeToString(sum[:])}
	file := filepath.Join(dir, filepath.FromSlash(r.ListPath()))
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
	require.NoError(t, os.WriteFile(file, stored.Bytes(), 0o600))
}

package catalog

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/folder"
)

// cutPart puts texts into a store as the objects of one part.
func cutPart(t *testing.T, s store.Store, texts ...string) (part archive.Part) {
	enc, err := archive.NewEncoder()
	require.NoError(t, err)
	for i, text := range texts {
		ending := archive.Tar
		if i > 0 {
			ending = []string{archive.PieceEnding, archive.PieceZstdEnding}[i%2]
		}
		var out bytes.Buffer
		w, err := archive.NewPartWriter(&out, ending, enc, nil)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
		object, err := w.Finish()
		require.NoError(t, err)
		require.NoError(t, s.Put(t.Context(), archive.PartPath("kp", object.Name), bytes.NewReader(out.Bytes()), int64(out.Len())))
		if i == 0 {
			part = object
		} else {
			part.Pieces = append(part.Pieces, archive.Piece{Name: object.Name, Bytes: object.Bytes, ContentBytes: object.ContentBytes})
		}
	}
	return part
}

func TestAPartOfPiecesIsReadAsOne(t *testing.T) {
	texts := []string{"header, ", strings.Repeat("the lamp ", 5000), "", strings.Repeat("is lit ", 5000), "."}
	s := folder.New(&disk.Disk{}, t.TempDir())
	part := cutPart(t, s, texts...)
	whole := strings.Join(texts, "")
	assert.Equal(t, int64(len(whole)), part.AllContentBytes())
	h := &Held{Record: &archive.Record{Site: "kp"}}
	third := archive.PartPath("kp", part.Pieces[2].Name)
	var stored []byte
	for name, c := range map[string]struct {
		spoil func(data []byte) []byte // nil takes it away
		err   error
	}{
		"sound":     {func(data []byte) []byte { return data }, nil},
		"a bit":     {func(data []byte) []byte { data[len(data)/2] ^= 1; return data }, archive.ErrDamaged},
		"cut short": {func(data []byte) []byte { return data[:len(data)-3] }, archive.ErrDamaged},
		"longer":    {func(data []byte) []byte { return append(data, 0) }, archive.ErrDamaged},
		"missing":   {nil, store.ErrNotFound},
	} {
		if stored == nil {
			in, err := s.Open(t.Context(), third, 0)
			require.NoError(t, err)
			stored, err = io.ReadAll(in)
			require.NoError(t, errors.Join(err, in.Close()))
		}
		require.NoError(t, s.Remove(t.Context(), third))
		if c.spoil != nil {
			data := c.spoil(bytes.Clone(stored))
			require.NoError(t, s.Put(t.Context(), third, bytes.NewReader(data), int64(len(data))))
		}
		paced := int64(0)
		p, err := h.OpenPart(t.Context(), store.Named{Name: "here", Store: s}, part, func(n int64) { paced += n })
		require.NoError(t, err, name)
		got, err := io.ReadAll(iotest.OneByteReader(p))
		if c.err == nil {
			require.NoError(t, err)
			require.NoError(t, p.Finish())
			assert.Equal(t, whole, string(got))
			assert.Equal(t, part.StoredBytes(), paced)
			require.NoError(t, h.CheckPart(t.Context(), s, part, nil))
		} else {
			require.ErrorIs(t, err, c.err, name)
			require.ErrorContains(t, p.Blame(err), part.Pieces[2].Name, "it says which")
			require.ErrorIs(t, h.CheckPart(t.Context(), s, part, nil), c.err)
			assert.True(t, strings.HasPrefix(whole, string(got)))
		}
		p.Close()
		p.Close()
		require.NoError(t, s.Put(t.Context(), third, bytes.NewReader(stored), int64(len(stored))))
	}
}

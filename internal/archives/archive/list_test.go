package archive

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

func TestListComesBackInPathOrder(t *testing.T) {
	dir, n := t.TempDir(), 0
	l := NewListWriter(&disk.Disk{}, func() string { n++; return filepath.Join(dir, fmt.Sprint(n)) })
	defer l.Close()
	names := []string{"webroot", "webroot/a", "webroot/a/x", "webroot/a-b", "webroot/a/y", "webroot/é", "webroot/bad\xff", "webroot/new\nline"}
	for i := range 2*runLength + 11 {
		names = append(names, fmt.Sprintf("webroot/many/%d/%d", i%97, i))
	}
	rand.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
	for _, name := range names {
		require.NoError(t, l.Add(Entry{Type: TypeFile, Path: name, Part: map[bool]string{true: "", false: "p"}[name == "webroot"]}))
	}
	assert.Equal(t, 2, n, "what does not fit into memory is spilled")
	var stored bytes.Buffer
	lines, err := l.Finish(&stored, nil, "tree")
	require.NoError(t, err)
	assert.EqualValues(t, len(names), lines)

	var got []string
	require.NoError(t, ReadList(bytes.NewReader(stored.Bytes()), func(e Entry) error {
		got = append(got, e.Path)
		if e.Path == "webroot" {
			assert.Equal(t, "tree", e.Part)
		}
		return nil
	}))
	slices.SortFunc(names, ComparePaths)
	assert.Equal(t, names, got)
	assert.Less(t, slices.Index(got, "webroot/a/y"), slices.Index(got, "webroot/a-b"), "a folder's content comes before its sibling")

	cut := stored.Bytes()[:stored.Len()-5]
	assert.ErrorIs(t, ReadList(bytes.NewReader(cut), func(Entry) error { return nil }), ErrList)
}

func TestPartBytesAreProved(t *testing.T) {
	content := bytes.Repeat([]byte("the light has burned since 1871\n"), 9000)
	for _, ending := range []string{Tar, SQLZstd} {
		enc, err := NewEncoder()
		require.NoError(t, err)
		var stored bytes.Buffer
		w, err := NewPartWriter(&stored, ending, enc, nil)
		require.NoError(t, err)
		_, err = w.Write(content)
		require.NoError(t, err)
		part, err := w.Finish()
		require.NoError(t, err)

		read := func(data []byte, p Part) (err error) {
			r, err := NewPartReader(bytes.NewReader(data), p, nil, nil)
			if err != nil {
				return err
			}
			defer r.Close()
			return r.Finish()
		}
		require.NoError(t, read(stored.Bytes(), part))
		for i := range 200 {
			data := bytes.Clone(stored.Bytes())
			data[rand.IntN(len(data))] ^= 1 << (i % 8)
			assert.ErrorIs(t, read(data, part), ErrDamaged)
		}
		assert.ErrorIs(t, read(stored.Bytes()[:stored.Len()-1], part), ErrDamaged)
		short, long := part, part
		short.ContentBytes--
		long.ContentBytes++
		assert.True(t, ending == Tar || errors.Is(read(stored.Bytes(), short), ErrDamaged), "more content than the record says")
		assert.ErrorIs(t, read(stored.Bytes(), long), ErrDamaged)
	}
}

func FuzzDecodeRecord(f *testing.F) {
	f.Add([]byte(`{"format":1,"name":"a-20260101-000000","site":"a","scope":"full","parts":[{"name":"x"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := DecodeRecord(data)
		if err == nil {
			for _, p := range r.Parts {
				assert.True(t, filepath.IsLocal(PartPath(r.Site, p.Name)))
			}
			require.NoError(t, r.Origin.Check())
		}
	})
}

func FuzzReadList(f *testing.F) {
	var stored bytes.Buffer
	enc, _ := NewEncoder()
	enc.Reset(&stored)
	_, _ = enc.Write([]byte(`{"type":"file","path":"webroot/a","size":1,"part":"p"}` + "\n"))
	_ = enc.Close()
	f.Add(stored.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) { _ = ReadList(bytes.NewReader(data), func(Entry) error { return nil }) })
}

// Counts beyond all bounds made whoever read the list take memory for them, or ended in a
// panic.
func TestAListCountsWithinBounds(t *testing.T) {
	for line, good := range map[string]bool{
		`{"type":"rows","path":"database/main/rows/pages","table":"pages","slice":1,"rows":5,"size":7,"part":"x"}`:    true,
		`{"type":"file","path":"webroot/a","size":0,"part":"x"}`:                                                      true,
		`{"type":"rows","path":"database/main/rows/pages","table":"pages","slice":1099511627776,"size":7,"part":"x"}`: false,
		`{"type":"rows","path":"database/main/rows/pages","table":"pages","slice":-1,"size":7,"part":"x"}`:            false,
		`{"type":"rows","path":"database/main/rows/pages","table":"pages","size":7,"part":"x"}`:                       false,
		`{"type":"rows","path":"database/main/rows/pages","slice":1,"size":7,"part":"x"}`:                             false,
		`{"type":"rows","path":"database/main/rows/pages","table":"pages","slice":1,"rows":-5,"size":7,"part":"x"}`:   false,
		`{"type":"file","path":"webroot/a","size":-1,"part":"x"}`:                                                     false,
		`{"type":"file","path":"webroot/a","uid":-1,"size":1,"part":"x"}`:                                             false,
		`{"type":"file","path":"","size":1,"part":"x"}`:                                                               false,
	} {
		var stored bytes.Buffer
		w, err := zstd.NewWriter(&stored)
		require.NoError(t, err)
		_, err = w.Write([]byte(line + "\n"))
		require.NoError(t, errors.Join(err, w.Close()))
		err = ReadList(&stored, func(Entry) error { return nil })
		if good {
			require.NoError(t, err, line)
		} else {
			require.ErrorIs(t, err, ErrList, line)
		}
	}
}

// A line that is passed over is one of the site's paths as they are written; whatever else it may be is looked at.
func TestLinesOfDatabases(t *testing.T) {
	for line, want := range map[string]bool{
		`{"type":"file","path":"webroot/a","size":1,"part":"p"}`: false, `{"type":"folder","path":"webroot"}`: false, `{"type":"symlink"}`: false, `{"type":"hardlink"}`: false,
		`{"type":"rows","path":"database/main/t"}`: true, `{"type":"schema"}`: true, `{"type":"objects"}`: true, `{"type":"file`: true, `{ "type":"file"}`: true,
		`{"path":"x","type":"file"}`: true, `{"type":"\u0066ile"}`: true, `{"type":""}`: true, ``: true,
	} {
		assert.Equal(t, want, OfDatabase([]byte(line)), line)
	}
}

// A path of a list leads nowhere but down: whoever goes up from it, folder by folder, comes to its label.
func TestPathsOfAListArePlain(t *testing.T) {
	for name, ok := range map[string]bool{
		"webroot": true, "webroot/a": true, "webroot/..a/b..": true, "webroot/\xff\n": true, `webroot/a\..\b`: true,
		"webroot/../x": false, "../x": false, "..": false, ".": false, "/webroot": false, "webroot/": false, "webroot//a": false, "webroot/./a": false, "webroot/..": false,
	} {
		line, err := Entry{Type: TypeFile, Path: name, Part: "p"}.Encode()
		require.NoError(t, err)
		_, err = decodeEntry(line)
		assert.Equal(t, ok, err == nil, "%q: %v", name, err)
	}
	line, err := Entry{Type: TypeRows, Path: "database/main/a//../b", Part: "p", Table: "a//../b", Slice: 1}.Encode()
	require.NoError(t, err)
	_, err = decodeEntry(line)
	assert.NoError(t, err, "a table may be called anything")
}

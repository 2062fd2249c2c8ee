package catalog

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/folder"
)

// shelf is a folder as a store, here or offsite.
type shelf struct {
	*folder.Folder
	dir     string
	offsite bool
}

func (s shelf) Offsite() bool { return s.offsite }

func newShelf(t testing.TB, name string, offsite bool) (store.Named, string) {
	t.Helper()
	dir := t.TempDir()
	return store.Named{Name: name, Store: shelf{folder.New(&disk.Disk{}, dir), dir, offsite}}, dir
}

var began = time.Date(2026, 11, 1, 3, 20, 0, 0, time.UTC)

// record is a small sound record; mark makes it another archive's.
func record(t testing.TB, day int, mark string) *archive.Record {
	t.Helper()
	taken := began.AddDate(0, 0, day)
	sum := strings.Repeat("a", 63) + mark
	return &archive.Record{Format: archive.Format, Program: "test", Site: "kp", Name: archive.NewName("kp", taken), Scope: archive.Files, Taken: taken,
		List: archive.ListRef{SHA256: sum, Bytes: 10}, Totals: archive.Totals{StoredBytes: 10}, Parts: []archive.Part{}}
}

func lay(t testing.TB, dir string, r *archive.Record) string {
	t.Helper()
	data, err := r.Encode(nil)
	require.NoError(t, err)
	file := filepath.Join(dir, filepath.FromSlash(r.Path()))
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
	require.NoError(t, os.WriteFile(file, data, 0o600))
	return file
}

func names(l *Listing) (all []string) {
	for _, h := range l.Archives {
		var in []string
		for _, s := range h.Stores {
			in = append(in, s.Name)
		}
		all = append(all, h.Name+" in "+strings.Join(in, ","))
	}
	return all
}

func TestAListingIsNewestFirstAndNearestFirst(t *testing.T) {
	far, farDir := newShelf(t, "far", true)
	here, hereDir := newShelf(t, "here", false)
	for _, day := range []int{0, 1, 2} {
		lay(t, farDir, record(t, day, "1"))
	}
	lay(t, hereDir, record(t, 1, "1"))
	lay(t, hereDir, record(t, 3, "1"))
	l, err := List(t.Context(), []store.Named{far, here}, "kp", Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"kp-20261104-032000 in here", "kp-20261103-032000 in far", "kp-20261102-032000 in here,far", "kp-20261101-032000 in far"}, names(l))
	assert.Empty(t, l.Broken)
	assert.Empty(t, l.Silent)
	none, err := List(t.Context(), []store.Named{far, here}, "shop", Options{})
	require.NoError(t, err)
	assert.Empty(t, none.Archives, "another site's are not listed")
}

func TestWhatIsWrongWithARecordIsToldBesideTheOthers(t *testing.T) {
	here, dir := newShelf(t, "here", false)
	other, otherDir := newShelf(t, "other", false)
	sound := record(t, 0, "1")
	lay(t, dir, sound)

	bent := lay(t, dir, record(t, 1, "1"))
	data, err := os.ReadFile(bent)
	require.NoError(t, err)
	at := bytes.Index(data, []byte("aaaa"))
	data[at] = 'b' // a digit of a digest: it decodes, its checksum does not agree
	require.NoError(t, os.WriteFile(bent, data, 0o600))

	moved := lay(t, dir, record(t, 2, "1"))
	require.NoError(t, os.Rename(moved, filepath.Join(filepath.Dir(moved), "kp-20261209-000000.json")))
	cut := lay(t, dir, record(t, 3, "1"))
	require.NoError(t, os.Truncate(cut, 30))

	lay(t, otherDir, record(t, 0, "2")) // another archive under the same name

	l, err := List(t.Context(), []store.Named{here, other}, "kp", Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{sound.Name + " in here"}, names(l), "a copy that differs is no copy")
	said := map[string]string{}
	for _, b := range l.Broken {
		require.ErrorIs(t, b.Err, archive.ErrRecord)
		said[b.Store+"/"+b.Name] = b.Err.Error()
	}
	require.Len(t, said, 4, "%v", said)
	assert.Contains(t, said["here/kp-20261102-032000"], "checksum")
	assert.Contains(t, said["here/kp-20261209-000000"], "it calls itself kp-20261103-032000")
	assert.Contains(t, said, "here/kp-20261104-032000")
	assert.Contains(t, said["other/"+sound.Name], "another archive than store here has")
}

// deaf is a store that cannot be reached.
type deaf struct{ store.Store }

var errDeaf = errors.New("no route to host")

func (deaf) List(context.Context, string) ([]store.Info, error) { return nil, errDeaf }

func TestAStoreThatCannotBeAskedIsNotEmpty(t *testing.T) {
	here, dir := newShelf(t, "here", false)
	away := store.Named{Name: "away", Store: deaf{here.Store}}
	l, err := List(t.Context(), []store.Named{away, here}, "kp", Options{})
	require.NoError(t, err)
	require.Len(t, l.Silent, 1)
	assert.Equal(t, "away", l.Silent[0].Store)
	_, err = l.Pick("kp", "kp", time.Time{})
	require.ErrorIs(t, err, errDeaf, "nothing was found, and nobody knows whether there is something")

	lay(t, dir, record(t, 0, "1"))
	l, err = List(t.Context(), []store.Named{away, here}, "kp", Options{})
	require.NoError(t, err)
	_, err = l.Pick("kp", "kp", time.Time{})
	require.NoError(t, err)

	_, err = List(t.Context(), []store.Named{away}, "kp", Options{})
	require.ErrorIs(t, err, errDeaf)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err = List(ctx, []store.Named{here}, "kp", Options{})
	require.ErrorIs(t, err, context.Canceled, "a listing that was given up is none")
}

// breaking is a store whose reads after the first break off in the middle.
type breaking struct {
	store.Store
	reads *int
}

var errBroken = errors.New("connection reset by peer")

func (s breaking) Open(ctx context.Context, name string, from int64) (io.ReadCloser, error) {
	in, err := s.Store.Open(ctx, name, from)
	if *s.reads++; err != nil || *s.reads == 1 {
		return in, err
	}
	defer in.Close()
	head, err := io.ReadAll(io.LimitReader(in, 40))
	return io.NopCloser(io.MultiReader(bytes.NewReader(head), cut{})), err
}

type cut struct{}

func (cut) Read([]byte) (int, error) { return 0, errBroken }

// The bytes of a list are read once to be proved and once to be used; the line may
// break in between.
func TestAListThatBreaksOffIsNotDamaged(t *testing.T) {
	here, dir := newShelf(t, "here", false)
	var stored bytes.Buffer
	enc, err := zstd.NewWriter(&stored)
	require.NoError(t, err)
	for i := range 500 {
		fmt.Fprintf(enc, "{\"path\":\"webroot/%04d\",\"type\":\"folder\",\"mode\":\"0755\"}\n", i)
	}
	require.NoError(t, enc.Close())
	r := record(t, 0, "1")
	r.List.Lines = 500
	r.List.Bytes, r.List.SHA256 = int64(stored.Len()), fmt.Sprintf("%x", sha256.Sum256(stored.Bytes()))
	file := filepath.Join(dir, filepath.FromSlash(r.ListPath()))
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
	require.NoError(t, os.WriteFile(file, stored.Bytes(), 0o600))

	n := 0
	whole := &Held{Record: r, Stores: []store.Named{here}}
	require.NoError(t, whole.ReadList(t.Context(), func(archive.Entry) error { n++; return nil }))
	require.Equal(t, 500, n)
	n, r.List.Lines = 0, 20
	require.ErrorIs(t, whole.ReadList(t.Context(), func(archive.Entry) error { n++; return nil }), archive.ErrList, "a list of millions that nobody has announced")
	require.Equal(t, 20, n)
	r.List.Lines = 500

	away := &Held{Record: r, Stores: []store.Named{{Name: "far", Store: breaking{here.Store, new(int)}}}}
	err = away.ReadList(t.Context(), func(archive.Entry) error { return nil })
	require.ErrorIs(t, err, errBroken)
	require.NotErrorIs(t, err, archive.ErrList)
	assert.Equal(t, NotReached, VerdictOf(err))

	require.NoError(t, os.WriteFile(file, stored.Bytes()[:stored.Len()-3], 0o600))
	err = whole.ReadList(t.Context(), func(archive.Entry) error { return nil })
	assert.Equal(t, Damaged, VerdictOf(err), "%v", err)
}

func TestCheckBytesTellsDamageFromAbsence(t *testing.T) {
	here, dir := newShelf(t, "here", false)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "kp/lists"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kp/lists/x"), []byte("the lamp"), 0o600))
	const sum = "ff1b9f7b1e9bbd4d0bd3ea0a0d6f7b9e0c0fbf5cf0d7e0d0a4a5d7ff3a9f41b7"
	paced := int64(0)
	err := CheckBytes(t.Context(), here, "kp/lists/x", 8, sum, func(n int64) { paced += n })
	require.ErrorIs(t, err, archive.ErrDamaged, "other bytes")
	assert.Equal(t, int64(8), paced)
	require.ErrorIs(t, CheckBytes(t.Context(), here, "kp/lists/x", 9, sum, nil), archive.ErrDamaged)
	err = CheckBytes(t.Context(), here, "kp/lists/y", 8, sum, nil)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NotErrorIs(t, err, archive.ErrDamaged, "what is not there is not damaged")
}

// A year of archives is read each time that anything is done with a store.
func BenchmarkListAYear(b *testing.B) {
	here, dir := newShelf(b, "here", false)
	for day := range 365 {
		r := record(b, day, "1")
		for i := range 40 {
			sum := fmt.Sprintf("%064x", day*40+i)
			r.Parts = append(r.Parts, archive.Part{Name: sum + archive.Tar, Kind: archive.KindFiles, SHA256: sum, Bytes: 1 << 20, ContentBytes: 1 << 20})
		}
		lay(b, dir, r)
	}
	for b.Loop() {
		l, err := List(b.Context(), []store.Named{here}, "kp", Options{})
		if err != nil || len(l.Archives) != 365 {
			b.Fatal(err, l)
		}
	}
}

// A store that sends without end is not listened to for ever.
func TestAnObjectWithoutEndIsDamaged(t *testing.T) {
	here, dir := newShelf(t, "here", false)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x"), []byte("lamp"), 0o600))
	err := CheckBytes(t.Context(), endless{here.Store}, "x", 4, strings.Repeat("a", 64), nil)
	require.ErrorIs(t, err, archive.ErrDamaged)
	assert.Contains(t, err.Error(), "more than the 4 bytes")
}

type endless struct{ store.Store }

func (endless) Open(context.Context, string, int64) (io.ReadCloser, error) {
	return io.NopCloser(zeros{}), nil
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

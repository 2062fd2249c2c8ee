package catalog

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/signing"
	"revlet/internal/store"
)

// laySigned lays a row of n archives, each naming the one before.
func laySigned(t *testing.T, dir string, key *signing.Key, n int) (files []string) {
	t.Helper()
	var before *archive.Link
	for i := range n {
		r := record(t, i, "a")
		r.Number, r.Before = int64(i+1), before
		data, err := r.Encode(key)
		require.NoError(t, err)
		before = &archive.Link{Name: r.Name, SHA256: r.Checksum}
		file := filepath.Join(dir, filepath.FromSlash(r.Path()))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, data, 0o600))
		files = append(files, file)
	}
	return files
}

func TestWhatIsMissingInARowIsCounted(t *testing.T) {
	s, dir := newShelf(t, "here", false)
	key, err := signing.Generate()
	require.NoError(t, err)
	files := laySigned(t, dir, key, 6)
	rows := func() []Row {
		l, err := List(t.Context(), []store.Named{s}, "kp", Options{})
		require.NoError(t, err)
		return l.Rows()
	}
	assert.Equal(t, []Row{{Signer: key.Public(), Archives: 6}}, rows())
	require.NoError(t, os.Remove(files[2]))
	require.NoError(t, os.Remove(files[3]))
	assert.Equal(t, int64(2), rows()[0].Missing)
	require.NoError(t, os.Remove(files[0]))
	assert.Equal(t, int64(2), rows()[0].Missing, "what is older than the oldest was removed by age")

	// The same machine's, of another past: after its state was put back from a backup.
	other := record(t, 9, "b")
	other.Number, other.Before = 6, &archive.Link{Name: record(t, 4, "a").Name, SHA256: record(t, 4, "a").List.SHA256}
	data, err := other.Encode(key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.FromSlash(other.Path())), data, 0o600))
	assert.Len(t, rows()[0].Broken, 2, "two of one number, and one that does not follow")
}

func TestOnlyTrustedRecordsAreListed(t *testing.T) {
	here, hereDir := newShelf(t, "here", false)
	far, farDir := newShelf(t, "far", true)
	good, err := signing.Generate()
	require.NoError(t, err)
	evil, err := signing.Generate()
	require.NoError(t, err)
	laySigned(t, hereDir, evil, 2) // in the first store that is asked
	laySigned(t, farDir, good, 1)
	l, err := List(t.Context(), []store.Named{here, far}, "kp", Options{Trust: func(r *archive.Record) error {
		if r.Signer() != good.Public() {
			return archive.ErrSigner
		}
		return nil
	}})
	require.NoError(t, err)
	assert.Equal(t, []string{"kp-20261101-032000 in far"}, names(l), "a forged one hides no real one")
	require.Len(t, l.Broken, 2)
	for _, b := range l.Broken {
		assert.Equal(t, "here", b.Store)
		assert.Equal(t, Damaged, b.Verdict())
	}
	_, err = l.Pick("kp", "kp-20261102-032000", began.AddDate(1, 0, 0))
	assert.ErrorIs(t, err, archive.ErrSigner)
}

// Whoever can write to a store can lay any number of records there: 15,000 of 84 kB that nobody took were 1.7 GB in memory.
func TestRecordsThatAreNotTrustedTakeNoMemory(t *testing.T) {
	here, dir := newShelf(t, "here", false)
	evil, err := signing.Generate()
	require.NoError(t, err)
	laySigned(t, dir, evil, 5)
	cache := &Cache{}
	refuse := func(r *archive.Record) error { return archive.ErrSigner }
	list, infos, err := recordNames(t.Context(), here, "kp")
	require.NoError(t, err)
	records, errs := readRecords(t.Context(), here, "kp", list, infos, Options{Trust: refuse, Cache: cache})
	for i := range list {
		assert.Nil(t, records[i])
		require.ErrorIs(t, errs[i], archive.ErrSigner)
	}
	assert.Empty(t, cache.read)
	records, _ = readRecords(t.Context(), here, "kp", list, infos, Options{Cache: cache})
	assert.NotContains(t, records, (*archive.Record)(nil))
	assert.Len(t, cache.read, 5)
	assert.Positive(t, cache.bytes)
	held := cache.bytes
	_, _ = readRecords(t.Context(), here, "kp", list, infos, Options{Cache: cache})
	assert.Equal(t, held, cache.bytes)
	cache.bytes = mostCached
	cache.put(here, store.Info{Name: "more", Bytes: 1, Changed: began}, records[0], nil)
	assert.Len(t, cache.read, 5, "so much is kept and no more")
	cache.Forget()
	assert.Zero(t, cache.bytes)
}

// A record that was read is not read again, unless the listing says that it is another; who
// opens one changes no other reader's.
func TestRecordsAreReadOnce(t *testing.T) {
	here, dir := newShelf(t, "here", false)
	r := record(t, 0, "a")
	file := lay(t, dir, r)
	var opened atomic.Int64
	s := store.Named{Name: "here", Store: counting{here.Store, &opened}}
	cache := &Cache{}
	list := func() *Listing {
		l, err := List(t.Context(), []store.Named{s}, "kp", Options{Cache: cache})
		require.NoError(t, err)
		return l
	}
	list().Archives[0].Note = "changed by its reader"
	assert.Empty(t, list().Archives[0].Note)
	assert.EqualValues(t, 1, opened.Load())
	r.Note = "another"
	lay(t, dir, r)
	assert.Equal(t, "another", list().Archives[0].Note)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(file, data, 0o600))
	assert.Empty(t, list().Archives, "of the same length, at another time")
}

type counting struct {
	store.Store
	opened *atomic.Int64
}

func (c counting) Open(ctx context.Context, name string, from int64) (io.ReadCloser, error) {
	c.opened.Add(1)
	return c.Store.Open(ctx, name, from)
}

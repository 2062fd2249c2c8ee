package removal

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/folder"
)

var errWanted = errors.New("wanted")

// part makes a part of a text.
func part(text string) archive.Part {
	sum := sha256.Sum256([]byte(text))
	digest := hex.EncodeToString(sum[:])
	return archive.Part{Name: digest + ".tar", SHA256: digest, Bytes: int64(len(text)), Kind: archive.KindFiles}
}

// names are those of the archives that fill makes, oldest first.
func names(n int) (all []string) {
	for i := range n {
		all = append(all, fmt.Sprintf("museum-202611%02d-032000", i+1))
	}
	return all
}

// fill makes archives of which each shares a part with the next.
func fill(t *testing.T, s store.Store, n int) {
	t.Helper()
	put := func(name, text string) {
		require.NoError(t, s.Put(t.Context(), name, strings.NewReader(text), int64(len(text))))
	}
	for i, name := range names(n) {
		_, taken, _ := archive.SplitName(name)
		r := &archive.Record{Format: archive.Format, Name: name, Site: "museum", Taken: taken, Scope: archive.Full, List: archive.ListRef{Bytes: 4, SHA256: strings.Repeat("a", 64)}, Totals: archive.Totals{StoredBytes: 4}}
		for _, text := range []string{fmt.Sprint("part ", i), fmt.Sprint("part ", i+1)} {
			p := part(text)
			r.Parts = append(r.Parts, p)
			r.Totals.StoredBytes += p.Bytes
			put(archive.PartPath("museum", p.Name), text)
		}
		put(r.ListPath(), "list")
		data, err := r.Encode(nil)
		require.NoError(t, err)
		put(r.Path(), string(data))
	}
}

// whole makes sure that every archive in the store has all that it names, and
// returns how many there are and what no archive names.
func whole(t *testing.T, dir string) (archives int, unnamed []string) {
	t.Helper()
	s := store.Named{Name: "here", Store: folder.New(&disk.Disk{}, dir)}
	l, err := catalog.List(t.Context(), []store.Named{s}, "museum", catalog.Options{})
	require.NoError(t, err)
	require.Empty(t, l.Broken)
	named := map[string]bool{}
	for _, h := range l.Archives {
		h.Objects(func(name string, bytes int64, _ string) {
			named[name] = true
			info, err := s.Stat(t.Context(), name)
			require.NoError(t, err, h.Name)
			require.Equal(t, bytes, info.Bytes)
		})
	}
	for _, kind := range []string{"parts/*/*", "lists/*"} {
		files, err := filepath.Glob(filepath.Join(dir, "museum", kind))
		require.NoError(t, err)
		for _, f := range files {
			if rel, _ := filepath.Rel(dir, f); !named[rel] {
				unnamed = append(unnamed, rel)
			}
		}
	}
	return len(l.Archives), unnamed
}

func job(d *disk.Disk, dir string, goes ...string) Job {
	return Job{Site: "museum", Store: store.Named{Name: "here", Store: folder.New(d, dir)}, Archives: goes, Machine: "this"}
}

// Whichever call fails, and from there on all of them as when a machine dies:
// what archives are left are whole, and the next pass clears up.
func TestEveryCallFails(t *testing.T) {
	for _, dies := range []bool{false, true} {
		failed := 0
		for at := 1; ; at++ {
			dir := t.TempDir()
			fill(t, folder.New(&disk.Disk{}, dir), 6)
			calls := 0
			d := &disk.Disk{Fault: func(string, string) error {
				if calls++; calls == at || dies && calls > at {
					return errWanted
				}
				return nil
			}}
			_, err := job(d, dir, names(6)[:3]...).Run(t.Context())
			left, _ := whole(t, dir)
			require.GreaterOrEqual(t, left, 3)
			if err != nil {
				failed++
			}
			r, err := job(&disk.Disk{}, dir, names(6)[:3]...).Run(t.Context())
			require.NoError(t, err)
			require.Empty(t, r.Left)
			makeOld(t, dir)
			_, err = job(&disk.Disk{}, dir).Run(t.Context())
			require.NoError(t, err)
			left, unnamed := whole(t, dir)
			require.Equal(t, 3, left)
			require.Empty(t, unnamed, "call %d", at)
			if calls < at {
				t.Logf("%d calls, %d runs failed", at, failed)
				require.Greater(t, failed, 10)
				break
			}
		}
	}
}

// makeOld sets the times of all objects back beyond the grace.
func makeOld(t *testing.T, dir string) {
	past := time.Now().Add(-grace - time.Hour)
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		return os.Chtimes(p, past, past)
	}))
}

// lagging hides a record from listings.
type lagging struct {
	store.Store
	hidden string
}

func (l lagging) List(ctx context.Context, dir string) ([]store.Info, error) {
	infos, err := l.Store.List(ctx, dir)
	var shown []store.Info
	for _, i := range infos {
		if i.Name != l.hidden {
			shown = append(shown, i)
		}
	}
	return shown, err
}

func TestWhatIsNeededStays(t *testing.T) {
	all := names(4)
	for name, c := range map[string]struct {
		before   func(t *testing.T, dir string, j *Job)
		archives int
		left     string
	}{
		"another machine writes": {func(t *testing.T, dir string, _ *Job) {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "museum/running"), 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "museum/running/museum-20261120-032000.other"), nil, 0o600))
		}, 4, "another machine"},
		"a record cannot be read": {func(t *testing.T, dir string, _ *Job) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, archive.RecordPath("museum", all[3])), []byte("{"), 0o600))
		}, -1, "cannot be read"},
		"a record is not listed yet": {func(t *testing.T, _ string, j *Job) {
			j.Store.Store, j.Recent = lagging{j.Store.Store, archive.RecordPath("museum", all[1])}, all
		}, 3, ""},
		"a fresh part without a record": {func(t *testing.T, dir string, _ *Job) {
			p := part("of a run that has just begun")
			file := filepath.Join(dir, archive.PartPath("museum", p.Name))
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
			require.NoError(t, os.WriteFile(file, []byte("of a run that has just begun"), 0o600))
		}, 3, ""},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			fill(t, folder.New(&disk.Disk{}, dir), 4)
			j := job(&disk.Disk{}, dir, all[0])
			c.before(t, dir, &j)
			r, err := j.Run(t.Context())
			require.NoError(t, err)
			if c.left != "" {
				assert.Contains(t, r.Left, c.left)
				assert.Empty(t, r.Archives)
				assert.FileExists(t, filepath.Join(dir, archive.RecordPath("museum", all[0])))
				return
			}
			left, unnamed := whole(t, dir)
			assert.Equal(t, c.archives, left)
			if strings.Contains(name, "fresh") {
				assert.Len(t, unnamed, 1, "it stays for now")
			}
		})
	}
}

// counted counts what is read of a store.
type counted struct {
	store.Store
	opens atomic.Int64
}

func (c *counted) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	c.opens.Add(1)
	return c.Store.Open(ctx, name, offset)
}

// What was read of a store a moment ago is not read again for a removal, unless the store shows another record.
func TestRecordsThatAreKnownAreNotReadAgain(t *testing.T) {
	dir := t.TempDir()
	c := &counted{Store: folder.New(&disk.Disk{}, dir)}
	fill(t, c.Store, 8)
	j := job(&disk.Disk{}, dir, names(8)[0])
	j.Store.Store, j.Records = c, &catalog.Cache{}
	_, err := catalog.List(t.Context(), []store.Named{j.Store}, "museum", catalog.Options{Cache: j.Records})
	require.NoError(t, err)
	c.opens.Store(0)
	r, err := j.Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, names(8)[:1], r.Archives)
	assert.Zero(t, c.opens.Load())
	_, unnamed := whole(t, dir)
	assert.Empty(t, unnamed)

	require.NoError(t, os.WriteFile(filepath.Join(dir, archive.RecordPath("museum", names(8)[5])), []byte("{"), 0o600))
	j.Archives = names(8)[1:2]
	r, err = j.Run(t.Context())
	require.NoError(t, err)
	assert.Contains(t, r.Left, names(8)[5])
	assert.Empty(t, r.Archives, "nobody knows what it names")
}

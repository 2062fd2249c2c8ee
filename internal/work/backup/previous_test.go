//go:build linux

package backup

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/state"
)

// stat is a file's description as lstat gives it.
type stat struct {
	fs.FileInfo
	size  int64
	mtime time.Time
	sys   syscall.Stat_t
}

func (s stat) Size() int64        { return s.size }
func (s stat) ModTime() time.Time { return s.mtime }
func (s stat) Sys() any           { return &s.sys }

func TestAFileIsUnchangedOnlyWhenNothingSpeaksAgainstIt(t *testing.T) {
	taken := time.Date(2026, 11, 22, 3, 20, 0, 0, time.UTC)
	p := &previous{Began: taken, Record: &archive.Record{Taken: taken}}
	at := taken.Add(-time.Hour)
	line := archive.Line{Size: 10, MTime: at.UnixNano(), CTime: at.UnixNano(), Inode: 7, File: true}
	now := func(change func(*stat)) stat {
		s := stat{size: 10, mtime: at, sys: syscall.Stat_t{Ino: 7, Ctim: syscall.NsecToTimespec(at.UnixNano())}}
		change(&s)
		return s
	}
	assert.True(t, p.unchanged(line, now(func(*stat) {})))
	for what, change := range map[string]func(*stat){
		"size":  func(s *stat) { s.size++ },
		"mtime": func(s *stat) { s.mtime = s.mtime.Add(1) },
		"ctime": func(s *stat) { s.sys.Ctim.Nsec++ },
		"inode": func(s *stat) { s.sys.Ino++ },
	} {
		assert.False(t, p.unchanged(line, now(change)), what)
	}
	copied := line
	copied.Copied = true
	assert.False(t, p.unchanged(copied, now(func(*stat) {})), "a database file's logs are elsewhere")
	young := line
	young.CTime = taken.Add(-time.Second).UnixNano()
	assert.False(t, p.unchanged(young, now(func(s *stat) { s.sys.Ctim = syscall.NsecToTimespec(young.CTime) })), "it may have changed twice within a tick")
}

// Whatever the shares: a part is kept only if it is there and mostly current,
// and no more small ones are carried along than the limit.
func TestPartsWorthKeeping(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 20))
	for range 300 {
		p := &previous{Record: &archive.Record{}}
		shares, there := map[string]usage{}, map[string]bool{}
		for i := range r.IntN(80) {
			name := fmt.Sprint(i)
			kind := archive.KindFiles
			if r.IntN(10) == 0 {
				kind = archive.KindTree
			}
			part := archive.Part{Name: name, Kind: kind, ContentBytes: 1 + r.Int64N(64<<20), Entries: 1 + r.Int64N(20_000)}
			p.Record.Parts = append(p.Record.Parts, part)
			shares[name] = usage{r.Int64N(part.ContentBytes + 1), r.Int64N(part.Entries + 1)}
			there[name] = r.IntN(8) > 0
		}
		kept := p.worthKeeping(shares, func(part archive.Part) bool { return there[part.Name] })
		small, stale := 0, int64(0)
		for name, part := range kept {
			s := shares[name]
			require.True(t, there[name] && part.Kind == archive.KindFiles && s.files > 0)
			require.GreaterOrEqual(t, s.live*2, part.ContentBytes)
			stale += part.Entries - s.files
			if s.live < smallPart {
				small++
			}
		}
		require.LessOrEqual(t, small, mostSmall)
		require.LessOrEqual(t, stale, int64(mostStale))
	}
}

// remembering writes what a run would remember, and returns the state folder.
func remembering(t *testing.T, names []string) *state.State {
	st, err := state.Open(&disk.Disk{}, t.TempDir())
	require.NoError(t, err)
	dir := st.Previous("museum")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	f, err := os.Create(filepath.Join(dir, "a.lines.zst"))
	require.NoError(t, err)
	local := newSummer(f)
	n := 0
	l := archive.NewListWriter(&disk.Disk{}, func() string { n++; return filepath.Join(t.TempDir(), fmt.Sprint(n)) })
	for _, name := range names {
		require.NoError(t, l.Add(archive.Entry{Type: archive.TypeFile, Path: name, Part: "p", Inode: uint64(len(name))}))
	}
	require.NoError(t, l.Add(archive.Entry{Type: archive.TypeFolder, Path: "webroot"}))
	_, err = l.Finish(newSummer(&nowhere{}), local, "tree")
	require.NoError(t, err)
	require.NoError(t, errors.Join(local.flush(), f.Close()))
	p := &previous{Version: previousVersion, Record: &archive.Record{Name: "museum-20261123-032000"}, List: "a.lines.zst", ListSHA256: local.hex(), ListBytes: local.n, dir: dir, disk: &disk.Disk{}}
	require.NoError(t, p.remember(filesHalf))
	return st
}

type nowhere struct{}

func (*nowhere) Write(p []byte) (int, error) { return len(p), nil }

func TestTheCursorKeepsPaceWithAWalk(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 71))
	var names []string
	for i := range 500 {
		names = append(names, fmt.Sprintf("webroot/%d/%d", i%17, i))
	}
	st := remembering(t, names)
	p := remembered(t.Context(), st, "museum", filesHalf)
	require.NotNil(t, p)
	var passed []string
	c, err := p.cursor(func(l archive.Line) { passed = append(passed, l.Path) })
	require.NoError(t, err)
	defer c.stop()
	walk := slices.Clone(names)
	walk = slices.DeleteFunc(walk, func(string) bool { return r.IntN(4) == 0 }) // deleted since
	for i := range 50 {
		walk = append(walk, fmt.Sprintf("webroot/%d/new-%d", i%19, i)) // new since
	}
	slices.SortFunc(walk, archive.ComparePaths)
	known := map[string]bool{}
	for _, name := range names {
		known[name] = true
	}
	for _, name := range walk {
		l, ok, err := c.at(name)
		require.NoError(t, err)
		require.Equal(t, known[name], ok, name)
		if ok {
			require.Equal(t, name, l.Path)
			delete(known, name)
		}
	}
	require.NoError(t, c.rest())
	assert.Len(t, passed, len(known), "what the walk did not meet is told of")
}

func TestWhatIsRememberedIsWholeOrNothing(t *testing.T) {
	st := remembering(t, []string{"webroot/a", "webroot/b"})
	require.NotNil(t, remembered(t.Context(), st, "museum", filesHalf))
	assert.Nil(t, remembered(t.Context(), st, "museum", databaseHalf))
	for _, name := range []string{"a.lines.zst", filesHalf} {
		file := filepath.Join(st.Previous("museum"), name)
		good, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, bad := range [][]byte{good[:len(good)/2], {}, append(slices.Clone(good[:len(good)-9]), "something"...)} {
			require.NoError(t, os.WriteFile(file, bad, 0o600))
			assert.Nil(t, remembered(t.Context(), st, "museum", filesHalf), name)
		}
		require.NoError(t, os.WriteFile(file, good, 0o600))
	}
	require.NotNil(t, remembered(t.Context(), st, "museum", filesHalf))
}

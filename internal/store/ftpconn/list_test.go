package ftpconn

import (
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

func TestLinesOfListings(t *testing.T) {
	for line, is := range map[string]Entry{
		"-rw-r--r--   1 keeper   keeper       1234 Nov 20 09:15 index.php":          {Name: "index.php", Mode: 0o644, HasMode: true, Size: 1234, ModTime: time.Date(2026, 11, 20, 9, 15, 0, 0, time.UTC)},
		"-rw-r--r--   1 keeper   keeper       1234 Dec 20 09:15 of last year":       {Name: "of last year", Mode: 0o644, HasMode: true, Size: 1234, ModTime: time.Date(2025, 12, 20, 9, 15, 0, 0, time.UTC)},
		"drwxr-sr-t+  2 33       33           4096 Feb  1  2024  begins with space": {Name: " begins with space", Mode: fs.ModeDir | fs.ModeSetgid | fs.ModeSticky | 0o755, HasMode: true, Size: 4096, ModTime: time.Date(2024, 2, 1, 0, 0, 0, 0, time.UTC)},
		"lrwxrwxrwx   1 keeper   keeper          4 Nov 20 09:15 current -> 2026":    {Name: "current", Mode: fs.ModeSymlink | 0o777, HasMode: true, Size: 4, ModTime: time.Date(2026, 11, 20, 9, 15, 0, 0, time.UTC), Target: "2026"},
		"-rwSr--r-T   1 keeper                99 Nov 20  2025 no group":             {Name: "no group", Mode: fs.ModeSetuid | fs.ModeSticky | 0o644, HasMode: true, Size: 99, ModTime: time.Date(2025, 11, 20, 0, 0, 0, 0, time.UTC)},
		"11-20-26  09:15AM                 1234 index.php":                          {Name: "index.php", Size: 1234, ModTime: time.Date(2026, 11, 20, 9, 15, 0, 0, time.UTC)},
		"11-20-2026  09:15PM       <DIR>          uploads":                          {Name: "uploads", Mode: fs.ModeDir, ModTime: time.Date(2026, 11, 20, 21, 15, 0, 0, time.UTC)},
	} {
		e, ok, err := parseList(line, now)
		require.NoError(t, err, line)
		require.True(t, ok, line)
		assert.Equal(t, is, e, line)
	}
	_, ok, err := parseList("total 12", now)
	require.NoError(t, err)
	assert.False(t, ok)
	for _, line := range []string{"index.php", "-rw-r--r-- 1 keeper keeper x Nov 20 09:15 a", "-rw-r--r-- 1 keeper keeper 1 Nov 40 09:15 a", "-rw-r--r-- 1 k k 99999999999999999999 Nov 20 09:15 a"} {
		_, _, err := parseList(line, now)
		assert.Error(t, err, "what it names would be missing: %s", line)
	}
}

func TestFacts(t *testing.T) {
	e, ok := parseFacts("type=file;size=1234;modify=20261120091500.123;UNIX.mode=02640;UNIX.uid=33; two words")
	require.True(t, ok)
	assert.Equal(t, Entry{Name: "two words", Mode: fs.ModeSetgid | 0o640, HasMode: true, Size: 1234, ModTime: time.Date(2026, 11, 20, 9, 15, 0, 0, time.UTC), Exact: true}, e)
	e, ok = parseFacts("Type=cdir;Modify=20261120091500; /htdocs")
	require.True(t, ok)
	assert.Equal(t, ".", e.Name)
	e, ok = parseFacts("type=OS.unix=slink:2026;size=4; current")
	require.True(t, ok)
	assert.Equal(t, fs.ModeSymlink, e.Mode)
	assert.Equal(t, "2026", e.Target)
	for _, line := range []string{"", "type=file;size=-1; a", "type=file;size=x; a", "type=file; ", "no facts at all"} {
		_, ok := parseFacts(line)
		assert.False(t, ok, line)
	}
	e, _ = parseFacts("type=device;size=1; a")
	assert.NotZero(t, e.Mode&fs.ModeIrregular)
}

func FuzzListings(f *testing.F) {
	f.Add("-rw-r--r--   1 keeper   keeper       1234 Nov 20 09:15 index.php")
	f.Add("type=file;size=1234;modify=20261120091500;UNIX.mode=0640; two words")
	f.Add("11-20-26  09:15AM       <DIR>          uploads")
	f.Fuzz(func(t *testing.T, line string) {
		if strings.ContainsAny(line, "\r\n") {
			return
		}
		if e, ok, err := parseList(line, now); ok && err == nil {
			require.NotEmpty(t, e.Name)
			require.GreaterOrEqual(t, e.Size, int64(0))
		}
		if e, ok := parseFacts(line); ok {
			require.NotEmpty(t, e.Name)
			require.GreaterOrEqual(t, e.Size, int64(0))
		}
	})
}

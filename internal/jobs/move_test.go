package jobs

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/reason"
	"revlet/internal/practice/lampblack"
	"revlet/internal/work/restore"
)

// moveOf plans to bring the newest archive up beside the museum.
func moveOf(t *testing.T, b *bench) *Move {
	t.Helper()
	h, err := b.FindOpen(t.Context(), museum, time.Time{}, Need{Files: true, Database: true})
	require.NoError(t, err)
	m, err := b.PlanMove(t.Context(), MoveOrder{Archive: h, To: "lighthouse", Root: b.path("new"), Address: "http://127.0.0.1:1/visit"})
	require.NoError(t, err)
	return m
}

// The new site's entry is there as long as something has to be found by it.
func TestTheEntryOfAMoveThatFails(t *testing.T) {
	for name, c := range map[string]struct {
		fault func(op, path string) bool
		stays bool
	}{
		"nothing came up":            {func(op, path string) bool { return op == "mkdir" && strings.Contains(path, ".revlet-lighthouse") }, false},
		"nothing could be exchanged": {func(op, path string) bool { return op == "rename" && strings.Contains(path, "/new") }, false},
		"nor could anything be taken back": {func() func(op, path string) bool {
			broken := false
			return func(op, path string) bool {
				theirs := strings.Contains(path, "/new") || strings.Contains(path, ".revlet-lighthouse")
				broken = broken || theirs && op == "rename"
				return broken && theirs
			}
		}(), true},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBenchIn(t, varTmp(t), "", "")
			b.month(1)
			m := moveOf(t, b)
			before, err := os.ReadFile(b.Config.Path)
			require.NoError(t, err)
			hit := false
			b.Disk.Fault = func(op, path string) error {
				if c.fault(op, path) {
					hit = true
					return errors.New("the disk is broken")
				}
				return nil
			}
			_, err = b.Move(t.Context(), m, nil)
			require.ErrorContains(t, err, "the disk is broken")
			b.Disk.Fault = nil
			require.True(t, hit)
			now, err := os.ReadFile(b.Config.Path)
			require.NoError(t, err)
			assert.Equal(t, c.stays, strings.Contains(string(now), "lighthouse:"))
			if !c.stays {
				assert.Equal(t, string(before), string(now))
			}
		})
	}
}

// Wherever the power goes, the new place is what it was, or the moved site, once the program
// has started again; the old site is what it is. REVLET_EACH_STEP=1 stops at every call on
// the disk, not at some.
func TestAMoveDiesAtEachStep(t *testing.T) {
	b := newBenchIn(t, varTmp(t), "", "")
	b.month(1)
	again := func() *Move {
		h, err := b.FindOpen(t.Context(), museum, time.Time{}, Need{Files: true, Database: true})
		require.NoError(t, err)
		m, err := b.PlanMove(t.Context(), MoveOrder{Archive: h, To: "lighthouse"})
		require.NoError(t, err)
		return m
	}
	_, err := b.Move(t.Context(), moveOf(t, b), nil)
	require.NoError(t, err)
	old, moved := content(t, b.path("htdocs")), content(t, b.path("new"))
	require.NoError(t, os.WriteFile(b.path("new/index.html"), []byte("of before"), 0o644))
	require.NoError(t, lampblack.Execute(t.Context(), filepath.Join(b.path("new"), lampblack.DatabaseFile), "UPDATE settings SET value = 'of before'"))
	before := content(t, b.path("new"))
	require.NotEqual(t, before, moved)
	stride, ends := 23, [2]int{}
	if os.Getenv("REVLET_EACH_STEP") != "" {
		stride = 1
	}
	for after := 0; ; after += stride {
		m := again()
		b.powerCut(after)
		_, err := b.Move(t.Context(), m, nil)
		b.Close()
		b.open()
		if err == nil {
			assert.Equal(t, moved, content(t, b.path("new")))
			break
		}
		b.finishInterrupted(t.Context(), "lighthouse")
		journals, unread := restore.Journals(b.State, "lighthouse")
		require.NoError(t, unread)
		for _, j := range journals {
			require.Equal(t, restore.Done, j.Phase, "after %d calls", after)
		}
		now := content(t, b.path("new"))
		if now == moved {
			ends[1]++
			back, err := b.ToTakeBack(t.Context(), "lighthouse")
			require.NoError(t, err)
			_, err = b.Undo(t.Context(), back[0])
			require.NoError(t, err, "after %d calls", after)
			now = content(t, b.path("new"))
		} else {
			ends[0]++
		}
		require.Equal(t, before, now, "after %d calls", after)
	}
	t.Logf("%d times as before, %d times moved", ends[0], ends[1])
	assert.NotZero(t, ends[0])
	assert.Equal(t, old, content(t, b.path("htdocs")))
}

// content is all that a museum's webroot holds, files and rows.
func content(t *testing.T, root string) string {
	t.Helper()
	rows, err := lampblack.Dump(t.Context(), filepath.Join(root, lampblack.DatabaseFile))
	require.NoError(t, err)
	all := rows
	require.NoError(t, filepath.WalkDir(root, func(p string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(root, p)
		if err != nil || !e.Type().IsRegular() || strings.HasPrefix(rel, "data/") || strings.HasPrefix(rel, "cache/") {
			return err
		}
		text, err := os.ReadFile(p)
		all += fmt.Sprintf("\n%s %x", rel, sha256.Sum256(text))
		return err
	}))
	return all
}

// varTmp is a folder in which a site may lie, whatever $TMPDIR says.
func varTmp(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "revlet-jobs-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

func TestAnAddressIsMadePlain(t *testing.T) {
	for in, want := range map[string]string{
		"https://Lighthouse.Example./Visit/": "https://lighthouse.example/Visit", "http://lighthouse.example:8080": "http://lighthouse.example:8080", "https://lighthouse.example///": "https://lighthouse.example",
	} {
		got, err := siteAddress(in)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, in := range []string{"", "lighthouse.example", "ftp://lighthouse.example", "https://", "https://a b.example", "https://möwe.example", "https://x@lighthouse.example", "https://lighthouse.example/#x"} {
		_, err := siteAddress(in)
		assert.True(t, reason.Is(err, reason.Usage), in)
	}
}

package jobs

import (
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/reason"
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

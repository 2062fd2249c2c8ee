//go:build unix

package folder

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// Whoever may write into the folder may lay a named pipe there, or a link to a device: nobody waits for either.
func TestNothingIsWaitedFor(t *testing.T) {
	dir := t.TempDir()
	f := New(&disk.Disk{}, dir)
	require.NoError(t, f.Check(t.Context()))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "site/archives"), 0o700))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "site/archives/pipe.json"), 0o600))
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(dir, "site/archives/zero.json")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "other"), 0o600))
	within := func(what string, work func(context.Context) error) {
		done := make(chan error, 1)
		go func() { done <- work(t.Context()) }()
		select {
		case err := <-done:
			assert.Error(t, err, what)
		case <-time.After(20 * time.Second):
			require.Fail(t, "waits for ever", what)
		}
	}
	for _, name := range []string{"site/archives/pipe.json", "site/archives/zero.json", "other"} {
		within(name, func(ctx context.Context) error {
			in, err := f.Open(ctx, name, 0)
			if err == nil {
				_ = in.Close()
			}
			return err
		})
	}
	within("folders of a pipe", func(ctx context.Context) error { _, err := f.Folders(ctx, "other"); return err })
	all, err := f.List(t.Context(), "site")
	require.NoError(t, err)
	assert.Len(t, all, 2, "what is there is listed, and told when it is read")
}

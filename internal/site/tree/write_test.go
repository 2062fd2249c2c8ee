//go:build linux

package tree_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"revlet/internal/practice/line"
	"revlet/internal/site/tree"
	"revlet/internal/store/sshconn/sshtest"
)

// filed serves this machine's files, and runs commands if they are wanted.
func filed(t *testing.T, commands bool) string {
	o := sshtest.Server{Subsystem: func(channel ssh.Channel) {
		if s, err := sftp.NewServer(channel); err == nil {
			_ = s.Serve()
		}
	}}
	if commands {
		o.Run = func(command string, channel ssh.Channel) {
			cmd := exec.Command("sh", "-c", command)
			cmd.Stdin, cmd.Stdout = channel, channel
			_ = cmd.Run()
		}
	}
	return sshtest.Start(t, o)
}

func writer(t *testing.T, p tree.Place) tree.Writer {
	w, ok := p.(tree.Writer)
	require.True(t, ok)
	return w
}

func TestWriting(t *testing.T) {
	ctx := context.Background()
	w, dir := writer(t, far(t, filed(t, false), nil)), t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }

	require.NoError(t, w.Mkdir(ctx, at("box")))
	require.ErrorIs(t, w.Mkdir(ctx, at("box")), fs.ErrExist)
	info, err := os.Stat(at("box"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o700), info.Mode().Perm())

	then := time.Unix(1.7e9, 0)
	content := bytes.Repeat([]byte("lamp"), 1<<19)
	require.NoError(t, w.Put(ctx, at("box/file"), bytes.NewReader(content), int64(len(content)), tree.Attr{Mode: 0o640 | fs.ModeSetgid, ModTime: then}))
	got, err := os.ReadFile(at("box/file"))
	require.NoError(t, err)
	assert.Equal(t, content, got)
	info, err = os.Stat(at("box/file"))
	require.NoError(t, err)
	assert.Equal(t, 0o640|fs.ModeSetgid, info.Mode())
	assert.True(t, info.ModTime().Equal(then))
	// What was longer before is cut.
	require.NoError(t, w.Put(ctx, at("box/file"), bytes.NewReader([]byte("x")), 1, tree.Attr{Mode: 0o600}))
	got, _ = os.ReadFile(at("box/file"))
	assert.Equal(t, "x", string(got))

	require.NoError(t, w.Create(ctx, at("box/new"), []byte("closed"), 0o644))
	require.ErrorIs(t, w.Create(ctx, at("box/new"), nil, 0o644), fs.ErrExist)
	require.NoError(t, os.Symlink(at("box/new"), at("dangling")))
	require.ErrorIs(t, w.Create(ctx, at("dangling"), nil, 0o644), fs.ErrExist, "no link is followed")

	// Nothing is ever replaced by a rename.
	require.ErrorIs(t, w.Rename(ctx, at("box/new"), at("box/file")), fs.ErrExist)
	require.NoError(t, w.Rename(ctx, at("box/new"), at("box/other")))
	require.ErrorIs(t, w.Rename(ctx, at("gone"), at("box/else")), fs.ErrNotExist)

	// A link is removed, and never what it leads to; a folder that nobody may enter goes too.
	require.NoError(t, os.MkdirAll(at("kept"), 0o755))
	require.NoError(t, os.WriteFile(at("kept/file"), nil, 0o600))
	require.NoError(t, w.Symlink(ctx, at("kept"), at("box/link")))
	require.NoError(t, os.MkdirAll(at("box/deep/shut"), 0o755))
	require.NoError(t, os.WriteFile(at("box/deep/shut/file"), nil, 0o600))
	require.NoError(t, os.Chmod(at("box/deep/shut"), 0))
	require.NoError(t, w.RemoveAll(ctx, at("box")))
	require.NoError(t, w.RemoveAll(ctx, at("box")))
	assert.NoDirExists(t, at("box"))
	assert.FileExists(t, at("kept/file"))
}

// Every call is made again when the line breaks, and finds what it has done already.
func TestWritingOverALineThatBreaks(t *testing.T) {
	ctx := context.Background()
	content := make([]byte, 3<<20)
	_, _ = rand.Read(content)
	for _, cut := range []int64{12_000, 40_000, 700_000} {
		p, l := lined(t, nil, func(l *line.Line) { l.CutAfter = cut }, func(o *tree.SSHOptions) { o.Tries = 12 })
		w, dir := writer(t, p), t.TempDir()
		at := func(name string) string { return filepath.Join(dir, name) }
		require.NoError(t, w.Put(ctx, at("file"), bytes.NewReader(content), int64(len(content)), tree.Attr{Mode: 0o600}), "%d", cut)
		got, err := os.ReadFile(at("file"))
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, got), "%d", cut)
		assert.GreaterOrEqual(t, l.Cuts.Load(), int64(3))
		for range 20 {
			require.NoError(t, w.Mkdir(ctx, at("a")), "%d", cut)
			require.NoError(t, w.Rename(ctx, at("a"), at("b")), "%d", cut)
			require.NoError(t, w.Create(ctx, at("b/c"), []byte("text"), 0o600), "%d", cut)
			require.NoError(t, w.RemoveAll(ctx, at("b")), "%d", cut)
		}
	}
}

func TestCopiesOverThere(t *testing.T) {
	ctx := context.Background()
	from, to := t.TempDir(), t.TempDir()
	for _, name := range []string{"-n", "two words", "line\nbreak", "sub/deep"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(from, name)), 0o755))
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(to, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(from, name), []byte("lamp"), 0o644))
	}
	require.Nil(t, writer(t, far(t, filed(t, false), nil)).Copied(ctx, from, to, []string{"-n"}))
	sums := writer(t, far(t, filed(t, true), nil)).Copied(ctx, from, to, []string{"-n", "two words", "line\nbreak", "sub/deep", "gone"})
	assert.Len(t, sums, 3, "what is gone, or has a name that cannot be told, is sent")
	for _, name := range []string{"-n", "two words", "sub/deep"} {
		assert.Len(t, sums[name], 64)
		assert.FileExists(t, filepath.Join(to, name))
	}
}

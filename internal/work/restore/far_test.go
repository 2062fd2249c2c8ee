package restore_test

import (
	"context"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"revlet/internal/platform/disk"
	"revlet/internal/site/tree"
	"revlet/internal/store/sshconn"
	"revlet/internal/store/sshconn/sshtest"
)

// flaky is a machine that fails when it is told to: before a call has done anything, or after
// it has come through and before that is known.
type flaky struct {
	tree.Writer
	mu    sync.Mutex
	Fault func(op, name string) error
}

func (f *flaky) fail(op, name string) error {
	f.mu.Lock()
	fault := f.Fault
	f.mu.Unlock()
	if fault == nil {
		return nil
	}
	return fault(op, name)
}

// twice does a call between two moments at which it may fail.
func (f *flaky) twice(op, name string, do func() error) error {
	if err := f.fail(op, name); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return f.fail(op, name)
}

func (f *flaky) Lstat(ctx context.Context, name string) (fs.FileInfo, error) {
	if err := f.fail("lstat", name); err != nil {
		return nil, err
	}
	return f.Writer.Lstat(ctx, name)
}

func (f *flaky) Folder(ctx context.Context, name string) (tree.Folder, error) {
	if err := f.fail("stat", name); err != nil {
		return nil, err
	}
	return f.Writer.Folder(ctx, name)
}

func (f *flaky) Mkdir(ctx context.Context, name string) error {
	return f.twice("mkdir", name, func() error { return f.Writer.Mkdir(ctx, name) })
}

func (f *flaky) Put(ctx context.Context, name string, content io.ReaderAt, size int64, a tree.Attr) error {
	return f.twice("put", name, func() error { return f.Writer.Put(ctx, name, content, size, a) })
}

func (f *flaky) Create(ctx context.Context, name string, content []byte, mode fs.FileMode) error {
	return f.twice("create", name, func() error { return f.Writer.Create(ctx, name, content, mode) })
}

func (f *flaky) Symlink(ctx context.Context, target, name string) error {
	return f.twice("symlink", name, func() error { return f.Writer.Symlink(ctx, target, name) })
}

func (f *flaky) Set(ctx context.Context, name string, a tree.Attr) error {
	return f.twice("set", name, func() error { return f.Writer.Set(ctx, name, a) })
}

func (f *flaky) Rename(ctx context.Context, old, new string) error {
	return f.twice("rename", old, func() error { return f.Writer.Rename(ctx, old, new) })
}

func (f *flaky) RemoveAll(ctx context.Context, name string) error {
	return f.twice("remove", name, func() error { return f.Writer.RemoveAll(ctx, name) })
}

// behindSSH has a bench's site behind an SSH server, which runs commands or does not.
func behindSSH(t *testing.T, b *bench, commands bool) *bench {
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
	p := tree.NewSSH(tree.SSHOptions{Base: "sftp://keeper@host.example", Pause: time.Millisecond, Lanes: 1, Dialer: sshconn.Dialer{Host: sshtest.Start(t, o), User: "keeper",
		Auth:  func() ([]ssh.AuthMethod, error) { return nil, nil },
		Hosts: &sshconn.Hosts{Disk: &disk.Disk{}, File: filepath.Join(t.TempDir(), "known_hosts"), Trust: true}}})
	t.Cleanup(func() { _ = p.Close() })
	w, ok := p.(tree.Writer)
	require.True(t, ok)
	b.far = &flaky{Writer: w}
	return b
}

// Whatever goes wrong on the way to another machine, at whatever call, and whenever the process
// dies, the site there is the old one or the new one, and nothing is left behind.
func TestEveryFaultWhileRestoringElsewhere(t *testing.T) {
	t.Run("whole", func(t *testing.T) { everyRestoreFault(t, behindSSH(t, newBench(t), false)) })
	t.Run("with what stays", func(t *testing.T) { everyRestoreFault(t, behindSSH(t, withMail(newBench(t)), true)) })
	t.Run("inside a mount point", func(t *testing.T) { everyRestoreFault(t, behindSSH(t, withMail(mounted(t)), false)) })
	t.Run("a share", func(t *testing.T) {
		b := behindSSH(t, newBench(t), false)
		b.share = share
		everyRestoreFault(t, b)
	})
	t.Run("a share inside a mount point", func(t *testing.T) {
		b := behindSSH(t, mounted(t), true)
		b.share = share
		everyRestoreFault(t, b)
	})
}

// An account that may write everywhere renames nothing in folders of others: these could put a
// link there meanwhile.
func TestRootElsewhere(t *testing.T) {
	b := behindSSH(t, newBench(t), false)
	require.NoError(t, b.backup())
	b.share = share
	require.NoError(t, b.restore())
	require.NoError(t, b.undo())
	require.NoError(t, os.Chown(filepath.Join(b.dir, "htdocs/sub"), 12345, 12345))
	err := b.restore()
	require.ErrorContains(t, err, "is not root's alone")
	require.NoError(t, b.backup())
	b.share = nil
	require.NoError(t, b.restore(), "as a whole it is not reached through them")
	require.Equal(t, uint32(12345), owner(t, filepath.Join(b.dir, "htdocs/sub")), "and what comes belongs to whom it did")
	require.Equal(t, uint32(0), owner(t, filepath.Join(b.dir, "htdocs")))
	require.NoError(t, os.Chown(b.dir, 12345, 12345))
	require.ErrorContains(t, b.restore(), "is not root's alone")
}

func owner(t *testing.T, path string) uint32 {
	info, err := os.Lstat(path)
	require.NoError(t, err)
	return info.Sys().(*syscall.Stat_t).Uid
}

//go:build linux

package restore_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/store/ftpconn"
	"revlet/internal/store/sshconn"
	"revlet/internal/store/sshconn/sshtest"
	"revlet/internal/work/restore"
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

// behindFTP has a bench's site behind a real FTP server.
func behindFTP(t *testing.T, b *bench) *bench {
	const python = "/usr/bin/python3"
	if err := exec.Command(python, "-c", "import pyftpdlib").Run(); err != nil {
		t.Skip("python3-pyftpdlib is not installed; scripts/setup.sh installs it")
	}
	// Below the ports that connections get: none of those takes it meanwhile.
	at := &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)}
	require.Eventually(t, func() bool {
		at.Port = 12000 + rand.IntN(18000)
		l, err := net.Listen("tcp", at.String())
		return err == nil && l.Close() == nil
	}, 10*time.Second, time.Millisecond)
	cmd := exec.Command(python, "../../../e2e/testdata/ftpd.py", fmt.Sprint(at.Port), "/", "20", "new")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", at.String())
		return err == nil && c.Close() == nil
	}, 10*time.Second, 20*time.Millisecond)
	p := tree.NewFTP(tree.FTPOptions{Base: "plain-ftp://keeper@host.example", Pause: time.Millisecond, Lanes: 2, Dialer: ftpconn.Dialer{Host: at.String(), User: "keeper", Password: "practice", Where: "host.example"}})
	t.Cleanup(func() { _ = p.Close() })
	w, ok := p.(tree.Writer)
	require.True(t, ok)
	b.far = &flaky{Writer: w}
	return b
}

// Whatever goes wrong on the way to another machine, at whatever call, and whenever the process
// dies, the site there is the old one or the new one, and nothing is left behind.
func TestEveryFaultWhileRestoringElsewhere(t *testing.T) {
	t.Run("whole", func(t *testing.T) { everyRestoreFault(t, behindSSH(t, withMail(newBench(t)), true)) })
	t.Run("name by name", func(t *testing.T) {
		b := behindSSH(t, mounted(t), false)
		b.stride = 2
		everyRestoreFault(t, b)
	})
	t.Run("a share", func(t *testing.T) {
		b := behindSSH(t, newBench(t), false)
		b.share, b.stride = share, 2
		everyRestoreFault(t, b)
	})
	t.Run("what is the same by its time", func(t *testing.T) {
		b := behindSSH(t, newBench(t), false)
		b.share, b.stride, b.trust = share, 3, true
		for _, name := range []string{"kept.css", "more/kept.css"} {
			require.NoError(t, os.MkdirAll(filepath.Join(b.dir, "htdocs/sub/more"), 0o755))
			b.write("htdocs/sub/"+name, "as it was")
		}
		everyRestoreFault(t, b)
	})
	t.Run("over FTP", func(t *testing.T) {
		b := behindFTP(t, newBench(t))
		b.stride = 13
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
	b.trusted = []int{12345} // so that the state folder, which lies there too, does not come first
	require.ErrorContains(t, b.restore(), "is not root's alone")
}

func owner(t *testing.T, path string) uint32 {
	info, err := os.Lstat(path)
	require.NoError(t, err)
	return info.Sys().(*syscall.Stat_t).Uid
}

// mirror signs as one that all computers know.
func (b *bench) mirror() *restore.Mirror {
	if b.far == nil {
		return nil
	}
	return &restore.Mirror{
		Sign: func([]byte) (string, error) { return "known", nil },
		Check: func(_ []byte, signature string) error {
			if signature != "known" {
				return errors.New("nobody known has signed it")
			}
			return nil
		},
	}
}

// on does something on another computer, after what others have begun counts as dead.
func (b *bench) on(computer string, do func(restore.Recoverer) error) error {
	was := b.computer
	b.computer = computer
	defer func() { b.computer = was }()
	r, err := b.recoverer()
	if err != nil {
		return err
	}
	long := time.Now().Add(-time.Hour)
	journals, _ := filepath.Glob(filepath.Join(b.dir, ".revlet-*/journal-*"))
	inside, _ := filepath.Glob(filepath.Join(b.dir, "htdocs/.revlet-*/journal-*"))
	for _, j := range append(journals, inside...) {
		require.NoError(b.t, os.Chtimes(j, long, long))
	}
	if err := r.Import(b.t.Context()); err != nil {
		return err
	}
	return do(r)
}

// Wherever a restore dies, another computer brings the site to one of its two ends, takes the
// restore back or settles it; and the first one, when it comes back, finds that out and does
// no harm.
func TestAnotherComputerEndsIt(t *testing.T) {
	for name, open := range map[string]func(t *testing.T) *bench{
		"whole":                   func(t *testing.T) *bench { return behindSSH(t, withMail(newBench(t)), false) },
		"a share, inside a mount": func(t *testing.T) *bench { b := behindSSH(t, mounted(t), false); b.share = share; return b },
	} {
		t.Run(name, func(t *testing.T) { anotherEnds(t, open(t)) })
	}
}

func anotherEnds(t *testing.T, b *bench) {
	b.t = t
	require.NoError(t, b.backup())
	b.write("htdocs/index.html", "defaced")
	require.NoError(t, os.Remove(filepath.Join(b.dir, "htdocs/sub/.hidden")))
	broken := b.tree()
	require.NoError(t, b.restore())
	restored := b.tree()
	require.NotEqual(t, broken, restored)
	require.NoError(t, b.on("2", func(r restore.Recoverer) error { _, err := r.Undo(t.Context()); return err }))
	require.Equal(t, broken, b.tree(), "taken back from another computer")
	err := b.undo()
	require.ErrorIs(t, err, restore.ErrBoxGone)
	r, err := b.recoverer()
	require.NoError(t, err)
	_, err = r.Settle(t.Context())
	require.NoError(t, err, "what is left here is forgotten")
	require.Empty(t, b.leftovers())

	for at := 1; ; at++ {
		calls := b.faults(at, true, syscall.EIO)
		first := b.restore()
		b.healthy()
		require.NoError(t, b.on("2", func(r restore.Recoverer) error { _, err := r.Recover(t.Context()); return err }), "call %d", at)
		now := b.tree()
		if first == nil {
			require.Equal(t, restored, now)
		}
		require.Contains(t, []string{broken, restored}, now, "call %d", at)
		// The first computer wakes up.
		r, err := b.recoverer()
		require.NoError(t, err)
		_, err = r.Recover(t.Context())
		if !errors.Is(err, restore.ErrBoxGone) {
			require.NoError(t, err, "call %d", at)
		}
		require.Equal(t, now, b.tree(), "call %d: nothing is turned round", at)
		for _, computer := range []string{"", "2"} {
			err := b.on(computer, func(r restore.Recoverer) error {
				if b.tree() == restored {
					if _, err := r.Undo(t.Context()); err == nil {
						return nil
					}
				}
				_, err := r.Settle(t.Context())
				return err
			})
			if !errors.Is(err, restore.ErrNothingAside) {
				require.NoError(t, err, "call %d, computer %q", at, computer)
			}
		}
		require.Equal(t, broken, b.tree(), "call %d", at)
		for _, left := range b.leftovers() {
			// Nothing was said there yet of what had been begun.
			require.NotContains(t, left, "journal", "call %d", at)
			require.NoError(t, os.RemoveAll(left))
		}
		if calls() < at {
			break
		}
	}
}

// A journal that lies there and that nobody known has signed is passed over.
func TestForgedJournalsElsewhere(t *testing.T) {
	b := behindSSH(t, newBench(t), false)
	require.NoError(t, b.backup())
	require.NoError(t, b.restore())
	found, err := filepath.Glob(filepath.Join(b.dir, ".revlet-*/journal-*"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	good, err := os.ReadFile(found[0])
	require.NoError(t, err)
	box := filepath.Dir(found[0])
	import2 := func() int {
		require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "state2")))
		require.NoError(t, b.on("2", func(restore.Recoverer) error { return nil }))
		taken, err := filepath.Glob(filepath.Join(b.dir, "state2/journals/kestrelpoint/*.json"))
		require.NoError(t, err)
		return len(taken)
	}
	for what, text := range map[string]string{
		"unsigned":          strings.TrimPrefix(string(good), "known"),
		"of another folder": strings.ReplaceAll(string(good), b.dir+"/htdocs", b.dir+"/other"),
		"leads out":         strings.ReplaceAll(string(good), `"old_names": [`, `"old_names": ["../../etc", `),
		"of another box":    strings.ReplaceAll(string(good), filepath.Base(box), site.LeftoverPrefix+"x"),
		"cut off":           string(good[:len(good)-9]),
		"a file here":       strings.ReplaceAll(string(good), `"phase"`, `"databases": [{"engine": "sqlite", "stage": "/etc/passwd"}], "phase"`),
	} {
		require.NoError(t, os.WriteFile(found[0], []byte(text), 0o600))
		require.Zero(t, import2(), what)
	}
	require.NoError(t, os.WriteFile(found[0], good, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(box, "journal-999"), []byte("nonsense"), 0o600))
	require.Equal(t, 1, import2(), "the newest one that counts")
	// A computer that seems to be at work is left alone.
	now, err := filepath.Glob(filepath.Join(box, "journal-*"))
	require.NoError(t, err)
	require.Len(t, now, 1)
	written, err := os.ReadFile(now[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(now[0], []byte(strings.ReplaceAll(string(written), `"phase": "done"`, `"phase": "swapping"`)), 0o600))
	b.computer = "3"
	r, err := b.recoverer()
	require.NoError(t, err)
	require.ErrorIs(t, r.Import(t.Context()), restore.ErrAtWork)
}

// A folder above the site that cannot be listed stops no job: nothing could be set aside in it.
func TestAFolderAboveThatCannotBeListed(t *testing.T) {
	b := behindSSH(t, newBench(t), false)
	require.NoError(t, b.backup())
	r, err := b.recoverer()
	require.NoError(t, err)
	b.far.Fault = func(op, name string) error {
		if op == "stat" && name == b.dir {
			return &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
		}
		return nil
	}
	require.NoError(t, r.Import(t.Context()))
	b.far.Fault = func(string, string) error { return tree.ErrUnreachable }
	require.ErrorIs(t, r.Import(t.Context()), tree.ErrUnreachable, "that says nothing")
}

package send_test

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"revlet/internal/platform/disk"
	"revlet/internal/site/tree"
	"revlet/internal/store/sshconn"
	"revlet/internal/store/sshconn/sshtest"
	"revlet/internal/work/send"
)

// behind is a machine behind SSH that runs commands with a folder of programs of its own first
// in the way; none are run without one.
func behind(t *testing.T, programs string) tree.Writer {
	o := sshtest.Server{Subsystem: func(channel ssh.Channel) {
		if s, err := sftp.NewServer(channel); err == nil {
			_ = s.Serve()
		}
	}}
	if programs != "" {
		o.Run = func(command string, channel ssh.Channel) {
			cmd := exec.Command("sh", "-c", command)
			cmd.Env = append(os.Environ(), "PATH="+programs+":"+os.Getenv("PATH"))
			cmd.Stdin, cmd.Stdout = channel, channel
			_ = cmd.Run()
		}
	}
	p := tree.NewSSH(tree.SSHOptions{Base: "sftp://keeper@host.example", Pause: time.Millisecond, Dialer: sshconn.Dialer{Host: sshtest.Start(t, o), User: "keeper",
		Auth:  func() ([]ssh.AuthMethod, error) { return nil, nil },
		Hosts: &sshconn.Hosts{Disk: &disk.Disk{}, File: filepath.Join(t.TempDir(), "known_hosts"), Trust: true}}})
	t.Cleanup(func() { _ = p.Close() })
	w, ok := p.(tree.Writer)
	require.True(t, ok)
	return w
}

// grown makes a folder with whatever a site has.
func grown(t *testing.T) string {
	dir := t.TempDir()
	large := strings.Repeat("a lamp in the dark. ", 1000)
	for name, text := range map[string]string{"index.php": large, "empty": "", "two words/line\nbreak": large, "-n": large, "deep/er/still/picture.jpg": large, "deep/other.jpg": large + "x"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "-n"), 0o4711))
	require.NoError(t, os.Chmod(filepath.Join(dir, "empty"), 0))
	require.NoError(t, os.Link(filepath.Join(dir, "index.php"), filepath.Join(dir, "deep/second name")))
	require.NoError(t, os.Symlink("../nowhere", filepath.Join(dir, "deep/link")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "shut"), 0))
	for _, name := range []string{"deep/other.jpg", "index.php", "deep/er/still", "deep/er", "deep", "."} {
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), time.Unix(1.7e9, 0), time.Unix(1.7e9, 0)))
	}
	return dir
}

// told says what is in a folder.
func told(t *testing.T, dir string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := e.Info()
		require.NoError(t, err)
		rel, _ := filepath.Rel(dir, p)
		text := info.Mode().String()
		if info.Mode().IsRegular() {
			data, err := os.ReadFile(p)
			require.NoError(t, err)
			text += " " + string(data)
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			text += info.ModTime().Truncate(time.Second).String()
		}
		all[rel] = text
		return nil
	}))
	return all
}

func run(t *testing.T, w tree.Writer, from, live string) (map[string]string, *send.Sent, string) {
	own, to := filepath.Join(t.TempDir(), "own"), filepath.Join(t.TempDir(), "box")
	require.NoError(t, exec.Command("cp", "-a", from, own).Run())
	from = own
	require.NoError(t, os.Mkdir(to, 0o700))
	sent, err := send.Job{Disk: &disk.Disk{}, From: from, Place: w, Dir: to, Live: live}.Run(context.Background())
	require.NoError(t, err)
	return told(t, to), sent, to
}

func TestEverythingArrivesAsItIs(t *testing.T) {
	from := grown(t)
	expected := told(t, from)
	now, sent, to := run(t, behind(t, ""), from, "")
	assert.Equal(t, expected, now)
	assert.Equal(t, int64(6), sent.Files)
	assert.Zero(t, sent.Copied)
	one, err := os.Stat(filepath.Join(to, "index.php"))
	require.NoError(t, err)
	two, err := os.Stat(filepath.Join(to, "deep/second name"))
	require.NoError(t, err)
	assert.True(t, os.SameFile(one, two), "a file with two names has them there, too")
}

// What is there already is copied over there if it is proved to be the same, and scripts never
// are, whatever commands say.
func TestWhatIsThereAlready(t *testing.T) {
	from := grown(t)
	live := t.TempDir()
	require.NoError(t, exec.Command("cp", "-a", from+"/.", live).Run())
	planted := bytes.Repeat([]byte("x"), 20000) // as long as what was there
	require.NoError(t, os.WriteFile(filepath.Join(live, "index.php"), planted, 0o644))
	require.NoError(t, os.Remove(filepath.Join(live, "-n")))
	require.NoError(t, os.WriteFile(filepath.Join(live, "-n"), planted, 0o644))
	require.NoError(t, os.Remove(filepath.Join(live, "deep/er/still/picture.jpg")))
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(live, "deep/er/still/picture.jpg")))
	expected := told(t, from)

	now, sent, _ := run(t, behind(t, t.TempDir()), from, live)
	assert.Equal(t, expected, now)
	assert.Equal(t, int64(1), sent.Copied)
	assert.True(t, sent.Same("deep/other.jpg"))
	assert.False(t, sent.Same("-n"))

	// Digests that are lies only have other files than scripts kept.
	lies := t.TempDir()
	sum, err := exec.Command("sh", "-c", "sha256sum < '"+from+"/index.php' | cut -c1-64").Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(lies, "sha256sum"), []byte("#!/bin/sh\nshift 2\nfor f; do echo '"+strings.TrimSpace(string(sum))+" *'\"$f\"; done\n"), 0o755))
	now, _, _ = run(t, behind(t, lies), from, live)
	assert.Equal(t, expected["index.php"], now["index.php"], "by whichever of its names it comes first")
	assert.NotEqual(t, expected["-n"], now["-n"], "the test has lied")
	// Nor does it matter when commands fail.
	broken := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(broken, "xargs"), []byte("#!/bin/sh\n(sleep 0.3; mkdir -p \"$6/deep\"; cp '"+live+"/index.php' \"$6/deep/other.jpg\") >/dev/null 2>&1 &\nexit 3\n"), 0o755))
	_, sent, to := run(t, behind(t, broken), from, live)
	assert.Zero(t, sent.Copied)
	time.Sleep(600 * time.Millisecond)
	assert.FileExists(t, to+"-copies/deep/other.jpg", "a command that was given up has gone on")
	assert.Equal(t, expected, told(t, to), "and has not written there")
}

// What has not arrived as it was sent is no success.
func TestWhatIsNotThereIsSeen(t *testing.T) {
	from := grown(t)
	w := &short{Writer: behind(t, "")}
	to := filepath.Join(t.TempDir(), "box")
	require.NoError(t, os.Mkdir(to, 0o700))
	_, err := send.Job{Disk: &disk.Disk{}, From: from, Place: w, Dir: to}.Run(context.Background())
	require.ErrorContains(t, err, "is not what is there")
}

// short cuts one file off, and says nothing of it.
type short struct{ tree.Writer }

func (s *short) Put(ctx context.Context, name string, content io.ReaderAt, size int64, a tree.Attr) error {
	if filepath.Base(name) == "other.jpg" {
		size--
	}
	return s.Writer.Put(ctx, name, content, size, a)
}

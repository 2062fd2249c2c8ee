//go:build linux

package tree_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"revlet/internal/platform/disk"
	"revlet/internal/practice/line"
	"revlet/internal/site/tree"
	"revlet/internal/store/sshconn"
	"revlet/internal/store/sshconn/sshtest"
)

// commands tells whether servers run commands.
var commands atomic.Bool

// server is an SSH server that serves this machine's files, and forwards connections.
// lists, if set, answers instead.
func server(t *testing.T, lists func(ssh.Channel)) (address string) {
	o := sshtest.Server{Subsystem: lists}
	if lists == nil {
		o.Subsystem = func(channel ssh.Channel) {
			if s, err := sftp.NewServer(channel); err == nil {
				_ = s.Serve()
			}
		}
	}
	if commands.Load() {
		o.Run = func(command string, channel ssh.Channel) {
			cmd := exec.Command("sh", "-c", command)
			cmd.Stdin, cmd.Stdout = channel, channel
			_ = cmd.Run()
		}
	}
	return sshtest.Start(t, o)
}

// far is a place behind SSH.
func far(t *testing.T, address string, change func(*tree.SSHOptions)) tree.Place {
	o := tree.SSHOptions{Base: "sftp://keeper@host.example", Pause: time.Millisecond, Dialer: sshconn.Dialer{Host: address, User: "keeper",
		Auth:  func() ([]ssh.AuthMethod, error) { return nil, nil },
		Hosts: &sshconn.Hosts{Disk: &disk.Disk{}, File: filepath.Join(t.TempDir(), "known_hosts"), Trust: true}}}
	if change != nil {
		change(&o)
	}
	p := tree.NewSSH(o)
	t.Cleanup(func() { _ = p.Close() })
	return p
}

// grown makes a folder with whatever a site has.
func grown(t *testing.T) string {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	write := func(name string, data []byte, mode fs.FileMode) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, data, mode))
		require.NoError(t, os.Chtimes(path, time.Unix(1.7e9, 0), time.Unix(1.7e9, 0)))
	}
	large := make([]byte, 3<<20+17)
	_, _ = rand.Read(large)
	write("uploads/large.bin", large, 0o640)
	write("index.php", []byte("<?php"), 0o644)
	write(".htaccess", []byte("Deny"), 0o600)
	write("empty", nil, 0o644)
	write("odd \xff\nname", []byte("x"), 0o644)
	for i := range 300 {
		write(fmt.Sprintf("many/%03d.txt", i), []byte(strings.Repeat("x", i)), 0o644)
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "nothing"), 0o2775))
	require.NoError(t, os.Symlink("../many", filepath.Join(dir, "uploads/link")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "out")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	return dir
}

// told is all that a folder tells of everything in it, content included.
func told(t *testing.T, in tree.Folder) map[string]string {
	all := map[string]string{}
	err := tree.Walk(t.Context(), in, ".", func(name string, info fs.FileInfo, err error) error {
		require.NoError(t, err, name)
		is := fmt.Sprint(info.Mode())
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			target, err := in.Readlink(name)
			require.NoError(t, err)
			is += " -> " + target
		case info.Mode().IsRegular():
			f, err := in.Open(name)
			require.NoError(t, err, name)
			var b bytes.Buffer
			n, err := io.Copy(&b, f)
			require.NoError(t, err, name)
			require.NoError(t, f.Close())
			require.Equal(t, info.Size(), n)
			whole, err := tree.ReadFile(in, name, 8<<20)
			require.NoError(t, err)
			require.True(t, bytes.Equal(whole, b.Bytes()), name)
			is += fmt.Sprint(info.ModTime().Unix(), " ", info.Size(), " ", b.Len())
		}
		all[name] = is
		return nil
	})
	require.NoError(t, err)
	return all
}

func open(t *testing.T, p tree.Place, dir string) tree.Folder {
	in, err := p.Folder(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = in.Close() })
	return in
}

// A place elsewhere tells the same of a folder as this machine does.
func TestPlacesTellTheSame(t *testing.T) {
	dir := grown(t)
	here := told(t, open(t, tree.Local(nil), dir))
	assert.Equal(t, 312, len(here))
	p := far(t, server(t, nil), nil)
	assert.Equal(t, here, told(t, open(t, p, dir)))

	for name, place := range map[string]tree.Place{"here": tree.Local(nil), "far": p} {
		t.Run(name, func(t *testing.T) {
			in := open(t, place, dir)
			for name, want := range map[string]error{"none": fs.ErrNotExist, "none/at/all": fs.ErrNotExist, "pipe": disk.ErrSpecial} {
				_, err := in.Open(name)
				assert.ErrorIs(t, err, want, name)
				_, err = tree.ReadFile(in, name, 100)
				assert.ErrorIs(t, err, want, name)
			}
			for _, leads := range []string{"out/passwd", "uploads/link/001.txt"} {
				_, err := in.Open(leads)
				if place == p { // what SFTP cannot refuse, a walk never asks for
					continue
				}
				assert.Error(t, err, leads)
			}
			for _, folder := range []string{"out", "uploads/link", "index.php", "none"} {
				_, _, err := in.ReadFolder(folder, 10)
				assert.Error(t, err, folder)
			}
			_, err := tree.ReadFile(in, "uploads/large.bin", 1<<20)
			assert.ErrorIs(t, err, tree.ErrTooLarge)
			_, err = place.Folder(t.Context(), filepath.Join(dir, "index.php"))
			assert.ErrorIs(t, err, tree.ErrNoFolder)
			_, err = place.Folder(t.Context(), filepath.Join(dir, "none"))
			assert.ErrorIs(t, err, fs.ErrNotExist)

			f, err := in.Open("uploads/large.bin")
			require.NoError(t, err)
			defer f.Close()
			whole, err := os.ReadFile(filepath.Join(dir, "uploads/large.bin"))
			require.NoError(t, err)
			head := make([]byte, 16)
			_, err = f.ReadAt(head, 1000)
			require.NoError(t, err)
			assert.Equal(t, whole[1000:1016], head)
			_, err = f.Seek(-10, io.SeekEnd)
			require.NoError(t, err)
			tail, err := io.ReadAll(f)
			require.NoError(t, err)
			assert.Equal(t, whole[len(whole)-10:], tail)
			now, known := place.Now(t.Context())
			assert.True(t, known)
			assert.WithinDuration(t, time.Now(), now, 5*time.Second)
			real, err := place.Absolute(t.Context(), dir+"/uploads/../many")
			require.NoError(t, err)
			assert.Equal(t, dir+"/many", real)
		})
	}
}

// A survey tells the same as one look after the other, and more.
func TestASurvey(t *testing.T) {
	commands.Store(true)
	defer commands.Store(false)
	dir := grown(t)
	require.NoError(t, os.Link(filepath.Join(dir, "index.php"), filepath.Join(dir, "second.php")))
	here := open(t, tree.Local(nil), dir)
	p := far(t, server(t, nil), nil)
	plain, surveyed := open(t, p, dir), open(t, p, dir)
	require.NoError(t, surveyed.(tree.Surveyor).Survey("."))
	assert.Equal(t, told(t, here), told(t, surveyed))
	assert.Equal(t, told(t, plain), told(t, surveyed))
	err := tree.Walk(t.Context(), here, ".", func(name string, info fs.FileInfo, _ error) error {
		if name == "." {
			return nil
		}
		there, err := surveyed.Lstat(name)
		require.NoError(t, err)
		mine, _ := tree.StatOf(info)
		its, _ := tree.StatOf(there)
		assert.Equal(t, mine, its, name)
		assert.Equal(t, info.ModTime().UnixNano(), there.ModTime().UnixNano())
		was, err := plain.Lstat(name)
		require.NoError(t, err)
		its, _ = tree.StatOf(was)
		assert.True(t, its.CTime.IsZero())
		return nil
	})
	require.NoError(t, err)
	user, _ := here.Owner(os.Getuid(), os.Getgid())
	theirs, _ := surveyed.Owner(os.Getuid(), os.Getgid())
	assert.Equal(t, user, theirs)

	// What changes later is told as it is now.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.php"), []byte("<?php // longer"), 0o644))
	now, err := surveyed.Lstat("index.php")
	require.NoError(t, err)
	assert.EqualValues(t, 15, now.Size())
	later, _ := tree.StatOf(now)
	assert.True(t, later.CTime.IsZero(), "what the survey knew is of another file")
	now24, known := p.Now(t.Context())
	assert.True(t, known)
	assert.WithinDuration(t, time.Now(), now24, 3*time.Second)
}

// A survey of one folder is of nothing else, and of none that a link leads to.
func TestASurveyOfOneFolder(t *testing.T) {
	commands.Store(true)
	defer commands.Store(false)
	dir := grown(t)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "deep/er/end"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "deep/er/end/a.css"), []byte("a"), 0o644))
	require.NoError(t, os.Symlink("deep", filepath.Join(dir, "leads")))
	p := far(t, server(t, nil), nil)
	knows := func(in tree.Folder, name string) bool {
		info, err := in.Lstat(name)
		require.NoError(t, err)
		st, _ := tree.StatOf(info)
		return !st.CTime.IsZero()
	}
	for name, known := range map[string]bool{"deep/er": true, "deep": true, "uploads": false, "leads/er": false, "deep/missing": false} {
		in := open(t, p, dir)
		require.NoError(t, in.(tree.Surveyor).Survey(name))
		assert.Equal(t, known, knows(in, "deep/er/end/a.css"), name)
		assert.False(t, knows(in, "index.php"), name)
		assert.Equal(t, told(t, open(t, p, dir)), told(t, in), name)
	}
}

// What comes in one stream is what comes file by file; a file that has changed since it was
// surveyed is not in it, whatever time it has been given.
func TestABundle(t *testing.T) {
	commands.Store(true)
	defer commands.Store(false)
	dir := grown(t)
	names := []string{"index.php", ".htaccess", "empty", "odd \xff\nname", "uploads/large.bin", "second name", `back\slash`, "-c", " ", "deep/" + strings.Repeat("long", 40)}
	require.NoError(t, os.Link(filepath.Join(dir, "index.php"), filepath.Join(dir, "second name")))
	for _, name := range names[6:] {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("of "+name), 0o640))
	}
	for i := range 300 {
		names = append(names, fmt.Sprintf("many/%03d.txt", i))
	}
	in := open(t, far(t, server(t, nil), nil), dir)
	bundles := in.(tree.BundleReader)
	assert.Zero(t, bundles.BundleBytes(), "without a survey there is nothing to prove it by")
	require.NoError(t, in.(tree.Surveyor).Survey("."))
	require.Positive(t, bundles.BundleBytes())
	for range 2 { // the second comes from the same command
		found := bundles.ReadBundle(append(names, "pipe", "out", "uploads", "missing", "index.php"))
		require.Len(t, found, len(names))
		for _, name := range names {
			whole, err := in.(tree.WholeReader).ReadWhole(name, 8<<20)
			require.NoError(t, err)
			assert.Equal(t, whole.Data, found[name].Data, "%q", name)
			assert.Equal(t, whole.Info.ModTime().Unix(), found[name].Info.ModTime().Unix(), name)
			assert.Equal(t, whole.Info.Mode(), found[name].Info.Mode(), name)
		}
	}

	stays := func(name, as string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(as), 0o644))
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), time.Unix(1.7e9, 0), time.Unix(1.7e9, 0)))
	}
	stays("many/010.txt", strings.Repeat("y", 10))
	stays("many/011.txt", "longer than it was")
	require.NoError(t, os.Remove(filepath.Join(dir, "many/012.txt")))
	require.NoError(t, os.Remove(filepath.Join(dir, "many/013.txt")))
	require.NoError(t, os.Symlink("014.txt", filepath.Join(dir, "many/013.txt")))
	require.NoError(t, os.Rename(filepath.Join(dir, "deep"), filepath.Join(dir, "moved")))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "other"), 0o755))
	require.NoError(t, os.Symlink("other", filepath.Join(dir, "deep")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "other", strings.Repeat("long", 40)), []byte("of deep/"+strings.Repeat("long", 40)), 0o640))
	found := bundles.ReadBundle(names)
	assert.Len(t, found, len(names)-5)
	for _, name := range []string{"many/010.txt", "many/011.txt", "many/012.txt", "many/013.txt", "deep/" + strings.Repeat("long", 40)} {
		assert.NotContains(t, found, name)
	}
}

// lined is a place at the end of a bad line.
func lined(t *testing.T, lists func(ssh.Channel), change func(*line.Line), options func(*tree.SSHOptions)) (tree.Place, *line.Line) {
	l, err := line.New(server(t, lists))
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	change(l)
	l.Start()
	return far(t, fmt.Sprintf("127.0.0.1:%d", l.Port()), options), l
}

// Wherever a connection is cut, everything is read all the same.
func TestALineThatIsCut(t *testing.T) {
	dir := grown(t)
	here := told(t, open(t, tree.Local(nil), dir))
	for _, after := range []int64{100_003, 333_333, 1_000_000} {
		t.Run(fmt.Sprint(after), func(t *testing.T) {
			p, l := lined(t, nil, func(l *line.Line) { l.CutAfter = after }, func(o *tree.SSHOptions) { o.Tries = 100 })
			assert.Equal(t, here, told(t, open(t, p, dir)))
			assert.Greater(t, l.Cuts.Load(), int64(2))
		})
	}
}

// A reading that goes on after a cut goes on in the same file only.
func TestAFileThatChangesBehindACut(t *testing.T) {
	dir := grown(t)
	p, _ := lined(t, nil, func(l *line.Line) { l.CutAfter = 1 << 20 }, func(o *tree.SSHOptions) { o.Tries = 100 })
	f, err := open(t, p, dir).Open("uploads/large.bin")
	require.NoError(t, err)
	defer f.Close()
	_, err = io.ReadFull(f, make([]byte, 100_000))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "uploads/large.bin"), bytes.Repeat([]byte("y"), 3<<20), 0o640))
	_, err = io.ReadAll(f)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

// What cannot be asked says nothing of a file, and is given up in time.
func TestAMachineThatFallsSilent(t *testing.T) {
	dir := grown(t)
	p, l := lined(t, nil, func(*line.Line) {}, func(o *tree.SSHOptions) { o.Silence, o.Tries = 300*time.Millisecond, 2 })
	in := open(t, p, dir)
	time.Sleep(time.Second) // idle is not silent
	_, err := in.Lstat("index.php")
	require.NoError(t, err)
	assert.Zero(t, l.Cuts.Load())
	l.FallSilent()
	_, err = in.Lstat("index.php")
	require.ErrorIs(t, err, tree.ErrUnreachable)
	assert.NotErrorIs(t, err, fs.ErrNotExist)
	_, err = in.Open("index.php")
	assert.ErrorIs(t, err, tree.ErrUnreachable)
	_, _, err = in.ReadFolder(".", 1)
	assert.ErrorIs(t, err, tree.ErrUnreachable)
	_, known := p.Now(t.Context())
	assert.False(t, known)
}

// A far end that takes one connection only is used with one.
func TestFewConnections(t *testing.T) {
	dir := grown(t)
	p, l := lined(t, nil, func(l *line.Line) { l.Most = 1 }, nil)
	in := open(t, p, dir)
	var all sync.WaitGroup
	for i := range 300 {
		all.Go(func() {
			data, err := tree.ReadFile(in, fmt.Sprintf("many/%03d.txt", i), 1000)
			assert.NoError(t, err)
			assert.Len(t, data, i)
		})
	}
	all.Wait()
	assert.NotZero(t, l.Refused.Load())
}

// A run that is stopped stops at once.
func TestAStoppedRunDoesNotWait(t *testing.T) {
	dir := grown(t)
	p, l := lined(t, nil, func(*line.Line) {}, nil)
	ctx, stop := context.WithCancel(t.Context())
	in, err := p.Folder(ctx, dir)
	require.NoError(t, err)
	l.FallSilent()
	time.AfterFunc(100*time.Millisecond, stop)
	began := time.Now()
	_, err = in.Lstat("index.php")
	require.ErrorIs(t, err, tree.ErrUnreachable)
	assert.ErrorIs(t, err, context.Canceled)
	assert.Less(t, time.Since(began), 5*time.Second)
}

// What is listed is what folders have: a far end may be in anybody's hands.
func TestHostileListings(t *testing.T) {
	for name, lists := range map[string]liar{
		"several elements": {"../../etc/cron.d/x"},
		"a slash":          {"a/b"},
		"nothing":          {"a\x00b"},
		"twice":            {"index.php", "index.php"},
	} {
		t.Run(name, func(t *testing.T) {
			p := far(t, server(t, lists.serve), nil)
			in := open(t, p, "/srv")
			names, _, err := in.ReadFolder(".", 10)
			for _, name := range names { // a name of several elements may be read as its last one
				assert.Regexp(t, `^[^/\x00]+$`, name)
				assert.NotContains(t, []string{".", ".."}, name)
			}
			assert.NotErrorIs(t, err, tree.ErrUnreachable)
			if !strings.Contains(lists[0], "/") {
				assert.Error(t, err)
			}
		})
	}
}

// A length below nothing, and names that go on for ever, are no reason to fall over.
func TestHostileLengths(t *testing.T) {
	in := open(t, far(t, server(t, liar{"below-nothing", "index.php"}.serve), nil), "/srv")
	_, err := in.Lstat("below-nothing")
	require.Error(t, err)
	_, err = tree.ReadFile(in, "below-nothing", 100)
	require.Error(t, err)
	_, err = in.Open("below-nothing")
	require.Error(t, err)
	deep := strings.TrimSuffix(strings.Repeat("in/", 1500), "/")
	_, _, err = in.ReadFolder(deep, 10)
	require.Error(t, err)
	assert.NotErrorIs(t, err, tree.ErrUnreachable)
	_, _, err = open(t, far(t, server(t, liar{strings.Repeat("x", 5000)}.serve), nil), "/srv").ReadFolder(".", 10)
	require.Error(t, err)
}

// What is forwarded does not end because reading files has trouble, and a machine that
// falls silent at once is given up, too.
func TestTunnelsAreApart(t *testing.T) {
	dir := grown(t)
	echo, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer echo.Close()
	go func() {
		c, err := echo.Accept()
		if err == nil {
			_, _ = io.Copy(c, c)
		}
	}()
	p, l := lined(t, nil, func(l *line.Line) { l.CutAfter = 400_000 }, func(o *tree.SSHOptions) { o.Tries = 50 })
	c, err := p.Dial(t.Context(), "tcp", echo.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	_, err = tree.ReadFile(open(t, p, dir), "uploads/large.bin", 8<<20)
	require.NoError(t, err)
	require.NotZero(t, l.Cuts.Load())
	_, err = io.WriteString(c, "still lit")
	require.NoError(t, err)
	answer := make([]byte, 9)
	_, err = io.ReadFull(c, answer)
	require.NoError(t, err)
	assert.Equal(t, "still lit", string(answer))

	silent, l := lined(t, nil, func(*line.Line) {}, func(o *tree.SSHOptions) { o.Silence, o.Tries = 600*time.Millisecond, 1 })
	_, err = silent.Absolute(t.Context(), "/")
	require.NoError(t, err)
	l.FallSilent()
	began := time.Now()
	_, err = silent.Absolute(t.Context(), "/")
	require.ErrorIs(t, err, tree.ErrUnreachable)
	assert.Less(t, time.Since(began), 4*600*time.Millisecond, "by the silence of the connection, not of the call")
}

// liar lists these names in every folder.
type liar []string

func (l liar) serve(c ssh.Channel) {
	_ = sftp.NewRequestServer(c, sftp.Handlers{FileList: l}).Serve()
}

// Filelist implements sftp.FileLister.
func (l liar) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method == "Stat" || r.Method == "Lstat" {
		if strings.HasPrefix(r.Filepath, "/srv/below-nothing") {
			return listed{lied{"below-nothing", 0o644, -7}}, nil
		}
		return listed{lied{"srv", fs.ModeDir | 0o755, 0}}, nil
	}
	var all listed
	for _, name := range l {
		all = append(all, lied{name, 0o644, 5})
	}
	return all, nil
}

type listed []fs.FileInfo

// ListAt implements sftp.ListerAt.
func (l listed) ListAt(out []fs.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	return copy(out, l[at:]), nil
}

type lied struct {
	name string
	mode fs.FileMode
	size int64
}

func (f lied) Name() string       { return f.name }
func (f lied) Size() int64        { return f.size }
func (f lied) Mode() fs.FileMode  { return f.mode }
func (f lied) ModTime() time.Time { return time.Unix(1.7e9, 0) }
func (f lied) IsDir() bool        { return f.mode.IsDir() }
func (f lied) Sys() any           { return nil }

// A database is asked from the far machine.
func TestDialling(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		c, err := l.Accept()
		if err == nil {
			_, _ = io.WriteString(c, "the lamp is lit")
			_ = c.Close()
		}
	}()
	p := far(t, server(t, nil), nil)
	c, err := p.Dial(t.Context(), "tcp", l.Addr().String())
	require.NoError(t, err)
	said, err := io.ReadAll(c)
	require.NoError(t, err)
	assert.Equal(t, "the lamp is lit", string(said))
	_ = l.Close()
	_, err = p.Dial(t.Context(), "tcp", l.Addr().String())
	require.Error(t, err)
	assert.NotErrorIs(t, err, tree.ErrUnreachable, "the machine has answered")
	var refused *ssh.OpenChannelError
	assert.True(t, errors.As(err, &refused))
}

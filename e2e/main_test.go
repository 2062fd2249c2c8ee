// Package e2e drives the built program on real files, a real CMS and real
// servers, all private and in temporary folders.
package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// program is the built binary under test.
var program string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "revlet-e2e-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		if err := os.Chmod(dir, 0o755); err != nil { // other accounts run the program too
			panic(err)
		}
		defer inTmpfs(dir)()
		program = filepath.Join(dir, "revlet")
		build := exec.Command("go", "build", "-o", program, "revlet/cmd/revlet")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintln(os.Stderr, string(out))
			return 1
		}
		// Debian keeps servers out of an ordinary account's path.
		os.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
		defer func() { stopServer() }()
		http.DefaultClient.Timeout = longestRun // what never answers is a failure of its test alone
		defer time.AfterFunc(longestOfAll, running.tell).Stop()
		return m.Run()
	}())
}

// longestOfAll is after how long the tests that still run are named, before all of them are ended: what they wait for stands above,
// and is too long to be read.
const longestOfAll = 18 * time.Minute

// running are the names of the tests with a world that are running.
var running names

type names struct {
	mu  sync.Mutex
	all map[string]int
}

func (n *names) begin(t *testing.T) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.all == nil {
		n.all = map[string]int{}
	}
	name := t.Name()
	n.all[name]++
	t.Cleanup(func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		if n.all[name]--; n.all[name] == 0 {
			delete(n.all, name)
		}
	})
}

func (n *names) tell() {
	n.mu.Lock()
	all := slices.Sorted(maps.Keys(n.all))
	n.mu.Unlock()
	stacks := make([]byte, 1<<20)
	stacks = stacks[:runtime.Stack(stacks, true)]
	for _, stack := range strings.Split(string(stacks), "\n\n") {
		if strings.Contains(stack, "testing.tRunner") && !strings.Contains(stack, "waitParallel") {
			fmt.Fprintf(os.Stderr, "%s\n\n", stack)
		}
	}
	fmt.Fprintf(os.Stderr, "after %s these tests still run, and all are ended: %s\n", longestOfAll, strings.Join(all, ", "))
	os.Exit(1)
}

// inTmpfs has the tests' folders lie in memory, where this account may mount and there is
// plenty: they are about what lies on a disk, and not about the disk. The path is an
// ordinary one, for no site lies below /dev. It returns what ends that.
func inTmpfs(dir string) (end func()) {
	var memory syscall.Sysinfo_t
	const least = 12 << 30
	if syscall.Sysinfo(&memory) != nil || memory.Freeram*uint64(memory.Unit) < least || os.Getenv("TMPDIR") != "" {
		return func() {}
	}
	at := filepath.Join(dir, "tmp")
	if os.Chmod(dir, 0o755) != nil || os.Mkdir(at, 0o777) != nil || syscall.Mount("tmpfs", at, "tmpfs", 0, "mode=1777,size=8g") != nil {
		return func() {}
	}
	os.Setenv("TMPDIR", at)
	return func() { _ = syscall.Unmount(at, syscall.MNT_DETACH) }
}

// need skips a test whose tools are missing; in CI they must be there.
func need(t *testing.T, tools ...string) {
	t.Helper()
	for _, tool := range tools {
		_, err := exec.LookPath(tool)
		if filepath.IsAbs(tool) {
			_, err = os.Stat(tool)
		}
		if err != nil && os.Getenv("CI") != "" {
			require.NoError(t, err, "CI must have what scripts/setup.sh installs")
		}
		if err != nil {
			t.Skipf("%s is not installed; scripts/setup.sh installs it", tool)
		}
	}
}

// world is a folder with a configuration, a state folder and a store.
type world struct {
	t   *testing.T
	dir string
	// clock is the moment that the program takes for now; zero is the time of day.
	clock time.Time
	// drain is how long a site is closed before an exchange; as a rule, no time.
	drain time.Duration
	// program is what is run in place of the one that was built for this system.
	program []string
	// tmp is its folder for temporary files: one with a short path, for sockets.
	tmp string
}

// step runs one part of a long story: what fails in it does not hide the next.
func (w *world) step(t *testing.T, name string, part func(t *testing.T)) {
	t.Run(name, func(t *testing.T) {
		before := w.t
		w.t = t
		defer func() { w.t = before }()
		part(t)
	})
}

func newWorld(t *testing.T) *world {
	t.Helper()
	tmp, err := os.MkdirTemp("/tmp", "rvt")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(tmp, 0o711)) // a database server's account has to come by
	t.Cleanup(func() { _ = os.RemoveAll(tmp) })
	w := &world{t: t, dir: t.TempDir(), tmp: tmp}
	running.begin(t)
	w.write("revlet.yaml", "state: ./state\n")
	return w
}

func (w *world) path(rel ...string) string {
	return filepath.Join(append([]string{w.dir}, rel...)...)
}

func (w *world) write(rel, text string) {
	require.NoError(w.t, os.MkdirAll(filepath.Dir(w.path(rel)), 0o755))
	require.NoError(w.t, os.WriteFile(w.path(rel), []byte(text), 0o600))
}

// result is what a run of the program gave back.
type result struct {
	out, err string
	code     int
}

func (w *world) command(args ...string) *exec.Cmd {
	line := append(append([]string{}, w.program...), args...)
	if w.program == nil {
		line = append([]string{program}, args...)
	}
	ctx, cancel := context.WithTimeout(context.Background(), longestRun)
	w.t.Cleanup(cancel)
	cmd := exec.CommandContext(ctx, line[0], line[1:]...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGQUIT) } // Go's answer are the stacks of all goroutines
	cmd.WaitDelay = time.Minute                                              // for what it left running with its output in hand
	cmd.Dir = w.dir
	cmd.Env = append(os.Environ(), "REVLET_CONFIG="+w.path("revlet.yaml"), "NO_COLOR=1", "HOME="+w.dir, "XDG_STATE_HOME="+w.path("xstate"), "REVLET_RETRY_PAUSE=10ms", "REVLET_DRAIN="+w.drain.String(), "TMPDIR="+w.tmp)
	if !w.clock.IsZero() {
		cmd.Env = append(cmd.Env, "REVLET_CLOCK="+w.clock.Format(time.RFC3339))
	}
	return cmd
}

func (w *world) try(args ...string) result {
	w.t.Helper()
	var out, errOut bytes.Buffer
	cmd := w.command(args...)
	cmd.Stdout, cmd.Stderr = &out, &errOut
	require.NoError(w.t, cmd.Start())
	_ = cmd.Wait()
	if strings.Contains(errOut.String(), "SIGQUIT: quit") {
		w.t.Errorf("revlet %s: it hung\n%s", strings.Join(args, " "), errOut.String())
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// longestRun is how long a run of the program may last. One that lasts longer says where it stands, and ends: what
// waits for ever is a failure of its test alone.
const longestRun = 5 * time.Minute

// run expects success and returns what was printed.
func (w *world) run(args ...string) string {
	w.t.Helper()
	r := w.try(args...)
	require.Equal(w.t, 0, r.code, "revlet %s\n%s%s", strings.Join(args, " "), r.out, r.err)
	return r.out
}

// fails expects an exit code and every one of the words in what is printed.
func (w *world) fails(code int, words []string, args ...string) result {
	w.t.Helper()
	r := w.try(args...)
	require.Equal(w.t, code, r.code, "revlet %s\n%s%s", strings.Join(args, " "), r.out, r.err)
	for _, word := range words {
		require.Contains(w.t, r.out+r.err, word)
	}
	require.NotContains(w.t, r.err, "goroutine ", "no stack traces")
	return r
}

// json runs a command with --json and decodes what it prints.
func (w *world) json(into any, args ...string) {
	w.t.Helper()
	require.NoError(w.t, json.Unmarshal([]byte(w.run(append(args, "--json")...)), into))
}

// newest is the newest archive's name.
func (w *world) newest() string {
	w.t.Helper()
	var l struct{ Archives []struct{ Name string } }
	w.json(&l, "archives")
	require.NotEmpty(w.t, l.Archives)
	return l.Archives[0].Name
}

// parts are the stored parts of the newest archive.
func (w *world) parts(site string) []storedPart {
	w.t.Helper()
	data, err := os.ReadFile(w.path("archives", site, "archives", w.newest()+".json"))
	require.NoError(w.t, err)
	var rec struct{ Parts []storedPart }
	require.NoError(w.t, json.Unmarshal(data, &rec))
	for i, p := range rec.Parts {
		rec.Parts[i].file = w.path("archives", site, "parts", p.Name[:2], p.Name)
	}
	return rec.Parts
}

type storedPart struct {
	Name, Kind, Table string
	file              string
}

// flip changes one byte in the middle of a file.
func flip(t *testing.T, file string) {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(file, data, 0o600))
}

// snapshot describes every path below root: mode, owner, time and content,
// leaving out the names in skip.
func snapshot(t *testing.T, root string, skip ...string) map[string]string {
	t.Helper()
	tree := map[string]string{}
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(root, p)
		for _, s := range skip {
			if rel == s || strings.HasPrefix(rel, s+"/") || strings.HasPrefix(rel, s+"-") {
				return nil
			}
		}
		info, err := os.Lstat(p)
		if err != nil {
			return err
		}
		st := info.Sys().(*syscall.Stat_t)
		text := fmt.Sprintf("%v %d:%d links=%d", info.Mode(), st.Uid, st.Gid, map[bool]uint64{true: 0, false: uint64(st.Nlink)}[d.IsDir()])
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			target, _ := os.Readlink(p)
			text += " -> " + target
		case info.Mode().IsRegular():
			in, err := os.Open(p)
			if err != nil {
				return err
			}
			sum := sha256.New() // not all at once: some are large
			_, err = io.Copy(sum, in)
			if err = errors.Join(err, in.Close()); err != nil {
				return err
			}
			text += " " + hex.EncodeToString(sum.Sum(nil)[:8])
		}
		if strings.HasSuffix(rel, "-shm") { // SQLite's shared memory: whoever reads the database touches it
			tree[rel] = text
			return nil
		}
		tree[rel] = text + " " + info.ModTime().UTC().Format(time.RFC3339Nano)
		return nil
	})
	require.NoError(t, err)
	return tree
}

// freePort returns a port on loopback that nobody listens on.
func freePort(t *testing.T) int {
	t.Helper()
	// Below those that the system gives to connections: such a one could come between.
	for range 1000 {
		port := 20_000 + int(int64(os.Getpid())*131+ports.Add(1))%12_000
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			require.NoError(t, l.Close())
			return port
		}
	}
	require.FailNow(t, "no port is free")
	return 0
}

// ports counts those that were given away.
var ports atomic.Int64

// start runs a server until the test ends.
func start(t *testing.T, ready func() bool, name string, args ...string) {
	t.Helper()
	log := filepath.Join(t.TempDir(), "log")
	f, err := os.Create(log)
	require.NoError(t, err)
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = f, f
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // for its workers to end with it
	require.NoError(t, cmd.Start())
	exited := make(chan error, 1)
	go func() { exited <- cmd.Wait() }()
	t.Cleanup(func() {
		defer func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }()
		_ = cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-exited:
		case <-time.After(20 * time.Second):
			_ = cmd.Process.Kill()
			<-exited
		}
		_ = f.Close()
	})
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if ready() {
			return
		}
		select {
		case err := <-exited:
			exited <- err
			text, _ := os.ReadFile(log)
			require.FailNow(t, "the server ended", "%s: %v\n%s", name, err, text)
		default:
		}
	}
	text, _ := os.ReadFile(log)
	require.FailNow(t, "the server does not answer", "%s\n%s", name, text)
}

// get asks for a page and returns its status and text.
func get(t *testing.T, url string) (int, string) {
	t.Helper()
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	resp, err := client.Get(url)
	require.NoError(t, err)
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(body)
}

// read is the content of a file of the world.
func (w *world) read(name string) string {
	w.t.Helper()
	data, err := os.ReadFile(w.path(name))
	require.NoError(w.t, err)
	return string(data)
}

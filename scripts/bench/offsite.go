//go:build linux

package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// sshd starts the real server on a free port of the loopback address.
func (b *bench) sshd() (port int, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, nil, err
	}
	port = l.Addr().(*net.TCPAddr).Port
	_ = l.Close()
	config := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %[2]s/host\nAuthorizedKeysFile %[2]s/id.pub\nUsePAM no\nStrictModes no\nPermitRootLogin yes\nPidFile none\nSubsystem sftp internal-sftp\n", port, b.path("ssh"))
	script := fmt.Sprintf("mkdir -p %[1]s && cd %[1]s && ssh-keygen -q -t ed25519 -N '' -f host && ssh-keygen -q -t ed25519 -N '' -f id && { [ \"$(id -u)\" != 0 ] || mkdir -p /run/sshd; }", b.path("ssh"))
	if out, err := exec.Command("sh", "-c", script).CombinedOutput(); err != nil {
		return 0, nil, fmt.Errorf("%w: %s", err, out)
	}
	if err := os.WriteFile(b.path("ssh/config"), []byte(config), 0o600); err != nil {
		return 0, nil, err
	}
	cmd := exec.Command("/usr/sbin/sshd", "-D", "-f", b.path("ssh/config"))
	if err := cmd.Start(); err != nil {
		return 0, nil, err
	}
	stop = func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
	for range 100 {
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			return port, stop, c.Close()
		}
		time.Sleep(50 * time.Millisecond)
	}
	stop()
	return 0, nil, errors.New("sshd does not answer")
}

func (b *bench) configure(port int, stores string) error {
	user, err := exec.Command("id", "-un").Output()
	if err != nil {
		return err
	}
	far := fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", strings.TrimSpace(string(user)), port, b.path("far"))
	text := fmt.Sprintf("state: ./state\nstores:\n  here: {folder: ./archives}\n  harbour: {sftp: %q, key_file: ./ssh/id}\n  slow: {sftp: %q, key_file: ./ssh/id, rate: 80 MB/s}\nsites:\n  museum: {root: ./htdocs, stores: [%s], recipe: none}\n", far+"/a", far+"/b", stores)
	return os.WriteFile(b.path("revlet.yaml"), []byte(text), 0o600)
}

// offsite measures what issue 4 is about: the next archive, two stores at once,
// and the way to a real sshd.
func (b *bench) offsite() error {
	port, stop, err := b.sshd()
	if err != nil {
		return err
	}
	defer stop()
	wipe := func() error {
		for _, dir := range []string{"archives", "far", "byhand/far"} {
			if err := errors.Join(os.RemoveAll(b.path(dir)), os.MkdirAll(b.path(dir), 0o755)); err != nil {
				return err
			}
		}
		// What is known of the stores goes with them, but for the machine's key.
		known, err := os.ReadFile(b.path("state/known_hosts"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return errors.Join(os.RemoveAll(b.path("state")), os.MkdirAll(b.path("state"), 0o700), os.WriteFile(b.path("state/known_hosts"), known, 0o600))
	}
	if err := errors.Join(wipe(), b.configure(port, "harbour")); err != nil {
		return err
	}
	if out, err := b.revlet("stores", "test", "harbour", "--trust").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	if err := b.next(wipe, port); err != nil {
		return err
	}
	scp := b.shell(fmt.Sprintf("scp -q -r -P %d -i ssh/id -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR archives/museum 127.0.0.1:%s", port, b.path("byhand/far/")))
	full := func() error {
		if err := errors.Join(wipe(), b.configure(port, "here")); err != nil {
			return err
		}
		if _, err := measure(b.revlet("backup", "museum")); err != nil {
			return err
		}
		return b.configure(port, "here, harbour")
	}
	if err := b.line(versus{"copy to sshd, against scp", 1.25, full, b.revlet("stores", "copy", "--to", "harbour"), scp}); err != nil {
		return err
	}
	two := b.revlet("backup", "museum")
	one := b.shell("exec " + b.program + " --quiet --config one.yaml --state onestate backup museum")
	return b.line(versus{"two stores, against one", 1.1, func() error {
		if err := errors.Join(wipe(), os.RemoveAll(b.path("onestate")), os.MkdirAll(b.path("onestate"), 0o700), b.configure(port, "slow")); err != nil {
			return err
		}
		known, err := os.ReadFile(b.path("state/known_hosts"))
		config, err2 := os.ReadFile(b.path("revlet.yaml"))
		err = errors.Join(err, err2, os.WriteFile(b.path("onestate/known_hosts"), known, 0o600),
			os.WriteFile(b.path("one.yaml"), bytes.ReplaceAll(config, []byte("/far/b"), []byte("/far/c")), 0o600))
		return errors.Join(err, b.configure(port, "here, slow"))
	}, two, one})
}

// next measures the archive after 1 % of the files have changed.
func (b *bench) next(wipe func() error, port int) error {
	var first, second, ratio, sent []float64
	var peak int64
	for round := range *rounds {
		if err := errors.Join(wipe(), b.configure(port, "here")); err != nil {
			return err
		}
		time.Sleep(3 * time.Second) // younger files would be read again, to be sure
		one, err := measure(b.revlet("backup", "museum"))
		if err != nil {
			return err
		}
		changed, err := b.change(round)
		if err != nil {
			return err
		}
		if err := exec.Command("sync").Run(); err != nil {
			return err
		}
		two, err := measure(b.revlet("backup", "museum"))
		if err != nil {
			return err
		}
		out, err := b.revlet("show", "museum", "--json").Output()
		if err != nil {
			return err
		}
		var shown struct {
			Record struct {
				Totals struct {
					New int64 `json:"new_bytes"`
				}
				List struct{ Bytes int64 }
			}
		}
		if err := json.Unmarshal(out, &shown); err != nil {
			return err
		}
		first, second = append(first, one.wall.Seconds()), append(second, two.wall.Seconds())
		ratio = append(ratio, two.wall.Seconds()/one.wall.Seconds())
		sent = append(sent, float64(shown.Record.Totals.New-shown.Record.List.Bytes)/float64(changed))
		peak = max(peak, two.peak)
	}
	fmt.Printf("%-26s %6.2f s  the first %6.2f s  ratio %.3f  at most 0.05: %s  peak %d MiB\n", "next archive, 1 % changed",
		median(second), median(first), median(ratio), verdict(median(ratio), 0.05), peak>>20)
	fmt.Printf("%-26s %.2f of what changed, list apart; at most 1.2: %s\n", "bytes sent", median(sent), verdict(median(sent), 1.2))
	return nil
}

// change writes every hundredth file anew and returns how many bytes that is.
func (b *bench) change(round int) (int64, error) {
	var n, bytes int64
	err := filepath.WalkDir(b.path("htdocs"), func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if n++; n%100 != 0 {
			return nil
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		bytes += int64(len(data))
		return os.WriteFile(p, append(data, byte('a'+round)), 0o644)
	})
	return bytes, err
}

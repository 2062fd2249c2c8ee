//go:build linux

package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"revlet/internal/practice/line"
)

// elsewhere measures a site behind a real sshd: the first pull beside scp and beside a tar
// through ssh, the next one, and what a line of 20 ms each way costs that.
func (b *bench) elsewhere() error {
	port, stop, err := b.sshd()
	if err != nil {
		return err
	}
	defer stop()
	long, err := line.New(fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return err
	}
	defer long.Close()
	long.Delay = 20 * time.Millisecond
	long.Start()
	user, err := exec.Command("id", "-un").Output()
	if err != nil {
		return err
	}
	configure := func(port int, commands string) error {
		text := fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  museum: {root: \"sftp://%s@127.0.0.1:%d%s\", stores: [here], recipe: none, reach: {key_file: ./ssh/id%s}}\n",
			strings.TrimSpace(string(user)), port, b.path("htdocs"), commands)
		return os.WriteFile(b.path("revlet.yaml"), []byte(text), 0o600)
	}
	fresh := func(port int, commands string) func() error {
		return func() error {
			err := errors.Join(os.RemoveAll(b.path("state")), os.RemoveAll(b.path("archives")), os.MkdirAll(b.path("archives"), 0o755), os.RemoveAll(b.path("byhand/pulled")), os.MkdirAll(b.path("byhand/pulled"), 0o755), configure(port, commands))
			if err != nil {
				return err
			}
			_ = b.revlet("preflight", "museum", "--trust").Run()
			return nil
		}
	}
	const to = "-i ssh/id -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR"
	scp := b.shell(fmt.Sprintf("scp -q -r -P %d %s 127.0.0.1:%s byhand/pulled/", port, to, b.path("htdocs")))
	tar := b.shell(fmt.Sprintf("ssh -p %d %s 127.0.0.1 tar -C %s -cf - htdocs | zstd -q -T0 -o byhand/pulled/htdocs.tar.zst", port, to, b.dir))
	if err := b.line(versus{"pull over SFTP, against scp", 0.5, fresh(port, ", commands: no"), b.revlet("backup", "museum"), scp}); err != nil {
		return err
	}
	if err := b.line(versus{"pull, against ssh tar | zstd", 1.1, fresh(port, ""), b.revlet("backup", "museum"), tar}); err != nil {
		return err
	}
	if err := b.nextPull(fresh, port, long.Port()); err != nil {
		return err
	}
	return b.themeBack(fresh, port, long.Port())
}

// nextPull measures a pull after 1 % of the files have changed, near and far.
func (b *bench) nextPull(fresh func(port int, commands string) func() error, near, far int) error {
	var first, second, delayed []float64
	for round := range *rounds {
		for _, port := range []int{near, far} {
			if err := fresh(port, "")(); err != nil {
				return err
			}
			time.Sleep(3 * time.Second) // younger files would be read again, to be sure
			one, err := measure(b.revlet("backup", "museum"))
			if err != nil {
				return err
			}
			if _, err := b.change(round); err != nil {
				return err
			}
			two, err := measure(b.revlet("backup", "museum"))
			if err != nil {
				return err
			}
			if port == far {
				delayed = append(delayed, two.wall.Seconds())
			} else {
				first, second = append(first, one.wall.Seconds()), append(second, two.wall.Seconds())
			}
		}
	}
	ratio, slower := median(second)/median(first), median(delayed)/median(second)
	fmt.Printf("%-26s %6.2f s  the first %6.2f s  ratio %.3f  at most 0.06: %s\n", "next pull, 1 % changed", median(second), median(first), ratio, verdict(ratio, 0.06))
	fmt.Printf("%-26s %6.2f s  ratio %.2f  at most 2: %s\n", "the same, 20 ms each way", median(delayed), slower, verdict(slower, 2))
	return nil
}

// themeFiles are the files of a theme that is deleted and put back.
const themeFiles = 500

// themeBack measures how long it takes to put one theme back, near and far, with commands and
// without.
func (b *bench) themeBack(fresh func(port int, commands string) func() error, near, far int) error {
	theme := b.path("htdocs/themes/lantern")
	for _, how := range []struct {
		name, commands string
		port           int
	}{{"a theme of 500 files back", "", near}, {"the same, no commands", ", commands: no", near}, {"the same, 20 ms each way", "", far}} {
		if err := fresh(how.port, how.commands)(); err != nil {
			return err
		}
		if err := os.MkdirAll(theme, 0o755); err != nil {
			return err
		}
		for i := range themeFiles {
			text := strings.Repeat(fmt.Sprintf("/* rule %d of the theme */\n", i), 300)
			if err := os.WriteFile(fmt.Sprintf("%s/part%d.css", theme, i), []byte(text), 0o600); err != nil {
				return err
			}
		}
		if err := b.revlet("backup", "museum").Run(); err != nil {
			return err
		}
		if err := os.RemoveAll(theme); err != nil {
			return err
		}
		took, err := measure(b.revlet("restore", "museum", "--path", "themes/lantern", "--yes"))
		if err != nil {
			return err
		}
		if left, err := os.ReadDir(theme); err != nil || len(left) != themeFiles {
			return fmt.Errorf("%d files came back: %w", len(left), err)
		}
		if err := b.revlet("settle", "museum", "--yes", "--unsaved").Run(); err != nil {
			return err
		}
		fmt.Printf("%-26s %6.2f s  at most 3: %s  peak %d MiB\n", how.name, took.wall.Seconds(), verdict(took.wall.Seconds(), 3), took.peak>>20)
	}
	return os.RemoveAll(theme)
}

// Package autostart has an operating system start a command by itself: a line in
// this account's crontab (crontab(5)), a service of systemd (systemd.service(5)), a job of
// launchd or a task of Windows.
//
// Cron, Systemd, Launchd and Task say what would be installed; the first two install it. What is there
// already and is not ours is left alone.
package autostart

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"revlet/internal/platform/disk"
)

// ErrThere is returned when the same is installed already.
var ErrThere = errors.New("it is installed already")

// cronMark ends the line that is ours in a crontab.
const cronMark = "# revlet"

// CronMinutes is how often a cron line runs its command.
const CronMinutes = 5

// Cron is a line for a crontab that runs a command every few minutes.
type Cron struct{ Line string }

// NewCron returns the line for a command. The account's number spreads the accounts
// of a machine over the minutes.
func NewCron(command []string, account int) Cron {
	return Cron{fmt.Sprintf("%d-59/%d * * * * %s  %s\n", account%CronMinutes, CronMinutes, cronQuote(ShellQuote(command...)), cronMark)}
}

// Install puts the line into this account's crontab in place of an older one of
// ours. It returns ErrThere when it stands there already.
func (c Cron) Install(ctx context.Context) error {
	table, err := exec.CommandContext(ctx, "crontab", "-l").Output()
	var exit *exec.ExitError
	if errors.Is(err, exec.ErrNotFound) {
		return errors.New("there is no `crontab` command here; a hosting's own form takes the line")
	}
	// crontab(1) exits with 1 and a message when there is none yet; an empty table
	// beside any failure but that one would delete what stands there.
	if err != nil && (!errors.As(err, &exit) || !strings.Contains(string(exit.Stderr), "no crontab")) {
		return fmt.Errorf("read the crontab: %w", err)
	}
	text, err := c.merge(string(table))
	if err != nil {
		return err
	}
	install := exec.CommandContext(ctx, "crontab", "-")
	install.Stdin = strings.NewReader(text)
	if out, err := install.CombinedOutput(); err != nil {
		return fmt.Errorf("write the crontab: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// merge puts the line into a crontab, in place of an older one of ours.
func (c Cron) merge(table string) (string, error) {
	kept := ""
	for old := range strings.Lines(table) {
		if strings.TrimSpace(old) == strings.TrimSpace(c.Line) {
			return "", ErrThere
		}
		if !strings.HasSuffix(strings.TrimSpace(old), cronMark) {
			kept += strings.TrimSuffix(old, "\n") + "\n"
		}
	}
	return kept + c.Line, nil
}

// cronQuote escapes what cron itself takes for the end of a line.
func cronQuote(s string) string { return strings.ReplaceAll(s, "%", `\%`) }

// ShellQuote quotes words for a POSIX shell.
func ShellQuote(words ...string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		if w == "" || strings.ContainsAny(w, " \t\n'\"\\$&;|<>()*?[]{}!`#~") {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		quoted[i] = w
	}
	return strings.Join(quoted, " ")
}

// unit is the service (systemd.service(5)).
const unit = `[Unit]
Description=Backups of web sites (Revlet)
After=network-online.target
Wants=network-online.target

[Service]
Type=notify
ExecStart=%s
ExecReload=/bin/kill -HUP $MAINPID
Restart=on-failure
RestartSec=60
WatchdogSec=300
TimeoutStopSec=120
UMask=0077
NoNewPrivileges=yes
ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectControlGroups=yes
RestrictRealtime=yes
LockPersonality=yes
Nice=10
IOSchedulingClass=idle

[Install]
WantedBy=%s
`

// Systemd is a service that runs a command: of the system for root, of this account
// for anybody else.
type Systemd struct {
	File, Text string
	control    []string
}

// NewSystemd returns the service for a command; it is not installed yet.
func NewSystemd(command []string) (Systemd, error) {
	s := Systemd{File: "/etc/systemd/system/revlet.service"}
	target := "multi-user.target"
	if os.Geteuid() != 0 {
		dir, err := os.UserConfigDir()
		if err != nil {
			return s, err
		}
		s.File, target, s.control = filepath.Join(dir, "systemd/user/revlet.service"), "default.target", []string{"--user"}
	}
	quoted := make([]string, len(command))
	for i, w := range command {
		quoted[i] = systemdQuote(w)
	}
	s.Text = fmt.Sprintf(unit, strings.Join(quoted, " "), target)
	return s, nil
}

// Control words a systemctl command for the service.
func (s Systemd) Control(words ...string) string {
	return strings.Join(append(append([]string{"systemctl"}, s.control...), words...), " ")
}

// Write writes the service's file; one that is there and different is left alone.
func (s Systemd) Write(d *disk.Disk) error {
	if there, err := os.ReadFile(s.File); err == nil && string(there) != s.Text {
		return fmt.Errorf("%s is there already and different; move it away, or change it by hand", s.File)
	}
	if err := d.MkdirAll(filepath.Dir(s.File), 0o755); err != nil {
		return err
	}
	return d.WriteFile(s.File, []byte(s.Text), 0o644)
}

// Start has the service run, now and from the next start of the machine on.
func (s Systemd) Start(ctx context.Context) error {
	for _, step := range [][]string{{"daemon-reload"}, {"enable", "--now", "revlet.service"}} {
		if out, err := exec.CommandContext(ctx, "systemctl", append(s.control, step...)...).CombinedOutput(); err != nil {
			return fmt.Errorf("systemctl %s: %w: %s; the service file is written, start it with %s", strings.Join(step, " "), err, strings.TrimSpace(string(out)), s.Control("enable --now revlet.service"))
		}
	}
	return nil
}

// systemdQuote quotes a word of a command line (systemd.service(5)).
func systemdQuote(w string) string {
	w = strings.NewReplacer("%", "%%", "$", "$$", `\`, `\\`, `"`, `\"`).Replace(w)
	if strings.ContainsAny(w, " \t'\"") {
		return `"` + w + `"`
	}
	return w
}

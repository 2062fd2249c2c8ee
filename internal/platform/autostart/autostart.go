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
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/process"
)

var (
	// ErrThere is returned when the same is installed already, ErrAbsent when there is nothing to remove.
	ErrThere  = errors.New("it is installed already")
	ErrAbsent = errors.New("it is not installed")
	// ErrTaken is returned when something else is installed under the name.
	ErrTaken = errors.New("something else is installed under that name")
)

// Name is what is started by itself for a configuration file: "revlet", or "revlet-agency" for agency.yaml.
func Name(file string) string {
	base := strings.ToLower(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)))
	base = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, base)
	if base == "revlet" {
		return base
	}
	return "revlet-" + strings.Trim(base, "-")
}

// cronMark ends the line that is ours in a crontab.
func (c Cron) mark() string { return "# " + c.Name }

// CronMinutes is how often a cron line runs its command.
const CronMinutes = 5

// Cron is a line for a crontab that runs a command every few minutes. The crontab knows it by its name;
// Config is the configuration file in it.
type Cron struct{ Name, Config, Line string }

// NewCron returns the line for a command. The account's number spreads the accounts
// of a machine over the minutes.
func NewCron(name, config string, command []string, account int) Cron {
	c := Cron{Name: name, Config: config}
	c.Line = fmt.Sprintf("%d-59/%d * * * * %s  %s\n", account%CronMinutes, CronMinutes, cronQuote(process.ShellQuote(command...)), c.mark())
	return c
}

// ErrNoCrontab is returned where no crontab(1) is installed.
var ErrNoCrontab = errors.New("there is no `crontab` command here; a hosting's own form takes the line")

// Install puts the line into this account's crontab in place of an older one of
// ours. It returns ErrThere when it stands there already.
func (c Cron) Install(ctx context.Context) error { return change(ctx, c.merge) }

// Remove takes the line out of this account's crontab.
func (c Cron) Remove(ctx context.Context) error { return change(ctx, c.without) }

// change changes this account's crontab.
func change(ctx context.Context, edit func(table string) (string, error)) error {
	table, err := exec.CommandContext(ctx, "crontab", "-l").Output()
	var exit *exec.ExitError
	if errors.Is(err, exec.ErrNotFound) {
		return ErrNoCrontab
	}
	// crontab(1) exits with 1 and a message when there is none yet; an empty table
	// beside any failure but that one would delete what stands there.
	if err != nil && (!errors.As(err, &exit) || !strings.Contains(string(exit.Stderr), "no crontab")) {
		return fmt.Errorf("read the crontab: %w", err)
	}
	text, err := edit(string(table))
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
		if !c.ours(old) {
			kept += strings.TrimSuffix(old, "\n") + "\n"
		} else if !strings.Contains(old, cronQuote(process.ShellQuote(c.Config))) {
			return "", fmt.Errorf("%w: %s", ErrTaken, strings.TrimSpace(old))
		}
	}
	return kept + c.Line, nil
}

// ours tells whether a line of a crontab is the one of this name.
func (c Cron) ours(line string) bool {
	return strings.HasSuffix(strings.TrimSpace(line), "  "+c.mark())
}

// without takes the line of this name out of a crontab.
func (c Cron) without(table string) (string, error) {
	kept := ""
	for old := range strings.Lines(table) {
		if !c.ours(old) {
			kept += old
		}
	}
	if kept == table {
		return "", ErrAbsent
	}
	return kept, nil
}

// cronQuote escapes what cron itself takes for the end of a line.
func cronQuote(s string) string { return strings.ReplaceAll(s, "%", `\%`) }

// description tells a service of ours from others.
const description = "Backups of web sites (Revlet)"

// unit is the service (systemd.service(5)). What it may do is limited to what archives and rehearsals need
// (systemd.exec(5)): reading what accounts own, and becoming one of them.
const unit = `[Unit]
Description=` + description + `
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
RestrictRealtime=yes
RestrictNamespaces=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
LockPersonality=yes
KeyringMode=private
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallErrorNumber=EPERM
%sNice=10
IOSchedulingClass=idle

[Install]
WantedBy=%s
`

// limits are for a service of the system: an account's own manager may not set them, and has nothing to
// give away.
const limits = `CapabilityBoundingSet=CAP_CHOWN CAP_DAC_OVERRIDE CAP_DAC_READ_SEARCH CAP_FOWNER CAP_FSETID CAP_SETUID CAP_SETGID CAP_KILL
ProtectSystem=full
ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectKernelLogs=yes
ProtectControlGroups=yes
ProtectClock=yes
ProtectHostname=yes
PrivateDevices=yes
DevicePolicy=closed
`

// Systemd is a service that runs a command: of the system for root, of this account
// for anybody else.
type Systemd struct {
	Service, File, Text string
	control             []string
}

// NewSystemd returns the service of a name for a command; it is not installed yet.
func NewSystemd(name string, command []string) (Systemd, error) {
	s := Systemd{Service: name + ".service", File: "/etc/systemd/system/" + name + ".service"}
	target, most := "multi-user.target", limits
	if os.Geteuid() != 0 {
		dir, err := os.UserConfigDir()
		if err != nil {
			return s, err
		}
		most = ""
		s.File, target, s.control = filepath.Join(dir, "systemd/user", s.Service), "default.target", []string{"--user"}
	}
	quoted := make([]string, len(command))
	for i, w := range command {
		quoted[i] = systemdQuote(w)
	}
	s.Text = fmt.Sprintf(unit, strings.Join(quoted, " "), most, target)
	return s, nil
}

// Control words a systemctl command for the service.
func (s Systemd) Control(words ...string) string {
	return strings.Join(append(append([]string{"systemctl"}, s.control...), words...), " ")
}

// Write writes the service's file; one that is there and different is left alone.
func (s Systemd) Write(d *disk.Disk) error {
	if there, err := os.ReadFile(s.File); err == nil && string(there) != s.Text {
		return fmt.Errorf("%w: %s is there and different; move it away, change it by hand, or choose another name", ErrTaken, s.File)
	}
	if err := d.MkdirAll(filepath.Dir(s.File), 0o755); err != nil {
		return err
	}
	return d.WriteFile(s.File, []byte(s.Text), 0o644)
}

// Start has the service run, now and from the next start of the machine on.
func (s Systemd) Start(ctx context.Context) error {
	for _, step := range [][]string{{"daemon-reload"}, {"enable", "--now", s.Service}} {
		if out, err := exec.CommandContext(ctx, "systemctl", append(s.control, step...)...).CombinedOutput(); err != nil {
			return fmt.Errorf("systemctl %s: %w: %s; the service file is written, start it with %s", strings.Join(step, " "), err, strings.TrimSpace(string(out)), s.Control("enable --now "+s.Service))
		}
	}
	return nil
}

// Remove stops the service and deletes its file. A file that somebody has changed stays.
func (s Systemd) Remove(ctx context.Context) error {
	there, err := os.ReadFile(s.File)
	if errors.Is(err, fs.ErrNotExist) {
		return ErrAbsent
	}
	if err == nil && !strings.Contains(string(there), "\nDescription="+description+"\n") {
		err = fmt.Errorf("%w: %s is no service of ours", ErrTaken, s.File)
	}
	if err != nil {
		return err
	}
	if out, err := exec.CommandContext(ctx, "systemctl", append(s.control, "disable", "--now", s.Service)...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s; the file is left", s.Control("disable --now "+s.Service), err, strings.TrimSpace(string(out)))
	}
	if err := os.Remove(s.File); err != nil {
		return err
	}
	return exec.CommandContext(ctx, "systemctl", append(s.control, "daemon-reload")...).Run()
}

// systemdQuote quotes a word of a command line (systemd.service(5)).
func systemdQuote(w string) string {
	w = strings.NewReplacer("%", "%%", "$", "$$", `\`, `\\`, `"`, `\"`).Replace(w)
	if strings.ContainsAny(w, " \t'\"") {
		return `"` + w + `"`
	}
	return w
}

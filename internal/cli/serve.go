package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/urfave/cli/v3"

	"revlet/internal/config"
	"revlet/internal/store"
)

func (a *app) serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "stay running and do what is due",
		Description: "Does what `revlet due` does, again and again. SIGHUP reads the configuration anew,\n" +
			"SIGTERM and Ctrl-C end it cleanly. Under systemd it says when it is ready and feeds the\n" +
			"watchdog.",
		Action: a.serveDuties,
	}
}

// pulse is how often a running service looks whether something is due: a clock
// may jump, and a duty may have waited for another run to end.
const pulse = 20 * time.Second

func (a *app) serveDuties(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	a.sayClock(c)
	reload := make(chan os.Signal, 1)
	signal.Notify(reload, syscall.SIGHUP)
	defer signal.Stop(reload)
	defer a.feedWatchdog(ctx)()
	a.hush = c.Bool("quiet")
	a.log("serving %s of %s", count(int64(len(a.config.Sites)), "site", "sites"), a.config.Path)
	a.tellSystemd(daemon.SdNotifyReady)
	defer a.tellSystemd(daemon.SdNotifyStopping)
	for {
		if err := a.history.SeeClock(ctx, a.now()); err != nil && ctx.Err() == nil {
			fmt.Fprintln(a.err, "warning: "+err.Error())
		}
		err := a.doDue(ctx, "serve")
		var coded *exitError
		if err != nil && ctx.Err() == nil && (!errors.As(err, &coded) || coded.err != nil) {
			fmt.Fprintf(a.err, "revlet: %v\n", err)
		}
		select {
		case <-ctx.Done():
			a.log("stopped")
			return nil
		case <-reload:
			a.reload()
		case <-time.After(pulse):
		}
	}
}

// tellSystemd sends a state to the service manager, if there is one.
func (a *app) tellSystemd(state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		fmt.Fprintf(a.err, "warning: systemd: %v\n", err)
	}
}

// feedWatchdog tells the service manager that the program lives, as often as it
// wants to hear that, until the returned function is called.
func (a *app) feedWatchdog(ctx context.Context) (stop func()) {
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every <= 0 {
		return func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(every / 3):
				a.tellSystemd(daemon.SdNotifyWatchdog)
			}
		}
	}()
	return cancel
}

// reload reads the configuration anew; one that is faulty changes nothing.
func (a *app) reload() {
	a.tellSystemd(daemon.SdNotifyReloading)
	defer a.tellSystemd(daemon.SdNotifyReady)
	fresh, err := config.Load(a.config.Path)
	if err != nil {
		fmt.Fprintf(a.err, "revlet: the configuration is not read anew: %v\n", err)
		return
	}
	for _, s := range a.opened {
		_ = s.Close()
	}
	a.opened = map[string]store.Named{}
	a.config = fresh
	a.log("read %s anew: %s", a.config.Path, count(int64(len(a.config.Sites)), "site", "sites"))
}

func (a *app) scheduleCommand() *cli.Command {
	return &cli.Command{
		Name: "schedule", Usage: "have this machine carry out the duties",
		Commands: []*cli.Command{{
			Name: "install", Usage: "show, or install, what starts Revlet by itself",
			Description: "--cron shows a line for this user's crontab that runs `revlet due` every few minutes;\n" +
				"--systemd a service that runs `revlet serve`. With --apply it is installed: for this user,\n" +
				"or as a service of the system for root. What is there already is left alone.",
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "cron", Usage: "by cron, as on shared hosting"},
				&cli.BoolFlag{Name: "systemd", Usage: "by systemd"},
				&cli.BoolFlag{Name: "apply", Usage: "install it"},
			},
			Action: a.scheduleInstall,
		}},
	}
}

func (a *app) scheduleInstall(ctx context.Context, c *cli.Command) error {
	if c.Bool("cron") == c.Bool("systemd") {
		return usageError("choose one of --cron and --systemd")
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	path, err := filepath.Abs(a.config.Path)
	if err != nil {
		return err
	}
	command := []string{program, "--config", path, "--state", a.state.Dir}
	if c.Bool("cron") {
		return a.installCron(ctx, command, c.Bool("apply"))
	}
	return a.installSystemd(ctx, command, c.Bool("apply"))
}

// cronMark ends the line that is ours in a crontab.
const cronMark = "# revlet"

// cronMinutes is how often cron runs `revlet due`.
const cronMinutes = 5

func (a *app) installCron(ctx context.Context, command []string, apply bool) error {
	offset := os.Getuid() % cronMinutes // not every account of a machine in the same minute
	line := fmt.Sprintf("%d-59/%d * * * * %s --quiet due  %s\n", offset, cronMinutes, cronQuote(shellQuoted(command)), cronMark)
	if !apply {
		fmt.Fprintf(a.out, "# Add this line with `crontab -e`, or run this command with --apply:\n%s", line)
		return nil
	}
	table, err := exec.CommandContext(ctx, "crontab", "-l").Output()
	var exit *exec.ExitError
	if errors.Is(err, exec.ErrNotFound) {
		return errors.New("there is no `crontab` command here; without --apply the line is shown, for a hosting's own form")
	}
	if err != nil && (!errors.As(err, &exit) || !strings.Contains(string(exit.Stderr), "no crontab")) {
		return fmt.Errorf("read the crontab: %w", err)
	}
	kept := ""
	for old := range strings.Lines(string(table)) {
		if strings.TrimSpace(old) == strings.TrimSpace(line) {
			fmt.Fprintln(a.out, "It is in the crontab already.")
			return nil
		}
		if !strings.HasSuffix(strings.TrimSpace(old), cronMark) {
			kept += strings.TrimSuffix(old, "\n") + "\n"
		}
	}
	install := exec.CommandContext(ctx, "crontab", "-")
	install.Stdin = strings.NewReader(kept + line)
	if out, err := install.CombinedOutput(); err != nil {
		return fmt.Errorf("write the crontab: %w: %s", err, strings.TrimSpace(string(out)))
	}
	fmt.Fprintf(a.out, "%s %s", a.good("Installed in the crontab:"), line)
	return nil
}

// cronQuote escapes what cron itself takes for the end of a line.
func cronQuote(s string) string { return strings.ReplaceAll(s, "%", `\%`) }

func shellQuoted(words []string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		if strings.ContainsAny(w, " \t'\"\\$&;|<>()*?`#~") {
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
ExecStart=%s serve
ExecReload=/bin/kill -HUP $MAINPID
Restart=on-failure
RestartSec=60
WatchdogSec=300
TimeoutStopSec=120
Nice=10
IOSchedulingClass=idle

[Install]
WantedBy=%s
`

func (a *app) installSystemd(ctx context.Context, command []string, apply bool) error {
	folder, target, control := "/etc/systemd/system", "multi-user.target", []string{}
	if os.Geteuid() != 0 {
		dir, err := os.UserConfigDir()
		if err != nil {
			return err
		}
		folder, target, control = filepath.Join(dir, "systemd/user"), "default.target", []string{"--user"}
	}
	quoted := make([]string, len(command))
	for i, w := range command {
		quoted[i] = systemdQuote(w)
	}
	text := fmt.Sprintf(unit, strings.Join(quoted, " "), target)
	file := filepath.Join(folder, "revlet.service")
	if !apply {
		fmt.Fprintf(a.out, "# Put this into %s, or run this command with --apply:\n%s", file, text)
		return nil
	}
	if there, err := os.ReadFile(file); err == nil && string(there) != text {
		return fmt.Errorf("%s is there already and different; move it away, or change it by hand", file)
	}
	if err := a.disk.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := a.disk.WriteFile(file, []byte(text), 0o644); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s %s\n", a.good("Written:"), file)
	for _, step := range [][]string{{"daemon-reload"}, {"enable", "--now", "revlet.service"}} {
		if out, err := exec.CommandContext(ctx, "systemctl", append(control, step...)...).CombinedOutput(); err != nil {
			return fmt.Errorf("systemctl %s: %w: %s; the service file is written, start it with systemctl %s", strings.Join(step, " "), err, strings.TrimSpace(string(out)), strings.Join(append(control, "enable --now revlet.service"), " "))
		}
	}
	fmt.Fprintf(a.out, "%s `systemctl %s` tells how it is\n", a.good("Running:"), strings.Join(append(control, "status revlet"), " "))
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

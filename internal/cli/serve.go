package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/platform/autostart"
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
	a.log("serving %s of %s", render.Count(int64(len(a.jobs.Config.Sites)), "site", "sites"), a.jobs.Config.Path)
	a.tellSystemd(daemon.SdNotifyReady)
	defer a.tellSystemd(daemon.SdNotifyStopping)
	for {
		if err := a.jobs.History.SeeClock(ctx, a.Now()); err != nil && ctx.Err() == nil {
			a.hear(jobs.Warning{Err: err})
		}
		err := a.doDue(ctx, "serve")
		var coded *exitError
		if err != nil && ctx.Err() == nil && (!errors.As(err, &coded) || coded.err != nil) {
			fmt.Fprintf(a.err, "revlet: %s\n", render.Advised(err))
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

// hangs is after how long without a sign of life work is taken for hanging: a store that
// is silent is given up long before, a database may need some time for one statement.
const hangs = time.Hour

// feedWatchdog tells the service manager that the program lives, as often as it
// wants to hear that, until the returned function is called. While work hangs it does
// not: the service manager then starts the program anew.
func (a *app) feedWatchdog(ctx context.Context) (stop func()) {
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every <= 0 {
		return func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		told := false
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(every / 3):
			}
			if silent := a.jobs.Beat.Silence(); silent < hangs {
				a.tellSystemd(daemon.SdNotifyWatchdog)
			} else if !told {
				told = true
				a.log("no sign of life from the work for %s: systemd is no longer told that all is well", render.Took(silent))
			}
		}
	}()
	return func() {
		cancel()
		<-ended
	}
}

// reload reads the configuration anew; one that is faulty changes nothing.
func (a *app) reload() {
	a.tellSystemd(daemon.SdNotifyReloading)
	defer a.tellSystemd(daemon.SdNotifyReady)
	if err := a.jobs.Reload(); err != nil {
		fmt.Fprintf(a.err, "revlet: the configuration is not read anew: %v\n", err)
		return
	}
	a.log("read %s anew: %s", a.jobs.Config.Path, render.Count(int64(len(a.jobs.Config.Sites)), "site", "sites"))
}

func (a *app) scheduleCommand() *cli.Command {
	return &cli.Command{
		Name: "schedule", Usage: "have this machine carry out the duties",
		Commands: []*cli.Command{{
			Name: "install", Usage: "show, or install, what starts Revlet by itself",
			Description: "--cron shows a line for this user's crontab that runs `revlet due` every few minutes;\n" +
				"--systemd a service that runs `revlet serve`. With --apply it is installed: for this user,\n" +
				"or as a service of the system for root. What is there already is left alone.\n" +
				"--launchd and --task-scheduler show what macOS and Windows want to be given.",
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "cron", Usage: "by cron, as on shared hosting"},
				&cli.BoolFlag{Name: "systemd", Usage: "by systemd"},
				&cli.BoolFlag{Name: "launchd", Usage: "by launchd, on macOS"},
				&cli.BoolFlag{Name: "task-scheduler", Usage: "by the task scheduler, on Windows"},
				&cli.BoolFlag{Name: "apply", Usage: "install it: a cron line or a service of systemd"},
			},
			Action: a.scheduleInstall,
		}},
	}
}

func (a *app) scheduleInstall(ctx context.Context, c *cli.Command) error {
	chosen := slices.DeleteFunc([]string{"cron", "systemd", "launchd", "task-scheduler"}, func(by string) bool { return !c.Bool(by) })
	if len(chosen) != 1 {
		return usageError("choose one of --cron, --systemd, --launchd and --task-scheduler")
	}
	if by := chosen[0]; c.Bool("apply") && (by == "launchd" || by == "task-scheduler") {
		return usageError("--%s only shows what to install; without --apply it does", by)
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	path, err := filepath.Abs(a.jobs.Config.Path)
	if err != nil {
		return err
	}
	command := []string{program, "--config", path, "--state", a.jobs.State.Dir}
	due := append(slices.Clone(command), "--quiet", "due")
	switch chosen[0] {
	case "cron":
		return a.installCron(ctx, due, c.Bool("apply"))
	case "launchd":
		l := autostart.NewLaunchd(due)
		fmt.Fprintf(a.Out, "%s<!-- Write this to ~/%s, then run:\n     launchctl bootstrap gui/$(id -u) ~/%s -->\n", l.Text, l.File, l.File)
		return nil
	case "task-scheduler":
		fmt.Fprintf(a.Out, "%s<!-- Write this to revlet-task.xml, then run:\n     schtasks /Create /TN Revlet /XML revlet-task.xml -->\n", autostart.NewTask(due).Text)
		return nil
	}
	return a.installSystemd(ctx, command, c.Bool("apply"))
}

func (a *app) installCron(ctx context.Context, due []string, apply bool) error {
	c := autostart.NewCron(due, os.Getuid())
	if !apply {
		fmt.Fprintf(a.Out, "# Add this line with `crontab -e`, or run this command with --apply:\n%s", c.Line)
		return nil
	}
	err := c.Install(ctx)
	if errors.Is(err, autostart.ErrThere) {
		fmt.Fprintln(a.Out, "It is in the crontab already.")
		return nil
	}
	if err == nil {
		fmt.Fprintf(a.Out, "%s %s", a.Good("Installed in the crontab:"), c.Line)
	}
	return err
}

func (a *app) installSystemd(ctx context.Context, command []string, apply bool) error {
	s, err := autostart.NewSystemd(append(command, "serve"))
	if err != nil {
		return err
	}
	if !apply {
		fmt.Fprintf(a.Out, "# Put this into %s, or run this command with --apply:\n%s", s.File, s.Text)
		return nil
	}
	if err := s.Write(a.jobs.Disk); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s %s\n", a.Good("Written:"), s.File)
	if err := s.Start(ctx); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s `%s` tells how it is\n", a.Good("Running:"), s.Control("status revlet"))
	return nil
}

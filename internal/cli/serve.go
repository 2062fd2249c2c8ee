package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
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
	if a.hung != nil {
		signal.Stop(a.hung) // it means something else here
	}
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
		err := a.doDue(ctx, "serve", false)
		var coded *exitError
		if err != nil && ctx.Err() == nil && (!errors.As(err, &coded) || coded.err != nil) {
			fmt.Fprintf(a.err, "revlet: %s\n", render.Advised(err))
		}
		select {
		case <-ctx.Done():
			a.jobs.EndTurns()
			a.log("stopped")
			return nil
		case <-reload:
			a.reload(c)
		case <-time.After(pulse):
		}
	}
}

// tellSystemd sends a state to the service manager, if there is one.
func (a *app) tellSystemd(state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		fmt.Fprintf(a.err, "warning: systemd: %s\n", render.ErrText(err))
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

// reload reads the configuration anew; one that is faulty, or somebody else's by now, changes nothing.
func (a *app) reload(c *cli.Command) {
	a.tellSystemd(daemon.SdNotifyReloading)
	defer a.tellSystemd(daemon.SdNotifyReady)
	err := a.trusted(c, a.jobs.Config.Path)
	if err == nil {
		err = a.jobs.Reload()
	}
	if err != nil {
		fmt.Fprintf(a.err, "revlet: the configuration is not read anew: %s\n", render.Advised(err))
		return
	}
	a.log("read %s anew: %s", a.jobs.Config.Path, render.Count(int64(len(a.jobs.Config.Sites)), "site", "sites"))
}

package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/platform/autostart"
	"revlet/internal/platform/process"
)

func (a *app) scheduleCommand() *cli.Command {
	named := &cli.StringFlag{Name: "name", Usage: "what it is known by there, a `TEXT` (default: revlet, or revlet-agency for a configuration agency.yaml)"}
	return &cli.Command{
		Name: "schedule", Usage: "have this machine carry out the duties",
		Commands: []*cli.Command{{
			Name: "install", Usage: "show, or install, what starts Revlet by itself",
			Description: "--cron shows a line for this user's crontab that runs `revlet due` every few minutes;\n" +
				"--systemd a service that runs `revlet serve`. With --apply it is installed: for this user,\n" +
				"or as a service of the system for root. What is there already is left alone.\n" +
				"--launchd and --task-scheduler show what macOS and Windows want to be given.\n\n" +
				"Several configurations are installed beside each other, each under the name of its file.",
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "cron", Usage: "by cron, as on shared hosting"},
				&cli.BoolFlag{Name: "systemd", Usage: "by systemd"},
				&cli.BoolFlag{Name: "launchd", Usage: "by launchd, on macOS"},
				&cli.BoolFlag{Name: "task-scheduler", Usage: "by the task scheduler, on Windows"},
				&cli.BoolFlag{Name: "apply", Usage: "install it: a cron line or a service of systemd"},
				named, jsonFlag,
			},
			Action: a.scheduleInstall,
		}, {
			Name: "remove", Usage: "take away what was installed",
			Description: "Takes the line out of this user's crontab, or stops the service and deletes its file. The\n" +
				"duties stay in the configuration, and are then done by nobody.",
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "cron", Usage: "the line in the crontab"},
				&cli.BoolFlag{Name: "systemd", Usage: "the service"},
				named, jsonFlag,
			},
			Action: a.scheduleRemove,
		}},
	}
}

// oneWay is the way of starting that was chosen among some.
func oneWay(c *cli.Command, ways ...string) (string, error) {
	chosen := slices.DeleteFunc(slices.Clone(ways), func(by string) bool { return !c.Bool(by) })
	if len(chosen) == 1 {
		return chosen[0], nil
	}
	text := ""
	for i, way := range ways {
		text += map[bool]string{true: " and --", false: ", --"}[i == len(ways)-1] + way
	}
	return "", usageError("choose one of %s", text[2:])
}

var scheduleName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,60}$`)

// scheduled are the name, the configuration and the command of what is started by itself.
func (a *app) scheduled(ctx context.Context, c *cli.Command) (name, path string, command []string, err error) {
	if err := a.open(ctx, c); err != nil {
		return "", "", nil, err
	}
	program, err := os.Executable()
	if err != nil {
		return "", "", nil, err
	}
	if path, err = filepath.Abs(a.jobs.Config.Path); err != nil {
		return "", "", nil, err
	}
	name = cmp.Or(c.String("name"), autostart.Name(path))
	if !scheduleName.MatchString(name) {
		return "", "", nil, usageError("--name %q: small letters, digits and - only", name)
	}
	return name, path, []string{program, "--config", path, "--state", a.jobs.State.Dir}, nil
}

// startup is what has a machine start the program by itself, or no longer.
type startup struct {
	By      string `json:"by"`
	Name    string `json:"name"`
	File    string `json:"file"`
	Text    string `json:"text"`
	Applied bool   `json:"applied"`
}

// notInstalled says what helps.
func notInstalled(err error) error {
	switch {
	case errors.Is(err, autostart.ErrNoCrontab):
		return fmt.Errorf("%w: the same command without --apply shows it", err)
	case errors.Is(err, autostart.ErrTaken):
		return fmt.Errorf("%w; --name chooses another one", err)
	}
	return err
}

func (a *app) scheduleInstall(ctx context.Context, c *cli.Command) error {
	by, err := oneWay(c, "cron", "systemd", "launchd", "task-scheduler")
	if err != nil {
		return err
	}
	apply := c.Bool("apply")
	if apply && (by == "launchd" || by == "task-scheduler") {
		return usageError("--%s only shows what to install; without --apply it does", by)
	}
	name, path, command, err := a.scheduled(ctx, c)
	if err != nil {
		return err
	}
	trusted := process.Trusted(command[:1], a.jobs.Sudoer)
	if apply && trusted != nil {
		return trusted
	}
	due := append(slices.Clone(command), "--quiet", "due")
	s := startup{By: by, Name: name, Applied: apply}
	switch by {
	case "cron":
		cron := autostart.NewCron(name, path, due, os.Getuid())
		s.Text = cron.Line
		if apply {
			err = cron.Install(ctx)
		}
	case "launchd":
		l := autostart.NewLaunchd(due)
		s.File, s.Text = l.File, l.Text
	case "task-scheduler":
		s.Text = autostart.NewTask(due).Text
	default:
		var service autostart.Systemd
		if service, err = autostart.NewSystemd(name, append(command, "serve")); err != nil {
			return err
		}
		s.File, s.Text = service.File, service.Text
		if apply {
			if err = service.Write(a.jobs.Disk); err == nil {
				err = service.Start(ctx)
			}
		}
	}
	there := errors.Is(err, autostart.ErrThere)
	if err != nil && !there {
		return notInstalled(err)
	}
	if c.Bool("json") {
		return a.PrintJSON(s)
	}
	a.showInstalled(s, there)
	if trusted != nil {
		fmt.Fprintf(a.Out, "%s %s\n", a.Bad("Look:"), render.ErrText(trusted))
	}
	if !a.jobs.Scheduled() {
		fmt.Fprintf(a.Out, "%s no site has a `schedule:` yet, so nothing will be done; %s is where to say it.\n", a.Bad("Look:"), a.jobs.Config.Path)
	}
	return nil
}

func (a *app) showInstalled(s startup, there bool) {
	switch {
	case s.By == "launchd":
		fmt.Fprintf(a.Out, "%s<!-- Write this to ~/%s, then run:\n     launchctl bootstrap gui/$(id -u) ~/%s -->\n", s.Text, s.File, s.File)
	case s.By == "task-scheduler":
		fmt.Fprintf(a.Out, "%s<!-- Write this to revlet-task.xml, then run:\n     schtasks /Create /TN Revlet /XML revlet-task.xml -->\n", s.Text)
	case there:
		fmt.Fprintln(a.Out, "It is in the crontab already.")
	case s.By == "cron" && !s.Applied:
		fmt.Fprintf(a.Out, "# Add this line with `crontab -e`, or run this command with --apply:\n%s", s.Text)
	case s.By == "cron":
		fmt.Fprintf(a.Out, "%s %s", a.Good("Installed in the crontab:"), s.Text)
	case !s.Applied:
		fmt.Fprintf(a.Out, "# Put this into %s, or run this command with --apply:\n%s", s.File, s.Text)
	default:
		fmt.Fprintf(a.Out, "%s %s; `systemctl status %s` tells how it is\n", a.Good("Running:"), s.File, s.Name)
	}
}

func (a *app) scheduleRemove(ctx context.Context, c *cli.Command) error {
	by, err := oneWay(c, "cron", "systemd")
	if err != nil {
		return err
	}
	name, path, command, err := a.scheduled(ctx, c)
	if err != nil {
		return err
	}
	if by == "cron" {
		err = autostart.NewCron(name, path, command, os.Getuid()).Remove(ctx)
	} else {
		var service autostart.Systemd
		if service, err = autostart.NewSystemd(name, command); err == nil {
			err = service.Remove(ctx)
		}
	}
	if errors.Is(err, autostart.ErrAbsent) {
		return &exitError{exitFailed, fmt.Errorf("nothing called %s is installed there", name)}
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(startup{By: by, Name: name})
	}
	fmt.Fprintf(a.Out, "%s %s is no longer started by itself; the duties of %s wait for `revlet due`.\n", a.Good("Removed:"), name, path)
	return nil
}

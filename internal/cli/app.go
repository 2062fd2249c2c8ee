// Package cli is the command line: commands, flags, prompts, tables, progress,
// JSON and advice.
//
// It is the only package below cmd that prints, but for the demo and the stand-ins
// (package practice), and the only one that names a command or an option. Each
// command reads its flags, has package jobs do the work, and shows the result.
// Errors of the core carry a reason; advice.go says what a person can do about
// each. Begin with Main.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"revlet/internal/cli/render"
	"revlet/internal/config"
	"revlet/internal/jobs"
	"revlet/internal/platform/reason"
	"revlet/internal/practice"
	"revlet/internal/site"
)

// Version is the program's version.
const Version = "0.1.0"

// The exit codes, the same for every command.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitGaps   = 3
	exitDamage = 4
	// exitPutBack tells that the guarded command broke the site and that it was put
	// back.
	exitPutBack = 5
	// exitInterrupted is what a shell says of a program that Ctrl-C has ended.
	exitInterrupted = 130
)

// exitError carries an exit code; without an error nothing more is printed.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func usageError(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Errorf(format, args...)}
}

// app is one run of the program.
type app struct {
	render.Printer
	in  io.Reader
	err io.Writer
	env func(string) string
	// hush is set when only what is wrong is to be said.
	hush bool
	// logAs is how what happens is told.
	logAs string
	// stopped is closed when the program is to end; hung hears of a terminal that is gone.
	stopped <-chan struct{}
	hung    chan os.Signal
	jobs    *jobs.Agent
}

// Main runs the program and returns its exit code.
func Main(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	_, noColour := os.LookupEnv("NO_COLOR")
	written := &output{to: out, gated: terminal(out)}
	a := &app{Printer: render.Printer{Out: written, Columns: width(written), Colour: !noColour && os.Getenv("TERM") != "dumb" && terminal(written), Now: time.Now}, in: in, err: errOut, env: os.Getenv, jobs: jobs.New()}
	a.jobs.Sudoer = a.sudoer()
	ctx, cancel := a.hangUp(ctx)
	defer cancel()
	err := a.setUp()
	if err == nil {
		err = a.root().Run(ctx, args)
	}
	a.jobs.Close()
	code := a.finish(err)
	if err != nil && err.Error() != "" && wantsJSON(args) {
		_ = a.PrintErrorJSON(err, code) // it is on the standard error, too
	}
	if written.err == nil {
		return code
	}
	a.complain(fmt.Errorf("what was to be shown could not be written: %w", written.err))
	if code == exitDone || code == exitGaps || code == exitDamage { // nobody has read of it
		code = exitFailed
	}
	return code
}

// output remembers that writing has failed: what a script reads is not whole then. To a terminal it lets nothing
// through that could change more than the colour of what is shown, whoever it is from.
type output struct {
	to    io.Writer
	gated bool
	err   error
}

func (o *output) Write(b []byte) (int, error) {
	shown := b
	if o.gated {
		shown = steering().ReplaceAllFunc(b, func(found []byte) []byte {
			if len(found) > len("\x1b[") { // colour
				return found
			}
			return []byte("\uFFFD")
		})
	}
	_, err := o.to.Write(shown)
	if err != nil && o.err == nil {
		o.err = err
	}
	if err != nil {
		return 0, err
	}
	return len(b), nil
}

// Steer writes what this program itself has a terminal do.
func (o *output) Steer(sequence string) {
	if _, err := io.WriteString(o.to, sequence); err != nil && o.err == nil {
		o.err = err
	}
}

// steering is what a terminal takes for more than text: control characters but for the end of a line and tabs (ECMA-48);
// colour (SGR) is what this program itself writes of it.
var steering = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\x1b\[[0-9;]*m|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\x{80}-\x{9f}]`)
})

// Fd is the file's number, if it is one.
func (o *output) Fd() uintptr {
	if f, ok := o.to.(*os.File); ok {
		return f.Fd()
	}
	return ^uintptr(0)
}

// wantsJSON tells whether JSON was asked for, be the rest of the line right or not.
func wantsJSON(args []string) bool {
	for _, arg := range args {
		if arg == "--" {
			return false
		}
		if arg == "--json" || arg == "--json=true" {
			return true
		}
	}
	return false
}

// clockVariable sets the clock, for practice and tests: the program then takes
// the moment it begins for that one.
const clockVariable = "REVLET_CLOCK"

// setUp gives the agent what comes from the environment.
func (a *app) setUp() error {
	now, err := clock(a.env(clockVariable))
	if err != nil {
		return err
	}
	j := a.jobs
	a.Now, j.Now = now, now
	j.Program, j.Person, j.Zone, j.SSHAgent = "revlet "+Version, a.person(), localZone(a.env("TZ")), a.env("SSH_AUTH_SOCK")
	if u, err := user.Current(); err == nil {
		j.Account = u.Username
	}
	if d, err := time.ParseDuration(a.env("REVLET_DRAIN")); err == nil {
		j.Drain = d // for practice and tests
	}
	j.StateHome = a.env("XDG_STATE_HOME")
	j.RetryPause, _ = time.ParseDuration(a.env("REVLET_RETRY_PAUSE"))
	j.Tell, j.Words, j.Remedy, j.Passphrase = a.hearOne(), a.words, func(kind string) string { return render.Remedies[kind] }, a.passphrase
	return nil
}

// clock is the time of day, or one that was set.
func clock(set string) (func() time.Time, error) {
	if set == "" {
		return time.Now, nil
	}
	t, err := time.Parse(time.RFC3339, set)
	if err != nil {
		return nil, usageError("$%s is %q; it is a moment such as 2026-11-20T03:20:00Z", clockVariable, set)
	}
	began := time.Now()
	return func() time.Time { return t.Add(time.Since(began)) }, nil
}

// localZone names this machine's time zone, as far as it has a name.
func localZone(variable string) string {
	if variable != "" {
		return strings.TrimPrefix(variable, ":")
	}
	target, err := os.Readlink("/etc/localtime")
	if _, name, ok := strings.Cut(target, "zoneinfo/"); err == nil && ok {
		return name
	}
	return "UTC"
}

// person names the account that runs the program.
func (a *app) person() string {
	if name := a.env("SUDO_USER"); name != "" {
		return name
	}
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return fmt.Sprintf("user %d", os.Getuid())
}

// sayClock warns who leaves a set clock on by mistake.
func (a *app) sayClock(c *cli.Command) {
	if a.env(clockVariable) != "" && !c.Bool("quiet") {
		fmt.Fprintf(a.err, "note: $%s sets the clock to %s\n", clockVariable, render.When(a.Now()))
	}
}

// built says which program this is: its version, and the commit that it was built from, as the Go tools have
// written it in.
func built() string {
	text := "revlet " + Version
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return text
	}
	of := map[string]string{}
	for _, s := range info.Settings {
		of[s.Key] = s.Value
	}
	if commit := of["vcs.revision"]; commit != "" {
		text += ", commit " + commit[:min(len(commit), 12)]
		if at, err := time.Parse(time.RFC3339, of["vcs.time"]); err == nil {
			text += " of " + at.UTC().Format("2006-01-02 15:04") + " UTC"
		}
		if of["vcs.modified"] == "true" {
			text += ", changed since"
		}
	}
	return text + ", " + info.GoVersion + " " + of["GOOS"] + "/" + of["GOARCH"]
}

// exitCode is the code for an error.
func exitCode(err error) int {
	var coded *exitError
	var faulty *config.Error
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &coded):
		return coded.code
	case errors.As(err, &faulty), errors.Is(err, config.ErrNone), errors.Is(err, site.ErrSettings), slices.ContainsFunc(wrongUse, func(why reason.Reason) bool { return reason.Is(err, why) }):
		return exitUsage
	}
	return exitFailed
}

// wrongUse are the reasons for which the configuration is to blame, or how the program is called.
var wrongUse = []reason.Reason{reason.Usage, reason.NoPassphrase, reason.ConfigOfOthers, reason.ConfigWritable, reason.ConfigFolder, reason.IncludeOfOthers, reason.StateOfOthers}

// finish prints an error, if there is one, with what can be done about it, and
// chooses the exit code.
func (a *app) finish(err error) int {
	code := exitCode(err)
	var coded *exitError
	if err == nil || errors.As(err, &coded) && coded.err == nil {
		return code
	}
	if errors.Is(err, context.Canceled) && a.isStopped() {
		fmt.Fprintln(a.err, "revlet: stopped before it was done; nothing half-made is kept")
		return exitInterrupted
	}
	a.complain(err)
	return code
}

// isStopped tells whether somebody has stopped the program: what it cancels by itself is a failure like others.
func (a *app) isStopped() bool {
	select {
	case <-a.stopped:
		return true
	default:
		return false
	}
}

// complain says what is wrong, and what to do about it.
func (a *app) complain(err error) {
	fmt.Fprintf(a.err, "revlet: %s\n", strings.ReplaceAll(render.Advised(err), "\n", "\n        "))
}

func (a *app) root() *cli.Command {
	cli.VersionPrinter = func(*cli.Command) { fmt.Fprintln(a.Out, built()) }
	root := &cli.Command{
		Name:    "revlet",
		Usage:   "keep a content-managed web site recoverable",
		Version: Version,
		Description: "Takes full archives of a site's files and database, proves that they are whole,\n" +
			"and puts the site back. Begin with `revlet demo`, or with `revlet adopt PATH`.",
		Writer: a.Out, ErrWriter: a.err, Reader: a.in,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "config", Usage: "the configuration `FILE` (default: $REVLET_CONFIG, ./revlet.yaml, the user's, the system's)"},
			&cli.StringFlag{Name: "state", Usage: "the `FOLDER` for history, journals and scratch files"},
			&cli.BoolFlag{Name: "quiet", Aliases: []string{"q"}, Usage: "no progress"},
			&cli.StringFlag{Name: "log-format", Usage: "how warnings and what is done by itself are told, a `FORMAT`: text or json"},
		},
		Commands: slices.Concat(
			inGroup(groupSetUp, a.adoptCommand(), a.preflightCommand(), a.configCommand(), a.keysCommand()),
			inGroup(groupTake, a.backupCommand(), a.guardCommand(), a.exportCommand(), a.importCommand()),
			inGroup(groupLook, a.statusCommand(), a.archivesCommand(), a.showCommand(), a.versionsCommand(), a.browseCommand(), a.extractCommand(), a.compareCommand(), a.verifyCommand(), a.rehearseCommand(), a.checkCommand(), a.historyCommand(), a.reportCommand()),
			inGroup(groupPutBack, a.restoreCommand(), a.undoCommand(), a.settleCommand(), a.asideCommand(), a.accountsCommand()),
			inGroup(groupMove, a.moveCommand(), a.cutoverCommand()),
			inGroup(groupStores, a.storesCommand(), a.retentionCommand(), a.holdCommand(), a.releaseCommand(), a.removeCommand(), a.spaceCommand()),
			inGroup(groupAuto, a.dutiesCommand(), a.dueCommand(), a.serveCommand(), a.scheduleCommand(), a.notifyCommand()),
			inGroup(groupPractice, practice.DemoCommand(a.stage()), practice.StandinCommand(a.stage())),
		),
	}
	a.teach(root)
	return root
}

// stage is where the demo and the stand-ins play.
func (a *app) stage() practice.Stage {
	return practice.Stage{Out: a.Out, Err: a.err, Good: a.Good, Bad: a.Bad, Dim: a.Dim, Bold: a.Bold, Clock: clockVariable,
		Title: func(s string) string { return a.Paint(text.FgHiYellow, s) }, Wait: func() error {
			if !terminal(a.in) {
				return nil
			}
			_, err := a.ask("")
			return err
		}}
}

// locate finds the configuration file, which is read only if nobody else has a hand in it.
func (a *app) locate(c *cli.Command) (path string, exists bool, err error) {
	path, exists = config.Locate(c.String("config"), a.env("REVLET_CONFIG"))
	if exists {
		err = a.trusted(c, path)
	}
	return path, exists, err
}

// trusted refuses a configuration file in which others may have a hand.
func (a *app) trusted(c *cli.Command, path string) error {
	return config.Trusted(path, c.String("config") != "" || a.env("REVLET_CONFIG") != "", a.sudoer())
}

// sudoer is the account that has become root by sudo(8); -1 if none has.
func (a *app) sudoer() int {
	uid, err := strconv.Atoi(a.env("SUDO_UID"))
	if err != nil {
		return -1
	}
	return uid
}

// open reads the configuration and opens the state folder.
func (a *app) open(ctx context.Context, c *cli.Command) error {
	if err := a.chooseLog(c); err != nil {
		return err
	}
	path, _, err := a.locate(c)
	if err != nil {
		return err
	}
	a.findKeys(c)
	a.jobs.SignedBy = c.String("signed-by")
	return a.jobs.Open(ctx, path, c.String("state"))
}

// openSites opens everything and returns the sites in the arguments, or all.
func (a *app) openSites(ctx context.Context, c *cli.Command) ([]string, error) {
	if err := a.open(ctx, c); err != nil {
		return nil, err
	}
	return a.jobs.SitesNamed(c.Args().Slice())
}

// openBare does so for commands that need no configuration file yet.
func (a *app) openBare(ctx context.Context, c *cli.Command) error {
	if err := a.chooseLog(c); err != nil {
		return err
	}
	path, exists, err := a.locate(c)
	if err != nil {
		return err
	}
	a.findKeys(c)
	if err := a.jobs.ReadConfigIfAny(path, exists); err != nil {
		return err
	}
	return a.jobs.OpenState(ctx, c.String("state"))
}

// terminal tells whether w is one.
func terminal(w any) bool {
	f, ok := w.(interface{ Fd() uintptr })
	return ok && term.IsTerminal(int(f.Fd()))
}

// oneArg returns the only argument, or a usage error.
func oneArg(c *cli.Command, what string) (string, error) {
	if c.Args().Len() != 1 {
		return "", usageError("`revlet %s` needs one %s; it got %d", c.Name, what, c.Args().Len())
	}
	return c.Args().First(), nil
}

var jsonFlag = &cli.BoolFlag{Name: "json", Usage: "print JSON (docs/JSON.md)"}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"revlet/internal/standin/lampblack"
)

func (a *app) demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "make a small made-up site and walk through the whole job on it", ArgsUsage: "[DIR]",
		Description: "Builds the site of the Kestrel Point Lighthouse Museum in DIR (./kestrelpoint-demo),\n" +
			"serves it on this machine, and runs the real commands on it. DIR stays, to play with.",
		Action: a.demo,
	}
}

// demoRun is one walk through the demo.
type demoRun struct {
	*app
	dir, program, address string
	chapter               int
}

func (a *app) demo(ctx context.Context, c *cli.Command) error {
	dir := "kestrelpoint-demo"
	if c.Args().Present() {
		dir = c.Args().First()
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if names, err := os.ReadDir(dir); err == nil && len(names) > 0 {
		return usageError("%s is not empty; give the demo another folder: `revlet demo DIR`", dir)
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	d := &demoRun{app: a, dir: dir, program: program, address: "http://" + listener.Addr().String()}
	if err := lampblack.Build(ctx, d.root(), d.address); err != nil {
		return err
	}
	if err := os.WriteFile(d.config(), []byte("# The demo keeps everything in its own folder.\nstate: ./state\n"), 0o600); err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	go func() { _ = serve(ctx, listener, lampblack.Handler(d.root())) }()
	return d.walk(ctx)
}

func (d *demoRun) root() string { return filepath.Join(d.dir, "htdocs") }

func (d *demoRun) config() string { return filepath.Join(d.dir, "revlet.yaml") }

// walk tells the story; each step runs the built program on the real files.
func (d *demoRun) walk(ctx context.Context) error {
	d.say("The Kestrel Point Lighthouse Museum has a web site: files in %s,\nan SQLite database among them, served at %s/", d.root(), d.address)
	steps := []func(context.Context) error{
		d.adoptIt, d.saveIt, d.lookAtIt, d.breakIt, d.putBack, d.changeMind, d.fetchOne, d.damageIt,
	}
	for _, step := range steps {
		if err := step(ctx); err != nil {
			return err
		}
	}
	d.title("Yours to play with")
	fmt.Fprintf(d.out, "  cd %s\n  %s archives\n  %s standin lampblack htdocs    serves the site again\n", d.dir, d.program, d.program)
	return nil
}

func (d *demoRun) adoptIt(ctx context.Context) error {
	d.title("Describe the site once")
	return d.run(ctx, 0, "adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
}

func (d *demoRun) saveIt(ctx context.Context) error {
	d.title("Take an archive before the redesign")
	return d.run(ctx, 0, "backup", "kestrelpoint", "--note", "before the redesign")
}

func (d *demoRun) lookAtIt(ctx context.Context) error {
	d.title("See what is in it, and prove it whole")
	if err := d.run(ctx, 0, "show", "kestrelpoint"); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "verify"); err != nil {
		return err
	}
	return d.run(ctx, 0, "archives")
}

func (d *demoRun) breakIt(ctx context.Context) error {
	d.title("The redesign goes wrong")
	d.ask(ctx, http.StatusOK)
	d.say("Somebody deletes the theme and empties the exhibits:")
	fmt.Fprintln(d.out, d.dim("$ ")+"rm -r htdocs/themes/lantern")
	if err := os.RemoveAll(filepath.Join(d.root(), "themes/lantern")); err != nil {
		return err
	}
	fmt.Fprintln(d.out, d.dim("$ ")+`sqlite3 htdocs/data/museum.db "DROP TABLE exhibits"`)
	if err := lampblack.Execute(ctx, filepath.Join(d.root(), lampblack.DatabaseFile), "DROP TABLE exhibits"); err != nil {
		return err
	}
	return d.ask(ctx, http.StatusInternalServerError)
}

func (d *demoRun) putBack(ctx context.Context) error {
	d.title("Put it back")
	if err := d.run(ctx, 0, "restore", "kestrelpoint", "--yes"); err != nil {
		return err
	}
	return d.ask(ctx, http.StatusOK)
}

func (d *demoRun) changeMind(ctx context.Context) error {
	d.title("A restore can be taken back, and done again")
	if err := d.run(ctx, 0, "undo", "kestrelpoint", "--yes"); err != nil {
		return err
	}
	if err := d.ask(ctx, http.StatusInternalServerError); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "--quiet", "restore", "kestrelpoint", "--yes"); err != nil {
		return err
	}
	if err := d.ask(ctx, http.StatusOK); err != nil {
		return err
	}
	return d.run(ctx, 0, "settle", "kestrelpoint", "--yes")
}

func (d *demoRun) fetchOne(ctx context.Context) error {
	d.title("Only one thing back, without touching the site")
	return d.run(ctx, 0, "extract", "kestrelpoint", "uploads/2026/lens.svg", "--table", "opening_hours", "--to", "fetched")
}

// damageIt flips one byte in a store, as an ageing disk does.
func (d *demoRun) damageIt(ctx context.Context) error {
	d.title("An archive that has gone bad is found")
	if err := d.run(ctx, 0, "--quiet", "backup", "kestrelpoint", "--note", "to be damaged"); err != nil {
		return err
	}
	part, err := largest(filepath.Join(d.dir, "archives/kestrelpoint/parts"))
	if err != nil {
		return err
	}
	d.say("One byte of a part is flipped, as a failing disk does:")
	if err := flip(part); err != nil {
		return err
	}
	if err := d.run(ctx, exitDamage, "--quiet", "verify"); err != nil {
		return err
	}
	d.say("and flipped back, so that your copy of the demo is sound:")
	if err := flip(part); err != nil {
		return err
	}
	return d.run(ctx, 0, "--quiet", "verify")
}

func largest(dir string) (string, error) {
	best, most := "", int64(-1)
	err := filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err == nil && info.Size() > most {
			best, most = p, info.Size()
		}
		return err
	})
	return best, err
}

func flip(file string) error {
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	var b [1]byte
	if _, err := f.ReadAt(b[:], info.Size()/2); err != nil {
		return err
	}
	b[0] ^= 0x20
	_, err = f.WriteAt(b[:], info.Size()/2)
	return err
}

func (d *demoRun) title(s string) {
	d.chapter++
	line := fmt.Sprintf("%d. %s", d.chapter, s)
	fmt.Fprintf(d.out, "\n%s\n%s\n", d.paint(text.FgHiYellow, line), strings.Repeat("─", len(line)))
}

func (d *demoRun) say(format string, args ...any) {
	fmt.Fprintf(d.out, format+"\n", args...)
}

// run shows a command and its real output, and makes sure of its exit code.
func (d *demoRun) run(ctx context.Context, code int, args ...string) error {
	shown := make([]string, len(args))
	for i, arg := range args {
		shown[i] = arg
		if strings.ContainsAny(arg, " ") {
			shown[i] = `"` + arg + `"`
		}
	}
	fmt.Fprintf(d.out, "%s\n", d.dim("$ ")+d.bold("revlet "+strings.Join(shown, " ")))
	cmd := exec.CommandContext(ctx, d.program, args...)
	cmd.Dir = d.dir
	cmd.Stdout, cmd.Stderr = d.out, d.err
	cmd.Env = append(os.Environ(), "REVLET_CONFIG="+d.config())
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return err
	}
	if got := cmd.ProcessState.ExitCode(); got != code {
		return fmt.Errorf("the demo expected exit code %d from `revlet %s`, it was %d", code, args[0], got)
	}
	fmt.Fprintln(d.out)
	return nil
}

// ask requests the front page and shows the answer.
func (d *demoRun) ask(ctx context.Context, want int) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, d.address+"/", nil)
	if err != nil {
		return err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, resp.Body)
	shade := d.good
	if resp.StatusCode >= http.StatusInternalServerError {
		shade = d.bad
	}
	fmt.Fprintf(d.out, "  the front page answers: %s\n", shade(resp.Status))
	if resp.StatusCode != want {
		return fmt.Errorf("the demo expected the site to answer %d, it was %d", want, resp.StatusCode)
	}
	return nil
}

package practice

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
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/platform/reason"
	"revlet/internal/practice/inbox"
	"revlet/internal/practice/lampblack"
	"revlet/internal/practice/place"
)

// DemoCommand is the command that walks through the whole job on a made-up site.
func DemoCommand(s Stage) *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "make a small made-up site and walk through the whole job on it", ArgsUsage: "[DIR]",
		Description: "Builds the site of the Kestrel Point Lighthouse Museum in DIR (./kestrelpoint-demo),\n" +
			"serves it on this machine, and runs the real commands on it. DIR stays, to play with.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "chapters", Usage: "list the chapters, and do nothing"},
			&cli.IntSliceFlag{Name: "chapter", Usage: "show chapter `N` only; those before it are played without a word; may be given again"},
			&cli.BoolFlag{Name: "pause", Usage: "wait for Enter after each chapter"},
		},
		Action: s.demo,
	}
}

// demoRun is one walk through the demo.
type demoRun struct {
	Stage
	dir, program, address string
	// only are the chapters that are shown, all if there are none; pause waits after each.
	only  []int
	pause bool
	// far is the simulated offsite place, faults what goes wrong there.
	far    *place.Server
	faults *place.Faults
	// begun is when the story begins. clock is the moment that the next command
	// takes for now; zero is the time of day. set is when that was decided.
	begun, clock, set time.Time
	// mails counts what the museum has received, trouble is the last one about an
	// alarm.
	mails   int
	trouble inbox.Mail
	mailbox *inbox.MailServer
}

func (s Stage) demo(ctx context.Context, c *cli.Command) error {
	chapters := (&demoRun{}).chapters()
	if c.Bool("chapters") {
		for i, one := range chapters {
			fmt.Fprintf(s.Out, "%2d  %s\n", i+1, one.title)
		}
		return nil
	}
	for _, n := range c.IntSlice("chapter") {
		if n < 1 || n > len(chapters) {
			return reason.BadUsage("there is no chapter %d; `revlet demo --chapters` lists them", n)
		}
	}
	dir := "kestrelpoint-demo"
	if c.Args().Present() {
		dir = c.Args().First()
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if names, err := os.ReadDir(dir); err == nil && len(names) > 0 {
		return reason.BadUsage("%s is not empty; give the demo another folder: `revlet demo DIR`", dir)
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	d := &demoRun{Stage: s, dir: dir, program: program, address: "http://" + listener.Addr().String(), begun: time.Now().AddDate(0, 0, -monthDays-1), faults: &place.Faults{},
		only: c.IntSlice("chapter"), pause: c.Bool("pause")}
	d.clock, d.set = d.begun, time.Now()
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
	d.say("The Kestrel Point Lighthouse Museum has a web site: files in %s,\nan SQLite database among them, served at %s/\nThe story begins on %s, by a clock that the demo sets.", d.root(), d.address, d.begun.Format("2 January 2006"))
	chapters := d.chapters()
	if len(d.only) == 0 {
		fmt.Fprintln(d.Out)
		for i, c := range chapters {
			fmt.Fprintf(d.Out, "  %2d  %s\n", i+1, c.title)
		}
	}
	for i, c := range chapters {
		if err := d.play(ctx, i+1, c, i == len(chapters)-1); err != nil {
			return err
		}
	}
	fmt.Fprintf(d.Out, "\n%s\n", d.Title("Yours to play with"))
	fmt.Fprintf(d.Out, "  cd %s\n", d.dir)
	if d.far != nil {
		fmt.Fprintf(d.Out, "  %s standin sftp far-away --keys far-away-keys --listen %s    is the offsite place again\n", d.program, strings.TrimSuffix(strings.TrimPrefix(d.far.Address, "sftp://keeper@"), "/"))
	}
	for _, line := range []string{"standin lampblack htdocs    serves the site again", "archives                    lists what there is", "browse SITE                 looks into an archive with a browser", "help                        says what else there is; then: revlet adopt PATH, on a site of yours"} {
		fmt.Fprintf(d.Out, "  %s %s\n", d.program, line)
	}
	return nil
}

// chapter is one part of the story.
type chapter struct {
	title string
	tell  func(context.Context) error
}

// chapters are all, in their order: each begins where the one before has ended.
func (d *demoRun) chapters() []chapter {
	return []chapter{
		{"Describe the site once", d.adoptIt},
		{"Take an archive before the redesign", d.saveIt},
		{"See what is in it, and prove it whole", d.lookAtIt},
		{"The redesign goes wrong", d.breakIt},
		{"Put it back", d.putBack},
		{"A restore can be taken back, and done again", d.changeMind},
		{"Only one thing back, without touching the site", d.fetchOne},
		{"A page was deleted: it comes back, and what was written since stays", d.deletePage},
		{"Does it really restore? Try it in scratch space", d.tryIt},
		{"An update that goes wrong is taken back", d.guardIt},
		{"An archive that has gone bad is found", d.damageIt},
		{"Copies offsite, readable by nobody else", d.sendAway},
		{"A month passes, and it keeps the site safe by itself", d.month},
		{"Somebody got in: what was changed, since when, and back to before", d.intruder},
		{"The machine is lost; only the offsite copy and the key are left", d.loseMachine},
		{"A copy to practise on comes up elsewhere, and the site is not asked", d.practiceOnACopy},
		{"The museum's shop lives with a host elsewhere, and is kept from here", d.keepAnother},
		{"The museum moves to a new host, and nobody notices", d.moveHouse},
	}
}

// play tells one chapter. Those that were not asked for are played all the same, for the others build on
// them, and nothing is shown of them.
func (d *demoRun) play(ctx context.Context, number int, c chapter, last bool) error {
	if len(d.only) > 0 && number > slices.Max(d.only) {
		return nil
	}
	out := d.Out
	if len(d.only) > 0 && !slices.Contains(d.only, number) {
		d.Out = io.Discard
		defer func() { d.Out = out }()
		return c.tell(ctx)
	}
	line := fmt.Sprintf("%d. %s", number, c.title)
	fmt.Fprintf(d.Out, "\n%s\n%s\n", d.Title(line), strings.Repeat("─", len([]rune(line))))
	if err := c.tell(ctx); err != nil || !d.pause || last {
		return err
	}
	fmt.Fprint(d.Out, d.Dim("Enter goes on … "))
	return d.Wait()
}

func (d *demoRun) adoptIt(ctx context.Context) error {
	return d.run(ctx, 0, "adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
}

func (d *demoRun) saveIt(ctx context.Context) error {
	return d.run(ctx, 0, "backup", "kestrelpoint", "--note", "before the redesign")
}

func (d *demoRun) lookAtIt(ctx context.Context) error {
	if err := d.run(ctx, 0, "show", "kestrelpoint"); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "verify"); err != nil {
		return err
	}
	return d.run(ctx, 0, "archives")
}

func (d *demoRun) breakIt(ctx context.Context) error {
	d.ask(ctx, http.StatusOK)
	d.say("Somebody deletes the theme and empties the exhibits:")
	fmt.Fprintln(d.Out, d.Dim("$ ")+"rm -r htdocs/themes/lantern")
	if err := os.RemoveAll(filepath.Join(d.root(), "themes/lantern")); err != nil {
		return err
	}
	fmt.Fprintln(d.Out, d.Dim("$ ")+`sqlite3 htdocs/data/museum.db "DROP TABLE exhibits"`)
	if err := lampblack.Execute(ctx, filepath.Join(d.root(), lampblack.DatabaseFile), "DROP TABLE exhibits"); err != nil {
		return err
	}
	return d.ask(ctx, http.StatusInternalServerError)
}

func (d *demoRun) putBack(ctx context.Context) error {
	if err := d.run(ctx, 0, "restore", "kestrelpoint", "--yes"); err != nil {
		return err
	}
	return d.ask(ctx, http.StatusOK)
}

func (d *demoRun) changeMind(ctx context.Context) error {
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
	return d.run(ctx, 0, "extract", "kestrelpoint", "uploads/2026/lens.svg", "--table", "opening_hours", "--to", "fetched")
}

// deletePage deletes a page and puts it back with what belongs to it.
func (d *demoRun) deletePage(ctx context.Context) error {
	d.say("A visitor leaves a remark; then somebody deletes the page \"Your visit\" and what was said of it:")
	for _, statement := range []string{
		"INSERT INTO remarks (page, visitor, text) VALUES (4, 'Mr Tull', 'The flags were a treat.')",
		"DELETE FROM remarks WHERE page = 2",
		"DELETE FROM pages WHERE slug = 'visit'",
	} {
		fmt.Fprintf(d.Out, "%s%q\n", d.Dim("$ ")+"sqlite3 htdocs/data/museum.db ", statement)
		if err := lampblack.Execute(ctx, filepath.Join(d.root(), lampblack.DatabaseFile), statement); err != nil {
			return err
		}
	}
	if err := d.askFor(ctx, "/visit", "the page", http.StatusNotFound); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "--quiet", "restore", "kestrelpoint", "--rows", "pages:slug=visit", "--yes"); err != nil {
		return err
	}
	if err := d.askFor(ctx, "/visit", "the page", http.StatusOK); err != nil {
		return err
	}
	return d.run(ctx, 0, "settle", "kestrelpoint", "--yes")
}

// tryIt proves that the archive restores.
func (d *demoRun) tryIt(ctx context.Context) error {
	return d.run(ctx, 0, "--quiet", "rehearse", "kestrelpoint")
}

// badUpdate is a made-up update that goes wrong half-way.
const badUpdate = `echo "unpacking version 2.5 ..."
rm themes/lantern/theme.html
echo "template engine: not compatible" >&2
exit 1
`

// guardIt runs it between an archive and a check.
func (d *demoRun) guardIt(ctx context.Context) error {
	if err := os.WriteFile(filepath.Join(d.dir, "update.sh"), []byte("cd htdocs\n"+badUpdate), 0o600); err != nil {
		return err
	}
	if err := d.run(ctx, exitPutBack, "guard", "kestrelpoint", "--patience", "1 second", "--", "sh", "update.sh"); err != nil {
		return err
	}
	if err := d.ask(ctx, http.StatusOK); err != nil {
		return err
	}
	return d.run(ctx, 0, "settle", "kestrelpoint", "--yes")
}

// damageIt flips one byte in a store, as an ageing disk does.
func (d *demoRun) damageIt(ctx context.Context) error {
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

// sendAway adds an offsite place, simulated by this program, and encrypts.
func (d *demoRun) sendAway(ctx context.Context) error {
	far, err := place.Start(place.SFTP, place.Options{Dir: filepath.Join(d.dir, "far-away"), Keys: filepath.Join(d.dir, "far-away-keys"), User: "keeper", Password: "practice", Faults: d.faults})
	if err != nil {
		return err
	}
	d.far = far
	context.AfterFunc(ctx, far.Close)
	if err := os.WriteFile(filepath.Join(d.dir, "harbour.pw"), []byte("practice\n"), 0o600); err != nil {
		return err
	}
	d.say("A machine at the harbour takes SFTP (simulated here, in far-away/). It becomes a second\nstore, and archives are encrypted for a key that is kept elsewhere:")
	if err := d.run(ctx, 0, "keys", "new", "kestrelpoint.key"); err != nil {
		return err
	}
	if err := d.addHarbour(); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "stores", "test", "harbour", "--trust"); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "--quiet", "backup", "kestrelpoint", "--note", "first one offsite"); err != nil {
		return err
	}
	return d.run(ctx, 0, "keys", "check", "kestrelpoint.key")
}

// addHarbour writes the offsite store and the key's public half into the
// configuration, as a person would with an editor.
func (d *demoRun) addHarbour() error {
	data, err := os.ReadFile(d.config())
	if err != nil {
		return err
	}
	key, err := os.ReadFile(filepath.Join(d.dir, "kestrelpoint.key"))
	if err != nil {
		return err
	}
	_, after, _ := strings.Cut(string(key), "public key: ")
	public, _, _ := strings.Cut(after, "\n")
	text := strings.Replace(string(data), "stores: [here]", "stores: [here, harbour]", 1)
	text = strings.Replace(text, "stores:\n", fmt.Sprintf("stores:\n  harbour: {sftp: %q, password_file: ./harbour.pw}\n", d.far.Address+"revlet"), 1)
	text += "encrypt: {to: [" + public + "]}\n"
	d.say("(revlet.yaml now has the store harbour, and the key's public half under encrypt:)\n")
	return os.WriteFile(d.config(), []byte(text), 0o600)
}

// loseMachine deletes everything but the far place, the key and a password.
func (d *demoRun) loseMachine(ctx context.Context) error {
	d.clock = time.Time{}
	fmt.Fprintln(d.Out, d.Dim("$ ")+"rm -r htdocs archives state revlet.yaml")
	for _, name := range []string{"htdocs", "archives", "state", "revlet.yaml", "fetched"} {
		if err := os.RemoveAll(filepath.Join(d.dir, name)); err != nil {
			return err
		}
	}
	if err := os.WriteFile(d.config(), []byte("# A new machine.\nstate: ./state\n"), 0o600); err != nil {
		return err
	}
	err := d.run(ctx, 0, "stores", "discover", d.far.Address+"revlet", "--name", "harbour", "--password-file", "harbour.pw", "--key", "kestrelpoint.key", "--trust")
	if err != nil {
		return err
	}
	if err := d.run(ctx, 0, "restore", "kestrelpoint", "--root", filepath.Join(d.dir, "htdocs"), "--yes", "--key", "kestrelpoint.key"); err != nil {
		return err
	}
	return d.ask(ctx, http.StatusOK)
}

// practiceOnACopy brings the newest archive up at another address, to try things on.
func (d *demoRun) practiceOnACopy(ctx context.Context) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	copied := filepath.Join(d.dir, "practice")
	go func() { _ = serve(ctx, listener, lampblack.Handler(copied)) }()
	address := "http://" + listener.Addr().String()
	if err := d.run(ctx, 0, "--quiet", "move", "kestrelpoint", "--to", "practice", "--root", "practice", "--address", address, "--copy", "--yes", "--key", "kestrelpoint.key"); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(d.dir, "practice.pw"), []byte("a lamp to try on\n"), 0o600); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "accounts", "practice"); err != nil {
		return err
	}
	return d.run(ctx, 0, "accounts", "password", "practice", "keeper", "--password-file", "practice.pw", "--yes")
}

// keepAnother keeps a site on another machine, which only SFTP leads to.
func (d *demoRun) keepAnother(ctx context.Context) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	shop := filepath.Join(d.dir, "host", "public_html")
	go func() { _ = serve(ctx, listener, lampblack.Handler(shop)) }()
	if err := lampblack.Build(ctx, shop, "http://"+listener.Addr().String()); err != nil {
		return err
	}
	host, err := place.Start(place.SFTP, place.Options{Dir: filepath.Join(d.dir, "host"), Keys: filepath.Join(d.dir, "host-keys"), User: "keeper", Password: "practice", Faults: &place.Faults{}})
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, host.Close)
	d.say("The host takes SFTP and nothing else (simulated here, in host/). Its key is accepted once:")
	if err := d.run(ctx, 0, "adopt", host.Address+"public_html", "--name", "shop", "--store", "./archives", "--password-file", "harbour.pw", "--trust"); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "--quiet", "backup"); err != nil {
		return err
	}
	d.say("(The host is simulated on this machine, so that a folder of it is no other place: that is\nwhat “Unsafe” says.) Only the archive is asked whether the shop could be brought up:")
	if err := d.run(ctx, 0, "--quiet", "rehearse", "shop", "--key", "kestrelpoint.key"); err != nil {
		return err
	}
	if err := os.RemoveAll(filepath.Join(shop, "themes", "lantern")); err != nil {
		return err
	}
	d.say("Somebody deletes the shop's theme. It is staged beside the webroot over there, and moved into place:")
	if err := d.run(ctx, 0, "--quiet", "restore", "shop", "--only", "themes", "--key", "kestrelpoint.key", "--yes"); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(shop, "themes", "lantern", "style.css")); err != nil {
		return fmt.Errorf("the theme is not back: %w", err)
	}
	return d.run(ctx, 0, "--quiet", "settle", "shop", "--key", "kestrelpoint.key", "--yes")
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

func (d *demoRun) say(format string, args ...any) {
	fmt.Fprintf(d.Out, format+"\n", args...)
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
	fmt.Fprintf(d.Out, "%s\n", d.Dim("$ ")+d.Bold("revlet "+strings.Join(shown, " ")))
	got, err := d.start(ctx, d.Out, d.Out, args)
	if err != nil {
		return err
	}
	if got != code {
		return fmt.Errorf("the demo expected exit code %d from `revlet %s`, it was %d", code, args[0], got)
	}
	fmt.Fprintln(d.Out)
	return nil
}

// quietly runs a command that may come to its end with something to tell.
func (d *demoRun) quietly(ctx context.Context, args ...string) error {
	var said strings.Builder
	got, err := d.start(ctx, &said, &said, append([]string{"--quiet"}, args...))
	if err == nil && got != exitDone && got != exitGaps {
		err = fmt.Errorf("`revlet %s` ended with code %d: %s", args[0], got, said.String())
	}
	return err
}

// start runs the built program and returns its exit code.
func (d *demoRun) start(ctx context.Context, out, errs io.Writer, args []string) (int, error) {
	cmd := exec.CommandContext(ctx, d.program, args...)
	cmd.Dir = d.dir
	cmd.Stdout, cmd.Stderr = out, errs
	if out == d.Out {
		cmd.Stderr = d.Err
	}
	cmd.Env = append(os.Environ(), "REVLET_CONFIG="+d.config(), "REVLET_RETRY_PAUSE=5ms", "REVLET_DRAIN=5ms")
	if !d.clock.IsZero() {
		cmd.Env = append(cmd.Env, d.Clock+"="+d.clock.Add(time.Since(d.set)).Format(time.RFC3339Nano))
	}
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return 0, err
	}
	return cmd.ProcessState.ExitCode(), nil
}

// ask requests the front page and shows the answer.
func (d *demoRun) ask(ctx context.Context, want int) error {
	return d.askFor(ctx, "/", "the front page", want)
}

func (d *demoRun) askFor(ctx context.Context, path, name string, want int) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, d.address+path, nil)
	if err != nil {
		return err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, resp.Body)
	shade := d.Good
	if resp.StatusCode >= http.StatusBadRequest {
		shade = d.Bad
	}
	fmt.Fprintf(d.Out, "  %s answers: %s\n", name, shade(resp.Status))
	if resp.StatusCode != want {
		return fmt.Errorf("the demo expected the site to answer %d, it was %d", want, resp.StatusCode)
	}
	return nil
}

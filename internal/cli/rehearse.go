package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/catalog"
	"revlet/internal/check"
	"revlet/internal/database/engine"
	"revlet/internal/history"
	"revlet/internal/observe"
	"revlet/internal/rehearse"
	"revlet/internal/site"
)

func (a *app) rehearseCommand() *cli.Command {
	return &cli.Command{
		Name: "rehearse", Usage: "restore into scratch space, check it, and tell how long recovery takes", ArgsUsage: "[ARCHIVE]",
		Description: "Puts an archive back into a scratch folder and a scratch database server of its own,\n" +
			"compares every byte and every row with the archive, and throws the copy away. The live\n" +
			"site is not touched. Without ARCHIVE, the newest good one of each site is tried. With\n" +
			"`rehearse: {serve: …}` the copy is served and asked with the site's checks. The exit code\n" +
			"is 4 when an archive does not restore.",
		Flags: []cli.Flag{beforeFlag, keyFlag, jsonFlag}, Action: a.rehearse,
	}
}

// rehearsed is what came of a rehearsal, as JSON.
type rehearsed struct {
	Archive  string   `json:"archive"`
	Passed   bool     `json:"passed"`
	Trouble  []string `json:"trouble"`
	Paths    int64    `json:"paths"`
	Tables   int      `json:"tables"`
	Rows     int64    `json:"rows"`
	Files    float64  `json:"files_seconds"`
	Database float64  `json:"database_seconds"`
	Total    float64  `json:"seconds"`
	Servers  []string `json:"servers"`
}

func (a *app) rehearse(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	limit, err := before(c)
	if err != nil {
		return err
	}
	typed := c.Args().Slice()
	if len(typed) == 0 {
		typed = a.config.SiteNames()
	}
	all, passed := []rehearsed{}, true
	for _, one := range typed {
		h, err := a.find(ctx, one, limit)
		if err != nil {
			return err
		}
		watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
		r, _, err := a.rehearseArchive(ctx, h, watch, person(), "")
		done()
		if err != nil {
			return err
		}
		passed = passed && r.Passed()
		all = append(all, rehearsed{h.Name, r.Passed(), nonNil(r.Trouble), r.Paths, r.Tables, r.Rows, r.Files.Seconds(), r.Database.Seconds(), r.Total.Seconds(), nonNil(r.Servers)})
		if !c.Bool("json") {
			a.showRehearsed(h, r)
		}
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"rehearsals": all})
	}
	if err == nil && !passed {
		return &exitError{code: exitDamage}
	}
	return err
}

// rehearseArchive tries one archive and remembers what came of it. run is the
// number of the run.
func (a *app) rehearseArchive(ctx context.Context, h *catalog.Held, watch observe.Observer, origin, duty string) (*rehearse.Result, int64, error) {
	if err := h.Unseal(h.Keys); err != nil {
		return nil, 0, err
	}
	unlock, err := a.state.Lock(".rehearse-" + h.Site)
	if err != nil {
		return nil, 0, fmt.Errorf("another rehearsal of %s is at work: %w", h.Site, err)
	}
	defer unlock()
	s, err := a.restoreSite(ctx, h)
	if err != nil {
		return nil, 0, err
	}
	try, err := a.serving(s)
	if err != nil {
		return nil, 0, err
	}
	started := a.now()
	r, err := rehearse.Run(ctx, rehearse.Job{Site: s, Archive: h, Scratch: filepath.Join(a.state.Dir, "rehearsal", h.Site), Server: a.serverDir(h.Site), Disk: a.disk,
		Open: a.openTarget, Sum: a.sumTables, IsDatabase: engine.IsFile, Try: try, Observer: watch, Now: a.now})
	run := history.Run{Site: h.Site, Command: "rehearse", Archive: h.Name, Started: started, Outcome: history.Done, Origin: origin, Duty: duty}
	if err != nil {
		run.Outcome, run.Detail = history.Failed, err.Error()
		a.remember(ctx, run)
		return nil, 0, err
	}
	if !r.Passed() {
		run.Outcome, run.Detail = history.Damage, strings.Join(r.Trouble, "\n")
	}
	run.Log = a.plain(func() { a.showRehearsed(h, r) })
	id := a.remember(ctx, run)
	return r, id, a.history.AddRehearsal(ctx, history.Rehearsal{Archive: h.Name, At: started, Passed: r.Passed(), Took: r.Total, Detail: run.Detail})
}

// serverDir is a folder with a short path for a site's scratch servers: always
// the same one, so that what a rehearsal which died has left is found.
func (a *app) serverDir(name string) string {
	sum := sha256.Sum256([]byte(a.state.Dir + "\x00" + name))
	return filepath.Join(os.TempDir(), fmt.Sprintf("revlet-%d-%s", os.Getuid(), hex.EncodeToString(sum[:4])))
}

func (a *app) showRehearsed(h *catalog.Held, r *rehearse.Result) {
	verdict := a.good("Restores:")
	if !r.Passed() {
		verdict = a.bad("DOES NOT RESTORE:")
	}
	fmt.Fprintf(a.out, "%s %s, tried in scratch space\n\n", verdict, a.bold(h.Name))
	lines := [][2]string{
		{"files", fmt.Sprintf("%s in %s", count(r.Paths, "path", "paths"), took(r.Files))},
		{"database", fmt.Sprintf("%s, %s in %s", count(int64(r.Tables), "table", "tables"), count(r.Rows, "row", "rows"), took(r.Database))},
		{"recovery", "takes about " + took(r.Total) + " on this machine"},
	}
	if len(r.Servers) > 0 {
		lines = append(lines, [2]string{"server", "a scratch server of " + strings.Join(r.Servers, " and ")})
	}
	if r.Passed() {
		lines = append(lines, [2]string{"compared", "every byte and every row is as it was saved"})
	}
	for _, t := range r.Trouble {
		lines = append(lines, [2]string{"trouble", a.bad(printableText(t))})
	}
	a.facts(lines)
	fmt.Fprintln(a.out)
}

// serving asks a copy with the site's checks while a command serves it; nil
// when the configuration names no command.
func (a *app) serving(s *site.Site) (func(context.Context, string) error, error) {
	cfg := a.config.Sites[s.Name].Rehearse
	if cfg == nil || cfg.Serve == "" {
		return nil, nil
	}
	if i := slices.IndexFunc(s.Databases, func(db site.Database) bool { _, inside := s.Inside(db); return !inside }); i >= 0 {
		return nil, usageError("`rehearse: {serve: …}` of site %s: the copy's settings lead to the live database %s, so the copy is not served; remove `serve:`", s.Name, s.Databases[i].Where())
	}
	if !strings.Contains(cfg.Serve, "{port}") || !strings.Contains(cfg.Serve, "{root}") {
		return nil, usageError("`rehearse: {serve: …}` of site %s needs {port} and {root} in its command", s.Name)
	}
	return func(ctx context.Context, root string) error { return a.tryCopy(ctx, s, cfg.Serve, root) }, nil
}

// tryCopy serves a copy and asks it.
func (a *app) tryCopy(ctx context.Context, s *site.Site, command, root string) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	address := l.Addr().String()
	_ = l.Close()
	_, port, _ := strings.Cut(address, ":")
	cmd := exec.Command("sh", "-c", strings.NewReplacer("{port}", port, "{root}", shellQuoted([]string{root})).Replace(command))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var said strings.Builder
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	defer func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		<-ended
	}()
	if err := answers(ctx, address, ended); err != nil {
		return fmt.Errorf("`%s`: %w: %s", command, err, strings.TrimSpace(said.String()))
	}
	copied := *s
	copied.Address = "http://" + address
	copied.Checks = slices.Clone(s.Checks)
	for i := range copied.Checks {
		copied.Checks[i].At = ""
	}
	if worst := check.Worst(a.checkSite(ctx, &copied)); worst != nil && !worst.OK() {
		return errors.New(worst.Trouble)
	}
	return nil
}

// serveWait is how long a server may take to answer.
const serveWait = 20 * time.Second

// answers waits until something listens at an address.
func answers(ctx context.Context, address string, ended chan error) error {
	for end := time.Now().Add(serveWait); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if c, err := net.Dial("tcp", address); err == nil {
			return c.Close()
		}
		select {
		case err := <-ended:
			ended <- err
			return fmt.Errorf("it ended at once (%w)", errors.Join(err))
		case <-ctx.Done():
			return ctx.Err()
		default:
		}
	}
	return errors.New("nothing answers at port " + strconv.Quote(address))
}

// dutyRehearse tries the newest good archive of a site for a duty.
func (a *app) dutyRehearse(ctx context.Context, name string, t turn, origin string) (*history.Run, error) {
	h, err := a.find(ctx, name, time.Time{})
	if err != nil {
		return nil, err
	}
	r, id, err := a.rehearseArchive(ctx, h, observe.Silent{}, origin, t.Duty.String())
	if err != nil {
		return nil, err
	}
	if r.Passed() {
		a.log("%s: %s restores, in %s", name, h.Name, took(r.Total))
	}
	return a.runNumbered(ctx, id)
}

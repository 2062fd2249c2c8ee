package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
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
	Tried    string   `json:"served"`
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
		h, err := a.findFull(ctx, one, limit)
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
		all = append(all, rehearsed{h.Name, r.Passed(), nonNil(r.Trouble), r.Paths, r.Tables, r.Rows, r.Files.Seconds(), r.Database.Seconds(), r.Total.Seconds(), nonNil(r.Servers), r.Tried})
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
	job := rehearse.Job{Site: s, Archive: h, Scratch: filepath.Join(a.state.Dir, "rehearsal", h.Site), Server: a.serverDir(h.Site), Disk: a.disk,
		Open: a.openTarget, Sum: a.sumTables, Tables: a.tablesIn, IsDatabase: engine.IsFile, Observer: watch, Now: a.now}
	if err := a.completeRehearsal(&job); err != nil {
		return nil, 0, err
	}
	started := a.now()
	r, err := rehearse.Run(ctx, job)
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
	if r.Passed() && r.Tried != "" {
		lines = append(lines, [2]string{"served", "the copy works: " + r.Tried})
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

// completeRehearsal adds what the configuration says about a site's rehearsals.
func (a *app) completeRehearsal(job *rehearse.Job) error {
	s := job.Site
	cfg := a.config.Sites[s.Name].Rehearse
	if cfg == nil {
		return nil
	}
	var err error
	if job.Databases, err = site.Described(cfg.Databases); err != nil {
		return fmt.Errorf("`rehearse: {databases: …}` of site %s: %w", s.Name, err)
	}
	for label := range job.Databases {
		if _, ok := s.Database(label); !ok {
			return usageError("`rehearse: {databases: …}` of site %s: the site has no database %q", s.Name, label)
		}
	}
	if cfg.Serve == "" {
		return nil
	}
	if i := slices.IndexFunc(s.Databases, func(db site.Database) bool { return !a.pointable(s, db) }); i >= 0 {
		return usageError("`rehearse: {serve: …}` of site %s: the copy would use the live database %s, for no recipe knows where its settings are; remove `serve:`", s.Name, s.Databases[i].Where())
	}
	if !strings.Contains(cfg.Serve, "{port}") || !strings.Contains(cfg.Serve, "{root}") {
		return usageError("`rehearse: {serve: …}` of site %s needs {port} and {root} in its command", s.Name)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	address := l.Addr().String()
	job.Address, job.Settings = "http://"+address, a.config.Sites[s.Name].Settings
	job.Try = func(ctx context.Context, copied *site.Site) (string, error) {
		return a.tryCopy(ctx, copied, cfg.Serve, address)
	}
	return l.Close()
}

// pointable tells whether a copy can be made to use a copy of a database: it is a
// file that goes along, or the recipe knows the setting that leads to it.
func (a *app) pointable(s *site.Site, db site.Database) bool {
	if _, inside := s.Inside(db); inside {
		return true
	}
	if s.Recipe == nil {
		return false
	}
	_, own := s.Recipe.Databases[db.Label]
	return own && len(a.config.Sites[s.Name].Databases) == 0
}

// tablesIn names the tables of a database.
func (a *app) tablesIn(ctx context.Context, db site.Database) ([]string, error) {
	source, err := a.openSource(ctx, db, a.state.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // a file that is not there yet
	}
	if err != nil {
		return nil, err
	}
	defer source.Close()
	tables, err := source.Tables(ctx)
	var names []string
	for _, t := range tables {
		names = append(names, t.Name)
	}
	return names, err
}

// tryCopy serves a copy and asks it with the site's checks.
func (a *app) tryCopy(ctx context.Context, copied *site.Site, command, address string) (answer string, err error) {
	_, port, _ := strings.Cut(address, ":")
	cmd := exec.Command("sh", "-c", strings.NewReplacer("{port}", port, "{root}", shellQuoted([]string{copied.Root})).Replace(command))
	cmd.Env = append(os.Environ(), rehearse.Mark(copied.Root))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var said strings.Builder
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		return "", err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	defer func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		<-ended
	}()
	if err := answers(ctx, address, ended); err != nil {
		return "", fmt.Errorf("`%s`: %w: %s", command, err, strings.TrimSpace(said.String()))
	}
	asked := *copied
	asked.Address = "http://" + address
	asked.Checks = slices.Clone(copied.Checks)
	for i := range asked.Checks {
		asked.Checks[i].At = ""
	}
	answered := a.checkSite(ctx, &asked)
	if worst := check.Worst(answered); worst != nil && !worst.OK() {
		return "", errors.New(worst.Trouble)
	}
	return fmt.Sprintf("%s, as the site's checks want it", count(int64(len(answered)), "answer", "answers")), nil
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
	h, err := a.findFull(ctx, name, time.Time{})
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

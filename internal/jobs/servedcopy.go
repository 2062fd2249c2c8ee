package jobs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"revlet/internal/config"
	"revlet/internal/platform/loopback"
	"revlet/internal/platform/process"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/check"
	"revlet/internal/work/rehearse"
)

// servedCopy is a place where a rehearsal serves a copy of a site, to see whether it works. Serving it runs what is in
// the archive, which may be what an intruder has left there.
type servedCopy struct {
	// Listener keeps the place until the copy is served there.
	net.Listener
	command string
	// mark is a variable of the environment by which what serves it is found.
	mark string
	// guest is the account that it is served as; nil is this one.
	guest *process.Guest
}

// at is the place.
func (c *servedCopy) at() netip.AddrPort { return c.Addr().(*net.TCPAddr).AddrPort() }

// Address is how the copy is reached.
func (c *servedCopy) Address() string { return "http://" + c.at().String() }

// serves is the account that a copy is served as. For root that is one without rights, unless another is named.
func (a *Agent) serves(siteName, as string) (*process.Guest, error) {
	me, err := user.Current()
	if err != nil || me.Uid != "0" {
		if as != "" && (err != nil || as != me.Username) {
			return nil, reason.BadUsage("`rehearse: {as: %s}` of site %s: only root can serve a copy as another account", as, siteName)
		}
		return nil, nil
	}
	switch as {
	case "root", me.Username:
		return nil, nil
	case "":
		return process.NewGuest(a.State.Dir+" "+siteName, a.State.Dir)
	}
	g, err := process.NamedGuest(as, a.State.Dir)
	if err != nil {
		return nil, reason.BadUsage("`rehearse: {as: %s}` of site %s: %w", as, siteName, err)
	}
	return g, nil
}

// start starts the command that serves the copy. It gets no secret of the environment.
func (c *servedCopy) start(copied *site.Site, said io.Writer) (*exec.Cmd, error) {
	port := strconv.Itoa(int(c.at().Port()))
	cmd := exec.Command("sh", "-c", strings.NewReplacer("{port}", port, "{root}", process.ShellQuote(copied.Root)).Replace(c.command))
	cmd.Env = append(process.Environment(), c.mark)
	cmd.Stderr, cmd.WaitDelay = said, time.Second
	if c.guest == nil {
		return cmd, process.Start(cmd)
	}
	own := rehearse.Temporary(copied)
	cmd.Env = append(cmd.Env, "HOME="+own, "TMPDIR="+own, "PHP_INI_SCAN_DIR=:"+own) // beside the machine's own settings
	cmd.Dir = "/"
	return cmd, c.guest.Start(cmd)
}

// end ends all that serves the copy.
func (c *servedCopy) end(cmd *exec.Cmd) error {
	process.KillAll(cmd)
	if c.guest == nil {
		return nil
	}
	return c.guest.End()
}

// Try serves the copy and asks it with the site's checks. Only what the copy itself answers says that it does not work.
func (c *servedCopy) Try(ctx context.Context, copied *site.Site) (answer string, err error) {
	unserved := func(err error, said string) error {
		return fmt.Errorf("%w: `%s`: %w%s", rehearse.ErrUnserved, c.command, err, said)
	}
	var said tail
	if err := c.Close(); err != nil {
		return "", unserved(err, "")
	}
	cmd, err := c.start(copied, &said)
	if err != nil {
		return "", unserved(err, "")
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	defer func() {
		err = errors.Join(err, c.end(cmd))
		<-ended
	}()
	if err := c.answers(ctx, ended); err != nil {
		return "", unserved(err, lastLines(said.String(), saidLines))
	}
	asked := *copied
	asked.Checks = slices.Clone(copied.Checks)
	if len(asked.Checks) == 0 {
		asked.Checks = []config.Check{{Path: "/", Status: http.StatusOK}} // nothing that was asked proves nothing
	}
	for i := range asked.Checks {
		asked.Checks[i].At = ""
	}
	answered := askSite(ctx, &asked)
	if err := c.hasEnded(ended); err != nil {
		return "", unserved(err, lastLines(said.String(), saidLines))
	}
	if worst := check.Worst(answered); worst != nil && !worst.OK() {
		return "", errors.New(worst.Trouble)
	}
	return fmt.Sprintf("%s, as the site's checks want it", english.Plural(len(answered), "answer", "answers")), nil
}

// hasEnded is an error if what serves the copy has ended: what answers then is something else.
func (c *servedCopy) hasEnded(ended chan error) error {
	select {
	case err := <-ended:
		ended <- err
		if loopback.Taken(c.at()) {
			return fmt.Errorf("it ended (%w); another program has its port %s", errors.Join(err), c.at())
		}
		return fmt.Errorf("it ended (%w)", errors.Join(err))
	default:
		return nil
	}
}

// saidLines is how many lines are told of what the command has said that did not serve a copy.
const saidLines = 6

// serveWait is how long a server may take to answer.
const serveWait = 20 * time.Second

// answers waits until what serves the copy listens.
func (c *servedCopy) answers(ctx context.Context, ended chan error) error {
	for end := time.Now().Add(serveWait); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if conn, err := net.Dial("tcp", c.at().String()); err == nil {
			return errors.Join(conn.Close(), c.ours())
		}
		if err := c.hasEnded(ended); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return fmt.Errorf("nothing answers at %s", c.at())
}

// ours makes sure, where the system tells it, that nobody else answers at the place: root, who starts servers for
// others, and the account that the copy is served as may.
func (c *servedCopy) ours() error {
	uids, known, err := loopback.Owners(c.at())
	if err != nil || !known {
		return err
	}
	mine := os.Geteuid()
	if c.guest != nil {
		mine = c.guest.UID
	}
	if i := slices.IndexFunc(uids, func(uid int) bool { return uid != 0 && uid != mine }); i >= 0 {
		return fmt.Errorf("the account %d has its port %s", uids[i], c.at())
	}
	return nil
}

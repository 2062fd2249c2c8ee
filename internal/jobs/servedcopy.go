package jobs

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os/exec"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"revlet/internal/platform/process"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/check"
	"revlet/internal/work/rehearse"
)

// servedCopy is a copy of a site that a rehearsal serves, to see whether it works. Serving it runs what is in the
// archive, which may be what an intruder has left there.
type servedCopy struct {
	site             *site.Site
	command, address string
	// mark is a variable of the environment by which what serves it is found.
	mark string
	// guest is the account that it is served as; nil is this one.
	guest *process.Guest
}

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
func (c servedCopy) start(said *strings.Builder) (*exec.Cmd, error) {
	_, port, _ := strings.Cut(c.address, ":")
	cmd := exec.Command("sh", "-c", strings.NewReplacer("{port}", port, "{root}", process.ShellQuote(c.site.Root)).Replace(c.command))
	cmd.Env = append(process.Environment(), c.mark)
	cmd.Stderr, cmd.WaitDelay = said, time.Second
	if c.guest == nil {
		return cmd, process.Start(cmd)
	}
	own := rehearse.Temporary(c.site)
	cmd.Env = append(cmd.Env, "HOME="+own, "TMPDIR="+own, "PHP_INI_SCAN_DIR=:"+own) // beside the machine's own settings
	cmd.Dir = "/"
	return cmd, c.guest.Start(cmd)
}

// end ends all that serves the copy.
func (c servedCopy) end(cmd *exec.Cmd) error {
	process.KillAll(cmd)
	if c.guest == nil {
		return nil
	}
	return c.guest.End()
}

// try serves the copy and asks it with the site's checks.
func (c servedCopy) try(ctx context.Context) (answer string, err error) {
	var said strings.Builder
	cmd, err := c.start(&said)
	if err != nil {
		return "", err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	defer func() {
		err = errors.Join(err, c.end(cmd))
		<-ended
	}()
	if err := answers(ctx, c.address, ended); err != nil {
		return "", fmt.Errorf("`%s`: %w: %s", c.command, err, strings.TrimSpace(said.String()))
	}
	asked := *c.site
	asked.Address = "http://" + c.address
	asked.Checks = slices.Clone(c.site.Checks)
	for i := range asked.Checks {
		asked.Checks[i].At = ""
	}
	answered := askSite(ctx, &asked)
	if worst := check.Worst(answered); worst != nil && !worst.OK() {
		return "", errors.New(worst.Trouble)
	}
	return fmt.Sprintf("%s, as the site's checks want it", english.Plural(len(answered), "answer", "answers")), nil
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

package jobs

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"revlet/internal/platform/process"
	"revlet/internal/watch/history"
)

// mostOutput is how much of what a command of the user's prints goes into the log, of its end.
const mostOutput = 64 << 10

// command runs the site's command for a moment, before or after, if there is one. It returns what is to
// stand in the log.
func (a *Agent) command(ctx context.Context, moment, site string, run *history.Run) (log string, err error) {
	c := a.Config.Sites[site].Commands
	if c == nil {
		return "", nil
	}
	line := map[string]string{"before": c.Before, "after": c.After, "on_trouble": c.OnTrouble}[moment]
	if line == "" {
		return "", nil
	}
	if err := process.TrustedLine(line, a.Sudoer); err != nil {
		return "", fmt.Errorf("the command `%s:` of %s was not run: %w", moment, site, err)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, c.LimitOf, fmt.Errorf("it took longer than %s", c.LimitOf))
	defer cancel()
	cmd := exec.Command("sh", "-c", line)
	if runtime.GOOS == "windows" {
		cmd = exec.Command("cmd", "/C", line)
	}
	out := &tail{}
	cmd.Stdout, cmd.Stderr, cmd.Env = out, out, a.commandEnvironment(moment, site, run)
	began := a.Now()
	err = runUntil(ctx, cmd)
	if err != nil {
		err = fmt.Errorf("the command `%s:` of %s failed: %w%s", moment, site, err, lastLine(out.String()))
	}
	return fmt.Sprintf("\n%s: %s\n%s(%s)\n", moment, line, out, a.Now().Sub(began).Round(time.Millisecond)), err
}

// runUntil runs a command with all that it starts, until the context ends.
func runUntil(ctx context.Context, cmd *exec.Cmd) error {
	cmd.WaitDelay = time.Second
	if err := process.Start(cmd); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- process.Wait(cmd) }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
		process.KillAll(cmd)
		<-ended
		return context.Cause(ctx)
	}
}

// commandEnvironment is what a command is told.
func (a *Agent) commandEnvironment(moment, site string, run *history.Run) []string {
	all := process.Environment()
	cfg := a.Config.Sites[site]
	for name, value := range map[string]string{"MOMENT": moment, "SITE": site, "WORK": run.Command, "OUTCOME": string(run.Outcome), "DETAIL": run.Detail, "ARCHIVE": run.Archive,
		"DUTY": run.Duty, "ROOT": cfg.Root, "ADDRESS": cfg.Address, "CONFIG": a.Config.Path} {
		all = append(all, "REVLET_"+name+"="+strings.ReplaceAll(value, "\x00", ""))
	}
	slices.Sort(all)
	return all
}

// tail keeps the end of what is written to it. It can be read meanwhile.
type tail struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := len(p)
	if over := t.b.Len() + n - mostOutput; over > 0 {
		t.b.Next(min(over, t.b.Len()))
		p = p[max(0, len(p)-mostOutput):]
	}
	t.b.Write(p)
	return n, nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	text := strings.ToValidUTF8(t.b.String(), "?")
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return text
}

// lastLine is what a command said last, to be added to why it failed.
func lastLine(text string) string { return lastLines(text, 1) }

// lastLines are the last few of what a command said.
func lastLines(text string, most int) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	last := strings.TrimSpace(strings.Join(lines[max(0, len(lines)-most):], "\n"))
	if last == "" {
		return ""
	}
	return ": " + last[:min(len(last), most*300)]
}

// troubled are the works after which the site's command for trouble is run.
var troubled = []string{"backup", "verify", "rehearse", "retention", "restore"}

// onTrouble runs the site's command for trouble, if a run was not all right.
func (a *Agent) onTrouble(ctx context.Context, run *history.Run) {
	if run.Outcome == history.Done || run.Outcome == history.Interrupted || !slices.Contains(troubled, run.Command) {
		return
	}
	log, err := a.command(context.WithoutCancel(ctx), "on_trouble", run.Site, run)
	run.Log += log
	if err != nil {
		a.warn(err)
	}
}

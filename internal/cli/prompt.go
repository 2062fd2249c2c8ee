package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
)

// confirmed asks before something is overwritten. Without a terminal it refuses, unless --yes was given.
func (a *app) confirmed(c *cli.Command, question string) error {
	if err := a.canAsk(c); err != nil || c.Bool("yes") {
		return err
	}
	return a.typed(question+" [y/N] ", "y", "yes")
}

// canAsk refuses where nobody can be asked, unless that is not needed.
func (a *app) canAsk(c *cli.Command) error {
	if !c.Bool("yes") && !c.Bool("dry-run") && !terminal(a.in) {
		return usageError("this changes what is there, and nobody can be asked whether it may: there is no terminal. --yes answers")
	}
	return nil
}

// typed asks for one of some words.
func (a *app) typed(question string, words ...string) error {
	answer, err := a.ask(question)
	if errors.Is(err, context.Canceled) {
		return err
	}
	if err != nil || !slices.Contains(words, answer) && !slices.Contains(words, strings.ToLower(answer)) {
		return &exitError{exitFailed, errors.New("not confirmed; nothing was changed")}
	}
	return nil
}

// ask reads a line that is typed, without blanks around it. Ctrl-C ends it at once.
func (a *app) ask(question string) (string, error) {
	fmt.Fprint(a.Out, question)
	line, err := orStopped(a.stopped, func() (string, error) { return bufio.NewReader(a.in).ReadString('\n') })
	if errors.Is(err, context.Canceled) {
		fmt.Fprintln(a.Out)
	}
	return strings.TrimSpace(line), err
}

// askSecret reads what is typed without showing it. The caller has seen that there is a terminal.
func (a *app) askSecret(question string) (string, error) {
	in := int(a.in.(*os.File).Fd())
	before, err := term.GetState(in)
	if err != nil {
		return "", err
	}
	asked := make(chan struct{})
	go func() {
		defer close(asked)
		awaitHidden(in, before)
		fmt.Fprint(a.err, question)
	}()
	secret, err := orStopped(a.stopped, func() (string, error) {
		typed, err := term.ReadPassword(in)
		return string(typed), err
	})
	<-asked // what is set back sooner would be hidden for good
	if errors.Is(err, context.Canceled) {
		_ = term.Restore(in, before)
	}
	fmt.Fprintln(a.err)
	return secret, err
}

// awaitHidden waits until a terminal does not show any more what is typed, so that nobody is
// asked sooner; one that never did looks the same, and is waited for a moment.
func awaitHidden(in int, before *term.State) {
	for range 100 {
		if now, err := term.GetState(in); err != nil || *now != *before {
			return
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// orStopped reads something, unless the program is to stop meanwhile.
func orStopped(stopped <-chan struct{}, read func() (string, error)) (string, error) {
	type result struct {
		text string
		err  error
	}
	done := make(chan result, 1)
	go func() {
		text, err := read()
		done <- result{text, err}
	}()
	select {
	case r := <-done:
		return r.text, r.err
	case <-stopped:
		return "", context.Canceled
	}
}

// hangUp has the end of the terminal, such as of an SSH line, end the program as Ctrl-C does; what serves
// takes the same signal for something else, and what was told to ignore it (nohup) does.
func (a *app) hangUp(ctx context.Context) (context.Context, func()) {
	ctx, cancel := context.WithCancel(ctx)
	a.stopped = ctx.Done()
	if signal.Ignored(syscall.SIGHUP) {
		return ctx, cancel
	}
	a.hung = make(chan os.Signal, 1)
	signal.Notify(a.hung, syscall.SIGHUP)
	go func() {
		select {
		case <-a.hung:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

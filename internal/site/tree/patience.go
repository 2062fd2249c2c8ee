package tree

import (
	"context"
	"errors"
	"io/fs"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/crypto/ssh"

	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/ftpconn"
	"revlet/internal/store/sshconn"
)

// patience makes calls to a far end again when the connection breaks.
type patience struct {
	tries uint
	pause time.Duration
	mu    sync.Mutex
	// circuitOpen is set after a call has exhausted its tries; until one succeeds, later
	// calls are tried once.
	circuitOpen bool
	// answers counts the calls that were answered.
	answers atomic.Int64
}

// newPatience has 0 mean six tries, with 400 milliseconds before the second.
func newPatience(tries uint, pause time.Duration) patience {
	if tries == 0 {
		tries = 6
	}
	if pause == 0 {
		pause = 400 * time.Millisecond
	}
	return patience{tries: tries, pause: pause}
}

// connectError is an error of making a connection: it says nothing of any file.
type connectError struct {
	error
	// final tells that another try is of no use.
	final bool
}

// Unwrap gives the reason.
func (e *connectError) Unwrap() error { return e.error }

// Refused tells of an error that the far end itself has said that it does not do something.
func Refused(err error) bool { return ftpconn.Answered(err) || sshconn.Answered(err) }

// givenUp tells of an error that another try is of no use.
func givenUp(err error) bool {
	var none *connectError
	return errors.As(err, &none) && none.final
}

// mostRounds bounds how often a call is begun again while others come through.
const mostRounds = 40

// retry makes a call until it is answered. It gives up when nothing at all has come through
// meanwhile: calls share connections, and one that is cut for what another one reads has not
// failed for itself.
func (p *patience) retry(ctx context.Context, call func() error) error {
	for round := 1; ; round++ {
		before := p.answers.Load()
		err := p.severalTries(ctx, call)
		if !errors.Is(err, ErrUnreachable) || ctx.Err() != nil || p.answers.Load() == before || round == mostRounds || givenUp(err) {
			return err
		}
	}
}

func (p *patience) severalTries(ctx context.Context, call func() error) error {
	tries := p.tries
	p.mu.Lock()
	if p.circuitOpen {
		tries = 1
	}
	p.mu.Unlock()
	pace := &backoff.ExponentialBackOff{InitialInterval: p.pause, RandomizationFactor: 0.3, Multiplier: 2, MaxInterval: min(15*time.Second, 40*p.pause)}
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		err := call()
		if err == nil || answered(err) {
			p.answers.Add(1)
		}
		if final(err) || err != nil && ctx.Err() != nil {
			err = backoff.Permanent(err)
		}
		return struct{}{}, err
	}, backoff.WithBackOff(pace), backoff.WithMaxTries(tries), backoff.WithMaxElapsedTime(0))
	var permanent *backoff.PermanentError
	if errors.As(err, &permanent) {
		err = permanent.Err
	}
	unreachable := err != nil && !answered(err)
	p.mu.Lock()
	p.circuitOpen = unreachable && ctx.Err() == nil
	p.mu.Unlock()
	switch {
	case err != nil && ctx.Err() != nil:
		return &unreachableError{context.Cause(ctx)}
	case unreachable:
		return &unreachableError{err}
	}
	return err
}

// unreachableError wraps ErrUnreachable and the reason.
type unreachableError struct{ why error }

// Error implements error. A machine that lets nobody in says so itself.
func (e *unreachableError) Error() string {
	if errors.Is(e.why, store.ErrRefused) {
		return e.why.Error()
	}
	return ErrUnreachable.Error() + ": " + e.why.Error()
}

// Unwrap gives both.
func (e *unreachableError) Unwrap() []error { return []error{ErrUnreachable, e.why} }

// answered tells that the far end has answered, only not as hoped.
func answered(err error) bool {
	var none *connectError
	var forwarded *ssh.OpenChannelError
	return !errors.As(err, &none) && (sshconn.Answered(err) || ftpconn.Answered(err) || errors.As(err, &forwarded) || errors.Is(err, ErrNoFolder) ||
		errors.Is(err, fs.ErrExist) || errors.Is(err, errSending) || errors.Is(err, errChanged) || errors.Is(err, errBroken) || errors.Is(err, errNames) || errors.Is(err, errSize) || errors.Is(err, errNoSurvey) || errors.Is(err, errBundle) || errors.Is(err, errNoCommands) || errors.Is(err, ErrTooLarge) || errors.Is(err, disk.ErrSpecial) || errors.Is(err, disk.ErrLinkOnTheWay))
}

// final tells that another try is of no use.
func final(err error) bool {
	return err != nil && (answered(err) || givenUp(err))
}

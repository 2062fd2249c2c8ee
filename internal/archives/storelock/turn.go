package storelock

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/store"
	"revlet/internal/store/appendonly"
)

// TurnAge is how long a claim counts that nobody has renewed: so long does a machine that died hold up the others.
const TurnAge = 2 * time.Hour

// longestClaim bounds what a claim may say.
const longestClaim = 4 << 10

// Turn is the turn of a duty that several machines could take.
type Turn struct {
	Site string
	// Name is the turn's, without dots, the same on every machine.
	Name string
	// Machine names this one.
	Machine string
	// Text is what this machine's claim says; Good tells whether what another's says may be believed: whoever
	// can write to the store could keep everybody from working otherwise.
	Text []byte
	Good func(machine string, text []byte) bool
}

// settling is how long a machine that has met another one's claim waits for that to be given back.
const settling = 2 * time.Second

// Claim takes a turn for this machine, unless another has it: won is false then. Each puts its claim before it looks
// for others', so that of two that try at a time at least one sees the other. Of two that see each other the one whose
// name comes last gives way at once, and the other goes on when that has happened. Where one alone sees the other, it
// gives way whatever its name, for the other's claim stays. It may be that both give way. done gives the turn back.
func (t Turn) Claim(ctx context.Context, s store.Store) (won bool, done func(context.Context) error, err error) {
	mark := path.Join(archive.TurnsDir(t.Site), t.Name+"."+t.Machine)
	if err := s.Put(ctx, mark, bytes.NewReader(t.Text), int64(len(t.Text))); err != nil {
		return false, nil, err
	}
	stop := Renew(ctx, s, mark, t.Text, TurnAge/8)
	done = func(ctx context.Context) error { stop(); return s.Remove(ctx, mark) }
	other, err := t.taken(ctx, s, mark)
	if err == nil && other > t.Machine {
		select {
		case <-time.After(settling):
		case <-ctx.Done():
		}
		other, err = t.taken(ctx, s, mark)
	}
	if err != nil || other != "" {
		_ = done(context.WithoutCancel(ctx)) // one that stays counts no more in a while
		return false, nil, err
	}
	return true, done, nil
}

// taken names another machine that has a claim to the turn, the one whose name comes first, or nobody.
func (t Turn) taken(ctx context.Context, s store.Store, mark string) (machine string, err error) {
	found, err := s.List(ctx, archive.TurnsDir(t.Site))
	if err != nil {
		return "", err
	}
	over := map[string]bool{}
	for _, m := range found {
		if name, ok := strings.CutSuffix(m.Name, appendonly.Over); ok {
			over[name] = true
		}
	}
	for _, m := range found {
		turn, who, ok := strings.Cut(path.Base(m.Name), ".")
		who, _, _ = strings.Cut(who, ".")
		switch {
		case !ok || turn != t.Name || who == t.Machine || strings.HasSuffix(m.Name, appendonly.Over) || over[m.Name]:
		case time.Since(m.Changed) > TurnAge:
		case machine != "" && machine <= who:
		default:
			text, err := read(ctx, s, m.Name)
			if errors.Is(err, store.ErrNotFound) {
				continue // given back meanwhile
			}
			if err != nil {
				return "", fmt.Errorf("read the claim of another machine: %w", err)
			}
			if t.Good(who, text) {
				machine = who
			}
		}
	}
	for _, m := range found { // those of turns long past
		if time.Since(m.Changed) > Age && m.Name != mark {
			_ = s.Remove(ctx, m.Name)
		}
	}
	return machine, nil
}

func read(ctx context.Context, s store.Store, name string) ([]byte, error) {
	in, err := s.Open(ctx, name, 0)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return io.ReadAll(io.LimitReader(in, longestClaim))
}

package retry

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/store"
)

// shaky is a store whose calls fail as the test says.
type shaky struct {
	store.Unusable
	objects map[string][]byte
	// next is the error of the next calls, in order; nil lets one through.
	next []error
	// cut is after how many bytes a reader breaks; 0 is never.
	cut   func() int
	calls int
	// abandoned are the uploads that were given up.
	abandoned []string
}

func (s *shaky) fail() error {
	s.calls++
	if len(s.next) == 0 {
		return nil
	}
	err := s.next[0]
	s.next = s.next[1:]
	return err
}

func (s *shaky) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	err := s.fail()
	half := io.Reader(src)
	if err != nil {
		half = io.LimitReader(src, size/2)
	}
	data, readErr := io.ReadAll(half)
	if err == nil && readErr == nil {
		s.objects[name] = data
	}
	return errors.Join(err, readErr, ctx.Err())
}

func (s *shaky) Abandon(_ context.Context, name string) error {
	s.abandoned = append(s.abandoned, name)
	return nil
}

func (s *shaky) Stat(context.Context, string) (store.Info, error) { return store.Info{}, s.fail() }

func (s *shaky) Open(_ context.Context, name string, offset int64) (io.ReadCloser, error) {
	if err := s.fail(); err != nil {
		return nil, err
	}
	r := io.Reader(bytes.NewReader(s.objects[name][offset:]))
	if n := s.cut(); n > 0 && n < len(s.objects[name])-int(offset) {
		r = io.MultiReader(io.LimitReader(r, int64(n)), broken{})
	}
	return io.NopCloser(r), nil
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, errors.New("connection reset") }

func quick(s *shaky, o Options) *Store {
	o.Pause = time.Microsecond
	if s.cut == nil {
		s.cut = func() int { return 0 }
	}
	s.objects = map[string][]byte{}
	return New(s, o)
}

func TestWhatMayPassIsTriedAgainAndNothingElse(t *testing.T) {
	passing := errors.New("connection reset")
	for name, c := range map[string]struct {
		next  []error
		calls int
		fails bool
	}{
		"works":             {nil, 1, false},
		"passes":            {[]error{passing, passing, passing}, 4, false},
		"never passes":      {[]error{passing, passing, passing, passing, passing, passing, passing}, 6, true},
		"refused":           {[]error{store.Refuse("wrong password")}, 1, true},
		"full":              {[]error{passing, store.ErrFull}, 2, true},
		"not there for Put": {[]error{store.Missing("the upload")}, 2, false},
	} {
		inner := &shaky{next: c.next}
		s := quick(inner, Options{})
		err := s.Put(t.Context(), "a", strings.NewReader("content"), 7)
		assert.Equal(t, c.fails, err != nil, name)
		assert.Equal(t, c.calls, inner.calls, name)
		if c.fails {
			assert.Equal(t, []string{"a"}, inner.abandoned, "what is given up is cleared away")
		} else {
			assert.Equal(t, "content", string(inner.objects["a"]), "%s: each try starts over", name)
		}
	}
	inner := &shaky{next: []error{store.Missing("x")}}
	_, err := quick(inner, Options{}).Stat(t.Context(), "x")
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.Equal(t, 1, inner.calls, "what is not there is not asked for again")
}

func TestAStoreThatWasGivenUpIsNotTriedLong(t *testing.T) {
	gone := errors.New("connection refused")
	inner := &shaky{}
	for range 10 {
		inner.next = append(inner.next, gone)
	}
	s := quick(inner, Options{Tries: 4})
	_, err := s.Stat(t.Context(), "x")
	require.Error(t, err)
	require.Equal(t, 4, inner.calls)
	_, err = s.Stat(t.Context(), "x")
	require.Error(t, err)
	assert.Equal(t, 5, inner.calls, "one try while it is down")
	inner.next = nil
	_, err = s.Stat(t.Context(), "x")
	require.NoError(t, err)
	inner.next = []error{gone, gone}
	_, err = s.Stat(t.Context(), "x")
	assert.NoError(t, err, "and patience again once it works")
}

// However often a connection breaks, what is read is what is there.
func TestReadingGoesOnWhereItBroke(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1871))
	for range 50 {
		inner := &shaky{cut: func() int { return 1 + r.IntN(4000) }}
		s := quick(inner, Options{})
		want := make([]byte, r.IntN(60_000))
		for i := range want {
			want[i] = byte(r.Uint32())
		}
		inner.objects["a"] = want
		from := r.IntN(len(want) + 1)
		in, err := s.Open(t.Context(), "a", int64(from))
		require.NoError(t, err)
		var got []byte
		buf := make([]byte, 1+r.IntN(700))
		for {
			n, err := in.Read(buf)
			got = append(got, buf[:n]...)
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
		}
		require.NoError(t, in.Close())
		require.True(t, bytes.Equal(want[from:], got))
	}
	s := quick(&shaky{}, Options{Tries: 3})
	s.Store = &dead{}
	_, err := s.Open(t.Context(), "a", 0)
	assert.ErrorContains(t, err, "connection refused")
}

// dead is a store that cannot be opened any more.
type dead struct{ store.Unusable }

func (d *dead) Open(context.Context, string, int64) (io.ReadCloser, error) {
	return nil, errors.New("connection refused")
}

func TestSilenceEndsACall(t *testing.T) {
	s := quick(&shaky{}, Options{Silence: 20 * time.Millisecond, Tries: 2})
	s.Store = &mute{}
	began := time.Now()
	_, err := s.Stat(t.Context(), "x")
	assert.ErrorContains(t, err, "stopped answering")
	assert.Less(t, time.Since(began), 2*time.Second)
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	_, err = New(&mute{}, Options{}).Stat(ctx, "x")
	assert.ErrorIs(t, err, context.DeadlineExceeded, "whoever waits can stop waiting")
}

// mute is a store that never answers.
type mute struct{ store.Unusable }

func (mute) Stat(ctx context.Context, _ string) (store.Info, error) {
	<-ctx.Done()
	return store.Info{}, ctx.Err()
}

// A store that gave a byte now and then was waited for for ever, and with it every site that is saved there.
func TestAStoreThatDripsIsGivenUp(t *testing.T) {
	d := &dripping{}
	s := New(d, Options{Silence: time.Second, Grace: 60 * time.Millisecond, Pause: time.Microsecond})
	for name, call := range map[string]func() error{
		"an answer": func() error { _, err := s.List(t.Context(), "x"); return err },
		"an upload": func() error { return s.Put(t.Context(), "x", strings.NewReader("lamp"), 4) },
		"a part": func() error {
			r, err := s.Open(t.Context(), "x", 0)
			require.NoError(t, err)
			defer r.Close()
			_, err = io.Copy(io.Discard, r)
			return err
		},
	} {
		d.calls = 0
		began := time.Now()
		require.ErrorIs(t, call(), errSlow, name)
		assert.Less(t, time.Since(began), 2*time.Second, name)
		assert.Equal(t, 1, d.calls, "%s is not tried again", name)
	}
	slow := New(d, Options{Rate: 64})
	assert.Equal(t, 30*time.Minute+100*time.Second, slow.most(100), "a rate that was chosen is no fault of the store")
	assert.Equal(t, 30*time.Minute+25*time.Second, New(d, Options{}).most(100<<10))
}

// dripping is a store that shows a sign of life every millisecond, and never ends.
type dripping struct {
	store.Unusable
	calls int
}

func (d *dripping) drip(ctx context.Context) error {
	d.calls++
	for ctx.Err() == nil {
		store.Alive(ctx)
		time.Sleep(time.Millisecond)
	}
	return ctx.Err()
}

func (d *dripping) List(ctx context.Context, _ string) ([]store.Info, error) { return nil, d.drip(ctx) }

func (d *dripping) Put(ctx context.Context, _ string, _ io.ReadSeeker, _ int64) error {
	return d.drip(ctx)
}

func (d *dripping) Open(context.Context, string, int64) (io.ReadCloser, error) {
	d.calls++
	return io.NopCloser(drops{}), nil
}

type drops struct{}

func (drops) Read(p []byte) (int, error) { time.Sleep(time.Millisecond); p[0] = 'x'; return 1, nil }

// Package program is a store behind a helper program of the user's own, for places that speak no open
// protocol. The helper is asked in lines on its standard input, and answers on its standard output; the
// protocol is described in docs/STORES.md.
package program

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"revlet/internal/platform/process"
	"revlet/internal/store"
	"revlet/internal/store/connpool"
)

// Greeting is the line that a helper begins with.
const Greeting = "revlet-store 1"

// Options say which helper, and how many of it.
type Options struct {
	// Command and its words.
	Command []string
	// Env is the helper's environment.
	Env []string
	// Lanes is how many helpers run at a time; 0 means 4.
	Lanes int
	Where string
	// Elsewhere tells that what it keeps is on another machine.
	Elsewhere bool
	// AppendOnly asks for nothing to be deleted or replaced.
	AppendOnly bool
}

// Store asks a helper.
type Store struct {
	store.Unprotected
	o       Options
	pool    *connpool.Pool[*helper]
	uploads store.Uploads
}

// New returns a store; the helper is started when it is needed.
func New(o Options) *Store {
	if o.Lanes == 0 {
		o.Lanes = 4
	}
	s := &Store{o: o}
	s.pool = connpool.New(o.Lanes, s.start)
	return s
}

// helper is one that runs.
type helper struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	out  *bufio.Reader
	said *said
	once sync.Once
}

// said keeps the end of what a helper complains of.
type said struct {
	mu   sync.Mutex
	text string
	// all is closed when it has said its last.
	all chan struct{}
}

// mostSaid is how much of it is kept.
const mostSaid = 2000

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.text += strings.ToValidUTF8(string(p), "?")
	s.text = s.text[max(0, len(s.text)-mostSaid):]
	return len(p), nil
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.TrimSpace(s.text)
}

func (s *Store) start(context.Context) (*helper, error) {
	h := &helper{cmd: exec.Command(s.o.Command[0], s.o.Command[1:]...), said: &said{all: make(chan struct{})}}
	h.cmd.Env, h.cmd.WaitDelay = s.o.Env, time.Second
	var err error
	if h.in, err = h.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := h.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	h.out = bufio.NewReaderSize(out, 1<<16)
	complaints, err := h.cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := process.Start(h.cmd); err != nil {
		return nil, store.Refuse("the helper cannot be started: %w", err)
	}
	go func() {
		defer close(h.said.all)
		_, _ = io.Copy(h.said, complaints)
	}()
	line, err := h.line()
	if err != nil || line != Greeting {
		_ = h.Close()
		return nil, store.Refuse("%s is no helper for a store: it is to begin with %q, and began with %q%s", s.o.Command[0], Greeting, line, h.complaint())
	}
	return h, nil
}

// Close ends the helper, with all that it has started.
func (h *helper) Close() error {
	h.once.Do(func() {
		_ = h.in.Close()
		process.KillAll(h.cmd)
		_ = h.cmd.Wait()
	})
	return nil
}

func (h *helper) complaint() string {
	if text := h.said.String(); text != "" {
		return "; it said: " + text
	}
	return ""
}

// ended is the error of a helper that hears nothing and says nothing any more. What it complained of comes on
// another way than its answers, and may come later.
func (h *helper) ended() error {
	select {
	case <-h.said.all:
	case <-time.After(time.Second):
	}
	return fmt.Errorf("the helper has ended%s", h.complaint())
}

// say writes to the helper's input.
func (h *helper) say(what io.Reader) error {
	if _, err := io.Copy(h.in, what); errors.Is(err, syscall.EPIPE) || errors.Is(err, os.ErrClosed) {
		return h.ended()
	} else if err != nil {
		return fmt.Errorf("send to the helper: %w%s", err, h.complaint())
	}
	return nil
}

// longestLine bounds a line that a helper says.
const longestLine = 16 << 10

func (h *helper) line() (string, error) {
	line, err := h.out.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) || len(line) > longestLine {
		return "", fmt.Errorf("the helper says a line without an end")
	}
	if err != nil {
		return string(line), h.ended()
	}
	return strings.TrimRight(string(line), "\r\n"), nil
}

// answered is what a helper says that is not "ok": the far end has been asked, and says no.
type answered struct{ error }

func (a answered) Unwrap() error { return a.error }

func clean(err error) bool { return errors.As(err, new(answered)) }

// ask sends a line, and what follows it, and reads the line that answers.
func (h *helper) ask(name string, body io.Reader, words ...string) (fields []string, err error) {
	if body == nil {
		body = strings.NewReader("")
	}
	if err := h.say(io.MultiReader(strings.NewReader(strings.Join(words, " ")+"\n"), body)); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	line, err := h.line()
	if err != nil {
		return nil, err
	}
	return parse(name, line)
}

// parse takes an answer apart.
func parse(name, line string) (fields []string, err error) {
	word, rest, _ := strings.Cut(line, " ")
	switch word {
	case "ok":
		return strings.Fields(rest), nil
	case "missing":
		return nil, answered{store.Missing(name)}
	case "refused":
		return nil, answered{store.Refuse("%s: %s", name, rest)}
	case "full":
		return nil, answered{fmt.Errorf("%s: %w (%s)", name, store.ErrFull, rest)}
	case "there":
		return nil, answered{fmt.Errorf("%s is there already: %w", name, store.ErrKeeper)}
	case "failed":
		return nil, answered{fmt.Errorf("%s: %s", name, rest)}
	}
	return nil, fmt.Errorf("the helper answers %q, which is no answer", line)
}

// encoded is a name in a line.
func encoded(name string) string {
	parts := strings.Split(name, "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return strings.Join(parts, "/")
}

func (s *Store) do(ctx context.Context, work func(*helper) error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return s.pool.Do(ctx, clean, work)
}

// Where implements store.Store.
func (s *Store) Where() string { return s.o.Where }

// Offsite implements store.Store.
func (s *Store) Offsite() bool { return s.o.Elsewhere }

// Close implements store.Store.
func (s *Store) Close() error { return s.pool.Close() }

// Check implements store.Store.
func (s *Store) Check(ctx context.Context) error {
	return s.do(ctx, func(h *helper) error {
		if _, err := h.ask("the place", nil, "about"); err != nil || s.o.AppendOnly {
			return err
		}
		probe := s.uploads.Probe()
		if _, err := h.ask(probe, strings.NewReader(""), "put", encoded(probe), "0"); err != nil {
			return err
		}
		if _, err := h.ask(probe, nil, "remove", encoded(probe)); errors.Is(err, store.ErrRefused) {
			return store.NoDeletion(err)
		} else if err != nil {
			return err
		}
		return nil
	})
}

// Put implements store.Store.
func (s *Store) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	return s.do(ctx, func(h *helper) error {
		if _, err := src.Seek(0, io.SeekStart); err != nil {
			return err
		}
		word := "put"
		if s.o.AppendOnly {
			word = "add"
		}
		if _, err := h.ask(name, io.LimitReader(src, size), word, encoded(name), strconv.FormatInt(size, 10)); err != nil {
			return err
		}
		fields, err := h.ask(name, nil, "stat", encoded(name))
		if err != nil {
			return err
		}
		if info, err := infoOf(name, fields); err != nil || info.Bytes != size {
			return errors.Join(fmt.Errorf("%s did not arrive whole", name), err)
		}
		return nil
	})
}

// infoOf reads a size and a time, in seconds since 1970 (0 is not known).
func infoOf(name string, fields []string) (store.Info, error) {
	if len(fields) < 2 {
		return store.Info{}, fmt.Errorf("the helper does not say the size and the time of %s", name)
	}
	size, err := strconv.ParseInt(fields[0], 10, 64)
	if err != nil || size < 0 {
		return store.Info{}, fmt.Errorf("the helper says that %s has %q bytes", name, fields[0])
	}
	seconds, err := strconv.ParseInt(fields[1], 10, 64)
	if err != nil {
		return store.Info{}, fmt.Errorf("the helper says that %s is of %q", name, fields[1])
	}
	info := store.Info{Name: name, Bytes: size}
	if seconds > 0 {
		info.Changed = time.Unix(seconds, 0)
	}
	return info, nil
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	l, err := s.pool.Take(ctx)
	if err != nil {
		return nil, err
	}
	fields, err := l.Conn.ask(name, nil, "get", encoded(name), strconv.FormatInt(offset, 10))
	if err == nil && len(fields) == 0 {
		err = fmt.Errorf("the helper does not say how much of %s follows", name)
	}
	var size int64
	if err == nil {
		if size, err = strconv.ParseInt(fields[0], 10, 64); err != nil || size < 0 {
			err = fmt.Errorf("the helper says that %q bytes of %s follow", fields[0], name)
		}
	}
	if err != nil {
		l.Release(clean(err))
		if ctx.Err() != nil {
			err = errors.Join(context.Cause(ctx), err)
		}
		return nil, err
	}
	return &reader{in: io.LimitReader(l.Conn.out, size), left: size, lease: l, name: name}, nil
}

// reader is a body that a helper sends.
type reader struct {
	in    io.Reader
	left  int64
	lease *connpool.Lease[*helper]
	name  string
}

func (r *reader) Read(p []byte) (int, error) {
	n, err := r.in.Read(p)
	r.left -= int64(n)
	if errors.Is(err, io.EOF) && r.left > 0 {
		err = fmt.Errorf("%s broke off %d bytes before its end: %w", r.name, r.left, io.ErrUnexpectedEOF)
	}
	return n, err
}

// Close gives the helper back. One that has yet to send is ended: that is sooner than to read it all.
func (r *reader) Close() error {
	r.lease.Release(r.left == 0)
	return nil
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (info store.Info, err error) {
	err = s.do(ctx, func(h *helper) error {
		fields, err := h.ask(name, nil, "stat", encoded(name))
		if err == nil {
			info, err = infoOf(name, fields)
		}
		return err
	})
	return info, err
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, dir string) (all []store.Info, err error) {
	err = s.do(ctx, func(h *helper) error {
		all = nil
		var names store.Names
		return h.list(ctx, dir, func(info store.Info) error {
			if strings.HasPrefix(path.Base(info.Name), ".") || strings.HasPrefix(info.Name, ".") {
				return nil
			}
			all = append(all, info)
			return names.Another(dir)
		})
	})
	return all, err
}

// list asks for all objects below a folder, at any depth.
func (h *helper) list(ctx context.Context, dir string, visit func(store.Info) error) error {
	if err := h.say(strings.NewReader("list " + encoded(dir) + "\n")); err != nil {
		return err
	}
	for {
		line, err := h.line()
		if err != nil {
			return err
		}
		rest, ok := strings.CutPrefix(line, "object ")
		if !ok {
			_, err := parse(dir, line)
			if errors.Is(err, store.ErrNotFound) {
				return nil
			}
			return err
		}
		fields := strings.Fields(rest)
		if len(fields) != 3 {
			return fmt.Errorf("the helper lists %q", line)
		}
		name, err := url.PathUnescape(fields[2])
		if err != nil || !within(name, dir) {
			return fmt.Errorf("the helper lists %q, which is not in %s", fields[2], dir)
		}
		info, err := infoOf(name, fields[:2])
		if err != nil {
			return err
		}
		if err := visit(info); err != nil {
			return err
		}
		store.Alive(ctx)
	}
}

// within tells whether a name is one of an object below a folder, and no other path.
func within(name, dir string) bool {
	return path.Clean("/"+name) == "/"+name && !strings.ContainsAny(name, "\\\x00") && (dir == "." || dir == "" || strings.HasPrefix(name, dir+"/"))
}

// Folders implements store.Store.
func (s *Store) Folders(ctx context.Context, dir string) (names []string, err error) {
	seen := map[string]bool{}
	err = s.do(ctx, func(h *helper) error {
		clear(seen)
		names = nil
		return h.list(ctx, dir, func(info store.Info) error {
			rest := info.Name
			if dir != "." && dir != "" {
				rest = strings.TrimPrefix(rest, dir+"/")
			}
			name, _, deeper := strings.Cut(rest, "/")
			if deeper && !strings.HasPrefix(name, ".") && !seen[name] {
				seen[name] = true
				names = append(names, name)
			}
			return nil
		})
	})
	return names, err
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	return s.do(ctx, func(h *helper) error {
		_, err := h.ask(name, nil, "remove", encoded(name))
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		return err
	})
}

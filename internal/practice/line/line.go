// Package line is a bad line to another machine, for practice and tests: a TCP proxy on the
// loopback address that holds back what passes, and cuts connections.
package line

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"regexp"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

// Line leads to one address. Its fields may be set before the first connection.
type Line struct {
	// Delay is how long each byte takes, in each direction; more of them may be under way.
	Delay time.Duration
	// CutAfter is after how many bytes, both ways together, a connection is cut; 0 is never.
	// SetCut changes it later.
	CutAfter int64
	// Most is how many connections are let through at a time; 0 is any number.
	Most int64
	// FTP has the ports that a server of FTP names for data lead through a line of the same
	// kind (RFC 959, PASV; RFC 2428, EPSV).
	FTP bool

	to       string
	listener net.Listener
	open     atomic.Int64
	// Cuts counts the connections that were cut, Refused those that were too many.
	Cuts, Refused atomic.Int64
	// silent lets nothing through any more.
	silent atomic.Bool
	cut    atomic.Int64
}

// SetCut has connections that are made from now on cut after so many bytes.
func (l *Line) SetCut(after int64) { l.cut.Store(after) }

// New begins a line to an address; Close ends it.
func New(to string) (*Line, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	line := &Line{to: to, listener: l}
	return line, nil
}

// Start lets connections through, from now on.
func (l *Line) Start() {
	go func() {
		for {
			c, err := l.listener.Accept()
			if err != nil {
				return
			}
			if n := l.open.Add(1); l.Most > 0 && n > l.Most {
				l.open.Add(-1)
				l.Refused.Add(1)
				_ = c.Close()
				continue
			}
			go func() {
				defer l.open.Add(-1)
				l.carry(c)
			}()
		}
	}()
}

// Port is where the line begins.
func (l *Line) Port() int { return l.listener.Addr().(*net.TCPAddr).Port }

// FallSilent lets nothing through any more, and closes nothing.
func (l *Line) FallSilent() { l.silent.Store(true) }

// Close takes no more connections.
func (l *Line) Close() error { return l.listener.Close() }

// unused is how long a port for data waits for whom it was named to.
const unused = time.Minute

// piece is what has come at a time.
type piece struct {
	at   time.Time
	data []byte
}

func (l *Line) carry(c net.Conn) {
	to, err := net.Dial("tcp", l.to)
	if err != nil {
		_ = c.Close()
		return
	}
	left := &atomic.Int64{}
	bound := cmp.Or(l.cut.Load(), l.CutAfter)
	left.Store(bound)
	var once sync.Once
	cut := func() {
		once.Do(func() { l.Cuts.Add(1) })
		_ = errors.Join(c.Close(), to.Close())
	}
	var both sync.WaitGroup
	same := func(data []byte) []byte { return data }
	answers := same
	if l.FTP {
		answers = l.lead
	}
	both.Go(func() { l.pass(to, c, bound, left, cut, same) })
	both.Go(func() { l.pass(c, to, bound, left, cut, answers) })
	both.Wait()
	_ = errors.Join(c.Close(), to.Close())
}

// pass hands on what comes from one side to the other.
func (l *Line) pass(to, from net.Conn, bound int64, left *atomic.Int64, cut func(), change func([]byte) []byte) {
	pieces := make(chan piece, 4096)
	go func() {
		defer close(pieces)
		for {
			buf := make([]byte, 64<<10)
			n, err := from.Read(buf)
			if n > 0 {
				pieces <- piece{time.Now().Add(l.Delay), change(buf[:n])}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range pieces {
		time.Sleep(time.Until(p.at))
		if l.silent.Load() {
			continue
		}
		if n := int64(len(p.data)); bound > 0 && left.Add(-n) < 0 {
			_, _ = to.Write(p.data[:max(0, n+left.Load())])
			cut()
			break
		}
		if _, err := to.Write(p.data); err != nil {
			break
		}
	}
	if half, ok := to.(*net.TCPConn); ok {
		_ = half.CloseWrite()
	}
	for range pieces { // whoever reads must not wait for ever
	}
}

var (
	extended = regexp.MustCompile(`^229 .*\(\|\|\|(\d+)\|\)`)
	passive  = regexp.MustCompile(`^227 .*\(\d+,\d+,\d+,\d+,(\d+),(\d+)\)`)
)

// lead has a port that is named in an answer lead through a line of its own, to be used once.
func (l *Line) lead(answer []byte) []byte {
	port := 0
	if m := extended.FindSubmatch(answer); m != nil {
		port, _ = strconv.Atoi(string(m[1]))
	} else if m := passive.FindSubmatch(answer); m != nil {
		high, _ := strconv.Atoi(string(m[1]))
		low, _ := strconv.Atoi(string(m[2]))
		port = high<<8 | low
	}
	if port == 0 {
		return answer
	}
	host, _, _ := net.SplitHostPort(l.to)
	branch, err := New(net.JoinHostPort(host, strconv.Itoa(port)))
	if err != nil {
		return answer
	}
	branch.Delay = l.Delay
	branch.SetCut(cmp.Or(l.cut.Load(), l.CutAfter))
	go func() {
		_ = branch.listener.(*net.TCPListener).SetDeadline(time.Now().Add(unused)) // whoever was cut meanwhile never comes
		c, err := branch.listener.Accept()
		_ = branch.Close()
		if err == nil {
			branch.carry(c)
			l.Cuts.Add(branch.Cuts.Load())
		}
	}()
	if answer[2] == '9' {
		return fmt.Appendf(nil, "229 Extended passive mode (|||%d|)\r\n", branch.Port())
	}
	return fmt.Appendf(nil, "227 Passive mode (127,0,0,1,%d,%d)\r\n", branch.Port()>>8, branch.Port()&0xff)
}

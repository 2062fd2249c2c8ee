// Package sshconn logs in at SSH servers (RFC 4251 to 4254) and begins SFTP
// (draft-ietf-secsh-filexfer-02) there.
//
// A Dialer says where and as whom; Dial makes one connection. The server must show a
// host key that is known, see Hosts: nothing, not even a user's name, is sent to one that
// does not. A connection that says nothing for as long as Dialer.Silence is closed, which
// ends every call on it: keep-alive requests go out meanwhile, so that a server that is
// only idle answers.
//
// What is forwarded through a connection (Dial of *ssh.Client) and what is read in a
// session of SFTP share its limits. A *ssh.Client is safe for concurrent use.
package sshconn

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"regexp"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/time/rate"

	"revlet/internal/store"
)

// Dialer says where to log in and how.
type Dialer struct {
	// Host is host:port.
	Host string
	User string
	// Auth are the ways to prove who we are, tried in order. It is asked once
	// for each connection.
	Auth func() ([]ssh.AuthMethod, error)
	// Hosts knows the keys of machines.
	Hosts *Hosts
	// Silence is how long a connection may say nothing before it is closed; 0 leaves that
	// to the caller.
	Silence time.Duration
	// Limit bounds the bytes a second that are read, of all connections that share it; nil
	// is no bound.
	Limit *rate.Limiter
}

// dialTime is how long it may take until somebody is let in.
func (d Dialer) dialTime() time.Duration {
	const most = 20 * time.Second
	if d.Silence > 0 {
		return min(most, d.Silence)
	}
	return most
}

// Dial makes a connection. An error wraps store.ErrRefused where another try is of no
// use; *HostKeyError is one of those.
func (d Dialer) Dial(ctx context.Context) (*ssh.Client, error) {
	auth, err := d.Auth()
	if err != nil {
		return nil, store.Refuse("%w", err)
	}
	verify, algorithms, err := d.Hosts.check(d.Host)
	if err != nil {
		return nil, store.Refuse("%w", err)
	}
	var wrong error
	for _, kinds := range algorithms {
		c, err := d.connect(ctx, auth, verify, kinds)
		var host *HostKeyError
		if err == nil || !errors.As(err, &host) && !noneCommon(err) {
			return c, err
		}
		if wrong == nil || host != nil {
			wrong = err
		}
	}
	return nil, wrong
}

// noneCommon tells that the far end has no key of the kind that was asked for.
func noneCommon(err error) bool {
	var none *ssh.AlgorithmNegotiationError
	return errors.As(err, &none)
}

// connect makes a connection; of its keys, the far end shows one of the kinds.
func (d Dialer) connect(ctx context.Context, auth []ssh.AuthMethod, verify ssh.HostKeyCallback, kinds []string) (*ssh.Client, error) {
	raw, err := (&net.Dialer{Timeout: d.dialTime()}).DialContext(ctx, "tcp", d.Host)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", d.Host, store.Brief(err))
	}
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	defer stop()
	_ = raw.SetDeadline(time.Now().Add(d.dialTime()))
	watched := &watchedConn{Conn: raw, limit: d.Limit}
	conn, channels, reqs, err := ssh.NewClientConn(watched, d.Host, &ssh.ClientConfig{
		User: d.User, Auth: auth, HostKeyCallback: verify, HostKeyAlgorithms: kinds, Timeout: d.dialTime()})
	if err != nil {
		_ = raw.Close()
		return nil, d.explain(err)
	}
	_ = raw.SetDeadline(time.Time{})
	c := ssh.NewClient(conn, channels, reqs)
	if d.Silence > 0 {
		watched.silence.Store(int64(d.Silence))
		_ = raw.SetReadDeadline(time.Now().Add(d.Silence)) // for what is being waited for already
		go keepAlive(c, d.Silence/3)
	}
	return c, nil
}

func (d Dialer) explain(err error) error {
	var host *HostKeyError
	if errors.As(err, &host) {
		return host
	}
	if strings.Contains(err.Error(), "unable to authenticate") {
		return store.Refuse("%s does not let %s in: wrong key or password", d.Host, d.User)
	}
	return fmt.Errorf("connect to %s: %w", d.Host, store.Brief(err))
}

// keepAlive asks the far end whether it is there until the connection ends.
func keepAlive(c *ssh.Client, every time.Duration) {
	done := make(chan struct{})
	go func() {
		_ = c.Wait()
		close(done)
	}()
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		select {
		case <-done:
			return
		case <-ticker.C:
			// Without an answer the connection falls silent, and is closed for that.
			go func() { _, _, _ = c.SendRequest("keepalive@openssh.com", true, nil) }()
		}
	}
}

// NewSession is c.NewSession, and Connect c.DialContext, for a connection that may end at any moment.
func NewSession(c *ssh.Client) (*ssh.Session, error) {
	return whileAlive(c.NewSession, alive(c), lookEvery)
}

// Connect is described at NewSession.
func Connect(ctx context.Context, c *ssh.Client, network, address string) (net.Conn, error) {
	return whileAlive(func() (net.Conn, error) { return c.DialContext(ctx, network, address) }, alive(c), lookEvery)
}

// lookEvery is how often a connection is looked at on which a channel is being opened.
const lookEvery = time.Second

// alive sends something that needs no answer: nothing can be sent on a connection that has ended.
func alive(c *ssh.Client) func() error {
	return func() error {
		_, _, err := c.SendRequest("keepalive@openssh.com", false, nil)
		return err
	}
}

// whileAlive opens a channel. The library waits for ever for the answer where a connection ends at the very moment: it lets go of
// its channels first, and takes new ones until it has closed the connection. What waits so is left behind.
func whileAlive[T any](open func() (T, error), alive func() error, every time.Duration) (T, error) {
	type opened struct {
		what T
		err  error
	}
	done := make(chan opened, 1)
	go func() {
		what, err := open()
		done <- opened{what, err}
	}()
	for {
		select {
		case o := <-done:
			return o.what, o.err
		case <-time.After(every):
		}
		err := alive()
		if err == nil {
			continue
		}
		select {
		case o := <-done: // it was told meanwhile
			return o.what, o.err
		case <-time.After(every):
			var none T
			return none, fmt.Errorf("the connection has ended: %w", err)
		}
	}
}

const (
	// Requests is how many packets of a file may be under way at a time.
	Requests = 32
	packet   = 32 << 10
	// largePacket fits into OpenSSH's 256 KiB, with what SFTP puts around it.
	largePacket = 255 << 10
)

// Files is a session of SFTP in a connection.
type Files struct {
	*sftp.Client
	// Meter bounds what a listing may take.
	Meter *store.Meter
	// Unsure is how much of the end of a cut upload may be incomplete, in bytes: what was
	// under way, twice.
	Unsure int64
}

// OpenFiles begins SFTP in a connection, with larger packets where the far end
// says that it takes them, as OpenSSH does since its version 8.5.
func OpenFiles(c *ssh.Client) (*Files, error) {
	meter := &store.Meter{}
	small, large := sftp.MaxPacketChecked(packet), sftp.MaxPacketUnchecked(largePacket)
	// Each beginning costs three journeys: the likelier one comes first.
	likely := newOpenSSH.MatchString(string(c.ServerVersion()))
	first := small
	if likely {
		first = large
	}
	files, err := begin(c, meter, first)
	if err != nil {
		return nil, err
	}
	_, takes := files.HasExtension("limits@openssh.com")
	if takes != likely {
		_ = files.Close()
		if takes {
			small = large
		}
		files, err = begin(c, meter, small)
	}
	if takes {
		return &Files{files, meter, 2 * Requests * largePacket}, err
	}
	return &Files{files, meter, 2 * Requests * packet}, err
}

// newOpenSSH matches versions that take large packets.
var newOpenSSH = regexp.MustCompile(`^SSH-2\.0-OpenSSH_(?:8\.[5-9]|9|[1-9]\d)`)

// OpenLists is OpenFiles for listings, which are sent in small packets.
func OpenLists(c *ssh.Client) (*Files, error) {
	meter := &store.Meter{}
	files, err := begin(c, meter, sftp.MaxPacketChecked(packet))
	return &Files{files, meter, 0}, err
}

// begin asks for the SFTP subsystem and speaks to it through the meter.
func begin(c *ssh.Client, meter *store.Meter, size sftp.ClientOption) (*sftp.Client, error) {
	s, err := NewSession(c)
	if err != nil {
		return nil, err
	}
	to, err := s.StdinPipe()
	if err != nil {
		return nil, err
	}
	from, err := s.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.RequestSubsystem("sftp"); err != nil {
		return nil, err
	}
	return sftp.NewClientPipe(meter.Reader(from), to, sftp.UseConcurrentWrites(true), sftp.UseConcurrentReads(true),
		sftp.MaxConcurrentRequestsPerFile(Requests), size)
}

// Answered tells whether the far end itself gave an error of SFTP, so that the connection
// is still good.
func Answered(err error) bool {
	var status *sftp.StatusError
	return errors.As(err, &status) && status.FxCode() != sftp.ErrSSHFxConnectionLost && status.FxCode() != sftp.ErrSSHFxNoConnection ||
		errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) || errors.Is(err, store.ErrRefused)
}

// Package preview shows a site on its new machine under its real name, before anybody else is led
// there.
//
// Start runs a proxy for one browser on this machine (RFC 9110, sections 7.6 and 9.3.6): what the
// browser asks of the site's names goes to the new machine, all else where it belongs, or nowhere.
// Hosts, and Leftovers, are for those who would rather edit their hosts file.
//
// The proxy is for the programs of its own machine alone: it listens on a loopback address, takes
// nothing from elsewhere, and leads to no service of this machine or of its link, whatever a name
// resolves to, so that no page that the browser shows can use it for that. It reads and changes
// nothing of what it passes on, and follows no redirect.
package preview

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"revlet/internal/site/dnszone"
)

// Options say what a proxy does.
type Options struct {
	// Names are the site's, as the DNS has them; To is the new machine's address.
	Names []string
	To    netip.Addr
	// Only leads nowhere else.
	Only bool
	// Listen is a loopback address with a port; 0 is a free one.
	Listen string
	// Told hears of each request, once it is known how it ended; nil hears nothing. It is called by
	// several goroutines.
	Told func(Request)
}

// Request is one that came in.
type Request struct {
	// Host is what was asked for, New whether it went to the new machine.
	Host string
	New  bool
	// Refused says why nothing was passed on.
	Refused string
}

// Proxy is one that runs.
type Proxy struct {
	// Address is where it listens.
	Address string

	o       Options
	server  *http.Server
	forward *httputil.ReverseProxy
	tunnels sync.WaitGroup
	ended   context.Context
	end     context.CancelFunc
	served  chan struct{}
}

// ErrNotLoopback is returned for an address that others could reach.
var ErrNotLoopback = errors.New("a preview is for this machine alone: its address has to be a loopback one, such as 127.0.0.1:8118")

const (
	// headLimit is how long a request's head may take, dialLimit a connection, idle how long a tunnel
	// may carry nothing.
	headLimit = 20 * time.Second
	dialLimit = 20 * time.Second
	idle      = 10 * time.Minute
)

// Start runs a proxy until it is closed.
func Start(o Options) (*Proxy, error) {
	at, err := netip.ParseAddrPort(o.Listen)
	if err != nil || !at.Addr().IsLoopback() {
		return nil, ErrNotLoopback
	}
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	p := &Proxy{Address: l.Addr().String(), o: o, served: make(chan struct{})}
	if p.o.Told == nil {
		p.o.Told = func(Request) {}
	}
	p.ended, p.end = context.WithCancel(context.Background())
	p.forward = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) { r.Out.Host = r.In.URL.Host },
		Transport: &http.Transport{
			DialContext: p.dial, DisableCompression: true, ResponseHeaderTimeout: 2 * time.Minute, MaxIdleConnsPerHost: 8, IdleConnTimeout: time.Minute,
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			p.refuse(w, r.URL.Host, http.StatusBadGateway, why(err))
		},
	}
	p.server = &http.Server{Handler: p, ReadHeaderTimeout: headLimit, MaxHeaderBytes: 256 << 10, IdleTimeout: time.Minute}
	go func() {
		defer close(p.served)
		_ = p.server.Serve(l)
	}()
	return p, nil
}

// Close ends the proxy and all that goes through it.
func (p *Proxy) Close() error {
	p.end()
	err := p.server.Close()
	<-p.served
	p.tunnels.Wait()
	p.forward.Transport.(*http.Transport).CloseIdleConnections()
	return err
}

// ServeHTTP passes on what is addressed to a proxy, and refuses all else: a page that a browser
// shows may ask this address like any other server's, but not like a proxy's.
func (p *Proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	from, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil || !from.Addr().Unmap().IsLoopback() {
		p.refuse(w, r.Host, http.StatusForbidden, "it is for programs of its own machine")
		return
	}
	target := r.URL.Host
	if r.Method == http.MethodConnect {
		target = r.Host
	}
	switch {
	case r.Method != http.MethodConnect && (r.URL.Scheme != "http" || target == ""):
		p.refuse(w, r.Host, http.StatusMisdirectedRequest, "this is a proxy, and no web site")
	case r.URL.User != nil:
		p.refuse(w, target, http.StatusBadRequest, "a password in an address is not passed on")
	case p.o.Only && !p.ours(target):
		p.refuse(w, target, http.StatusForbidden, "only the site itself is passed on")
	case r.Method == http.MethodConnect:
		p.tunnel(w, r)
	default:
		p.o.Told(Request{Host: target, New: p.ours(target)})
		r.Header.Del("Proxy-Connection")
		p.forward.ServeHTTP(w, r)
	}
}

func (p *Proxy) refuse(w http.ResponseWriter, host string, status int, why string) {
	p.o.Told(Request{Host: host, Refused: why})
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.WriteHeader(status)
	fmt.Fprintf(w, "revlet: not passed on: %s\n", why)
}

// ours tells whether a host, with a port or without, is one of the site's names.
func (p *Proxy) ours(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	name, err := dnszone.FromHost(host)
	return err == nil && slices.Contains(p.o.Names, name)
}

// ErrInside is why nothing is passed on to an address of this machine, or of its link.
var ErrInside = errors.New("it leads to an address of this machine or its link")

// why words an error of a connection.
func why(err error) string {
	if errors.Is(err, ErrInside) {
		return ErrInside.Error()
	}
	return "it does not answer: " + err.Error()
}

// dial connects to the new machine for the site's names, to others as usual.
func (p *Proxy) dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: dialLimit}
	if p.ours(address) {
		_, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		return d.DialContext(ctx, network, net.JoinHostPort(p.o.To.String(), port))
	}
	d.ControlContext = func(_ context.Context, _, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if addr := at.Addr().Unmap().WithZone(""); err != nil || addr.IsLoopback() || addr.IsUnspecified() || addr.IsLinkLocalUnicast() || addr.IsMulticast() {
			return ErrInside
		}
		return nil
	}
	return d.DialContext(ctx, network, address)
}

// tunnel passes on bytes both ways, as for https.
func (p *Proxy) tunnel(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(p.ended, dialLimit)
	defer cancel()
	there, err := p.dial(ctx, "tcp", r.Host)
	if err != nil {
		p.refuse(w, r.Host, http.StatusBadGateway, why(err))
		return
	}
	defer there.Close()
	here, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer here.Close()
	p.tunnels.Add(1)
	defer p.tunnels.Done()
	p.o.Told(Request{Host: r.Host, New: p.ours(r.Host)})
	stop := context.AfterFunc(p.ended, func() {
		_ = here.Close()
		_ = there.Close()
	})
	defer stop()
	if _, err := io.WriteString(here, "HTTP/1.1 200 Connected\r\n\r\n"); err != nil {
		return
	}
	var both sync.WaitGroup
	both.Go(func() { pass(there, buffered, here, there) })
	both.Go(func() { pass(here, there, here, there) })
	both.Wait()
}

// pass copies until the end of what it reads, and then says so to who gets it. What goes one way
// keeps both connections awake.
func pass(to net.Conn, from io.Reader, awake ...net.Conn) {
	buf := make([]byte, 32<<10)
	for {
		for _, c := range awake {
			_ = c.SetDeadline(time.Now().Add(idle))
		}
		n, err := from.Read(buf)
		if n > 0 {
			if _, failed := to.Write(buf[:n]); failed != nil {
				err = cmp.Or(err, failed)
			}
		}
		if err != nil {
			break
		}
	}
	if half, ok := to.(interface{ CloseWrite() error }); ok && half.CloseWrite() == nil {
		return
	}
	_ = to.Close()
}

// Hosts are lines for a hosts file that lead the site's names to a machine.
func Hosts(names []string, to netip.Addr) string {
	return to.String() + "\t" + strings.Join(names, " ")
}

// Leftover is a line of a hosts file.
type Leftover struct {
	Number int    `json:"line"`
	Text   string `json:"text"`
}

// Leftovers are the lines of a hosts file that lead any of the names somewhere.
func Leftovers(text string, names []string) (all []Leftover) {
	n := 0
	for line := range strings.Lines(text) {
		n++
		says, _, _ := strings.Cut(line, "#")
		fields := strings.Fields(says)
		if len(fields) > 1 && slices.ContainsFunc(fields[1:], func(host string) bool { return slices.Contains(names, dnszone.Plain(host)) }) {
			all = append(all, Leftover{n, strings.TrimSpace(line)})
		}
	}
	return all
}

// Package ftpconn speaks FTP (RFC 959) to a server that files of a site are on: inside TLS
// (RFC 4217) unless that is given up, with the extensions that a server offers (RFC 2389, RFC
// 2428, RFC 3659), and the rights and times that servers commonly take.
//
// Begin with Dialer.Dial. A Conn does one thing at a time. What the server itself refuses is a
// *textproto.Error, see Answered; after any other error the connection is of no more use.
package ftpconn

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"revlet/internal/platform/lazy"
	"revlet/internal/store"
)

// Dialer says where a server is and how to get in.
type Dialer struct {
	// Host is host:port.
	Host           string
	User, Password string
	// TLS is how the server's certificate is judged; nil sends everything, the password too,
	// in the clear.
	TLS *tls.Config
	// Where names the server for people.
	Where string
	// Clear says what to write for a server without TLS, for people; empty is what a site's
	// address has.
	Clear string
	// Longest bounds what the server may say of a folder, in bytes; 0 means 256 MiB.
	Longest int64
	// Silence is how long the server may say nothing; 0 means a minute.
	Silence time.Duration
	// Limit bounds what comes and goes, in bytes a second; nil is no bound.
	Limit *rate.Limiter
}

const (
	dialTimeout = 20 * time.Second
	// longestReply bounds what a server may say between two commands, longestListing what it
	// may say of a folder, in bytes.
	longestReply   = 1 << 20
	longestListing = 256 << 20
)

// Conn is a control connection to a server.
type Conn struct {
	d       Dialer
	text    *textproto.Conn
	control net.Conn
	meter   *store.Meter
	tls     *tls.Config
	// features are what the server says that it can, by the commands' names.
	features map[string]string
	noEPSV   bool
	// noFacts is set once the server has not known MLST, whatever it says that it can.
	noFacts bool
	// Careful is set where transfers have broken off while the server said that they had not:
	// a listing then counts once it was the same twice.
	Careful bool
	mu      sync.Mutex
	data    net.Conn
	closed  bool
}

// Answered tells whether the server itself has said, for good, that something cannot be done,
// so that the connection is still of use. What it says of connections (421, 425, 426) is no
// such answer: it says nothing of any file.
func Answered(err error) bool {
	code := Code(err)
	return code >= 500 || code == 450 || code == 452
}

// TooMany tells of an answer that means that there are too many connections.
func TooMany(err error) bool { return Code(err) == 421 || Code(err) == 425 }

// Code is the code of the server's answer in an error, or 0.
func Code(err error) int {
	var refused *textproto.Error
	if errors.As(err, &refused) {
		return refused.Code
	}
	return 0
}

// control is a connection whose answers are bounded and which does not wait for ever.
type control struct {
	net.Conn
	meter   *store.Meter
	silence time.Duration
}

// Read implements net.Conn.
func (c control) Read(p []byte) (int, error) {
	_ = c.SetReadDeadline(time.Now().Add(c.silence))
	return c.meter.Reader(c.Conn).Read(p)
}

// Dial connects and logs in. A server that will not have the account gives an error that wraps
// store.ErrRefused.
func (d Dialer) Dial(ctx context.Context) (*Conn, error) {
	if d.Silence == 0 {
		d.Silence = time.Minute
	}
	d.Clear = cmp.Or(d.Clear, "its address begins with plain-ftp://")
	d.Longest = cmp.Or(d.Longest, longestListing)
	raw, err := (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", d.Host)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", d.Where, store.Brief(err))
	}
	c := &Conn{d: d, meter: &store.Meter{}, features: map[string]string{}}
	c.use(control{raw, c.meter, d.Silence})
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	defer stop()
	if err := c.login(); err != nil {
		_ = c.Close()
		return nil, err
	}
	return c, nil
}

func (c *Conn) use(conn net.Conn) { c.control, c.text = conn, textproto.NewConn(conn) }

func (c *Conn) login() error {
	if _, _, err := c.answer(2); err != nil {
		return c.explain(err)
	}
	if c.d.TLS != nil {
		if err := c.secure(); err != nil {
			return err
		}
	}
	code, _, err := c.Cmd(0, "USER %s", c.d.User)
	if err == nil && code == 331 {
		code, _, err = c.Cmd(0, "PASS %s", c.d.Password)
	}
	switch {
	case err != nil:
		return c.explain(err)
	case code == 530:
		return store.Refuse("%s does not let %q in: wrong user or password", c.d.Where, c.d.User)
	case code/100 != 2:
		return c.explain(&textproto.Error{Code: code, Msg: "the login is refused"})
	}
	if c.d.TLS != nil {
		if _, _, err := c.Cmd(2, "PBSZ 0"); err != nil {
			return c.explain(err)
		}
		if _, _, err := c.Cmd(2, "PROT P"); err != nil {
			return c.explain(err)
		}
	}
	if _, said, err := c.Cmd(2, "FEAT"); err == nil {
		for line := range strings.Lines(said) {
			name, more, _ := strings.Cut(strings.TrimSpace(line), " ")
			c.features[strings.ToUpper(name)] = more
		}
	} else if !Answered(err) {
		return c.explain(err)
	}
	if c.Can("UTF8") {
		if _, _, err := c.Cmd(2, "OPTS UTF8 ON"); err != nil && !Answered(err) {
			return c.explain(err)
		}
	}
	_, _, err = c.Cmd(2, "TYPE I")
	return c.explain(err)
}

// secure goes on inside TLS.
func (c *Conn) secure() error {
	if _, _, err := c.Cmd(2, "AUTH TLS"); err != nil {
		if code := Code(err); code >= 500 && code < 530 {
			return store.Refuse("%s offers no TLS (%w); if the password may travel in the clear, %s", c.d.Where, err, c.d.Clear)
		}
		return c.explain(err)
	}
	// Servers want data connections to resume the session of their control connection, so
	// that nobody else can take one over.
	c.tls = c.d.TLS.Clone()
	c.tls.ClientSessionCache = tls.NewLRUClientSessionCache(1)
	inside := tls.Client(c.control, c.tls)
	if err := inside.Handshake(); err != nil {
		if bad := store.CertificateError(c.d.Where, err); bad != nil {
			return bad
		}
		return c.explain(err)
	}
	c.use(inside)
	return nil
}

func (c *Conn) explain(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", c.d.Where, store.Brief(err))
}

// Can tells whether the server says that it knows a command.
func (c *Conn) Can(command string) bool {
	_, can := c.features[command]
	return can
}

// errName is wrapped when a name cannot be said to a server.
var errName = errors.New("a name with a line break cannot be said over FTP")

// Cmd gives a command and returns the answer. expected is the first digit of its code; with 0
// every answer is taken.
func (c *Conn) Cmd(expected int, format string, args ...any) (int, string, error) {
	line := fmt.Sprintf(format, args...)
	if strings.ContainsAny(line, "\r\n\x00") {
		return 0, "", &textproto.Error{Code: 553, Msg: errName.Error()}
	}
	c.meter.Bound(longestReply)
	if err := c.text.PrintfLine("%s", line); err != nil {
		return 0, "", err
	}
	return c.answer(expected)
}

func (c *Conn) answer(expected int) (int, string, error) {
	c.meter.Bound(longestReply)
	code, said, err := c.text.ReadResponse(expected)
	return code, said, err
}

// Close ends everything at once.
func (c *Conn) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	if c.data != nil {
		_ = c.data.Close()
	}
	return c.text.Close()
}

// Closed tells whether it was ended.
func (c *Conn) Closed() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.closed
}

// pasvAddress is in the answer to PASV (RFC 959): six numbers.
var pasvAddress = lazy.Regexp(`(\d+),(\d+),(\d+),(\d+),(\d+),(\d+)`)

// epsvPort is in the answer to EPSV (RFC 2428).
var epsvPort = lazy.Regexp(`\(\|\|\|(\d+)\|\)`)

// dataPort has the server listen for a data connection, and returns where: always at the
// machine that was asked. The address that it may name as well is often one behind a router,
// and could be anybody's.
func (c *Conn) dataPort() (string, error) {
	host, _, err := net.SplitHostPort(c.d.Host)
	if err != nil {
		return "", err
	}
	if !c.noEPSV {
		_, said, err := c.Cmd(2, "EPSV")
		if found := epsvPort().FindStringSubmatch(said); err == nil && found != nil {
			return net.JoinHostPort(host, found[1]), nil
		}
		if err != nil && !Answered(err) {
			return "", err
		}
		c.noEPSV = true
	}
	_, said, err := c.Cmd(2, "PASV")
	if err != nil {
		return "", err
	}
	found := pasvAddress().FindStringSubmatch(said)
	if found == nil {
		return "", fmt.Errorf("the answer to PASV has no port: %.100q", said)
	}
	high, _ := strconv.Atoi(found[5])
	low, _ := strconv.Atoi(found[6])
	return net.JoinHostPort(host, strconv.Itoa(high<<8|low&255)), nil
}

// open begins a transfer: a command that moves something over a data connection.
func (c *Conn) open(offset int64, format string, args ...any) (net.Conn, error) {
	address, err := c.dataPort()
	if err != nil {
		return nil, err
	}
	conn, err := (&net.Dialer{Timeout: min(dialTimeout, c.d.Silence)}).Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	c.data = conn
	closed := c.closed
	c.mu.Unlock()
	if closed {
		return nil, errors.Join(net.ErrClosed, conn.Close())
	}
	if offset > 0 {
		if _, _, err := c.Cmd(3, "REST %d", offset); err != nil {
			return nil, errors.Join(err, conn.Close())
		}
	}
	if _, _, err := c.Cmd(1, format, args...); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	var data net.Conn = patient{conn, c.d.Silence, c.d.Limit}
	if c.tls != nil {
		data = tls.Client(data, c.tls)
	}
	return data, nil
}

// patient is a data connection that does not wait for ever.
type patient struct {
	net.Conn
	silence time.Duration
	limit   *rate.Limiter
}

// pace cuts what is read or written to what may pass at once, and waits until it may.
func (p patient) pace(b []byte) []byte {
	if p.limit == nil || len(b) == 0 {
		return b
	}
	b = b[:min(len(b), max(p.limit.Burst(), 1))]
	_ = p.limit.WaitN(context.Background(), len(b))
	return b
}

// Read implements net.Conn.
func (p patient) Read(b []byte) (int, error) {
	b = p.pace(b)
	_ = p.SetReadDeadline(time.Now().Add(p.silence))
	return p.Conn.Read(b)
}

// Write implements net.Conn.
func (p patient) Write(b []byte) (n int, err error) {
	for len(b) > 0 && err == nil {
		now, done := p.pace(b), 0
		_ = p.SetWriteDeadline(time.Now().Add(p.silence))
		done, err = p.Conn.Write(now)
		n, b = n+done, b[done:]
	}
	return n, err
}

// ended reads the server's last word on a transfer: a data connection that ends says nothing
// of whether what it carried did.
func (c *Conn) ended() error {
	_, _, err := c.answer(2)
	return err
}

// Retr reads a file from an offset on. Until it has been read to its end and closed, the
// connection does nothing else.
func (c *Conn) Retr(name string, offset int64) (io.ReadCloser, error) {
	data, err := c.open(offset, "RETR %s", name)
	if err != nil {
		return nil, err
	}
	return &reader{c: c, data: data}, nil
}

// reader is a file that comes.
type reader struct {
	c    *Conn
	data net.Conn
	end  error
}

// Read implements io.Reader; io.EOF is what the server says is the end.
func (r *reader) Read(p []byte) (int, error) {
	if r.end != nil {
		return 0, r.end
	}
	n, err := r.data.Read(p)
	if err == nil {
		return n, nil
	}
	_ = r.data.Close()
	if r.end = err; errors.Is(err, io.EOF) {
		if said := r.c.ended(); said != nil {
			r.end = fmt.Errorf("the transfer broke off: %w", noAnswer(said))
		}
	}
	return n, r.end
}

// noAnswer is an error of a server that says nothing of a name: what it had begun has broken.
func noAnswer(err error) error { return errors.New(err.Error()) }

// Close implements io.Closer. A transfer that is broken off costs the connection.
func (r *reader) Close() error {
	if r.end == nil {
		r.end = net.ErrClosed
		return errors.Join(r.data.Close(), r.c.Close())
	}
	return nil
}

// Stor writes a file from an offset on, and returns how many bytes were sent.
func (c *Conn) Stor(name string, offset int64, content io.Reader) (int64, error) {
	data, err := c.open(offset, "STOR %s", name)
	if err != nil {
		return 0, err
	}
	if t, ok := data.(*tls.Conn); ok { // there may be nothing to send
		err = t.Handshake()
	}
	n := int64(0)
	if err == nil {
		n, err = io.Copy(data, content)
	}
	err = errors.Join(err, data.Close())
	if said := c.ended(); said != nil {
		return n, errors.Join(said, err)
	}
	return n, err
}

// errBroke is wrapped when what came is not all that was sent, whatever the server says.
var errBroke = errors.New("the transfer broke off")

// lines gives the lines of a listing. One that ends within a line has broken off: to the server,
// all is sent that is on its way.
func (c *Conn) lines(format string, args ...any) ([]string, error) {
	data, err := c.open(0, format, args...)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(data, c.d.Longest+1))
	_ = data.Close()
	if err != nil {
		return nil, err
	}
	if said := c.ended(); said != nil {
		return nil, said
	}
	if int64(len(text)) > c.d.Longest {
		return nil, fmt.Errorf("the listing has no end: %w", store.ErrEndless)
	}
	if len(text) > 0 && text[len(text)-1] != '\n' {
		return nil, errBroke
	}
	var all []string
	for line := range bytes.Lines(text) {
		if line = bytes.TrimRight(line, "\r\n"); len(bytes.TrimSpace(line)) > 0 {
			all = append(all, string(line))
		}
	}
	return all, nil
}

// ErrLink is wrapped when a folder that was asked for turns out to be another one.
var ErrLink = errors.New("a link leads elsewhere")

// enter makes a folder the present one, and sees that it is that.
func (c *Conn) enter(dir string) error {
	if _, _, err := c.Cmd(2, "CWD %s", dir); err != nil {
		return err
	}
	now, err := c.Folder()
	if err == nil && now != dir {
		err = &textproto.Error{Code: 550, Msg: ErrLink.Error() + ": " + now}
		return errors.Join(ErrLink, err)
	}
	return err
}

// Enter makes a folder the present one, wherever links lead.
func (c *Conn) Enter(dir string) error {
	_, _, err := c.Cmd(2, "CWD %s", dir)
	return err
}

// Folder is the present folder (PWD): a path in quotes, quotes in it doubled.
func (c *Conn) Folder() (string, error) {
	_, said, err := c.Cmd(2, "PWD")
	if err != nil {
		return "", err
	}
	begin, end := strings.IndexByte(said, '"'), strings.LastIndexByte(said, '"')
	if begin < 0 || end <= begin {
		return "", fmt.Errorf("the answer to PWD has no path: %.100q", said)
	}
	return strings.ReplaceAll(said[begin+1:end], `""`, `"`), nil
}

// Entry is what a server says of a name in a folder.
type Entry struct {
	Name string
	// Mode has the type and, where HasMode is set, the rights.
	Mode    fs.FileMode
	HasMode bool
	Size    int64
	// ModTime is exact where Exact is set; else it may be of another time zone, and of
	// minutes or days.
	ModTime time.Time
	Exact   bool
	// Target is where a link leads, as far as the server says.
	Target string
}

// List lists a folder: with LIST, which knows links, and with MLSD, which knows times, where
// there are both. hidden tells whether names that begin with a dot would be in it.
func (c *Conn) List(dir string, now time.Time) (entries []Entry, hidden bool, err error) {
	if err := c.enter(dir); err != nil {
		return nil, false, err
	}
	return c.listPresent(dir, now)
}

// ListThere is List for a folder that links may lead to.
func (c *Conn) ListThere(dir string, now time.Time) (entries []Entry, err error) {
	if err := c.Enter(dir); err != nil {
		return nil, err
	}
	entries, _, err = c.listPresent(dir, now)
	return entries, err
}

// listPresent lists the folder that was entered.
func (c *Conn) listPresent(dir string, now time.Time) (entries []Entry, hidden bool, err error) {
	// Some servers do not get over it when the folder that a connection is in is removed.
	defer func() {
		if second := c.Enter("/"); err == nil && !Answered(second) {
			err = second
		}
	}()
	var last []Entry
	any := map[string]Entry{}
	for try := 1; ; try++ {
		found, shown, sure, err := c.list(dir, now)
		if err != nil {
			return nil, false, err
		}
		hidden = hidden || shown
		if sure || try > 1 && sameNames(last, found) {
			return found, hidden, nil
		}
		for _, e := range found {
			any[e.Name] = e
		}
		if last = found; try == listTries {
			return slices.Collect(maps.Values(any)), hidden, nil
		}
	}
}

// listTries is how often a folder is listed until it was the same twice. One that differs each
// time is written to all the while: all that was ever in it counts, and what is gone by then is
// not there when it is asked for.
const listTries = 5

func sameNames(a, b []Entry) bool {
	return slices.EqualFunc(a, b, func(x, y Entry) bool { return x.Name == y.Name })
}

// list lists the present folder once; sure tells that nothing speaks for names being missing in
// it: a listing that broke off may look like one that did not.
func (c *Conn) list(dir string, now time.Time) (entries []Entry, hidden, sure bool, err error) {
	lines, err := c.lines("LIST -a")
	if err != nil {
		return nil, false, false, err
	}
	l := &listing{byName: map[string]int{}}
	readErr := l.list(lines, now)
	if sure = len(lines) > 0 && !c.Careful; c.Can("MLST") || c.Can("MLSD") {
		switch lines, err = c.lines("MLSD"); {
		case err == nil && readErr != nil: // it says the same in a form that is understood
			l, sure = &listing{byName: map[string]int{}}, false
			_, readErr = l.facts(lines)
		case err == nil:
			sure, _ = l.facts(lines) // a name that it does not say is in the other
		case !Answered(err):
			return nil, false, false, err
		}
	}
	if readErr != nil {
		return nil, false, false, fmt.Errorf("%s: %w", dir, readErr)
	}
	return l.entries, l.hidden, sure, nil
}

// listing is what is read of a folder.
type listing struct {
	entries []Entry
	byName  map[string]int
	// hidden tells that a name begins with a dot.
	hidden bool
}

// list takes in what LIST says.
func (l *listing) list(lines []string, now time.Time) error {
	for _, line := range lines {
		e, ok, err := parseList(line, now)
		if err != nil {
			return err
		}
		if !ok {
			continue
		}
		l.hidden = l.hidden || strings.HasPrefix(e.Name, ".")
		if e.Name == "." || e.Name == ".." {
			continue
		}
		if _, twice := l.byName[e.Name]; twice {
			return fmt.Errorf("%q is listed twice", e.Name)
		}
		l.byName[e.Name] = len(l.entries)
		l.entries = append(l.entries, e)
	}
	return nil
}

// facts takes in what MLSD says, and tells whether it has the same names. What is not understood
// is an error, once the rest is taken in.
func (l *listing) facts(lines []string) (same bool, err error) {
	listed, both := len(l.entries), 0
	for _, line := range lines {
		e, ok := parseFacts(line)
		if !ok {
			err = unread(line)
		}
		if !ok || e.Name == "." || e.Name == ".." {
			continue
		}
		i, there := l.byName[e.Name]
		if there {
			both++
		}
		if e.Mode&fs.ModeIrregular != 0 {
			continue
		}
		if there {
			merge(&l.entries[i], e)
			continue
		}
		l.hidden = l.hidden || strings.HasPrefix(e.Name, ".")
		l.byName[e.Name] = len(l.entries)
		l.entries = append(l.entries, e)
	}
	return both == listed && len(l.entries) == listed, err
}

// merge adds what MLSD says of a name to what LIST does, which knows links for what they are.
func merge(to *Entry, e Entry) {
	if to.Mode&fs.ModeSymlink != 0 || to.Mode.Type() != e.Mode.Type() {
		return
	}
	if e.Exact {
		to.ModTime, to.Exact = e.ModTime, true
	}
	if !to.Mode.IsDir() {
		to.Size = e.Size
	}
	if !to.HasMode && e.HasMode {
		to.Mode, to.HasMode = e.Mode, true
	}
}

// CanFacts tells whether Facts is of use.
func (c *Conn) CanFacts() bool { return c.Can("MLST") && !c.noFacts }

// Facts is what MLST says of a path; links are followed by most servers.
func (c *Conn) Facts(name string) (Entry, error) {
	_, said, err := c.Cmd(2, "MLST %s", name)
	c.noFacts = c.noFacts || slices.Contains([]int{500, 502, 504}, Code(err))
	if err != nil {
		return Entry{}, err
	}
	for line := range strings.Lines(said) {
		if e, ok := parseFacts(strings.TrimLeft(strings.TrimRight(line, "\r\n"), " ")); ok {
			return e, nil
		}
	}
	return Entry{}, fmt.Errorf("the answer to MLST has no facts: %.100q", said)
}

// Size is the length of a file, in bytes (RFC 3659).
func (c *Conn) Size(name string) (int64, error) {
	_, said, err := c.Cmd(2, "SIZE %s", name)
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(strings.TrimSpace(said), 10, 64)
	if err == nil && n < 0 {
		err = fmt.Errorf("the answer to SIZE is %d", n)
	}
	return n, err
}

// Modified is when a file was last changed (MDTM, RFC 3659).
func (c *Conn) Modified(name string) (time.Time, error) {
	_, said, err := c.Cmd(2, "MDTM %s", name)
	if err != nil {
		return time.Time{}, err
	}
	return parseTime(strings.TrimSpace(said))
}

// Chmod sets rights, as most servers on Unix take them.
func (c *Conn) Chmod(name string, mode fs.FileMode) error {
	_, _, err := c.Cmd(2, "SITE CHMOD %s %s", octal(mode), name)
	return err
}

// octal is a mode as chmod(1) takes it.
func octal(mode fs.FileMode) string {
	bits := uint32(mode.Perm())
	for is, bit := range map[fs.FileMode]uint32{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000} {
		if mode&is != 0 {
			bits |= bit
		}
	}
	return fmt.Sprintf("%03o", bits)
}

// SetTime sets when a file was last changed: MFMT, or what some servers take instead.
func (c *Conn) SetTime(name string, t time.Time) error {
	stamp := t.UTC().Format("20060102150405")
	_, _, err := c.Cmd(2, "MFMT %s %s", stamp, name)
	if code := Code(err); code == 500 || code == 502 || code == 504 {
		_, _, err = c.Cmd(2, "MDTM %s %s", stamp, name)
	}
	return err
}

// Rename gives a path another name. Most servers replace a file that has that.
func (c *Conn) Rename(old, new string) error {
	if _, _, err := c.Cmd(3, "RNFR %s", old); err != nil {
		return err
	}
	_, _, err := c.Cmd(2, "RNTO %s", new)
	return err
}

// MakeDir, RemoveDir and Delete make and remove folders, and files or links.
func (c *Conn) MakeDir(name string) error   { return c.plain("MKD", name) }
func (c *Conn) RemoveDir(name string) error { return c.plain("RMD", name) }
func (c *Conn) Delete(name string) error    { return c.plain("DELE", name) }

func (c *Conn) plain(command, name string) error {
	_, _, err := c.Cmd(2, "%s %s", command, name)
	return err
}

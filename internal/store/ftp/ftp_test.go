package ftp

import (
	"bufio"
	"fmt"
	"io"
	"io/fs"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/store"
)

// liar is an FTP server that says what it is told to.
type liar struct {
	net.Listener
	// listing is what comes for a folder, replies what is said to a command in place of
	// the usual.
	listing func() io.Reader
	replies map[string]func() io.Reader
	// passive is the address that PASV is answered with.
	passive string
	// mlsd says that the server lists as RFC 3659 has it.
	mlsd bool
}

func (l *liar) start(t testing.TB) *Store {
	var err error
	l.Listener, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go l.serve(c)
		}
	}()
	s := New(Options{Host: l.Addr().String(), User: "keeper", Password: "words", Lanes: 1, Where: "far"})
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func (l *liar) serve(c net.Conn) {
	defer c.Close()
	data, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return
	}
	defer data.Close()
	_, _ = io.WriteString(c, "220 ready\r\n")
	for in := bufio.NewScanner(c); in.Scan(); {
		verb, _, _ := strings.Cut(in.Text(), " ")
		if lie := l.replies[verb]; lie != nil {
			_, _ = io.Copy(c, lie())
			continue
		}
		answer := map[string]string{"USER": "331 and the password", "PASS": "230 in", "TYPE": "200 so be it", "OPTS": "200 so be it", "QUIT": "221 bye", "CWD": "250 there", "PWD": `257 "/" is it`,
			"EPSV": fmt.Sprintf("229 here (|||%d|)", data.Addr().(*net.TCPAddr).Port)}[verb]
		port := data.Addr().(*net.TCPAddr).Port
		switch {
		case verb == "PASV" && l.passive != "":
			answer = fmt.Sprintf("227 here (%s,%d,%d)", l.passive, port>>8, port&255)
		case verb == "FEAT" && l.mlsd:
			answer = "211-Features\r\n MLST type*;size*;modify*;\r\n211 End"
		case verb == "LIST" || verb == "MLSD" || verb == "RETR":
			_, _ = io.WriteString(c, "150 it comes\r\n")
			conn, err := data.Accept()
			if err != nil {
				return
			}
			_, _ = io.Copy(conn, l.listing())
			_ = conn.Close()
			answer = "226 done"
		case answer == "":
			answer = "502 no"
		}
		_, _ = io.WriteString(c, answer+"\r\n")
	}
}

// without is a text that never ends.
type without string

func (w without) Read(p []byte) (int, error) {
	n := 0
	for n < len(p)-len(w) {
		n += copy(p[n:], w)
	}
	return max(n, copy(p, w)), nil
}

// A listing or a reply without end was kept in memory as far as it went.
func TestAnAnswerWithoutEndIsRefused(t *testing.T) {
	end := func(text string) func() io.Reader { return func() io.Reader { return without(text) } }
	for name, l := range map[string]*liar{
		"a listing":              {listing: end("-rw-r--r-- 1 1 1 5 Jan  1  2026 object\r\n")},
		"a listing of RFC 3659":  {listing: end("type=file;size=5;modify=20260101000000; object\r\n"), mlsd: true},
		"one line":               {listing: end("x")},
		"folders in folders":     {listing: func() io.Reader { return strings.NewReader("drwxr-xr-x 1 1 1 5 Jan  1  2026 more\r\n") }},
		"a reply":                {replies: map[string]func() io.Reader{"FEAT": end("211-x\r\n")}},
		"a reply of one line":    {replies: map[string]func() io.Reader{"USER": end("331-")}},
		"a reply to the listing": {replies: map[string]func() io.Reader{"EPSV": end("229-")}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := l.start(t).List(t.Context(), "kestrelpoint")
			require.Error(t, err)
			if l.replies == nil && name != "one line" { // one line too long is what the library itself refuses
				assert.ErrorIs(t, err, store.ErrEndless)
			}
		})
	}
}

// What the client library could not read was passed over: archives that are there were
// gone, and a store whose listings look unusual was empty.
func TestAListingIsWholeOrAnError(t *testing.T) {
	const unix, facts = "-rw-r--r-- 1 1 1 5 Jan  1  2026 a.json\r\n", "type=file;size=5;modify=20260101000000; a.json\r\n"
	for name, c := range map[string]struct {
		listing string
		mlsd    bool
		names   int // -1 is refused, -2 not reached
	}{
		"nothing":             {"", false, 0},
		"usual":               {"total 8\r\n" + unix + "drwxr-xr-x 1 1 1 5 Jan  1  2026 .\r\n" + strings.ReplaceAll(unix, "a.json", "b.json"), false, 2},
		"blank lines":         {"\r\n" + unix + "\n \r\n", false, 1},
		"no line end":         {strings.TrimSpace(unix), false, -2},
		"facts":               {"type=cdir;modify=20260101000000; .\r\n" + facts, true, 1},
		"another system's":    {"a.json;1   1   1-JAN-2026 00:00\r\n", false, -1},
		"one line of another": {unix + "b.json;1   1   1-JAN-2026 00:00\r\n", false, -1},
		"a month's name":      {unix + "-rw-r--r-- 1 1 1 5 J\xe4n  1  2026 b.json\r\n", false, -1},
		"parts of seconds":    {facts + "type=file;size=5;modify=20260101000000.250; b.json\r\n", true, 2},
		"an error":            {"ls: permission denied\r\n", false, -1},
		"a cut line":          {facts + "type=file;si", true, -2},
		"a mangled line":      {facts + "type=file;si\r\n", true, -1},
	} {
		t.Run(name, func(t *testing.T) {
			l := &liar{listing: func() io.Reader { return strings.NewReader(c.listing) }, mlsd: c.mlsd}
			all, err := l.start(t).readDir(t.Context(), "kestrelpoint")
			if c.names == -2 {
				require.Error(t, err)
				assert.NotErrorIs(t, err, store.ErrRefused)
				return
			}
			if c.names < 0 {
				assert.ErrorIs(t, err, store.ErrRefused)
				return
			}
			require.NoError(t, err)
			assert.Len(t, all, c.names)
		})
	}
}

// To a server, all is sent that is on its way: what is short of an object is no end of it, and no
// damage.
func TestATransferThatIsCutSilently(t *testing.T) {
	l := &liar{listing: func() io.Reader { return strings.NewReader("12345") }}
	size := "213 5\r\n"
	l.replies = map[string]func() io.Reader{"SIZE": func() io.Reader { return strings.NewReader(size) }, "REST": func() io.Reader { return strings.NewReader("350 on\r\n") }}
	s := l.start(t)
	read := func(offset int64) (string, error) {
		in, err := s.Open(t.Context(), "museum/parts/ab", offset)
		require.NoError(t, err)
		defer in.Close()
		data, err := io.ReadAll(in)
		return string(data), err
	}
	data, err := read(0)
	require.NoError(t, err)
	assert.Equal(t, "12345", data)
	size = "213 9\r\n"
	data, err = read(0)
	assert.ErrorContains(t, err, "broke off: 4 bytes")
	assert.Equal(t, "12345", data)
	_, err = read(4)
	require.NoError(t, err, "it goes on where it was")
}

// After a cut the same listing twice counts; of a folder that differs each time all that was in it.
func TestAListingThatDiffers(t *testing.T) {
	const a, b = "-rw-r--r-- 1 1 1 5 Jan  1  2026 a.json\r\n", "-rw-r--r-- 1 1 1 5 Jan  1  2026 b.json\r\n"
	for name, c := range map[string]struct {
		listings []string
		names    int
	}{
		"whole at once":     {[]string{a + b}, 2},
		"nothing, then all": {[]string{"", a + b, a + b}, 2},
		"nothing twice":     {[]string{"", ""}, 0},
		"ever another":      {[]string{"", a, "", b, "", a, ""}, 2},
	} {
		t.Run(name, func(t *testing.T) {
			n := 0
			l := &liar{listing: func() io.Reader { n++; return strings.NewReader(c.listings[min(n, len(c.listings))-1]) }}
			s := l.start(t)
			s.cut.Store(name != "whole at once")
			all, err := s.readDir(t.Context(), "kestrelpoint")
			require.NoError(t, err)
			assert.Len(t, all, c.names)
		})
	}
}

// A server that names another machine for its data, such as one behind its router or one
// of the machine's own network, has that machine left alone.
func TestDataComesFromTheServerThatWasAsked(t *testing.T) {
	l := &liar{listing: func() io.Reader { return strings.NewReader("-rw-r--r-- 1 1 1 5 Jan  1  2026 a.json\r\n") }}
	l.replies = map[string]func() io.Reader{"EPSV": func() io.Reader { return strings.NewReader("502 no\r\n") }}
	l.passive = "192,0,2,77"
	all, err := l.start(t).readDir(t.Context(), "kestrelpoint")
	require.NoError(t, err)
	assert.Len(t, all, 1)
}

// Whatever a server lists: names of one element, and nothing that it takes to die of.
func FuzzListing(f *testing.F) {
	for _, line := range []string{
		"-rw-r--r-- 1 keeper museum 5 Jan  1  2026 kestrelpoint-20260101-000000.json\r\n",
		"type=dir;modify=20260101000000; archives\r\n", "01-01-26  03:20AM       <DIR>          parts\r\n", "+i8388621.48594,m825718503,r,s280, ../../x\r\n",
	} {
		f.Add([]byte(strings.ReplaceAll(line, "dir", "file")), false)
		f.Add([]byte(line), true)
	}
	l := &liar{}
	var said []byte
	l.listing = func() io.Reader { return strings.NewReader(string(said)) }
	stores := map[bool]*Store{false: l.start(f), true: (&liar{listing: l.listing, mlsd: true}).start(f)}
	f.Fuzz(func(t *testing.T, listing []byte, mlsd bool) {
		said = listing
		entries, _ := stores[mlsd].List(t.Context(), "kestrelpoint")
		for _, e := range entries {
			name, ok := strings.CutPrefix(e.Name, "kestrelpoint/")
			if !ok || !fs.ValidPath(strings.ToValidUTF8(name, "?")) {
				t.Fatal(e.Name)
			}
		}
	})
}

package tree_test

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/site/tree"
	"revlet/internal/store/ftpconn"
)

// fakeFTP answers what a test says to each command; what it does not say is refused.
func fakeFTP(t *testing.T, listing string, said map[string]string) tree.Place {
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = at.Close() })
	answers := map[string]string{"USER": "331 go on", "PASS": "230 in", "TYPE": "200 binary", "CWD": "250 there", "PWD": `257 "/htdocs"`}
	for command, answer := range said {
		answers[command] = answer
	}
	go func() {
		for {
			c, err := at.Accept()
			if err != nil {
				return
			}
			go serveFTP(c, listing, answers)
		}
	}()
	p := tree.NewFTP(tree.FTPOptions{Dialer: ftpconn.Dialer{Host: at.Addr().String(), User: "keeper", Where: "host.example", Silence: 300 * time.Millisecond}, Base: "plain-ftp://keeper@host.example", Tries: 4, Pause: time.Millisecond})
	t.Cleanup(func() { _ = p.Close() })
	return p
}

func serveFTP(c net.Conn, listing string, answers map[string]string) {
	defer c.Close()
	fmt.Fprint(c, "220 ready\r\n")
	var data net.Listener
	for in := bufio.NewScanner(c); in.Scan(); {
		command, _, _ := strings.Cut(in.Text(), " ")
		answer, known := answers[command]
		switch {
		case known && answer == "":
			continue // silence
		case known:
			fmt.Fprint(c, answer+"\r\n")
		case command == "EPSV":
			data, _ = net.Listen("tcp", "127.0.0.1:0")
			fmt.Fprintf(c, "229 here (|||%d|)\r\n", data.Addr().(*net.TCPAddr).Port)
		case command == "RETR":
			fmt.Fprint(c, "150 it comes\r\n")
			out, err := data.Accept()
			if err != nil {
				return
			}
			content := "twelve bytes"
			if transfers.Add(1) == 1 {
				content = content[:5]
			}
			_, _ = io.WriteString(out, content)
			_ = out.Close()
			fmt.Fprint(c, "226 done\r\n")
		case command == "LIST":
			fmt.Fprint(c, "150 it comes\r\n")
			out, err := data.Accept()
			if err != nil {
				return
			}
			_, _ = io.WriteString(out, listing)
			_ = out.Close()
			fmt.Fprint(c, "226 done\r\n")
		default:
			fmt.Fprint(c, "502 unknown\r\n")
		}
	}
}

// transfers counts those of a file: the first is cut on its way.
var transfers atomic.Int64

// What is cut is no change and no gap, also where a server cannot go on within a file.
func TestATransferThatIsCutSilently(t *testing.T) {
	in, err := fakeFTP(t, ls("-", "index.php"), map[string]string{"SIZE": "213 12"}).Folder(t.Context(), "/htdocs")
	require.NoError(t, err)
	defer in.Close()
	whole, err := in.(tree.WholeReader).ReadWhole("index.php", 100)
	require.NoError(t, err)
	assert.Equal(t, "twelve bytes", string(whole.Data))
	assert.Equal(t, int64(2), transfers.Load())
}

// A server that says of a file what servers say of the line is asked for something else: one bad file costs no archive.
func TestAFileThatAServerBreaksOff(t *testing.T) {
	for what, c := range map[string]struct {
		said map[string]string
		line bool
	}{
		"a bad block":        {map[string]string{"SIZE": "213 12", "RETR": "426 failure reading the local file"}, false},
		"by another code":    {map[string]string{"SIZE": "213 12", "RETR": "451 local error"}, false},
		"nothing comes":      {map[string]string{"SIZE": "213 12", "RETR": "426 broken off", "LIST": "426 broken off"}, true},
		"no more connection": {map[string]string{"SIZE": "213 12", "RETR": "425 too many"}, true},
	} {
		for way, read := range map[string]func(in tree.Folder) error{
			"whole": func(in tree.Folder) error { _, err := in.(tree.WholeReader).ReadWhole("index.php", 100); return err },
			"bit by bit": func(in tree.Folder) error {
				f, err := in.Open("index.php")
				if err != nil {
					return err
				}
				defer f.Close()
				_, err = io.ReadAll(f)
				return err
			},
		} {
			said := maps.Clone(c.said)
			in, err := fakeFTP(t, ls("-", "index.php"), said).Folder(t.Context(), "/htdocs")
			require.NoError(t, err)
			defer in.Close()
			err = read(in)
			require.Error(t, err)
			assert.Equal(t, c.line, errors.Is(err, tree.ErrUnreachable), "%s, %s: %v", what, way, err)
		}
	}
}

// What a server says that it can, and does not know, is done another way.
func TestAServerThatDoesNotKnowWhatItSays(t *testing.T) {
	in, err := fakeFTP(t, ls("-", "index.php"), map[string]string{"SIZE": "213 12", "FEAT": "211-it can\r\n MLST type*;size*;\r\n211 end"}).Folder(t.Context(), "/htdocs")
	require.NoError(t, err)
	defer in.Close()
	transfers.Store(1)
	whole, err := in.(tree.WholeReader).ReadWhole("index.php", 100)
	require.NoError(t, err)
	assert.Equal(t, "twelve bytes", string(whole.Data))
}

func ls(kind, name string) string { return kind + "rw-r--r-- 1 k k 12 Nov 20 2025 " + name + "\r\n" }

func TestHostileFTP(t *testing.T) {
	names := func(p tree.Place) ([]string, error) {
		in, err := p.Folder(t.Context(), "/htdocs")
		if err != nil {
			return nil, err
		}
		defer in.Close()
		names, _, err := in.ReadFolder(".", 1)
		return names, err
	}
	all, err := names(fakeFTP(t, ls("-", "index.php")+ls("d", "uploads")+ls("d", ".")+ls("d", "..")+"total 3\r\n", nil))
	require.NoError(t, err)
	assert.Equal(t, []string{"index.php", "uploads"}, all)
	for what, listing := range map[string]string{
		"a path":            ls("-", "../../etc/passwd"),
		"twice":             ls("-", "index.php") + ls("d", "index.php"),
		"not understood":    ls("-", "index.php") + "and some more\r\n",
		"a negative length": strings.Replace(ls("-", "index.php"), " 12 ", " -12 ", 1),
		"a long one":        ls("-", strings.Repeat("x", 5000)),
		"a NUL":             ls("-", "a\x00b"),
	} {
		_, err := names(fakeFTP(t, listing, nil))
		assert.Error(t, err, what)
	}
	// What the server says of connections is no word on any file.
	for what, said := range map[string]map[string]string{
		"no data connection": {"EPSV": "425 too many", "PASV": "425 too many"},
		"busy":               {"CWD": "421 too many users"},
		"silence":            {"PWD": ""},
		"no port":            {"EPSV": "229 somewhere", "PASV": "227 somewhere"},
	} {
		_, err := names(fakeFTP(t, "", said))
		assert.ErrorIs(t, err, tree.ErrUnreachable, what)
	}
	// A folder that turns out to be another one was a link.
	_, err = names(fakeFTP(t, ls("-", "index.php"), map[string]string{"PWD": `257 "relative"`}))
	assert.Error(t, err)
}

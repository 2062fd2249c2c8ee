package postgres

import (
	"encoding/binary"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
)

// message is one of PostgreSQL's protocol (manual, "Message Formats"), with a length that
// may be a lie.
func message(kind byte, length uint32, body string) string {
	return string(kind) + string(binary.BigEndian.AppendUint32(nil, length)) + body
}

func honest(kind byte, body string) string { return message(kind, uint32(len(body)+4), body) }

// liar is a server that says one thing to whoever connects, and another to every query.
func liar(t *testing.T, login, answer string) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	lieAt(l, login, answer, io.Discard)
	return l.Addr().(*net.TCPAddr).Port
}

// lieAt is liar where it listens; heard gets what is said to it.
func lieAt(l net.Listener, login, answer string, heard io.Writer) {
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				hear := func(head int) bool {
					b := make([]byte, head)
					if _, err := io.ReadFull(c, b); err != nil {
						return false
					}
					_, err := io.CopyN(heard, c, int64(binary.BigEndian.Uint32(b[head-4:]))-4)
					return err == nil
				}
				if !hear(4) {
					return
				}
				_, _ = io.WriteString(c, login)
				for hear(5) {
					_, _ = io.WriteString(c, answer)
				}
			}()
		}
	}()
}

// A site's settings choose the server: one that is made for it takes nothing down.
func TestAServerThatBreaksTheProtocolIsAnError(t *testing.T) {
	in := honest('R', "\x00\x00\x00\x00") + honest('Z', "I")
	for name, c := range map[string]struct{ login, answer string }{
		"nothing":                        {"", ""},
		"another protocol":               {"220 ready\r\n", ""},
		"a message that is too long":     {message('R', 1<<31, ""), ""},
		"a message that is too short":    {message('R', 0, ""), ""},
		"an error that breaks off":       {message('E', 5, "S"), ""},
		"a way to log in that is none":   {honest('R', "\x00\x00\x00\x63"), ""},
		"a login that breaks off":        {honest('R', "\x00"), ""},
		"SCRAM without a way":            {honest('R', "\x00\x00\x00\x0a\x00"), ""},
		"more columns than there are":    {in, honest('T', "\xff\xff")},
		"a column that breaks off":       {in, honest('T', "\x00\x01a")},
		"a row that breaks off":          {in, honest('T', "\x00\x00") + honest('D', "\x00\x01\x7f\xff\xff\xff")},
		"a row of fewer columns":         {in, honest('T', "\x00\x00") + honest('D', "\x00\x00") + honest('C', "SELECT 1\x00") + honest('Z', "I")},
		"an error to a query breaks off": {in, message('E', 5, "S")},
		"a parameter that breaks off":    {in, honest('t', "\x7f\xff")},
		"a word that nobody knows":       {in, honest('!', strings.Repeat("x", 100))},
		"a kind of COPY":                 {in, honest('W', "\x00\xff\xff")},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, err := Open(t.Context(), Config{Host: "127.0.0.1", Port: liar(t, c.login, c.answer), User: "u", Password: "p", Name: "museum", TLS: database.TLS{Mode: "off"}, OpenTime: time.Second})
			require.Error(t, err)
			assert.NotContains(t, err.Error(), "goroutine")
		})
	}
}

package mysql

import (
	"encoding/binary"
	"io"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
)

const ok = "\x00\x00\x00\x02\x00\x00\x00"

// liar is a server that answers a login in one way, and every SELECT in another.
func liar(t *testing.T, login string, answers ...string) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	lieAt(l, "mysql_native_password", login, nil, answers...)
	return l.Addr().(*net.TCPAddr).Port
}

// lieAt is liar where it listens, with a way to log in that it says is its own; heard gets what is said to it.
func lieAt(l net.Listener, way, login string, heard func(string), answers ...string) {
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				number := byte(0)
				say := func(text string) {
					head := make([]byte, 4)
					binary.LittleEndian.PutUint32(head, uint32(len(text)))
					head[3] = number
					number++
					_, _ = c.Write(append(head, text...))
				}
				hear := func() (string, bool) {
					head := make([]byte, 4)
					if _, err := io.ReadFull(c, head); err != nil {
						return "", false
					}
					number = head[3] + 1
					text := make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
					_, err := io.ReadFull(c, text)
					if heard != nil {
						heard(string(text))
					}
					return string(text), err == nil
				}
				// Protocol::HandshakeV10 (MySQL's internals manual).
				say("\x0a10.11.0-MariaDB\x00\x01\x00\x00\x00saltsalt\x00\xff\xf7\x21\x02\x00\xff\x81\x15\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00saltsaltsalt\x00" + way + "\x00")
				if _, more := hear(); !more {
					return
				}
				say(login)
				for query, more := hear(); more; query, more = hear() {
					if !strings.Contains(query, "SELECT") {
						say(ok)
						continue
					}
					for _, a := range answers {
						say(a)
					}
				}
			}()
		}
	}()
}

// A server that never stops talking had all of the machine's memory: the driver gathers a row, and what is asked for is kept.
func TestAServerThatNeverStops(t *testing.T) {
	column := "\x03def\x00\x00\x00\x01a\x00\x0c\x21\x00\xff\xff\xff\xff\xfd\x00\x00\x00\x00\x00"
	for name, answers := range map[string][]string{
		"one row without end":  slices.Concat([]string{"\x01", column}, slices.Repeat([]string{strings.Repeat("x", 1<<24-1)}, 9)),
		"rows without an end":  slices.Concat([]string{"\x01", column}, slices.Repeat([]string{"\x04lamp"}, 1<<20)),
		"a name without end":   slices.Concat([]string{"\x01"}, slices.Repeat([]string{strings.Repeat("x", 1<<24-1)}, 9)),
		"an error without end": slices.Repeat([]string{"\xff" + strings.Repeat("x", 1<<24-2)}, 9),
	} {
		c := Config{Host: "127.0.0.1", Port: liar(t, ok, answers...), User: "u", Password: "p", Name: "museum", TLS: database.TLS{Mode: "off"}, OpenTime: 10 * time.Second, most: 4 << 20}
		pool, err := c.pool()
		require.NoError(t, err)
		_, err = firstColumn(t.Context(), pool, "SELECT 1")
		require.ErrorIs(t, err, database.ErrTooMuch, name)
		require.NoError(t, pool.Close())
		if name != "rows without an end" { // the first question is for one row
			_, err = Open(t.Context(), c)
			require.ErrorIs(t, err, database.ErrTooMuch, name)
		}
	}
}

// A site's settings choose the server, and one that is made for it took the program down
// that looks after other sites as well.
func TestAServerThatBreaksTheProtocolIsAnError(t *testing.T) {
	huge := "\xfe" + strings.Repeat("\xff", 7)
	column := "\x03def\x00\x00\x00\x01a\x00\x0c\x21\x00\xff\xff\xff\xff\xfd\x00\x00\x00\x00\x00"
	for name, answers := range map[string][]string{
		"more columns than there can be":         {huge + "\x7f"},
		"columns without end":                    {huge + "\x00"},
		"a column of nothing":                    {"\x01", ""},
		"a column that breaks off":               {"\x01", "\x03de"},
		"a text longer than the packet":          {"\x01", column, "\xfe\x00\x00\x02\x00", "\xfe\xff\xff\xff\xff\xff\xff\xff\x7f"},
		"nothing":                                {""},
		"an error that breaks off":               {"\xff"},
		"at the login, an error that breaks off": {"\xff"},
		"at the login, nothing":                  {""},
		"at the login, another way that is none": {"\xfe"},
		"at the login, more":                     {"\x01"},
		"it wants a file":                        {"\xfb/etc/passwd"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			login := ok
			if strings.HasPrefix(name, "at the login") {
				login = answers[0]
			}
			_, err := Open(t.Context(), Config{Host: "127.0.0.1", Port: liar(t, login, answers...), User: "u", Password: "p", Name: "museum", TLS: database.TLS{Mode: "off"}, OpenTime: time.Second})
			require.Error(t, err)
			assert.NotContains(t, err.Error(), "goroutine")
		})
	}
}

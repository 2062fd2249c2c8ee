package postgres

import (
	"bytes"
	"context"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
)

// ears keep what is said to a server.
type ears struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (e *ears) Write(p []byte) (int, error) { e.mu.Lock(); defer e.mu.Unlock(); return e.b.Write(p) }

func (e *ears) heard() string { e.mu.Lock(); defer e.mu.Unlock(); return e.b.String() }

// While the database server of this machine does not run, whoever listens in its place had the password for the asking.
func TestNobodyElsesServerGetsThePassword(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root listens as somebody else")
	}
	const password = "between-us-two"
	for name, c := range map[string]struct {
		uid            int
		mode           string
		socket, tunnel bool
		refused        reason.Reason
	}{
		"this account":                   {uid: 0},
		"this account at a socket":       {uid: 0, socket: true},
		"a server's account":             {uid: 77},
		"another customer":               {uid: 1234, refused: reason.ServerOfOthers},
		"another customer, as is wanted": {uid: 1234, mode: database.TLSOff},
		"nobody":                         {uid: 65534, refused: reason.WantsPassword},
		"behind a tunnel":                {uid: 0, tunnel: true, refused: reason.WantsPassword},
		"behind a tunnel at a socket":    {uid: 0, tunnel: true, socket: true, refused: reason.WantsPassword},
		"behind a tunnel, as is wanted":  {uid: 0, tunnel: true, mode: database.TLSOff},
	} {
		t.Run(name, func(t *testing.T) {
			runtime.LockOSThread() // setfsuid(2) is of one thread
			defer runtime.UnlockOSThread()
			network, address := "tcp", "127.0.0.1:0"
			config := Config{Host: "127.0.0.1", User: "u", Password: password, Name: "museum", TLS: database.TLS{Mode: c.mode}, OpenTime: 20 * time.Second}
			if c.socket {
				config.Socket, config.Port = t.TempDir(), 5432
				network, address = "unix", filepath.Join(config.Socket, ".s.PGSQL.5432")
			}
			require.NoError(t, syscall.Setfsuid(c.uid))
			l, err := net.Listen(network, address)
			require.NoError(t, syscall.Setfsuid(os.Geteuid()))
			require.NoError(t, err)
			t.Cleanup(func() { _ = l.Close() })
			if !c.socket {
				config.Port = l.Addr().(*net.TCPAddr).Port
			}
			if c.tunnel {
				config.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
					return (&net.Dialer{}).DialContext(ctx, network, address)
				}
			}
			var e ears
			lieAt(l, honest('R', "\x00\x00\x00\x03"), honest('E', "SFATAL\x00C28P01\x00Mno\x00\x00"), &e) // AuthenticationCleartextPassword
			_, err = Open(t.Context(), config)
			require.Error(t, err, "it is no database")
			if c.refused == "" {
				assert.Contains(t, e.heard(), password, err.Error())
				return
			}
			assert.True(t, reason.Is(err, c.refused), err.Error())
			assert.NotContains(t, e.heard(), password)
			if c.refused == reason.ServerOfOthers {
				assert.Empty(t, e.heard())
			}
		})
	}
}

// A site whose settings name no password was let in with one that root has for itself (.pgpass), to a server and as an account of
// the site's choice.
func TestPasswordsOfThisAccountAreNotTheSites(t *testing.T) {
	file := filepath.Join(t.TempDir(), "passwords")
	require.NoError(t, os.WriteFile(file, []byte("*:*:*:*:roots-own\n"), 0o600))
	t.Setenv("PGPASSFILE", file)
	t.Setenv("PGPASSWORD", "roots-own")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	var e ears
	lieAt(l, honest('R', "\x00\x00\x00\x03"), honest('E', "SFATAL\x00C28P01\x00Mno\x00\x00"), &e)
	_, err = Open(t.Context(), Config{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, User: "postgres", Name: "museum", TLS: database.TLS{Mode: database.TLSOff}, OpenTime: 20 * time.Second})
	require.Error(t, err)
	assert.Contains(t, e.heard(), "postgres")
	assert.NotContains(t, e.heard(), "roots-own")
}

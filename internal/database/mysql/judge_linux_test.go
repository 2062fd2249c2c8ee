package mysql

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
)

// listenAs listens as another account (setfsuid(2) is of one thread).
func listenAs(t *testing.T, uid int) net.Listener {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	require.NoError(t, syscall.Setfsuid(uid))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, syscall.Setfsuid(os.Geteuid()))
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// While the database server of this machine does not run, whoever listens in its place had the password for the asking: as it is
// at a socket, and for a key of his own elsewhere.
func TestNobodyElsesServerGetsThePassword(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root listens as somebody else")
	}
	const password, wants, key = "between-us-two", "\x01\x04", "\x02"
	direct := func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	for name, c := range map[string]struct {
		uid     int
		way     string
		mode    string
		socket  bool
		tunnel  bool
		sends   string // what is sent for the password
		refused reason.Reason
	}{
		"this account":                    {uid: 0, sends: key},
		"this account, at a socket":       {uid: 0, socket: true, sends: password + "\x00"},
		"a server's account":              {uid: 77, sends: key},
		"another customer":                {uid: 1234, refused: reason.ServerOfOthers},
		"another customer, as is wanted":  {uid: 1234, mode: database.TLSOff, sends: key},
		"the web server's":                {uid: 33, refused: reason.ServerOfOthers},
		"nobody":                          {uid: 65534, refused: reason.WantsPassword},
		"nobody, in the older way":        {uid: 65534, way: "sha256_password"},
		"behind a tunnel":                 {uid: 0, tunnel: true, refused: reason.WantsPassword},
		"behind a tunnel, at a socket":    {uid: 0, tunnel: true, socket: true, refused: reason.WantsPassword},
		"behind a tunnel, as is wanted":   {uid: 0, tunnel: true, mode: database.TLSOff, sends: key},
		"behind a tunnel, the older way":  {uid: 0, tunnel: true, way: "sha256_password"},
		"the password itself, by its way": {uid: 0, way: "mysql_clear_password"},
	} {
		t.Run(name, func(t *testing.T) {
			l := listenAs(t, c.uid)
			config := Config{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, User: "u", Password: password, Name: "museum", TLS: database.TLS{Mode: c.mode}, OpenTime: 20 * time.Second}
			if c.socket {
				config.Socket = filepath.Join(t.TempDir(), "s")
				var err error
				l, err = net.Listen("unix", config.Socket)
				require.NoError(t, err)
				t.Cleanup(func() { _ = l.Close() })
			}
			if c.tunnel {
				config.Dial = direct
			}
			way := "caching_sha2_password"
			if c.way != "" {
				way, config.OpenTime = c.way, 300*time.Millisecond // it waits for more, and may as long as it sends nothing
			}
			var mu sync.Mutex
			var heard []string
			lieAt(l, way, wants, func(s string) { mu.Lock(); defer mu.Unlock(); heard = append(heard, s) }, "\xff\x15\x04#28000no")
			_, err := Open(t.Context(), config)
			require.Error(t, err, "it is no database")
			mu.Lock()
			defer mu.Unlock()
			all := strings.Join(heard, "")
			switch {
			case c.refused != "":
				assert.True(t, reason.Is(err, c.refused), err.Error())
				assert.NotContains(t, all, password)
				assert.NotContains(t, heard, key)
			case c.sends == "":
				assert.NotContains(t, all, password)
			default:
				assert.Contains(t, heard, c.sends, err.Error())
			}
			if c.refused == reason.ServerOfOthers {
				assert.Empty(t, heard)
			}
		})
	}
}

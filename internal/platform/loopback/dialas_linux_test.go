package loopback

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAServerIsToldForWhomOneSpeaks(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root speaks for others")
	}
	dir, err := os.MkdirTemp("", "rv")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	socket := filepath.Join(dir, "s")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Chmod(socket, 0o777))
	speaks := func(uid *int) int {
		conn, err := DialAs(t.Context(), "unix", socket, uid)
		require.NoError(t, err)
		defer conn.Close()
		at, err := l.Accept()
		require.NoError(t, err)
		defer at.Close()
		uids, known, err := Answering(at) // the other end of a connection that was accepted
		require.NoError(t, err)
		require.True(t, known)
		require.Equal(t, 0, os.Geteuid())
		return uids[0]
	}
	customer := 1234
	assert.Equal(t, 1234, speaks(&customer))
	assert.Equal(t, 0, speaks(nil))
	require.NoError(t, os.Chmod(socket, 0o700))
	_, err = DialAs(t.Context(), "unix", socket, &customer)
	require.ErrorContains(t, err, "the account #1234")
	assert.Equal(t, 0, speaks(nil))
}

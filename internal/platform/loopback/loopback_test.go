package loopback

import (
	"net"
	"net/netip"
	"os"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func at(l net.Listener) netip.AddrPort { return l.Addr().(*net.TCPAddr).AddrPort() }

func TestAPortIsKeptAndNotOneThatAnybodyGets(t *testing.T) {
	l, err := Hold()
	require.NoError(t, err)
	assert.True(t, at(l).Addr().IsLoopback())
	assert.GreaterOrEqual(t, at(l).Port(), uint16(firstPort))
	assert.Less(t, at(l).Port(), uint16(lastPort))
	assert.True(t, Taken(at(l)))
	require.NoError(t, l.Close())
	assert.False(t, Taken(at(l)))
	port, err := Free()
	require.NoError(t, err)
	again, err := net.Listen("tcp", netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(port)).String())
	require.NoError(t, err, "it can be had")
	require.NoError(t, again.Close())
}

func TestWhoAnswersAtAPort(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("only Linux tells")
	}
	l, err := Hold()
	require.NoError(t, err)
	uids, known, err := Owners(at(l))
	require.NoError(t, err)
	require.True(t, known)
	assert.Equal(t, []int{os.Geteuid()}, uids)
	require.NoError(t, l.Close())
	uids, _, err = Owners(at(l))
	require.NoError(t, err)
	assert.Empty(t, uids)
	for _, address := range []string{":0", "[::]:0"} {
		every, err := net.Listen("tcp", address)
		require.NoError(t, err)
		uids, _, err = Owners(at(every))
		require.NoError(t, err)
		assert.Equal(t, []int{os.Geteuid()}, uids, "one that listens everywhere answers here, too: %s", address)
		require.NoError(t, every.Close())
	}
}

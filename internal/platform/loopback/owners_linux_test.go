package loopback

import (
	"net"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheKernelsTable(t *testing.T) {
	const head = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n"
	row := func(local, state, uid string) string {
		return "   0: " + local + " 00000000:0000 " + state + " 00000000:00000000 00:00000000 00000000 " + uid + " 0 51334 1\n"
	}
	for name, c := range map[string]struct {
		rows string
		want []int
	}{
		"one that listens":        {row("0100007F:4E20", "0A", "33"), []int{33}},
		"a connection is not one": {row("0100007F:4E20", "01", "33"), nil},
		"another port":            {row("0100007F:4E21", "0A", "33"), nil},
		"two":                     {row("0100007F:4E20", "0A", "33") + row("00000000:4E20", "0A", "61184"), []int{33, 61184}},
		"nothing":                 {"", nil},
		"half a row":              {"   0: 0100007F:4E20 00000000:0000 0A\n", nil},
	} {
		uids, err := socketsIn(strings.NewReader(head+c.rows), listensAt(20000))
		require.NoError(t, err, name)
		assert.Equal(t, c.want, uids, name)
	}
	_, err := socketsIn(strings.NewReader(head+row("0100007F:4E20", "0A", "nobody")), listensAt(20000))
	assert.Error(t, err, "what is not understood is not passed over")
}

func TestWhoseAConnectionIs(t *testing.T) {
	for _, at := range []string{"127.0.0.1:0", "[::1]:0"} {
		l, err := net.Listen("tcp", at)
		if err != nil {
			t.Skipf("no %s here: %v", at, err)
		}
		defer l.Close()
		c, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		defer c.Close()
		from, to := c.LocalAddr().(*net.TCPAddr).AddrPort(), l.Addr().(*net.TCPAddr).AddrPort()
		uids, known, err := Peers(from, to)
		require.NoError(t, err)
		assert.True(t, known)
		assert.Equal(t, []int{os.Geteuid()}, uids, at)
		uids, _, err = Peers(to, to)
		require.NoError(t, err)
		assert.Empty(t, uids, "there is no such connection")
	}
}

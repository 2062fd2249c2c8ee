package database

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAServerElsewhereIsSpokenToByTLS(t *testing.T) {
	for host, plain := range map[string]bool{"": true, "localhost": true, "127.0.0.1": true, "127.8.8.8": true, "::1": true, "db.example": false, "10.0.0.5": false, "192.168.1.2": false, "localhost.example": false, "127.0.0.1.example": false, "0.0.0.0": false, "2001:db8::1": false} {
		c, err := TLS{}.Config(host)
		require.NoError(t, err)
		assert.Equal(t, plain, c == nil, host)
		if c != nil {
			assert.False(t, c.InsecureSkipVerify)
			assert.Equal(t, host, c.ServerName)
		}
	}
	c, err := TLS{Mode: TLSOff}.Config("db.example")
	require.NoError(t, err)
	assert.Nil(t, c)
	c, err = TLS{Mode: TLSUnverified}.Config("db.example")
	require.NoError(t, err)
	assert.True(t, c.InsecureSkipVerify)
	c, err = TLS{Mode: TLSVerify}.Config("127.0.0.1")
	require.NoError(t, err)
	assert.NotNil(t, c, "asked for, also here")
	_, err = TLS{Mode: "prefer"}.Config("db.example")
	require.Error(t, err)
	file := filepath.Join(t.TempDir(), "ca.pem")
	_, err = TLS{CAFile: file}.Config("db.example")
	require.Error(t, err)
	require.NoError(t, os.WriteFile(file, []byte("no certificate"), 0o600))
	_, err = TLS{CAFile: file}.Config("db.example")
	require.ErrorContains(t, err, "no certificate")
}

package config

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever can change a file of authorities can have any server pass for the store, the database or the mail server.
func TestAuthoritiesThatOthersCanChangeAreTold(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root is warned")
	}
	dir := t.TempDir()
	ca := filepath.Join(dir, "ca.pem")
	require.NoError(t, os.WriteFile(ca, []byte("x"), 0o644))
	entry := "stores: {far: {webdav: \"https://dav.example/x\", user: a, password_file: /none, ca_file: ca.pem}}\nnotify: {ping: {success: \"https://ping.example/x\", ca_file: ca.pem}}\n" +
		"sites: {kestrelpoint: {root: ./www, stores: [far], databases: {main: {mysql: \"a@db.example/x\", ca_file: ca.pem}}}}\n"
	warned := func() int {
		c, err := Parse(filepath.Join(dir, "revlet.yaml"), []byte(entry))
		require.NoError(t, err)
		n := 0
		for _, w := range c.Warnings {
			if assert.Contains(t, w, "others can change "+ca) {
				n++
			}
		}
		return n
	}
	assert.Zero(t, warned())
	require.NoError(t, os.Chown(ca, 77, 77))
	assert.Zero(t, warned(), "a server's own")
	require.NoError(t, os.Chown(ca, 1234, 1234))
	assert.Equal(t, 3, warned())
	require.NoError(t, os.Chown(ca, 0, 0))
	require.NoError(t, os.Chmod(ca, 0o666))
	assert.Equal(t, 3, warned())
	require.NoError(t, os.Chmod(ca, 0o644))
	require.NoError(t, os.Chown(dir, 1234, 1234))
	assert.Equal(t, 3, warned(), "another could be put in its place")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "revlet.yaml"), []byte(entry), 0o600))
	require.NoError(t, os.Chown(filepath.Join(dir, "revlet.yaml"), 1234, 1234))
	assert.Zero(t, warned(), "whose word all of it is")
}

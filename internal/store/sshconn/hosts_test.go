package sshconn

import (
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"revlet/internal/platform/disk"
)

// The file of known hosts may have been written by others: whatever is in it, a key is
// believed only where it stands.
func FuzzKnownHosts(f *testing.F) {
	made := func() ssh.PublicKey {
		public, _, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(f, err)
		key, err := ssh.NewPublicKey(public)
		require.NoError(f, err)
		return key
	}
	key := made()
	f.Add([]byte(knownhosts.Line([]string{"[harbour.example]:22"}, made())))
	f.Add([]byte("@revoked * ssh-ed25519 AAAA\n|1|c2FsdA==|aGFzaA== ssh-rsa AAAA\n# text\n@cert-authority *.example ssh-ed25519 A"))
	file := filepath.Join(f.TempDir(), "known_hosts")
	f.Fuzz(func(t *testing.T, data []byte) {
		require.NoError(t, os.WriteFile(file, data, 0o600))
		verify, _, err := (&Hosts{Disk: &disk.Disk{}, File: file}).check("harbour.example:22")
		if err != nil {
			return
		}
		if verify("harbour.example:22", &net.TCPAddr{IP: net.IPv4(192, 0, 2, 1), Port: 22}, key) == nil {
			t.Fatalf("a key that was made up a moment ago is known: %q", data)
		}
	})
}

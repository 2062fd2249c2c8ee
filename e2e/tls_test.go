package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/scratchserver"
)

// certified makes a certificate that is its own authority, for a database server at an
// address of this machine.
func certified(t *testing.T, dir string) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "db.kestrelpoint.example"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
	return cert, key
}

// The password of a database went over the line in whatever way the server liked. The
// loopback address stands for a server elsewhere here: `tls: verify` is what holds there.
func TestADatabaseServerIsSpokenToByTLS(t *testing.T) {
	t.Parallel()
	need(t, "mariadbd", "psql")
	w := newWorld(t)
	pems, err := os.MkdirTemp("", "revlet-pem-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(pems) })
	require.NoError(t, os.Chmod(pems, 0o755))
	cert, key := certified(t, pems)
	if os.Geteuid() == 0 { // for the server's account, which has no rights
		for _, account := range []string{"postgres"} {
			sh(t, fmt.Sprintf("chown %s %s", account, key))
		}
	}
	keyForMaria := filepath.Join(pems, "maria.pem")
	sh(t, fmt.Sprintf("cp %s %s && chmod 644 %s", key, keyForMaria, keyForMaria))

	start := func(flags ...string) *server {
		dir, err := os.MkdirTemp("", "revlet-mariadb-")
		require.NoError(t, err)
		m, err := scratchserver.StartMariaDB(t.Context(), dir, scratchserver.Options{Listen: true, Flags: flags})
		require.NoError(t, err)
		s := &server{port: m.Port, socket: m.Socket}
		s.root, err = m.Root()
		require.NoError(t, err)
		t.Cleanup(func() { _ = s.root.Close(); _ = m.Stop(); _ = os.RemoveAll(dir) })
		return s
	}
	withTLS := start("--ssl-cert="+cert, "--ssl-key="+keyForMaria)
	without := start("--skip-ssl")
	for s, demand := range map[*server]string{withTLS: " REQUIRE SSL", without: ""} {
		s.exec(t, "CREATE DATABASE museum; CREATE TABLE museum.pages (id INT PRIMARY KEY); CREATE USER 'museum'@'%' IDENTIFIED BY 'x'"+demand+"; GRANT ALL ON museum.* TO 'museum'@'%'")
	}
	dir, err := os.MkdirTemp("", "rvpg")
	require.NoError(t, err)
	p, err := scratchserver.StartPostgres(t.Context(), dir, scratchserver.Options{Listen: true, Trust: true, Flags: []string{"-c", "ssl=on", "-c", "ssl_cert_file=" + cert, "-c", "ssl_key_file=" + key}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = p.Stop(); _ = os.RemoveAll(dir) })
	pgServer{p}.exec(t, "postgres", "CREATE ROLE museum LOGIN")
	pgServer{p}.exec(t, "postgres", "CREATE DATABASE museum OWNER museum")

	maria, plain, pg := fmt.Sprintf(`mysql: "museum@127.0.0.1:%d/museum"`, withTLS.port), fmt.Sprintf(`mysql: "museum@127.0.0.1:%d/museum"`, without.port), fmt.Sprintf(`postgres: "museum@127.0.0.1:%d/museum"`, p.Port)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("htdocs/index.html", "a page")
	w.write("pw", "x\n")
	for _, c := range []struct{ database, refused string }{
		{maria + ", tls: verify, ca_file: " + cert, ""},
		{maria + ", tls: unverified", ""},
		{maria + ", tls: verify", "is not trusted"},
		{maria + ", tls: off", "refuses user"},
		{plain + ", tls: verify", "speaks no TLS"},
		{plain + ", tls: unverified", "speaks no TLS"},
		{plain + ", tls: off", ""},
		{plain, ""},
		{pg + ", tls: verify, ca_file: " + cert, ""},
		{pg + ", tls: verify", "is not trusted"},
		{pg + ", tls: unverified", ""},
		{pg, ""},
	} {
		w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: {"+c.database+", password_file: pw}}\n")
		if c.refused == "" {
			w.run("backup", "--scope", "database")
			continue
		}
		r := w.fails(1, []string{c.refused}, "backup", "--scope", "database")
		if c.refused != "refuses user" {
			assert.Contains(t, r.err, "next:", c.database)
		}
	}
}

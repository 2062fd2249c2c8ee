package e2e

import (
	"crypto/md5"
	"crypto/sha1"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func listens(port int) func() bool {
	return func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}
}

func sh(t *testing.T, script string) string {
	t.Helper()
	out, err := exec.Command("sh", "-c", script).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// sshd runs the real OpenSSH server with a key for the account that runs this.
func sshd(t *testing.T, w *world) (port int) {
	need(t, "sshd", "ssh-keygen", "ssh-agent")
	port = freePort(t)
	sh(t, fmt.Sprintf(`cd %s && mkdir -p ssh far && ssh-keygen -q -t ed25519 -N '' -f ssh/host && ssh-keygen -q -t rsa -b 2048 -N '' -f ssh/hostrsa &&
		ssh-keygen -q -t ed25519 -N '' -f ssh/id && ssh-keygen -q -t ecdsa -N 'lamp oil' -f ssh/locked && ssh-keygen -q -t rsa -b 2048 -N '' -f ssh/agent &&
		cat ssh/*.pub > ssh/authorized && chmod 600 ssh/*; [ "$(id -u)" != 0 ] || mkdir -p /run/sshd`, w.dir))
	w.write("ssh/config", fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %[2]s/ssh/host\nHostKey %[2]s/ssh/hostrsa\nAuthorizedKeysFile %[2]s/ssh/authorized\n"+
		"PasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM no\nStrictModes no\nPermitRootLogin yes\nPidFile none\nSubsystem sftp internal-sftp\n", port, w.dir))
	sshd, err := exec.LookPath("sshd")
	require.NoError(t, err)
	start(t, listens(port), sshd, "-D", "-e", "-f", w.path("ssh/config"))
	return port
}

// apache runs the real Apache with its WebDAV module: /basic and /digest.
func apache(t *testing.T, w *world) (port int) {
	const modules = "/usr/lib/apache2/modules"
	need(t, "apache2", modules+"/mod_dav_fs.so")
	port = freePort(t)
	secret := sha1.Sum([]byte("practice"))
	ha1 := md5.Sum([]byte("keeper:far:practice"))
	w.write("apache/basic", "keeper:{SHA}"+base64.StdEncoding.EncodeToString(secret[:])+"\n")
	w.write("apache/digest", "keeper:far:"+hex.EncodeToString(ha1[:])+"\n")
	var conf strings.Builder
	for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "auth_digest", "dav", "dav_fs", "dav_lock"} {
		fmt.Fprintf(&conf, "LoadModule %s_module %s/mod_%s.so\n", m, modules, m)
	}
	fmt.Fprintf(&conf, "Listen 127.0.0.1:%d\nServerName localhost\nServerRoot %[2]s/apache\nDocumentRoot %[2]s/apache/root\nPidFile %[2]s/apache/pid\nErrorLog %[2]s/apache/log\nDavLockDB %[2]s/apache/locks/db\n", port, w.dir)
	if os.Geteuid() == 0 {
		conf.WriteString("User daemon\nGroup daemon\n")
	}
	for _, kind := range []string{"Basic", "Digest"} {
		fmt.Fprintf(&conf, "<Location /%[1]s>\nDav On\nAuthType %[2]s\nAuthName far\nAuth%[2]sProvider file\nAuthUserFile %[3]s/apache/%[1]s\nRequire valid-user\n</Location>\n", strings.ToLower(kind), kind, w.dir)
	}
	w.write("apache/conf", conf.String())
	sh(t, fmt.Sprintf("cd %s/apache && mkdir -p root/basic root/digest locks && chmod -R 777 root locks && chmod 644 basic digest && chmod 755 %[1]s . && p=%[1]s; while [ $p != / ]; do chmod o+x $p 2>/dev/null || true; p=$(dirname $p); done", w.dir))
	binary, err := exec.LookPath("apache2")
	require.NoError(t, err)
	start(t, listens(port), binary, "-f", w.path("apache/conf"), "-DFOREGROUND")
	return port
}

// proftpd runs a real FTP server; with TLS it asks for it.
func proftpd(t *testing.T, w *world, tls bool) (port int) {
	need(t, "proftpd", "openssl")
	port = freePort(t)
	uid, gid := os.Geteuid(), os.Getegid()
	account := "root"
	if out, err := exec.Command("id", "-un").Output(); err == nil {
		account = strings.TrimSpace(string(out))
	}
	group := strings.TrimSpace(sh(t, "id -gn"))
	hash := strings.TrimSpace(sh(t, "openssl passwd -6 practice"))
	require.NoError(t, os.MkdirAll(w.path("far"), 0o755))
	w.write("ftp/users", fmt.Sprintf("keeper:%s:%d:%d::%s:/bin/sh\n", hash, uid, gid, w.path("far")))
	conf := fmt.Sprintf("ServerType standalone\nDefaultAddress 127.0.0.1\nSocketBindTight on\nPort %d\nUseIPv6 off\nUser %s\nGroup %s\nRootLogin on\nRequireValidShell off\nAuthUserFile %s\nAuthOrder mod_auth_file.c\n"+
		"PidFile %[5]s/ftp/pid\nScoreboardFile none\nDelayEngine off\nSystemLog %[5]s/ftp/log\nWtmpLog off\nAllowStoreRestart on\nAllowOverwrite on\nMaxInstances 30\nTransferLog none\n", port, account, group, w.path("ftp/users"), w.dir)
	if tls {
		sh(t, fmt.Sprintf("cd %s/ftp && openssl req -x509 -newkey rsa:2048 -nodes -keyout key.pem -out cert.pem -days 30 -subj /CN=far -addext subjectAltName=IP:127.0.0.1 2>&1", w.dir))
		conf = "LoadModule mod_tls.c\n" + conf + fmt.Sprintf("TLSEngine on\nTLSRequired on\nTLSRSACertificateFile %[1]s/ftp/cert.pem\nTLSRSACertificateKeyFile %[1]s/ftp/key.pem\nTLSLog %[1]s/ftp/tls.log\nTLSProtocol TLSv1.2 TLSv1.3\n", w.dir)
	}
	w.write("ftp/conf", conf)
	require.NoError(t, os.Chmod(w.path("ftp/users"), 0o600))
	binary, err := exec.LookPath("proftpd")
	require.NoError(t, err)
	start(t, listens(port), binary, "-n", "-c", w.path("ftp/conf"))
	return port
}

// The same story with real servers at the far end.
func TestRealServersAtTheFarEnd(t *testing.T) {
	t.Parallel()
	user := strings.TrimSpace(sh(t, "id -un"))
	cases := map[string]func(*testing.T, *world) far{
		"sshd": func(t *testing.T, w *world) far {
			address := fmt.Sprintf("sftp://%s@127.0.0.1:%d%s/revlet", user, sshd(t, w), w.path("far"))
			return far{fmt.Sprintf("{sftp: %q, key_file: %s}", address, w.path("ssh/id")), []string{address, "--ssh-key", w.path("ssh/id"), "--trust"}, w.path("far/revlet")}
		},
		"apache basic":  func(t *testing.T, w *world) far { return apacheAt(t, w, "basic") },
		"apache digest": func(t *testing.T, w *world) far { return apacheAt(t, w, "digest") },
		"proftpd with TLS": func(t *testing.T, w *world) far {
			address := fmt.Sprintf("ftp://keeper@127.0.0.1:%d/revlet", proftpd(t, w, true))
			return far{fmt.Sprintf("{ftp: %q, password_file: %s, ca_file: %s}", strings.Replace(address, "/revlet", w.path("far/revlet"), 1), w.path("far.pw"), w.path("ftp/cert.pem")),
				[]string{strings.Replace(address, "/revlet", w.path("far/revlet"), 1), "--password-file", w.path("far.pw"), "--ca-file", w.path("ftp/cert.pem")}, w.path("far/revlet")}
		},
		"proftpd plain": func(t *testing.T, w *world) far {
			address := fmt.Sprintf("ftp://keeper@127.0.0.1:%d/~/revlet", proftpd(t, w, false))
			return far{fmt.Sprintf("{plain_ftp: %q, password_file: %s}", address, w.path("far.pw")),
				[]string{"plain-" + address, "--password-file", w.path("far.pw")}, w.path("far/revlet")}
		},
	}
	for name, prepare := range cases {
		t.Run(name, func(t *testing.T) {
			w, address := museum(t)
			w.write("far.pw", "practice\n")
			f := prepare(t, w)
			tree, content := snapshot(t, w.path("htdocs"), "data", "cache/home.html"), rows(t, w)
			offsiteOnly(w, address, f, "")
			if strings.Contains(f.config, "sftp") {
				w.fails(1, []string{"is not known yet"}, "backup")
				assert.Contains(t, w.run("stores", "test", "harbour", "--trust"), "Works:")
			}
			assert.Contains(t, w.run("stores", "test"), "Works:")
			w.run("backup")
			w.run("backup", "--fresh")
			w.run("verify", "--full")
			noneLeftOver(t, w, f)

			loseTheMachine(w)
			w.run(append([]string{"stores", "discover", "--name", "harbour"}, f.discover...)...)
			w.run("restore", "kestrelpoint", "--root", w.path("htdocs"), "--yes")
			assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
			assert.Equal(t, content, rows(t, w))
		})
	}
}

func apacheAt(t *testing.T, w *world, kind string) far {
	address := fmt.Sprintf("http://127.0.0.1:%d/%s/revlet", apache(t, w), kind)
	return far{fmt.Sprintf("{webdav: %q, user: keeper, password_file: %s}", address, w.path("far.pw")),
		[]string{address, "--user", "keeper", "--password-file", w.path("far.pw")}, w.path("apache/root", kind, "revlet")}
}

// The ways to prove to a real sshd who we are, and a host key that changed.
func TestWaysIntoARealSSHServer(t *testing.T) {
	w, _ := museum(t)
	port := sshd(t, w)
	user := strings.TrimSpace(sh(t, "id -un"))
	address := fmt.Sprintf("sftp://%s@127.0.0.1:%d%s/revlet", user, port, w.path("far"))
	store := func(more string) {
		w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {harbour: {sftp: %q%s}}\nsites: {}\n", address, more))
	}
	store(", key_file: ./ssh/id")
	w.run("stores", "test", "harbour", "--trust")
	w.write("phrase", "lamp oil\n")
	store(", key_file: ./ssh/locked, password_file: ./phrase")
	w.run("stores", "test")
	store(", key_file: ./ssh/locked")
	w.fails(1, []string{"has a passphrase", "password_file"}, "stores", "test")
	store(", password_file: ./phrase")
	w.fails(1, []string{"does not let"}, "stores", "test")
	store("")
	w.fails(1, []string{"neither", "key_file"}, "stores", "test")
	agent := sh(t, fmt.Sprintf("cd %s && ssh-agent -a agent.sock >agent.env && SSH_AUTH_SOCK=agent.sock ssh-add -q ssh/agent && sed -n 's/.*SSH_AGENT_PID=\\([0-9]*\\).*/\\1/p' agent.env", w.dir))
	t.Cleanup(func() { _ = exec.Command("kill", strings.TrimSpace(agent)).Run() })
	t.Setenv("SSH_AUTH_SOCK", w.path("agent.sock"))
	w.run("stores", "test")

	known, err := os.ReadFile(w.path("state/known_hosts"))
	require.NoError(t, err)
	other := strings.Fields(sh(t, "cat "+w.path("ssh/id.pub")))
	w.write("state/known_hosts", strings.Fields(string(known))[0]+" "+other[0]+" "+other[1]+"\n")
	w.fails(1, []string{"HAS CHANGED", "nothing was sent"}, "stores", "test")
	w.fails(1, []string{"HAS CHANGED"}, "stores", "test", "harbour", "--trust")
	w.run("stores", "test", "harbour", "--forget-host", "--trust")
	var fingerprint string
	for _, f := range strings.Fields(sh(t, "ssh-keygen -l -f "+w.path("ssh/host.pub"))) {
		if strings.HasPrefix(f, "SHA256:") {
			fingerprint = f
		}
	}
	store(", host_key: \"" + fingerprint + "\"")
	w.run("stores", "test")
}

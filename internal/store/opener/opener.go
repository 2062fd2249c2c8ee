// Package opener makes stores of their descriptions in the configuration.
package opener

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/process"
	"revlet/internal/store"
	"revlet/internal/store/appendonly"
	"revlet/internal/store/folder"
	"revlet/internal/store/ftp"
	"revlet/internal/store/ftpconn"
	"revlet/internal/store/link"
	"revlet/internal/store/program"
	"revlet/internal/store/retry"
	"revlet/internal/store/s3"
	"revlet/internal/store/sftp"
	"revlet/internal/store/sshconn"
	"revlet/internal/store/webdav"
)

// Opener makes stores.
type Opener struct {
	Disk *disk.Disk
	// KnownHosts is the file of accepted SSH host keys.
	KnownHosts string
	// Trust accepts SSH hosts that are not known yet; Trusted is told of them.
	Trust   bool
	Trusted func(host, fingerprint string)
	// RetryPause is the first wait between tries; 0 is the usual one.
	RetryPause time.Duration
	// Account logs in at SSH machines whose address names nobody. SSHAgent is the
	// socket of an SSH agent, or empty.
	Account, SSHAgent string
	// Links is the folder of what is kept of links.
	Links string
	// By are accounts beside root whose programs may be run as root.
	By []int
	// Alive, if set, is called whenever a store elsewhere shows a sign of life.
	Alive func()
}

// Open makes a store; nothing is connected yet. An error is one in what the
// configuration says or in a secret it names.
func (o *Opener) Open(name string, c config.Store) (store.Named, error) {
	if c.Folder != "" {
		return store.Named{Name: name, Store: folder.New(o.Disk, c.Folder)}, nil
	}
	inner, err := o.remote(name, c)
	if err != nil {
		return store.Named{}, fmt.Errorf("store %s: %w", name, err)
	}
	s := store.Named{Name: name, Lanes: c.Lanes,
		Store: retry.New(inner, retry.Options{Rate: c.BytesPerSecond, Silence: c.Patience, Pause: o.RetryPause, Alive: o.Alive})}
	if c.KeptElsewhere() {
		s.Store = appendonly.Wrap(s.Store)
	}
	return s, nil
}

func (o *Opener) remote(name string, c config.Store) (store.Store, error) {
	if c.Kind() == "program" {
		if err := process.Trusted(c.Program, o.By...); err != nil {
			return nil, err
		}
		return program.New(program.Options{Command: c.Program, Env: process.Environment(), Lanes: c.Lanes, Where: "program " + strings.Join(c.Program, " "), Elsewhere: c.Elsewhere, AppendOnly: c.KeptElsewhere()}), nil
	}
	u, err := c.URL()
	if err != nil {
		return nil, err
	}
	user := c.User
	if user == "" {
		user = u.User.Username()
	}
	where := *u
	where.User = nil
	switch c.Kind() {
	case "sftp":
		where.User = u.User
		return sftp.New(sftp.Options{Dialer: o.SSH(u, c), Dir: config.RemoteDir(u), Lanes: c.Lanes, Where: where.String(), AppendOnly: c.KeptElsewhere()}), nil
	case "webdav", "plain_webdav":
		password, err := c.Password()
		if err != nil {
			return nil, err
		}
		tlsConfig, err := store.TLS(c.CAFile)
		if err != nil {
			return nil, err
		}
		options := webdav.Options{URL: where.String(), User: user, Password: password, Transport: store.Transport(tlsConfig, c.Lanes, store.LongestAnswer), Lanes: c.Lanes, Where: where.String(), AppendOnly: c.KeptElsewhere()}
		if c.Link != nil {
			l, err := o.Link(name, c)
			if err != nil {
				return nil, err
			}
			options.Transport = l.Transport(options.Transport)
		}
		return webdav.New(options), nil
	case "s3", "plain_s3":
		secret, err := c.Secret()
		if err != nil {
			return nil, err
		}
		tlsConfig, err := store.TLS(c.CAFile)
		if err != nil {
			return nil, err
		}
		bucket, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
		return s3.New(s3.Options{Endpoint: u.Host, Secure: u.Scheme == "https", Bucket: bucket, Prefix: prefix, Region: c.Region, AccessKey: c.AccessKey,
			Secret: secret, HostStyle: c.Style == "host", Transport: store.Transport(tlsConfig, c.Lanes, store.LongestPage), Lanes: c.Lanes, Where: where.String(),
			AppendOnly: c.KeptElsewhere(), Lock: c.LockFor, Compliance: c.LockMode == "compliance"})
	default:
		return openFTP(c, u, user, where.String())
	}
}

// Link is the consent to use a store that says `link:`.
func (o *Opener) Link(name string, c config.Store) (*link.Link, error) {
	tlsConfig, err := store.TLS(c.CAFile)
	if err != nil {
		return nil, err
	}
	return link.New(link.Options{Name: name, Place: c.WebDAV, Entry: *c.Link, File: filepath.Join(o.Links, name+".json"), Disk: o.Disk,
		Transport: store.Transport(tlsConfig, 1, store.LongestAnswer)}), nil
}

func openFTP(c config.Store, u *url.URL, user, where string) (store.Store, error) {
	password, err := c.Password()
	if err != nil {
		return nil, err
	}
	o := ftp.Options{Host: withPort(u, "21"), User: user, Password: password, Dir: config.RemoteDir(u), Lanes: c.Lanes, Where: where, AppendOnly: c.KeptElsewhere()}
	if c.Kind() == "ftp" {
		if o.TLS, err = store.TLS(c.CAFile); err != nil {
			return nil, err
		}
		o.TLS.ServerName = u.Hostname()
	}
	return ftp.New(o), nil
}

// FTP says how to log in at the machine of an address over FTP, with the means that an entry
// names.
func (o *Opener) FTP(u *url.URL, c config.Store) (ftpconn.Dialer, error) {
	password, err := c.Password()
	if err != nil {
		return ftpconn.Dialer{}, err
	}
	d := ftpconn.Dialer{Host: withPort(u, "21"), User: cmp.Or(c.User, u.User.Username(), o.Account), Password: password, Where: u.Host}
	if c.Kind() == "ftp" {
		if d.TLS, err = store.TLS(c.CAFile); err != nil {
			return d, err
		}
		d.TLS.ServerName = u.Hostname()
	}
	return d, nil
}

// SSH says how to log in at the machine of an address, with the means that an entry
// names: its user, key file, password and host key.
func (o *Opener) SSH(u *url.URL, c config.Store) sshconn.Dialer {
	return sshconn.Dialer{Host: withPort(u, "22"), User: cmp.Or(c.User, u.User.Username(), o.Account),
		Auth: func() ([]ssh.AuthMethod, error) { return o.sshAuth(c) }, Hosts: o.Hosts(c.HostKey)}
}

// Hosts are the SSH machines that are known.
func (o *Opener) Hosts(pin string) *sshconn.Hosts {
	return &sshconn.Hosts{Disk: o.Disk, File: o.KnownHosts, Pin: pin, Trust: o.Trust, Trusted: o.Trusted}
}

// Forget drops the accepted key of an SSH store's machine.
func (o *Opener) Forget(c config.Store) error {
	u, err := c.URL()
	if err != nil {
		return err
	}
	return o.Hosts("").Forget(withPort(u, "22"))
}

func withPort(u *url.URL, port string) string {
	if u.Port() != "" {
		port = u.Port()
	}
	return net.JoinHostPort(u.Hostname(), port)
}

// sshAuth gathers the ways to prove who we are: a key file, the agent, a
// password.
func (o *Opener) sshAuth(c config.Store) ([]ssh.AuthMethod, error) {
	password, err := c.Password()
	if err != nil {
		return nil, err
	}
	var all []ssh.AuthMethod
	if c.KeyFile != "" {
		signer, err := readKey(c.KeyFile, password)
		if err != nil {
			return nil, err
		}
		all = append(all, ssh.PublicKeys(signer))
	} else if o.SSHAgent != "" {
		all = append(all, ssh.PublicKeysCallback(sshAgent(o.SSHAgent).keys))
	}
	if password != "" {
		all = append(all, ssh.Password(password), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = password
			}
			return answers, nil
		}))
	}
	if len(all) == 0 {
		return nil, errors.New("it says neither `key_file:` nor `password_file:` nor `password_env:`, and no SSH agent is running")
	}
	return all, nil
}

// readKey reads a private key; password opens it if it is locked.
func readKey(file, password string) (ssh.Signer, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read `key_file:`: %w", err)
	}
	signer, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		if password == "" {
			return nil, fmt.Errorf("the key %s has a passphrase; name the file that holds it in `password_file:`", file)
		}
		signer, err = ssh.ParsePrivateKeyWithPassphrase(data, []byte(password))
	}
	if err != nil {
		return nil, fmt.Errorf("`key_file: %s`: %w", file, err)
	}
	return signer, nil
}

package sshconn

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/store"
)

// Hosts knows the keys of machines that a person has accepted. They stand in a
// file in the format of sshd(8)'s known hosts.
type Hosts struct {
	Disk *disk.Disk
	File string
	// Pin, if set, is the one fingerprint that is accepted (`SHA256:…`), whatever
	// the file says.
	Pin string
	// Trust accepts a machine that is not known yet, and remembers its key. A key
	// that has changed is refused all the same.
	Trust bool
	// Trusted is told of a key that was accepted and remembered.
	Trusted func(host, fingerprint string)
}

// HostKeyError tells that the machine at an address could not prove that it is
// the one it should be.
type HostKeyError struct {
	Host string
	// Fingerprint is that of the key it showed, Kind the key's kind.
	Fingerprint, Kind string
	// Known are the fingerprints that were accepted before; none means that the
	// machine is new.
	Known []string
}

// Error implements error.
func (e *HostKeyError) Error() string {
	if len(e.Known) == 0 {
		return fmt.Sprintf("the machine %s is not known yet; its %s key is %s; compare that with what its owner tells you", e.Host, e.Kind, e.Fingerprint)
	}
	return fmt.Sprintf("THE KEY OF %s HAS CHANGED: it shows %s (%s), known is %s. Either the machine was set up anew, or somebody is in between: nothing was sent",
		e.Host, e.Fingerprint, e.Kind, strings.Join(e.Known, ", "))
}

// Why implements reason.Reasoned.
func (e *HostKeyError) Why() (reason.Reason, reason.Names) {
	if len(e.Known) == 0 {
		return reason.HostUnknown, reason.Names{"host": e.Host}
	}
	return reason.HostChanged, reason.Names{"host": e.Host}
}

// Is says that trying again is of no use.
func (e *HostKeyError) Is(target error) bool { return target == store.ErrRefused }

// check returns what a connection to host is verified with, and the kinds of
// keys to ask for, one after the other, so that a machine with several shows the
// one that is known.
func (h *Hosts) check(host string) (ssh.HostKeyCallback, [][]string, error) {
	if h.Pin != "" {
		return h.pinned, everyKind, nil // a fingerprint does not say of which kind
	}
	if err := h.Disk.MkdirAll(filepath.Dir(h.File), 0o700); err != nil {
		return nil, nil, err
	}
	f, err := h.Disk.OpenFile(h.File, os.O_RDONLY|os.O_CREATE, 0o600)
	if err != nil {
		return nil, nil, fmt.Errorf("the known hosts: %w", err)
	}
	_ = f.Close()
	known, err := knownhosts.New(h.File)
	if err != nil {
		return nil, nil, fmt.Errorf("the known hosts: %w", err)
	}
	verify := func(name string, remote net.Addr, key ssh.PublicKey) error { return h.verify(known, name, remote, key) }
	return verify, [][]string{kinds(known, host)}, nil
}

// everyKind are the kinds of keys that a machine may have one of each of.
var everyKind = [][]string{
	{ssh.KeyAlgoED25519}, {ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521}, {ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256},
}

func (h *Hosts) pinned(host string, _ net.Addr, key ssh.PublicKey) error {
	if got := ssh.FingerprintSHA256(key); got != h.Pin {
		return &HostKeyError{Host: host, Fingerprint: got, Kind: key.Type(), Known: []string{h.Pin + " (`host_key:` in the configuration)"}}
	}
	return nil
}

func (h *Hosts) verify(known ssh.HostKeyCallback, host string, remote net.Addr, key ssh.PublicKey) error {
	err := known(host, remote, key)
	var other *knownhosts.KeyError
	if !errors.As(err, &other) {
		return err
	}
	e := &HostKeyError{Host: host, Fingerprint: ssh.FingerprintSHA256(key), Kind: key.Type()}
	for _, k := range other.Want {
		e.Known = append(e.Known, ssh.FingerprintSHA256(k.Key))
	}
	if len(e.Known) > 0 || !h.Trust {
		return e
	}
	if err := h.remember(host, key); err != nil {
		return err
	}
	if h.Trusted != nil {
		h.Trusted(host, e.Fingerprint)
	}
	return nil
}

func (h *Hosts) remember(host string, key ssh.PublicKey) error {
	data, err := h.Disk.ReadFile(h.File)
	if err != nil {
		return fmt.Errorf("remember the key of %s: %w", host, err)
	}
	line := knownhosts.Line([]string{knownhosts.Normalize(host)}, key)
	if slices.Contains(strings.Split(string(data), "\n"), line) {
		return nil
	}
	return h.Disk.WriteFile(h.File, append(data, line+"\n"...), 0o600)
}

// Forget drops every key known for a host.
func (h *Hosts) Forget(host string) error {
	data, err := h.Disk.ReadFile(h.File)
	if err != nil {
		return fmt.Errorf("forget the key of %s: %w", host, err)
	}
	lines := slices.DeleteFunc(strings.SplitAfter(string(data), "\n"), func(line string) bool {
		return strings.HasPrefix(line, knownhosts.Normalize(host)+" ")
	})
	return h.Disk.WriteFile(h.File, []byte(strings.Join(lines, "")), 0o600)
}

// kinds are the signature algorithms for the keys that are known of a host;
// nil, for any, when none is.
func kinds(known ssh.HostKeyCallback, host string) []string {
	var e *knownhosts.KeyError
	if err := known(host, &net.TCPAddr{}, noKey{}); !errors.As(err, &e) {
		return nil
	}
	var all []string
	for _, k := range e.Want {
		if kind := k.Key.Type(); kind == ssh.KeyAlgoRSA {
			all = append(all, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			all = append(all, kind)
		}
	}
	return all
}

// noKey is a key that no machine has: asking for it tells which are known.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

package config

import (
	"errors"
	"fmt"
	"net/url"
)

// Link says how consent to use a WebDAV place is got, in place of a password: by the device authorization grant
// (RFC 8628). Either Issuer is set, whose metadata (RFC 8414) say the rest, or Device and Token.
type Link struct {
	// Issuer is the https address of whoever gives tokens.
	Issuer string `yaml:"issuer"`
	// Device is the endpoint that a question is put at.
	Device string `yaml:"device"`
	// Token is the endpoint that gives tokens.
	Token string `yaml:"token"`
	// Revoke is the endpoint that takes them back (RFC 7009).
	Revoke string `yaml:"revoke"`
	// Client is what the place calls this program: its client_id.
	Client string `yaml:"client"`
	// SecretFile holds the client's secret, for places that give one.
	SecretFile string `yaml:"secret_file"`
	// Scope is what is asked for, in words apart by blanks.
	Scope string `yaml:"scope"`
}

// Secret returns the client's secret, or nothing.
func (l Link) Secret() (string, error) { return readSecret("the client's secret", l.SecretFile, "") }

// SafeAddress refuses an address that a secret would go to in the clear, or that is none.
func SafeAddress(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.User != nil:
		return fmt.Errorf("%q is no address such as https://host/path", address)
	case u.Scheme != "https" && !(u.Scheme == "http" && OnThisMachine(u.Hostname())):
		return fmt.Errorf("%s is to be https: what goes there is as good as a password", address)
	}
	return nil
}

// settleLink checks how a store is linked.
func (s *Store) settleLink(base string) error {
	l := s.Link
	if l == nil {
		return nil
	}
	switch {
	case s.Kind() != "webdav":
		return errors.New("`link:` is for `webdav:`, inside TLS")
	case s.User != "" || s.PasswordFile != "" || s.PasswordEnv != "":
		return errors.New("it has both `link:` and a user or password; keep one")
	case l.Client == "":
		return errors.New("`link:` needs `client:`, what the place calls this program (its client_id)")
	case l.Issuer == "" && (l.Device == "" || l.Token == ""), l.Issuer != "" && (l.Device != "" || l.Token != "" || l.Revoke != ""):
		return errors.New("`link:` needs `issuer:`, or both `device:` and `token:`, and not all of them")
	}
	for key, address := range map[string]string{"issuer": l.Issuer, "device": l.Device, "token": l.Token, "revoke": l.Revoke} {
		if address == "" {
			continue
		}
		if err := SafeAddress(address); err != nil {
			return fmt.Errorf("`link:` `%s:` %w", key, err)
		}
	}
	l.SecretFile = absolute(base, l.SecretFile)
	return nil
}

package config

import (
	"errors"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"
)

// Reach says how the machine of a site is reached that lives elsewhere: with the words of
// a store.
type Reach struct {
	PasswordFile string `yaml:"password_file"`
	PasswordEnv  string `yaml:"password_env"`
	// KeyFile is an SSH private key; its passphrase, if it has one, is the password.
	KeyFile string `yaml:"key_file"`
	// CAFile is the authority that a certificate over FTP is of, in PEM.
	CAFile string `yaml:"ca_file"`
	// HostKey pins the machine's SSH key by its fingerprint, `SHA256:…`.
	HostKey string `yaml:"host_key"`
	// Commands is no where none is to be run over there, even if the account may.
	Commands string `yaml:"commands"`
	// Rate bounds what is read, such as `5 MB/s`.
	Rate string `yaml:"rate"`
	// Lanes is the most connections at a time; 0 means 4.
	Lanes int `yaml:"lanes"`
	// Silence is how long the far end may say nothing, such as `90 seconds`.
	Silence string `yaml:"silence"`
}

// Far tells whether the site lives on another machine.
func (s Site) Far() bool { return isFar(s.Root) }

func isFar(root string) bool { return strings.Contains(root, "://") }

// Base is what its root begins with, up to the path: sftp://user@host:port. It is empty
// for a site on this machine.
func (s Site) Base() string {
	if !s.Far() {
		return ""
	}
	scheme, rest, _ := strings.Cut(s.Root, "://")
	host, _, _ := strings.Cut(rest, "/")
	return scheme + "://" + host
}

// Login is a store on the site's machine, with what is needed to log in there.
func (s Site) Login() Store {
	r := s.Reach
	if r == nil {
		r = &Reach{}
	}
	login := Store{PasswordFile: r.PasswordFile, PasswordEnv: r.PasswordEnv, KeyFile: r.KeyFile, HostKey: r.HostKey, CAFile: r.CAFile, Rate: r.Rate, Lanes: r.Lanes, Silence: r.Silence}
	switch scheme, rest, _ := strings.Cut(s.Root, "://"); scheme {
	case "ftp":
		login.FTP = s.Root
	case "plain-ftp":
		login.PlainFTP = "ftp://" + rest
	default:
		login.SFTP = s.Root
	}
	login.BytesPerSecond, login.Patience = s.ReachRate, s.ReachSilence
	return login
}

// Settle checks a root elsewhere, and how it is reached; relative paths start from base.
func (s *Site) Settle(base string) error { return s.settleReach(base) }

// SplitHome tells whether an address has a path that begins in the account's home, which
// only its machine can resolve: base comes before the path.
func SplitHome(root string) (base, dir string, home bool) {
	base = Site{Root: root}.Base()
	dir = strings.TrimPrefix(root, base)
	return base, dir, base != "" && (dir == "" || strings.HasPrefix(dir, "/~"))
}

// rootsHere makes sure that the further folders of a site on this machine are on it, too.
func (s *Site) rootsHere() error {
	for label, dir := range s.Roots {
		if (Site{Root: dir}).Far() {
			return fmt.Errorf("`roots: {%s: %s}` lies elsewhere, and the webroot on this machine", label, dir)
		}
	}
	return nil
}

// rootsThere completes those of a site elsewhere.
func (s *Site) rootsThere() error {
	for label, dir := range s.Roots {
		there := strings.TrimPrefix(dir, s.Base())
		if !strings.HasPrefix(there, "/") || strings.HasPrefix(there, "/~") || path.Clean(there) == "/" {
			return fmt.Errorf("`roots: {%s: %s}`: it is to be a whole path on the machine of `root:`, and of the same account", label, dir)
		}
		s.Roots[label] = s.Base() + path.Clean(there)
	}
	return nil
}

func (s *Site) settleReach(base string) error {
	if !s.Far() {
		if s.Reach != nil {
			return errors.New("`reach:` is for a site elsewhere, whose `root:` begins with sftp://")
		}
		return s.rootsHere()
	}
	u, err := url.Parse(s.Root)
	switch {
	case err != nil || u.Host == "" || u.RawQuery != "" || u.Fragment != "":
		return fmt.Errorf("`root: %s` is no address; it looks like sftp://user@host/home/user/public_html", s.Root)
	case !slices.Contains([]string{"sftp", "ftp", "plain-ftp"}, u.Scheme):
		return fmt.Errorf("`root: %s`: a site elsewhere is reached by sftp://, or by ftp:// or plain-ftp://", s.Root)
	case strings.HasPrefix(u.Path, "/~"):
		return fmt.Errorf("`root: %s`: write the whole path, as the machine has it; `adopt` finds it out", s.Root)
	}
	if _, has := u.User.Password(); has {
		return errors.New("`root:` has a password in its address; put it into a file and name that in `reach: {password_file: …}`")
	}
	// The path counts as it is written: names of files have no escapes.
	far := strings.TrimPrefix(s.Root, s.Base())
	if far == "" || path.Clean(far) == "/" {
		return fmt.Errorf("`root: %s` names no folder", s.Root)
	}
	s.Root = s.Base() + path.Clean(far)
	if err := s.rootsThere(); err != nil {
		return err
	}
	if s.Reach == nil {
		return nil
	}
	r := *s.Reach
	if r.PasswordFile != "" && r.PasswordEnv != "" {
		return errors.New("`reach:` has both `password_file:` and `password_env:`; keep one")
	}
	if r.Lanes < 0 || r.Lanes > 64 {
		return fmt.Errorf("`lanes: %d`: it is 1 to 64", r.Lanes)
	}
	if r.Commands != "" && r.Commands != "no" {
		return fmt.Errorf("`commands: %s`: it is no, or left out", r.Commands)
	}
	r.PasswordFile, r.KeyFile, r.CAFile = absolute(base, r.PasswordFile), absolute(base, r.KeyFile), absolute(base, r.CAFile)
	switch {
	case u.Scheme == "sftp" && r.CAFile != "":
		return errors.New("`reach: {ca_file: …}` is for ftp://; a machine behind sftp:// has a `host_key:`")
	case u.Scheme != "sftp" && (r.KeyFile != "" || r.HostKey != "" || r.Commands != ""):
		return errors.New("`reach:` has a key or commands of SSH; FTP has neither")
	}
	s.Reach = &r
	if s.ReachRate, err = parseRate(r.Rate); err == nil && r.Silence != "" {
		if s.ReachSilence, err = ParseSpan(r.Silence); err != nil {
			err = fmt.Errorf("`silence:` %w", err)
		}
	}
	return err
}

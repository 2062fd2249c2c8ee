package config

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"revlet/internal/rules/retention"
)

// Store says where archives are held. Exactly one address is set: Folder, SFTP,
// WebDAV, S3, FTP, a plain one, or Program.
type Store struct {
	Folder string `yaml:"folder"`
	// SFTP is sftp://user@host:port/folder; /~/folder starts at the account's home.
	SFTP string `yaml:"sftp"`
	// WebDAV is the https address of a folder, PlainWebDAV one without TLS.
	WebDAV      string `yaml:"webdav"`
	PlainWebDAV string `yaml:"plain_webdav"`
	// S3 is https://endpoint/bucket/prefix, PlainS3 the same without TLS.
	S3      string `yaml:"s3"`
	PlainS3 string `yaml:"plain_s3"`
	// FTP is ftp://user@host:port/folder, spoken inside TLS; PlainFTP is the same
	// without.
	FTP      string `yaml:"ftp"`
	PlainFTP string `yaml:"plain_ftp"`

	// Program is a helper program with its words, for places that speak none of these: see
	// docs/STORES.md.
	Program Phrases `yaml:"program"`
	// Elsewhere says of a helper program that what it keeps is on another machine: nobody else can know.
	Elsewhere bool `yaml:"elsewhere"`

	User         string `yaml:"user"`
	PasswordFile string `yaml:"password_file"`
	PasswordEnv  string `yaml:"password_env"`
	// Link is how somebody says yes to the use of a WebDAV place, in place of a password.
	Link *Link `yaml:"link"`
	// KeyFile is an SSH private key; its passphrase, if it has one, is the password.
	KeyFile string `yaml:"key_file"`
	// HostKey pins an SSH server's key by its fingerprint, `SHA256:…`.
	HostKey   string `yaml:"host_key"`
	AccessKey string `yaml:"access_key"`
	// SecretFile and SecretEnv say where the secret of AccessKey is read from.
	SecretFile string `yaml:"secret_file"`
	SecretEnv  string `yaml:"secret_env"`
	Region     string `yaml:"region"`
	// Style is how a bucket is addressed: path (the default) or host.
	Style string `yaml:"style"`
	// CAFile holds certificates, in PEM, of authorities that are trusted as well.
	CAFile string `yaml:"ca_file"`
	// Rate bounds what is sent and read, such as `5 MB/s`.
	Rate string `yaml:"rate"`
	// Lanes is the most connections at a time; 0 means 4.
	Lanes int `yaml:"lanes"`
	// Silence is how long the far end may say nothing, such as `90 seconds`.
	Silence string `yaml:"silence"`

	// Keeper says who deletes in the store: elsewhere, when this machine may neither delete
	// nor overwrite there; empty is this machine.
	Keeper string `yaml:"keeper"`
	// Lock is for how long an S3 bucket's object lock holds what is written, such as
	// `30 days`; LockMode is governance (the default) or compliance.
	Lock     string `yaml:"lock"`
	LockMode string `yaml:"lock_mode"`

	// Keep are keep rules for this store, in place of the sites' own.
	Keep *[]string `yaml:"keep"`

	// BytesPerSecond, Patience and KeepRules are Rate, Silence and Keep as read.
	BytesPerSecond int64         `yaml:"-"`
	Patience       time.Duration `yaml:"-"`
	// LockFor is Lock as read.
	LockFor   time.Duration    `yaml:"-"`
	KeepRules []retention.Rule `yaml:"-"`
}

// KeptElsewhere tells that this machine neither deletes nor overwrites in the store.
func (s Store) KeptElsewhere() bool { return s.Keeper == KeeperElsewhere }

// KeeperElsewhere is what Keeper says of a store that another machine looks after.
const KeeperElsewhere = "elsewhere"

// settleKeeper checks who may do what in the store.
func (s *Store) settleKeeper() (err error) {
	isS3 := s.Kind() == "s3" || s.Kind() == "plain_s3"
	switch {
	case s.Keeper != "" && s.Keeper != KeeperElsewhere:
		return fmt.Errorf("`keeper: %s`: it is elsewhere, or left out", s.Keeper)
	case s.Keeper != "" && s.Folder != "":
		return errors.New("`keeper: elsewhere` is for stores on other machines: whoever takes this one over can delete a folder of it")
	case s.Lock == "" && s.LockMode != "", s.Lock != "" && !isS3:
		return errors.New("`lock:` is how long the object lock of an S3 bucket holds what is written, such as 30 days; `lock_mode:` goes with it")
	case s.LockMode != "" && s.LockMode != "governance" && s.LockMode != "compliance":
		return fmt.Errorf("`lock_mode: %s`: it is governance or compliance", s.LockMode)
	}
	if s.Lock != "" {
		if s.LockFor, err = ParseSpan(s.Lock); err != nil {
			return fmt.Errorf("`lock:` %w", err)
		}
	}
	return nil
}

// Kind is the key of the address that is set.
func (s Store) Kind() string {
	for _, a := range s.addresses() {
		if a[1] != "" {
			return a[0]
		}
	}
	return ""
}

func (s Store) addresses() [][2]string {
	return [][2]string{{"folder", s.Folder}, {"sftp", s.SFTP}, {"webdav", s.WebDAV}, {"plain_webdav", s.PlainWebDAV}, {"s3", s.S3}, {"plain_s3", s.PlainS3}, {"ftp", s.FTP}, {"plain_ftp", s.PlainFTP}, {"program", strings.Join(s.Program, " ")}}
}

// ParseAddress makes a store of an address as typed: a folder, or a URL whose
// scheme says the protocol.
func ParseAddress(typed string) (Store, error) {
	scheme, rest, ok := strings.Cut(typed, "://")
	if !ok {
		return Store{Folder: typed}, nil
	}
	switch scheme {
	case "sftp":
		return Store{SFTP: typed}, nil
	case "ftp":
		return Store{FTP: typed}, nil
	case "webdav", "https":
		return Store{WebDAV: "https://" + rest}, nil
	case "http":
		return Store{WebDAV: typed}, nil
	case "s3":
		return Store{S3: "https://" + rest}, nil
	case "s3+http":
		return Store{S3: "http://" + rest}, nil
	case "plain-http":
		return Store{PlainWebDAV: "http://" + rest}, nil
	case "plain-s3":
		return Store{PlainS3: "http://" + rest}, nil
	case "plain-ftp":
		return Store{PlainFTP: "ftp://" + rest}, nil
	}
	return Store{}, fmt.Errorf("%q is no address of a store: it begins with sftp://, https:// (WebDAV), s3://, ftp:// or plain-ftp://, or it is a folder", typed)
}

// Settle checks a store and makes its paths absolute.
func (s *Store) Settle(base string) error {
	var kinds []string
	for _, a := range s.addresses() {
		if a[1] != "" {
			kinds = append(kinds, "`"+a[0]+":`")
		}
	}
	switch {
	case len(kinds) == 0:
		return errors.New("it needs an address, such as `folder: /var/backups/revlet` or `sftp: \"sftp://keeper@harbour.example/revlet\"`")
	case len(kinds) > 1:
		return fmt.Errorf("it has %d addresses (%s); keep one, and make a store of each", len(kinds), strings.Join(kinds, ", "))
	case s.PasswordFile != "" && s.PasswordEnv != "":
		return errors.New("it has both `password_file:` and `password_env:`; keep one")
	case s.Elsewhere && len(s.Program) == 0:
		return errors.New("`elsewhere:` goes with `program:`; of other stores it is known")
	case s.Style != "" && s.Style != "path" && s.Style != "host":
		return fmt.Errorf("`style: %s`: it is path or host", s.Style)
	case s.Lanes < 0 || s.Lanes > 64:
		return fmt.Errorf("`lanes: %d`: it is 1 to 64", s.Lanes)
	}
	if s.Lanes == 0 {
		s.Lanes = 4
	}
	for _, p := range []*string{&s.Folder, &s.PasswordFile, &s.KeyFile, &s.SecretFile, &s.CAFile} {
		*p = absolute(base, *p)
	}
	var err error
	if s.KeepRules, err = parseKeep(s.Keep); err != nil {
		return err
	}
	if s.BytesPerSecond, err = parseRate(s.Rate); err != nil {
		return err
	}
	if s.Silence != "" {
		if s.Patience, err = ParseSpan(s.Silence); err != nil {
			return fmt.Errorf("`silence:` %w", err)
		}
	}
	if len(s.Program) > 0 && strings.Contains(s.Program[0], "/") {
		s.Program[0] = absolute(base, s.Program[0])
	}
	if err := s.settleLink(base); err != nil {
		return err
	}
	if err := s.settleKeeper(); err != nil || s.Kind() == "folder" || s.Kind() == "program" {
		return err
	}
	_, err = s.URL()
	return err
}

// URL is the address of a store that is not a folder, taken apart.
func (s Store) URL() (*url.URL, error) {
	kind, text := s.Kind(), ""
	for _, a := range s.addresses() {
		text += a[1]
	}
	schemes := map[string][]string{"sftp": {"sftp"}, "webdav": {"https", "http"}, "plain_webdav": {"http"}, "s3": {"https", "http"}, "plain_s3": {"http"}, "ftp": {"ftp"}, "plain_ftp": {"ftp"}}[kind]
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || !strings.Contains(" "+strings.Join(schemes, " ")+" ", " "+u.Scheme+" ") {
		return nil, fmt.Errorf("`%s: %s` is no address; it looks like %s://host/folder", kind, text, schemes[0])
	}
	if _, ok := u.User.Password(); ok {
		return nil, fmt.Errorf("`%s:` has a password in its address; put it into a file and name that in `password_file:`", kind)
	}
	if u.Scheme == "http" && (kind == "webdav" || kind == "s3") && !OnThisMachine(u.Hostname()) {
		return nil, fmt.Errorf("`%s: %s` would send everything over the line for all to read, the password too: use https, or call it `plain_%s:` if the line is your own", kind, text, kind)
	}
	if strings.HasSuffix(kind, "s3") && strings.Trim(u.Path, "/") == "" {
		return nil, fmt.Errorf("`%s:` names no bucket; it looks like https://s3.example/bucket/prefix", kind)
	}
	return u, nil
}

// OnThisMachine tells whether a host is this machine, so that nothing goes over a line.
func OnThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// RemoteDir is the folder in a URL: /~/x is x in the account's home.
func RemoteDir(u *url.URL) string {
	dir := path.Clean(u.Path)
	if rest, ok := strings.CutPrefix(dir, "/~/"); ok {
		return rest
	}
	if u.Path == "" || dir == "/~" {
		return "."
	}
	return dir
}

// Password returns the store's password or the passphrase of its key file;
// without a file or variable it is empty.
func (s Store) Password() (string, error) {
	return readSecret("the store's password", s.PasswordFile, s.PasswordEnv)
}

// Secret returns the secret that belongs to AccessKey.
func (s Store) Secret() (string, error) {
	return readSecret("the secret of `access_key:`", s.SecretFile, s.SecretEnv)
}

func parseRate(phrase string) (int64, error) {
	if phrase == "" {
		return 0, nil
	}
	amount, ok := strings.CutSuffix(strings.TrimSpace(phrase), "/s")
	n, err := humanize.ParseBytes(strings.TrimSpace(amount))
	if !ok || err != nil || n < 1024 {
		return 0, fmt.Errorf("`rate: %s`: it is an amount a second of at least 1 KiB, such as 5 MB/s", phrase)
	}
	return int64(n), nil
}

package jobs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/signing"
)

// Whoever holds a store can put an archive there. Which ones are taken is decided here, at
// one gate: by who has signed them. Those of this machine are, those of the keys that the
// configuration names, and those of the keys that were there when the machine first saw the
// site's archives. All others are as good as damaged, unless a person asks for one by name.

// SignedByNobody is what a person says instead of a key to have an archive taken that
// nobody has signed.
const SignedByNobody = "nobody"

// signers are those whose archives of a site are taken, as the state folder remembers them.
type signers struct {
	Keys []Signer `json:"keys"`
	// Accepted are single archives that a person has asked for by name: name → checksum.
	Accepted map[string]string `json:"accepted,omitempty"`

	// configured tells that the configuration names some; seen, that there is a file.
	configured, seen bool
	// asked tells that a store has said what archives of the site there are.
	asked bool
	own   signing.Public
	// named is whom a person has named for this once.
	named string
}

// Signer is a key whose archives of a site are taken.
type Signer struct {
	Key         signing.Public `json:"key"`
	Fingerprint string         `json:"fingerprint"`
	// Host is what the machine called itself; only its own word for it.
	Host string `json:"host,omitempty"`
	// How tells why the key is taken: own, configured or first-seen.
	How   string    `json:"how"`
	Since time.Time `json:"since,omitzero"`
}

// The reasons why a key is taken.
const (
	SignerOwn        = "own"
	SignerConfigured = "configured"
	SignerFirstSeen  = "first-seen"
)

// signingKey is this machine's key; it is made when there is none.
func (a *Agent) signingKey() (*signing.Key, error) { return signing.Open(a.Disk, a.State.SigningKey()) }

// signersOf gathers whose archives of a site are taken.
func (a *Agent) signersOf(site string) (*signers, error) {
	s := &signers{named: a.SignedBy}
	var err error
	if s.seen, err = a.State.ReadNote(a.State.Signers(site), s, "whose archives of "+site+" are taken"); err != nil {
		return nil, err
	}
	for _, key := range a.Config.Sites[site].SignedBy {
		public := signing.Public(key)
		s.configured = true
		s.Keys = append(s.Keys, Signer{Key: public, Fingerprint: public.Fingerprint(), How: SignerConfigured})
	}
	if made, err := a.Disk.Exists(a.State.SigningKey()); err != nil || !made {
		return s, err
	}
	key, err := a.signingKey()
	if err != nil {
		return nil, err
	}
	s.own = key.Public()
	return s, nil
}

// isOwn tells whether this machine has taken an archive.
func (a *Agent) isOwn(r *archive.Record) bool {
	s, err := a.signersOf(r.Site)
	return err == nil && s.own != "" && r.Signer() == s.own
}

func (a *Agent) saveSigners(site string, s *signers) error {
	kept := signers{Accepted: s.Accepted, Keys: slices.DeleteFunc(slices.Clone(s.Keys), func(k Signer) bool { return k.How == SignerConfigured })}
	return a.State.WriteNote(a.State.Signers(site), kept, "whose archives of "+site+" are taken")
}

// takes tells whether what a key has signed is taken.
func (s *signers) takes(signer signing.Public) bool {
	return signer == s.own || slices.ContainsFunc(s.Keys, func(k Signer) bool { return k.Key == signer }) ||
		s.named == signer.Fingerprint() || s.named == string(signer)
}

// how tells why a record's signer is taken; empty when it is not.
func (s *signers) how(r *archive.Record) string {
	signer := r.Signer()
	if signer == "" {
		return ""
	}
	if signer == s.own {
		return SignerOwn
	}
	for _, k := range s.Keys {
		if k.Key == signer {
			return k.How
		}
	}
	return ""
}

// check refuses a record that is not to be taken.
func (s *signers) check(r *archive.Record) error {
	signer := r.Signer()
	switch {
	case s.how(r) != "", s.Accepted[r.Name] != "" && s.Accepted[r.Name] == r.Checksum, s.askedFor(r):
		return nil
	case signer == "":
		return reason.Because(reason.Unsigned, reason.Names{"archive": r.Name}, fmt.Errorf("%s: %w: it is not signed at all, so anybody could have put it there", r.Name, archive.ErrSigner))
	}
	return reason.Because(reason.SignerUnknown, reason.Names{"archive": r.Name, "key": signer.Fingerprint(), "site": r.Site, "public": string(signer)},
		fmt.Errorf("%s: %w: the key is %s", r.Name, archive.ErrSigner, signer.Fingerprint()))
}

// askedFor tells whether a person has named the record's signer.
func (s *signers) askedFor(r *archive.Record) bool {
	signer := r.Signer()
	if signer == "" {
		return s.named == SignedByNobody
	}
	return s.named == signer.Fingerprint() || s.named == string(signer)
}

// mostFirstSeen is how many keys are taken at the first sight of a site's archives.
const mostFirstSeen = 100

// trust returns the gate for a site's records. When this machine sees archives of the site
// for the first time, the keys that have signed them are taken from then on, and told.
func (a *Agent) trust(ctx context.Context, site string) (*signers, error) {
	s, err := a.signersOf(site)
	if err != nil || s.seen || s.configured {
		return s, err
	}
	found := false
	seen := func(r *archive.Record) error { // none is kept: a store may have any number
		found = true
		if r.Signer() != "" && s.how(r) == "" && len(s.Keys) < mostFirstSeen {
			s.Keys = append(s.Keys, Signer{r.Signer(), r.Signer().Fingerprint(), r.Host, SignerFirstSeen, a.Now()})
		}
		return archive.ErrSigner
	}
	_, err = catalog.List(ctx, a.Stores(a.Config.Sites[site]), site, catalog.Options{Trust: seen, Cache: &a.records})
	if s.asked = err == nil; !s.asked || !found {
		return s, nil // whoever asks hears of an error
	}
	for _, k := range s.Keys {
		a.Tell(SignerTaken{Site: site, Signer: k})
	}
	return s, a.saveSigners(site, s)
}

// sign returns the key that a new archive of a site is signed with. From then on it is
// known whose archives of the site are taken.
func (a *Agent) sign(ctx context.Context, site string) (*signing.Key, error) {
	key, err := a.signingKey()
	if err != nil {
		return nil, err
	}
	s, err := a.trust(ctx, site)
	if err == nil && !s.seen {
		err = a.saveSigners(site, s)
	}
	return key, err
}

func (a *Agent) forgedPath(site string) string { return filepath.Join(a.State.Dir, "forged", site) }

// noticeForged notes which archives lie in a site's stores that nobody known has signed.
// That there are none any more is only noted when every store was asked.
func (a *Agent) noticeForged(site string, l *catalog.Listing) error {
	var names, stores []string
	for _, b := range l.Broken {
		if errors.Is(b.Err, archive.ErrSigner) {
			names, stores = append(names, b.Name), append(stores, b.Store)
		}
	}
	if len(names) == 0 {
		if len(l.Silent) > 0 {
			return nil
		}
		return a.remark(a.forgedPath(site), "")
	}
	slices.Sort(stores)
	text := fmt.Sprintf("%s in %s", strings.Join(names[:min(len(names), mostForged)], ", "), strings.Join(slices.Compact(stores), " and "))
	if more := len(names) - mostForged; more > 0 {
		text = fmt.Sprintf("%d archives, among them %s", len(names), text)
	}
	return a.remark(a.forgedPath(site), text)
}

// remark keeps what is to be said of a site until it is no longer so: an empty text.
func (a *Agent) remark(file, text string) error {
	if text == "" {
		if there, err := a.Disk.Exists(file); err != nil || !there {
			return err
		}
		return a.Disk.Remove(file)
	}
	if err := a.Disk.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return a.Disk.WriteFile(file, []byte(text), 0o600)
}

// remarked is what remark was told last, or nothing.
func (a *Agent) remarked(file string) (string, error) {
	data, err := a.Disk.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return string(data), err
}

// mostForged is how many archives are named that nobody known has signed.
const mostForged = 3

// forged says which archives nobody known has signed, as far as was seen last.
func (a *Agent) forged(site string) (string, error) { return a.remarked(a.forgedPath(site)) }

// accept remembers an archive that was asked for by name.
func (a *Agent) accept(r *archive.Record) error {
	if a.SignedBy == "" {
		return nil
	}
	s, err := a.signersOf(r.Site)
	if err != nil || s.how(r) != "" || !s.askedFor(r) {
		return err
	}
	if s.Accepted == nil {
		s.Accepted = map[string]string{}
	}
	s.Accepted[r.Name] = r.Checksum
	return a.saveSigners(r.Site, s)
}

// Signed tells who has signed an archive, and why that key is taken.
func (a *Agent) Signed(r *archive.Record) Signer {
	key := r.Signer()
	signed := Signer{Key: key, Fingerprint: key.Fingerprint()}
	if s, err := a.signersOf(r.Site); err == nil {
		signed.How = s.how(r)
		if i := slices.IndexFunc(s.Keys, func(k Signer) bool { return k.Key == key }); i >= 0 {
			signed = s.Keys[i]
		}
	}
	return signed
}

// Signers are this machine's key, and by site those whose archives are taken beside its own.
func (a *Agent) Signers() (own Signer, sites map[string][]Signer, err error) {
	key, err := a.signingKey()
	if err != nil {
		return own, nil, err
	}
	own = Signer{Key: key.Public(), Fingerprint: key.Public().Fingerprint(), How: SignerOwn}
	sites = map[string][]Signer{}
	for _, name := range a.Config.SiteNames() {
		s, err := a.signersOf(name)
		if err != nil {
			return own, nil, err
		}
		sites[name] = nonNil(s.Keys)
	}
	return own, sites, nil
}

// Package encryption encrypts what goes into stores for recipients, and opens it with
// their keys. The format is age's (age-encryption.org/v1): the site's machine needs
// public keys only, and holds nothing that opens its own archives.
//
// Recipients.Writer and Keys.Reader wrap streams; NewKey, ParseKey and Lock handle key
// files, which any age tool reads. Keys asks for a key only when something encrypted
// is met for the first time, and is safe for concurrent use.
package encryption

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/armor"

	"revlet/internal/platform/reason"
)

// Ending is what names of encrypted objects end in.
const Ending = ".age"

// ErrNoKey is wrapped when something is encrypted and no key was given.
var ErrNoKey = reason.New(reason.NoKey, nil, "it is encrypted, and its key was not given")

// ErrWrongKey is wrapped when the keys that were given do not open it.
var ErrWrongKey = errors.New("it is encrypted for another key than the one given")

// CheckRecipient tells whether text is an age recipient.
func CheckRecipient(text string) error {
	if _, err := age.ParseX25519Recipient(text); err != nil {
		if strings.HasPrefix(strings.ToUpper(text), "AGE-SECRET-KEY-") {
			return errors.New("this is a secret key; `to:` takes the public half (age1…), the secret one is kept elsewhere")
		}
		return fmt.Errorf("%q is no age recipient (age1…): %w", text, err)
	}
	return nil
}

// Recipients are those who can open what is written.
type Recipients []age.Recipient

// ParseRecipients reads recipients as they stand in the configuration.
func ParseRecipients(texts []string) (Recipients, error) {
	var all Recipients
	for _, t := range texts {
		r, err := age.ParseX25519Recipient(t)
		if err != nil {
			return nil, fmt.Errorf("%q is no age recipient: %w", t, err)
		}
		all = append(all, r)
	}
	return all, nil
}

// Writer encrypts what is written to it into w; closing it does not close w.
func (r Recipients) Writer(w io.Writer) (io.WriteCloser, error) { return age.Encrypt(w, r...) }

// Bytes encrypts data.
func (r Recipients) Bytes(data []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := r.Writer(&out)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// Keys open what was encrypted. The nil Keys have none.
type Keys struct {
	// Find is asked for identities once, when the first is needed.
	Find func() ([]age.Identity, error)
	// Ready tells that a key was given; otherwise Find may have to ask somebody.
	Ready bool

	once sync.Once
	ids  []age.Identity
	err  error
}

// NewKeys returns keys that are known already.
func NewKeys(ids ...age.Identity) *Keys {
	return &Keys{Ready: true, Find: func() ([]age.Identity, error) { return ids, nil }}
}

func (k *Keys) identities() ([]age.Identity, error) {
	if k == nil || k.Find == nil {
		return nil, ErrNoKey
	}
	k.once.Do(func() { k.ids, k.err = k.Find() })
	if k.err == nil && len(k.ids) == 0 {
		return nil, ErrNoKey
	}
	return k.ids, k.err
}

// Reader decrypts r.
func (k *Keys) Reader(r io.Reader) (io.Reader, error) {
	ids, err := k.identities()
	if err != nil {
		return nil, err
	}
	out, err := age.Decrypt(r, ids...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, ErrWrongKey
	}
	return out, err
}

// Bytes decrypts data.
func (k *Keys) Bytes(data []byte) ([]byte, error) {
	r, err := k.Reader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// Given tells whether a key was given, so that nobody needs to be asked.
func (k *Keys) Given() bool { return k != nil && k.Ready }

// NewKey makes a key: the text of a key file as age-keygen(1) writes it, and
// the recipient that belongs to it.
func NewKey(comment string) (file, recipient string, err error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", err
	}
	recipient = id.Recipient().String()
	return fmt.Sprintf("# %s\n# public key: %s\n%s\n", comment, recipient, id), recipient, nil
}

// Lock encrypts the text of a key file with a passphrase, as text.
func Lock(keyFile, passphrase string) ([]byte, error) {
	r, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	text := armor.NewWriter(&out)
	w, err := age.Encrypt(text, r)
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(w, keyFile); err != nil {
		return nil, err
	}
	if err := errors.Join(w.Close(), text.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// Locked tells whether a key file is encrypted with a passphrase.
func Locked(data []byte) bool {
	return bytes.HasPrefix(data, []byte(armor.Header)) || bytes.HasPrefix(data, []byte("age-encryption.org/"))
}

// mostWork bounds what a locked key may ask of this machine before its passphrase is tried,
// as a power of two: 1 GiB of memory. It may come from a store.
const mostWork = 20

// ParseKey reads a key file. passphrase is asked for when it is locked.
func ParseKey(data []byte, passphrase func() (string, error)) ([]age.Identity, error) {
	if !Locked(data) {
		ids, err := age.ParseIdentities(bytes.NewReader(data))
		if err != nil {
			return nil, fmt.Errorf("this is no age key file: %w", err)
		}
		return ids, nil
	}
	words, err := passphrase()
	if err != nil {
		return nil, err
	}
	id, err := age.NewScryptIdentity(words)
	if err != nil {
		return nil, err
	}
	id.SetMaxWorkFactor(mostWork)
	var in io.Reader = bytes.NewReader(data)
	if bytes.HasPrefix(data, []byte(armor.Header)) {
		in = armor.NewReader(in)
	}
	r, err := age.Decrypt(in, id)
	if err != nil {
		return nil, errors.New("the passphrase does not open the key file")
	}
	return age.ParseIdentities(r)
}

// ReadKeyFile reads and parses a key file.
func ReadKeyFile(file string, passphrase func() (string, error)) ([]age.Identity, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the key: %w", err)
	}
	ids, err := ParseKey(data, passphrase)
	if err != nil {
		return nil, fmt.Errorf("key file %s: %w", file, err)
	}
	return ids, nil
}

// Publics are the recipients that belong to identities, as text.
func Publics(ids []age.Identity) []string {
	var all []string
	for _, id := range ids {
		if x, ok := id.(*age.X25519Identity); ok {
			all = append(all, x.Recipient().String())
		}
	}
	return all
}

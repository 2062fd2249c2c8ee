// Package signing signs bytes with a machine's own Ed25519 key and tells by whom bytes
// were signed.
//
// Begin with Open, which reads the machine's key or makes it, and Key.Sign; Verify is the
// other side. Signatures are those of OpenSSH (PROTOCOL.sshsig, as `ssh-keygen -Y sign`
// makes them), keys are lines as in authorized_keys, so that the tools of any system can
// check what this program has signed, without this program.
//
// What a signature proves is who has signed, not that the signer is to be trusted: whom
// to trust is the caller's to know. A signature counts for one namespace, so that bytes
// signed for one purpose cannot be passed off as signed for another. Only Ed25519 is taken;
// no key chooses the algorithm that it is checked with. All functions are safe for
// concurrent use.
package signing

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

// ErrSignature is wrapped by Verify when bytes are not what was signed, or a signature
// is none.
var ErrSignature = errors.New("the signature does not fit")

// Key is a private key.
type Key struct {
	private ed25519.PrivateKey
	public  Public
}

// Public is a public key as a line of authorized_keys has it, without the comment:
// "ssh-ed25519 AAAA…". The empty one is nobody's.
type Public string

const (
	algorithm = ssh.KeyAlgoED25519
	preamble  = "SSHSIG"
	digest    = "sha512"
	version   = 1
	// longest bounds a signature: an Ed25519 one has some 180 bytes.
	longest = 1024
)

// ParsePublic reads a public key as typed, in a configuration or from a file; a comment
// behind it is dropped.
func ParsePublic(s string) (Public, error) {
	fields := strings.Fields(s)
	if len(fields) < 2 || fields[0] != algorithm {
		return "", fmt.Errorf("%.80q is no public key: it begins with %s", s, algorithm)
	}
	data, err := base64.StdEncoding.DecodeString(fields[1])
	if err != nil {
		return "", fmt.Errorf("%.80q is no public key: %w", s, err)
	}
	return publicOf(data)
}

// publicOf makes a Public of a key in SSH's wire format.
func publicOf(wire []byte) (Public, error) {
	key, err := ssh.ParsePublicKey(wire)
	if err != nil || key.Type() != algorithm || !bytes.Equal(key.Marshal(), wire) {
		return "", errors.New("it is no Ed25519 key")
	}
	return Public(algorithm + " " + base64.StdEncoding.EncodeToString(wire)), nil
}

// Fingerprint is the key's SHA-256, as ssh-keygen -l prints it: "SHA256:…".
func (p Public) Fingerprint() string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(p))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(key)
}

// Open reads the private key in a file, in OpenSSH's form, or makes one there for its
// owner alone. Two programs that do so at a time get the same key.
func Open(d *disk.Disk, file string) (*Key, error) {
	data, err := d.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if err = create(d, file); err == nil {
			data, err = d.ReadFile(file)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the signing key: %w", err)
	}
	key, err := parse(data)
	if err != nil {
		return nil, reason.New(reason.KeyDamaged, reason.Names{"path": file}, "the signing key %s is damaged: %w", file, err)
	}
	return key, nil
}

func parse(data []byte) (*Key, error) {
	raw, err := ssh.ParseRawPrivateKey(data)
	if err != nil {
		return nil, err
	}
	private, ok := raw.(*ed25519.PrivateKey)
	if !ok {
		return nil, errors.New("it is no Ed25519 key")
	}
	return newKey(*private)
}

func newKey(private ed25519.PrivateKey) (*Key, error) {
	key, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		return nil, err
	}
	public, err := publicOf(key.Marshal())
	return &Key{private, public}, err
}

// Generate makes a key that is kept nowhere.
func Generate() (*Key, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return newKey(private)
}

// create writes a new key, unless somebody else was faster.
func create(d *disk.Disk, file string) error {
	key, err := Generate()
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(key.private, "Revlet's signing key")
	if err != nil {
		return err
	}
	if err := d.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	temp := file + "." + rand.Text()
	if err := d.WriteFile(temp, pem.EncodeToMemory(block), 0o600); err != nil {
		return err
	}
	err = d.Link(temp, file)
	if disk.LinkUnsupported(err) {
		return d.Rename(temp, file)
	}
	if errors.Is(err, fs.ErrExist) {
		err = nil
	}
	return errors.Join(err, d.Remove(temp), d.SyncDir(filepath.Dir(file)))
}

// Public is the public half.
func (k *Key) Public() Public { return k.public }

// Sign signs a message for a namespace. The result is base64 on one line: between the
// lines -----BEGIN SSH SIGNATURE----- and -----END SSH SIGNATURE----- it is a file for
// ssh-keygen -Y verify.
func (k *Key) Sign(namespace string, message []byte) (string, error) {
	signer, err := ssh.NewSignerFromKey(k.private)
	if err != nil {
		return "", err
	}
	made, err := signer.Sign(rand.Reader, signed(namespace, message))
	if err != nil {
		return "", fmt.Errorf("sign: %w", err)
	}
	blob := ssh.Marshal(envelope{version, signer.PublicKey().Marshal(), namespace, "", digest, ssh.Marshal(made)})
	return base64.StdEncoding.EncodeToString(append([]byte(preamble), blob...)), nil
}

// envelope is what a signature consists of, behind its preamble.
type envelope struct {
	Version   uint32
	PublicKey []byte
	Namespace string
	Reserved  string
	Digest    string
	Signature []byte
}

// signed is what the key really signs: a digest of the message, and what it is for.
func signed(namespace string, message []byte) []byte {
	sum := sha512.Sum512(message)
	return append([]byte(preamble), ssh.Marshal(struct {
		Namespace, Reserved, Digest string
		Sum                         []byte
	}{namespace, "", digest, sum[:]})...)
}

// Verify tells who has signed a message for a namespace. Whatever is wrong gives an error
// that wraps ErrSignature.
func Verify(namespace string, message []byte, signature string) (Public, error) {
	if len(signature) > longest || strings.ContainsAny(signature, "\r\n") {
		return "", fmt.Errorf("%w: it is none of this kind", ErrSignature)
	}
	data, err := base64.StdEncoding.Strict().DecodeString(signature)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrSignature, err)
	}
	blob, ok := bytes.CutPrefix(data, []byte(preamble))
	var e envelope
	if !ok || ssh.Unmarshal(blob, &e) != nil || e.Version != version || e.Namespace != namespace || e.Digest != digest || e.Reserved != "" {
		return "", fmt.Errorf("%w: it is none of this kind", ErrSignature)
	}
	var made ssh.Signature
	if err := ssh.Unmarshal(e.Signature, &made); err != nil || made.Format != algorithm || len(made.Rest) > 0 {
		return "", fmt.Errorf("%w: it is none of this kind", ErrSignature)
	}
	public, err := publicOf(e.PublicKey)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrSignature, err)
	}
	key, err := ssh.ParsePublicKey(e.PublicKey)
	if err == nil {
		err = key.Verify(signed(namespace, message), &made)
	}
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrSignature, err)
	}
	return public, nil
}

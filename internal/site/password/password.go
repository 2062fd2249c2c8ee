// Package password makes the hashes under which content-managed sites keep passwords, so
// that a new one can be given to an account. The schemes are those that the systems publish;
// begin with Hash.
package password

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/crypto/bcrypt"
)

// The schemes there are.
const (
	// Bcrypt is what PHP's password_hash writes with PASSWORD_BCRYPT: $2y$.
	Bcrypt = "bcrypt"
	// WordPress is bcrypt over the base64 of an HMAC with SHA-384, as WordPress writes it
	// since 6.8: $wp$2y$.
	WordPress = "wordpress"
	// Drupal is the portable scheme with SHA-512 that Drupal wrote until 10.0: $S$.
	Drupal = "drupal"
	// MediaWiki is PBKDF2 (RFC 8018) with SHA-512, as MediaWiki writes it since 1.27:
	// :pbkdf2:sha512:.
	MediaWiki = "mediawiki"
)

// Schemes are all of them.
var Schemes = []string{Bcrypt, WordPress, Drupal, MediaWiki}

const (
	// bcryptCost is two to the power of which bcrypt runs; PHP took 10 until 8.4, and 12
	// since.
	bcryptCost = 12
	// drupalCost is the same for Drupal's scheme, which wrote 16.
	drupalCost = 16
	// drupalLength is how many characters of it Drupal keeps.
	drupalLength = 55
	// rounds and keyLength are MediaWiki's.
	rounds, keyLength = 30000, 64
)

// The bounds of a password that Check takes, in bytes.
const (
	Shortest = 10
	// Longest is what bcrypt looks at; with more, systems differ in what they do.
	Longest = 72
)

// Check refuses passwords that are too easy, or that some form for logging in would not
// take as they are.
func Check(plain string) error {
	switch {
	case len(plain) < Shortest:
		return fmt.Errorf("the password is too short: anybody may try to log in, so take at least %d characters", Shortest)
	case len(plain) > Longest:
		return fmt.Errorf("the password is longer than %d bytes, which is all that some systems look at", Longest)
	case !utf8.ValidString(plain) || strings.ContainsFunc(plain, unicode.IsControl):
		return errors.New("the password has characters in it that nobody can type into a form")
	case strings.TrimSpace(plain) != plain:
		return errors.New("the password begins or ends with a space, which some systems cut off")
	}
	return nil
}

// Hash returns a password's hash with a new salt. The password is one that Check takes.
func Hash(scheme, plain string) (string, error) {
	if err := Check(plain); err != nil {
		return "", err
	}
	switch scheme {
	case Bcrypt:
		return hashBcrypt([]byte(plain))
	case WordPress:
		mac := hmac.New(sha512.New384, []byte("wp-sha384"))
		mac.Write([]byte(plain))
		hash, err := hashBcrypt([]byte(base64.StdEncoding.EncodeToString(mac.Sum(nil))))
		return "$wp" + hash, err
	case Drupal:
		return hashDrupal(plain, salt(6)), nil
	case MediaWiki:
		s := salt(16)
		key, err := pbkdf2.Key(sha512.New, plain, s, rounds, keyLength)
		return fmt.Sprintf(":pbkdf2:sha512:%d:%d:%s:%s", rounds, keyLength, base64.StdEncoding.EncodeToString(s), base64.StdEncoding.EncodeToString(key)), err
	}
	return "", fmt.Errorf("no scheme for passwords is called %q; there are %s", scheme, strings.Join(slices.Sorted(slices.Values(Schemes)), ", "))
}

// hashBcrypt writes the letter that PHP writes; the algorithm is the same.
func hashBcrypt(plain []byte) (string, error) {
	hash, err := bcrypt.GenerateFromPassword(plain, bcryptCost)
	return strings.Replace(string(hash), "$2a$", "$2y$", 1), err
}

func salt(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails
	return b
}

// itoa64 are the digits of the portable scheme, six bits each.
const itoa64 = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// hashDrupal stretches SHA-512 over salt and password; salt has six bytes, which are
// eight digits.
func hashDrupal(plain string, salt []byte) string {
	setting := "$S$" + itoa64[drupalCost:drupalCost+1] + digits64(salt)
	sum := sha512.Sum512([]byte(setting[4:] + plain))
	for range 1 << drupalCost {
		sum = sha512.Sum512(append(sum[:], plain...))
	}
	return (setting + digits64(sum[:]))[:drupalLength]
}

// digits64 writes bytes in digits of itoa64, low bits first.
func digits64(b []byte) string {
	var out strings.Builder
	for chunk := range slices.Chunk(b, 3) {
		v := 0
		for i, c := range chunk {
			v |= int(c) << (8 * i)
		}
		for range len(chunk) + 1 {
			out.WriteByte(itoa64[v&63])
			v >>= 6
		}
	}
	return out.String()
}

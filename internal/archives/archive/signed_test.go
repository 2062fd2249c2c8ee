package archive

import (
	"bytes"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/encryption"
	"revlet/internal/platform/signing"
)

func TestASignedRecordSaysByWhom(t *testing.T) {
	key, err := signing.Generate()
	require.NoError(t, err)
	r := aRecord()
	r.Number, r.Before = 7, &Link{"kestrelpoint-20261119-032000", strings.Repeat("b", 64)}
	data, err := r.Encode(key)
	require.NoError(t, err)
	back, err := DecodeRecord(data)
	require.NoError(t, err)
	assert.Equal(t, key.Public(), back.Signer())
	assert.Equal(t, r.Checksum, back.Checksum)
	assert.Equal(t, r.Before, back.Before)

	unsigned, err := r.Encode(nil)
	require.NoError(t, err)
	back, err = DecodeRecord(unsigned)
	require.NoError(t, err)
	assert.Empty(t, back.Signer(), "a signature is not remembered from another time")
}

// Whoever can write to a store can make the checksum fit again; not so the signature.
func TestASignedRecordCannotBeChanged(t *testing.T) {
	key, err := signing.Generate()
	require.NoError(t, err)
	r := aRecord()
	r.Number = 7
	data, err := r.Encode(key)
	require.NoError(t, err)
	text := string(data)
	signature := `"signature": "` + r.Signature + `"`
	forge := func(change func(*Record)) string {
		forged := aRecord()
		forged.Number = 7
		change(forged)
		unsigned, err := forged.Encode(nil)
		require.NoError(t, err)
		return strings.Replace(string(unsigned), `"signature": ""`, signature, 1)
	}
	for name, forged := range map[string]string{
		"another time":                  forge(func(r *Record) { r.Finished = r.Finished.AddDate(1, 0, 0) }),
		"another list":                  forge(func(r *Record) { r.List.SHA256 = strings.Repeat("c", 64) }),
		"a part less":                   forge(func(r *Record) { r.Parts = r.Parts[:1] }),
		"another name":                  forge(func(r *Record) { r.Name = "kestrelpoint-20271120-032000" }),
		"another number":                forge(func(r *Record) { r.Number = 8 }),
		"another checksum":              strings.Replace(text, r.Checksum, strings.Repeat("0", 64), 1),
		"a field before":                strings.Replace(text, "{\n", "{\n  \"note\": \"x\",\n", 1),
		"a field behind the signature":  strings.Replace(text, signature+"\n}\n", signature+",\n  \"note\": \"x\"\n}\n", 1),
		"a second signature":            strings.Replace(text, signature, signature+",\n  "+signature, 1),
		"a trailer inside":              strings.Replace(text, "{\n", "{\n  \"checksum\": \""+r.Checksum+"\",\n  "+signature+",\n", 1),
		"another record behind it":      text + text,
		"a space at the end":            text + " ",
		"the same, written differently": strings.Replace(text, `"format": 1`, `"format":1`, 1),
	} {
		got, err := DecodeRecord([]byte(forged))
		if assert.Error(t, err, name) {
			assert.Nil(t, got, name)
		}
	}
	for i := range data { // no byte of it is free
		bad := bytes.Clone(data)
		bad[i] ^= 1
		if got, err := DecodeRecord(bad); err == nil {
			t.Errorf("byte %d (%q → %q) can be changed: signed by %s", i, data[i], bad[i], got.Signer())
		}
	}
}

// The recipients of encryption are no secret: anybody can seal. What is sealed belongs to
// one archive and its parts all the same, and counts are not for everybody.
func TestWhatIsSealedBelongsToItsArchive(t *testing.T) {
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	to, err := encryption.ParseRecipients([]string{identity.Recipient().String()})
	require.NoError(t, err)
	seal := func(change func(*Record)) *Record {
		r := aRecord()
		r.Encrypted, r.Host, r.Totals.Files = true, "lighthouse", 471104711
		for i := range r.Parts {
			r.Parts[i].Name += encryption.Ending
		}
		change(r)
		sealed, err := r.Seal(to)
		require.NoError(t, err)
		return sealed
	}
	good := seal(func(*Record) {})
	data, err := good.Encode(nil)
	require.NoError(t, err)
	for _, secret := range []string{"lighthouse", "471104711", "posts", "kind\": \"f", "htdocs"} {
		assert.NotContains(t, string(data), secret)
	}
	read, err := DecodeRecord(data)
	require.NoError(t, err)
	require.NoError(t, read.Unseal(encryption.NewKeys(identity)))
	assert.Equal(t, int64(471104711), read.Totals.Files)
	for name, other := range map[string]*Record{
		"another name": seal(func(r *Record) { r.Name = "kestrelpoint-20261119-032000" }),
		"another list": seal(func(r *Record) { r.List.SHA256 = strings.Repeat("c", 64) }),
		"a part less":  seal(func(r *Record) { r.Parts = r.Parts[1:] }),
		"parts exchanged": seal(func(r *Record) {
			r.Parts[0], r.Parts[1] = r.Parts[1], r.Parts[0]
		}),
	} {
		forged := *good
		forged.Sealed = other.Sealed
		assert.ErrorIs(t, forged.Unseal(encryption.NewKeys(identity)), ErrRecord, name)
		assert.NotEmpty(t, forged.Sealed, "nothing of it is taken: %s", name)
	}
}

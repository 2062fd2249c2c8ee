package encryption

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func newKey(t *testing.T) (*Keys, Recipients, string) {
	file, recipient, err := NewKey("test")
	require.NoError(t, err)
	ids, err := ParseKey([]byte(file), nil)
	require.NoError(t, err)
	to, err := ParseRecipients([]string{recipient})
	require.NoError(t, err)
	assert.Equal(t, []string{recipient}, Publics(ids))
	return NewKeys(ids...), to, file
}

func TestOnlyTheKeyOpens(t *testing.T) {
	keys, to, _ := newKey(t)
	other, _, _ := newKey(t)
	for _, n := range []int{0, 1, 64 << 10, 200_000} {
		plain := bytes.Repeat([]byte("x"), n)
		sealed, err := to.Bytes(plain)
		require.NoError(t, err)
		got, err := keys.Bytes(sealed)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(plain, got))
		_, err = other.Bytes(sealed)
		assert.ErrorIs(t, err, ErrWrongKey)
		_, err = (*Keys)(nil).Bytes(sealed)
		assert.ErrorIs(t, err, ErrNoKey)
		for range 20 {
			bad := bytes.Clone(sealed)
			bad[rand.IntN(len(bad))] ^= 1 << rand.IntN(8)
			_, err := keys.Bytes(bad)
			assert.Error(t, err, "a flipped bit shows")
		}
		_, err = keys.Bytes(sealed[:len(sealed)-1])
		assert.Error(t, err, "so does a cut")
	}
}

func TestAPassphraseLocksAKey(t *testing.T) {
	keys, to, file := newKey(t)
	_ = keys
	locked, err := Lock(file, "four lamps beyond the fog")
	require.NoError(t, err)
	assert.True(t, Locked(locked))
	assert.False(t, Locked([]byte(file)))
	assert.NotContains(t, string(locked), "AGE-SECRET-KEY")
	ids, err := ParseKey(locked, func() (string, error) { return "four lamps beyond the fog", nil })
	require.NoError(t, err)
	sealed, err := to.Bytes([]byte("text"))
	require.NoError(t, err)
	got, err := NewKeys(ids...).Bytes(sealed)
	require.NoError(t, err)
	assert.Equal(t, "text", string(got))
	_, err = ParseKey(locked, func() (string, error) { return "three lamps", nil })
	assert.ErrorContains(t, err, "passphrase does not open")
}

func TestRecipientsAreCheckedWithoutGivingSecretsAway(t *testing.T) {
	_, _, file := newKey(t)
	lines := strings.Split(strings.TrimSpace(file), "\n")
	secret := lines[len(lines)-1]
	err := CheckRecipient(secret)
	require.ErrorContains(t, err, "this is a secret key")
	assert.NotContains(t, err.Error(), secret)
	assert.Error(t, CheckRecipient("age1nonsense"))
	assert.Error(t, CheckRecipient(""))
}

// A locked key comes from a store: what it asks of this machine is bounded.
func TestALockedKeyAsksForNoMoreThanThisMachineHas(t *testing.T) {
	r, err := age.NewScryptRecipient("lamp oil")
	require.NoError(t, err)
	r.SetWorkFactor(10)
	var out bytes.Buffer
	w, err := age.Encrypt(&out, r)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	hungry := bytes.Replace(out.Bytes(), []byte(" 10\n"), []byte(" 29\n"), 1)
	require.NotEqual(t, out.Bytes(), hungry)
	began := time.Now()
	_, err = ParseKey(hungry, func() (string, error) { return "lamp oil", nil })
	require.Error(t, err)
	assert.Less(t, time.Since(began), time.Second)
}

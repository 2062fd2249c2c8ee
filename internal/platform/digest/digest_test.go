package digest_test

import (
	"crypto/sha256"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/digest"
)

func TestALongDigestIsTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	noise := make([]byte, 5<<20)
	_, _ = rand.NewChaCha8([32]byte{3}).Read(noise)
	for _, length := range []int{0, 1, 256 << 10, 256<<10 + 1, digest.Long, len(noise)} {
		d := digest.New(int64(length))
		scratch := make([]byte, 1<<20)
		for at := 0; at < length; {
			n := copy(scratch, noise[at:min(length, at+1+r.IntN(len(scratch)))])
			wrote, err := d.Write(scratch[:n])
			require.NoError(t, err)
			require.Equal(t, n, wrote)
			clear(scratch) // what is written is the writer's again
			at += n
		}
		want := sha256.Sum256(noise[:length])
		assert.Equal(t, want, d.Sum(), length)
		d.Close()
		assert.Equal(t, want, d.Sum(), "a second time")
	}
	d := digest.New(digest.Long)
	_, _ = d.Write(noise)
	d.Close()
}

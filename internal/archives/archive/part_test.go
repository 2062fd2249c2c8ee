package archive

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// storedPart packs content as a part of a folder would be.
func storedPart(t testing.TB, content []byte) ([]byte, Part) {
	t.Helper()
	var stored bytes.Buffer
	enc, err := NewEncoder()
	require.NoError(t, err)
	w, err := NewPartWriter(&stored, SQLZstd, enc, nil)
	require.NoError(t, err)
	_, err = w.Write(content)
	require.NoError(t, err)
	part, err := w.Finish()
	require.NoError(t, err)
	return stored.Bytes(), part
}

// Decoders and buffers are used again: what one part has left in them must never show
// in another, nor may two readers at once share one.
func TestPartsReadAtOnceDoNotMix(t *testing.T) {
	t.Parallel()
	var wg sync.WaitGroup
	for i := range 4 {
		content := []byte(strings.Repeat(fmt.Sprintf("keeper %d lights the lamp. ", i), 20000+i*5000))
		stored, part := storedPart(t, content)
		wg.Go(func() {
			for round := range 20 {
				p, err := NewPartReader(bytes.NewReader(stored), part, nil, nil)
				if !assert.NoError(t, err) {
					return
				}
				if round%3 == 0 { // given up in the middle
					_, err = io.CopyN(io.Discard, p, 1000)
					assert.NoError(t, err)
					p.Close()
					continue
				}
				got, err := io.ReadAll(p)
				assert.NoError(t, err)
				assert.True(t, bytes.Equal(content, got), "another part's content")
				assert.NoError(t, p.Finish())
				p.Close()
			}
		})
	}
	wg.Wait()
}

func TestAClosedPartIsNotReadOn(t *testing.T) {
	stored, part := storedPart(t, []byte("the lamp is lit"))
	p, err := NewPartReader(bytes.NewReader(stored), part, nil, nil)
	require.NoError(t, err)
	p.Close()
	p.Close()
	_, err = p.Read(make([]byte, 4))
	require.ErrorIs(t, err, errClosed, "a driver may still try")
	require.ErrorIs(t, p.Finish(), errClosed)

	// One that is read elsewhere is closed only once that read has come back.
	hold, went := make(chan struct{}), make(chan struct{})
	p, err = NewPartReader(io.MultiReader(blocked{hold, went}, bytes.NewReader(stored)), part, nil, nil)
	require.NoError(t, err)
	read := make(chan error, 1)
	go func() { _, err := p.Read(make([]byte, 4)); read <- err }()
	<-went
	closed := make(chan struct{})
	go func() { p.Close(); close(closed) }()
	select {
	case <-closed:
		require.Fail(t, "closed under a reader's hands")
	default:
	}
	close(hold)
	require.NoError(t, <-read)
	<-closed
}

// blocked is a reader that ends when hold does.
type blocked struct{ hold, went chan struct{} }

func (b blocked) Read([]byte) (int, error) { close(b.went); <-b.hold; return 0, io.EOF }

func TestWhatCouldNotBeReadIsNotCalledDamaged(t *testing.T) {
	stored, part := storedPart(t, []byte(strings.Repeat("the lamp is lit\n", 4000)))
	p, err := NewPartReader(io.MultiReader(bytes.NewReader(stored[:40]), broken{}), part, nil, nil)
	require.NoError(t, err)
	defer p.Close()
	err = p.Finish()
	require.ErrorIs(t, err, io.ErrClosedPipe)
	require.NotErrorIs(t, err, ErrDamaged)
}

// broken is a connection that is gone.
type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrClosedPipe }

func BenchmarkReadSmallParts(b *testing.B) {
	content := bytes.Repeat([]byte("the lamp is lit\n"), 256)
	stored, part := storedPart(b, content)
	b.SetBytes(int64(len(content)))
	b.ReportAllocs()
	for b.Loop() {
		p, err := NewPartReader(bytes.NewReader(stored), part, nil, nil)
		if err != nil {
			b.Fatal(err)
		}
		if err := p.Finish(); err != nil {
			b.Fatal(err)
		}
		p.Close()
	}
}

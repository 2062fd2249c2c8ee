package verify_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/store"
	"revlet/internal/store/folder"
	"revlet/internal/work/backup"
	"revlet/internal/work/verify"
)

var errAway = errors.New("the far end has stopped answering")

// shaky is a store whose answers can be replaced.
type shaky struct {
	store.Store
	// open replaces what is read of an object; stat its description.
	open func(name string, in io.ReadCloser) (io.ReadCloser, error)
	stat func(name string, info store.Info) (store.Info, error)
	// list replaces a listing.
	list  func(all []store.Info) ([]store.Info, error)
	opens atomic.Int64
	stats atomic.Int64
}

func (s *shaky) List(ctx context.Context, dir string) ([]store.Info, error) {
	all, err := s.Store.List(ctx, dir)
	if err != nil || s.list == nil {
		return all, err
	}
	return s.list(all)
}

func (s *shaky) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	s.opens.Add(1)
	in, err := s.Store.Open(ctx, name, offset)
	if err != nil || s.open == nil {
		return in, err
	}
	return s.open(name, in)
}

func (s *shaky) Stat(ctx context.Context, name string) (store.Info, error) {
	s.stats.Add(1)
	info, err := s.Store.Stat(ctx, name)
	if err != nil || s.stat == nil {
		return info, err
	}
	return s.stat(name, info)
}

// bench is a small site with archives in one store.
type bench struct {
	t    *testing.T
	dir  string
	far  *shaky
	now  time.Time
	keys *encryption.Keys
	to   encryption.Recipients
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t, dir: t.TempDir(), now: time.Date(2026, 11, 23, 3, 20, 0, 0, time.UTC)}
	require.NoError(t, os.Mkdir(filepath.Join(b.dir, "far"), 0o700))
	b.far = &shaky{Store: folder.New(&disk.Disk{}, filepath.Join(b.dir, "far"))}
	b.write("index.html", strings.Repeat("Opening hours. ", 3000))
	noise := make([]byte, 300<<10)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(noise)
	b.write("uploads/lens.jpg", string(noise))
	return b
}

func (b *bench) write(rel, text string) {
	p := filepath.Join(b.dir, "htdocs", rel)
	require.NoError(b.t, os.MkdirAll(filepath.Dir(p), 0o755))
	require.NoError(b.t, os.WriteFile(p, []byte(text), 0o644))
}

func (b *bench) named() store.Named { return store.Named{Name: "far", Store: b.far} }

// taken takes an archive and returns it as the store lists it.
func (b *bench) taken() *catalog.Held {
	s, err := site.OpenFrom("museum", config.Site{Root: filepath.Join(b.dir, "htdocs"), Recipe: "none"}, nil)
	require.NoError(b.t, err)
	st, err := state.Open(&disk.Disk{}, filepath.Join(b.dir, "state"))
	require.NoError(b.t, err)
	b.now = b.now.Add(time.Minute)
	r, err := backup.Run(b.t.Context(), backup.Job{Site: s, Stores: []store.Named{b.named()}, State: st, Scope: archive.Files, Program: "test", Now: func() time.Time { return b.now }, To: b.to})
	require.NoError(b.t, err)
	h := &catalog.Held{Record: r.Record, Stores: []store.Named{b.named()}, Keys: b.keys}
	return h
}

func (b *bench) verify(h *catalog.Held, level verify.Level) *verify.Report {
	r, err := (&verify.Verifier{}).Archive(b.t.Context(), h, b.named(), level)
	require.NoError(b.t, err)
	return r
}

// tampered returns content with something done to its bytes.
func tampered(in io.ReadCloser, change func([]byte) []byte) (io.ReadCloser, error) {
	data, err := io.ReadAll(in)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(bytes.NewReader(change(data))), in.Close()
}

func flip(data []byte) []byte { data[len(data)/2] ^= 0x20; return data }

// Every class of error of a store × every level: which verdict is given.
func TestVerdicts(t *testing.T) {
	b := newBench(t)
	h := b.taken()
	isPart := func(name string) bool { return strings.Contains(name, "/parts/") }
	isList := func(name string) bool { return strings.Contains(name, "/lists/") }
	broken := func(match func(string) bool, change func(io.ReadCloser) (io.ReadCloser, error)) func(string, io.ReadCloser) (io.ReadCloser, error) {
		return func(name string, in io.ReadCloser) (io.ReadCloser, error) {
			if !match(name) {
				return in, nil
			}
			return change(in)
		}
	}
	cut := func(in io.ReadCloser) (io.ReadCloser, error) {
		return tampered(in, func(d []byte) []byte { return d[:len(d)/2] })
	}
	flipped := func(in io.ReadCloser) (io.ReadCloser, error) { return tampered(in, flip) }
	gone := func(in io.ReadCloser) (io.ReadCloser, error) {
		return nil, errors.Join(store.Missing("x"), in.Close())
	}
	refused := func(in io.ReadCloser) (io.ReadCloser, error) {
		return nil, errors.Join(store.Refuse("permission denied"), in.Close())
	}
	away := func(in io.ReadCloser) (io.ReadCloser, error) { return nil, errors.Join(errAway, in.Close()) }
	// It breaks in the middle: whatever a decoder makes of that, it is no damage.
	breaks := func(in io.ReadCloser) (io.ReadCloser, error) {
		data, err := io.ReadAll(in)
		return io.NopCloser(io.MultiReader(bytes.NewReader(data[:len(data)/2]), iotest.ErrReader(errAway))), errors.Join(err, in.Close())
	}
	for name, c := range map[string]struct {
		open         func(string, io.ReadCloser) (io.ReadCloser, error)
		stat         func(string, store.Info) (store.Info, error)
		quick, whole catalog.Verdict
	}{
		"all is well":           {nil, nil, catalog.Sound, catalog.Sound},
		"a part is flipped":     {broken(isPart, flipped), nil, catalog.Sound, catalog.Damaged},
		"a part is cut":         {broken(isPart, cut), nil, catalog.Sound, catalog.Damaged},
		"a part is gone":        {broken(isPart, gone), func(n string, i store.Info) (store.Info, error) { return i, ifTrue(isPart(n), store.Missing(n)) }, catalog.Damaged, catalog.Damaged},
		"a part is shorter":     {nil, func(n string, i store.Info) (store.Info, error) { i.Bytes -= int64(len("x")); return i, nil }, catalog.Damaged, catalog.Sound},
		"a part is not reached": {broken(isPart, away), func(n string, i store.Info) (store.Info, error) { return i, ifTrue(isPart(n), errAway) }, catalog.NotReached, catalog.NotReached},
		"a part is refused":     {broken(isPart, refused), func(n string, i store.Info) (store.Info, error) { return i, ifTrue(isPart(n), store.Refuse("denied")) }, catalog.NotReached, catalog.NotReached},
		"reading a part breaks": {broken(isPart, breaks), nil, catalog.Sound, catalog.NotReached},
		"the list is flipped":   {broken(isList, flipped), nil, catalog.Sound, catalog.Damaged},
		"the list is shorter": {nil, func(n string, i store.Info) (store.Info, error) {
			i.Bytes -= int64(strings.Count(n, "/lists/"))
			return i, nil
		}, catalog.Damaged, catalog.Sound},
		"the list is gone":       {broken(isList, gone), func(n string, i store.Info) (store.Info, error) { return i, ifTrue(isList(n), store.Missing(n)) }, catalog.Damaged, catalog.Damaged},
		"the list is away":       {broken(isList, away), func(n string, i store.Info) (store.Info, error) { return i, ifTrue(isList(n), errAway) }, catalog.NotReached, catalog.NotReached},
		"reading the list stops": {broken(isList, breaks), nil, catalog.Sound, catalog.NotReached},
		"everything is away":     {broken(func(string) bool { return true }, away), func(string, store.Info) (store.Info, error) { return store.Info{}, errAway }, catalog.NotReached, catalog.NotReached},
	} {
		for _, level := range []verify.Level{verify.Quick, verify.Digests, verify.Full} {
			t.Run(fmt.Sprintf("%s, %s", name, level), func(t *testing.T) {
				b.far.open, b.far.stat = c.open, c.stat
				want := c.whole
				if level == verify.Quick {
					want = c.quick
				}
				r, err := (&verify.Verifier{}).Archive(t.Context(), h, b.named(), level)
				require.NoError(t, err)
				assert.Equal(t, want, r.Verdict(), "damage %v, not reached %v", r.Damage, r.NotReached)
				assert.Equal(t, want == catalog.Sound, r.Sound())
			})
		}
	}
}

func ifTrue(yes bool, err error) error {
	if yes {
		return err
	}
	return nil
}

func TestEncryptedPartsHaveTheSameVerdicts(t *testing.T) {
	file, recipient, err := encryption.NewKey("test")
	require.NoError(t, err)
	ids, err := encryption.ParseKey([]byte(file), nil)
	require.NoError(t, err)
	b := newBench(t)
	b.keys = encryption.NewKeys(ids...)
	b.to, err = encryption.ParseRecipients([]string{recipient})
	require.NoError(t, err)
	h := b.taken()
	assert.True(t, b.verify(h, verify.Full).Sound())
	for cut := 10; cut < 2000; cut += 97 {
		b.far.open = func(name string, in io.ReadCloser) (io.ReadCloser, error) {
			if !strings.Contains(name, "/parts/") {
				return in, nil
			}
			data, err := io.ReadAll(in)
			return io.NopCloser(io.MultiReader(bytes.NewReader(data[:min(cut, len(data))]), iotest.ErrReader(errAway))), err
		}
		assert.Equal(t, catalog.NotReached, b.verify(h, verify.Full).Verdict(), "broken after %d bytes", cut)
		b.far.open = func(name string, in io.ReadCloser) (io.ReadCloser, error) {
			if !strings.Contains(name, "/parts/") {
				return in, nil
			}
			return tampered(in, func(d []byte) []byte { return d[:min(cut, len(d)-1)] })
		}
		assert.Equal(t, catalog.Damaged, b.verify(h, verify.Full).Verdict(), "cut after %d bytes", cut)
	}
	b.far.open = nil
	other, _, err := encryption.NewKey("another")
	require.NoError(t, err)
	ids, err = encryption.ParseKey([]byte(other), nil)
	require.NoError(t, err)
	h.Keys = encryption.NewKeys(ids...)
	_, err = (&verify.Verifier{}).Archive(t.Context(), h, b.named(), verify.Full)
	assert.ErrorIs(t, err, encryption.ErrWrongKey, "a wrong key is no damage")
	assert.True(t, b.verify(h, verify.Digests).Sound(), "digests need no key")
}

func TestDamageNamesWhatWasHeld(t *testing.T) {
	b := newBench(t)
	h := b.taken()
	b.far.open = func(name string, in io.ReadCloser) (io.ReadCloser, error) {
		if strings.Contains(name, "/parts/") {
			return tampered(in, flip)
		}
		return in, nil
	}
	var held []string
	for _, d := range b.verify(h, verify.Full).Damage {
		held = append(held, d.Held...)
		assert.Equal(t, len(d.Held), d.HeldTotal)
	}
	assert.Subset(t, held, []string{"index.html", "uploads/lens.jpg"})
}

func TestPartsThatArchivesShareAreReadOnce(t *testing.T) {
	b := newBench(t)
	first := b.taken()
	time.Sleep(2100 * time.Millisecond) // so that files count as unchanged
	b.taken()
	b.write("robots.txt", "new")
	second := b.taken()
	v := &verify.Verifier{}
	_, err := v.Archive(t.Context(), first, b.named(), verify.Digests)
	require.NoError(t, err)
	b.far.opens.Store(0)
	_, err = v.Archive(t.Context(), second, b.named(), verify.Digests)
	require.NoError(t, err)
	assert.Less(t, b.far.opens.Load(), int64(len(second.Parts)+1), "the list, and what is new")
}

func TestAVerificationIsInterrupted(t *testing.T) {
	b := newBench(t)
	h := b.taken()
	ctx, cancel := context.WithCancel(t.Context())
	b.far.open = func(name string, in io.ReadCloser) (io.ReadCloser, error) {
		cancel()
		return nil, errors.Join(ctx.Err(), in.Close())
	}
	_, err := (&verify.Verifier{}).Archive(ctx, h, b.named(), verify.Full)
	assert.ErrorIs(t, err, context.Canceled, "what was interrupted has no verdict")
}

// Of many objects a listing tells what is there; what it does not tell is asked for, and so is all when there is none.
func TestAListingSparesQuestions(t *testing.T) {
	b := newBench(t)
	h := b.taken()
	many := *h.Record
	many.Parts = slices.Clone(h.Parts)
	for i := range 600 {
		p := archive.Part{Name: fmt.Sprintf("%064x.tar.zst", i), Bytes: 3}
		file := filepath.Join(b.dir, "far", archive.PartPath(h.Site, p.Name))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte("lit"), 0o600))
		many.Parts = append(many.Parts, p)
	}
	h = &catalog.Held{Record: &many, Stores: h.Stores, Keys: h.Keys}
	lost := archive.PartPath(h.Site, many.Parts[len(many.Parts)-1].Name)
	for name, c := range map[string]struct {
		list    func([]store.Info) ([]store.Info, error)
		spoil   func(file string) error
		asked   int64
		verdict catalog.Verdict
	}{
		"all is listed": {nil, nil, 0, catalog.Sound},
		"the listing is late": {func(all []store.Info) ([]store.Info, error) {
			return slices.DeleteFunc(all, func(i store.Info) bool { return i.Name == lost }), nil
		}, nil, 1, catalog.Sound},
		"no listing":       {func([]store.Info) ([]store.Info, error) { return nil, errAway }, nil, int64(len(many.Parts) + 1), catalog.Sound},
		"one is shorter":   {nil, func(file string) error { return os.WriteFile(file, []byte("li"), 0o600) }, 1, catalog.Damaged},
		"one is not there": {nil, os.Remove, 1, catalog.Damaged},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(b.dir, "far", lost)
			require.NoError(t, os.WriteFile(file, []byte("lit"), 0o600))
			if c.spoil != nil {
				require.NoError(t, c.spoil(file))
			}
			b.far.list = c.list
			b.far.stats.Store(0)
			v := &verify.Verifier{}
			v.Survey(t.Context(), b.named(), h.Site, []*catalog.Held{h})
			r, err := v.Archive(t.Context(), h, b.named(), verify.Quick)
			require.NoError(t, err)
			assert.Equal(t, c.verdict, r.Verdict())
			assert.Equal(t, c.asked, b.far.stats.Load())
		})
	}
	b.far.list = nil
	few := b.taken()
	b.far.list = func([]store.Info) ([]store.Info, error) {
		assert.Fail(t, "few are asked for one by one")
		return nil, errAway
	}
	(&verify.Verifier{}).Survey(t.Context(), b.named(), h.Site, []*catalog.Held{few})
}

// Two versions of a file may have the very same header: what was seen of the pieces of one says nothing of the other's.
func TestPiecesOfAnotherVersionAreLookedAt(t *testing.T) {
	b := newBench(t)
	h := b.taken()
	head := h.Parts[0]
	put := func(text string) archive.Piece {
		sum := sha256.Sum256([]byte(text))
		p := archive.Piece{Name: hex.EncodeToString(sum[:]) + archive.PieceEnding, Bytes: int64(len(text)), ContentBytes: int64(len(text))}
		require.NoError(t, b.far.Put(t.Context(), archive.PartPath(h.Site, p.Name), strings.NewReader(text), p.Bytes))
		return p
	}
	version := func(pieces ...archive.Piece) *catalog.Held {
		rec := *h.Record
		rec.Parts = []archive.Part{head}
		rec.Parts[0].Pieces = pieces
		return &catalog.Held{Record: &rec, Stores: h.Stores, Keys: h.Keys}
	}
	lit, dark, gone := put("the lamp is lit"), put("the lamp is dark"), put("the lamp is gone")
	file := filepath.Join(b.dir, "far", archive.PartPath(h.Site, gone.Name))
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "far", archive.PartPath(h.Site, dark.Name)), []byte("the lamp is dusk"), 0o600))
	for level, want := range map[verify.Level][]string{verify.Quick: {gone.Name}, verify.Digests: {dark.Name, gone.Name}} {
		v := &verify.Verifier{}
		sound, err := v.Archive(t.Context(), version(lit), b.named(), level)
		require.NoError(t, err)
		assert.True(t, sound.Sound(), "%v", sound.Damage)
		r, err := v.Archive(t.Context(), version(lit, dark, gone), b.named(), level)
		require.NoError(t, err)
		var names []string
		for _, d := range r.Damage {
			names = append(names, d.Object)
			assert.Positive(t, d.HeldTotal, "whose pieces they are")
		}
		assert.Equal(t, want, names, "each that is damaged, and no other")
	}
}

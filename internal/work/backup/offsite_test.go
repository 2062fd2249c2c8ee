package backup_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/state"
	"revlet/internal/practice/place"
	"revlet/internal/site"
	"revlet/internal/store"
	"revlet/internal/store/folder"
	"revlet/internal/store/opener"
	"revlet/internal/work/backup"
	"revlet/internal/work/verify"
)

// yard is a small site with one far store.
type yard struct {
	t    *testing.T
	dir  string
	far  store.Named
	cfg  config.Store
	now  time.Time
	keys *encryption.Keys
	to   encryption.Recipients
	name []string
}

func newYard(t *testing.T, kind string, f *place.Faults) *yard {
	y := &yard{t: t, dir: t.TempDir(), now: time.Date(2026, 11, 23, 3, 20, 0, 0, time.UTC)}
	s, err := place.Start(kind, place.Options{Dir: filepath.Join(y.dir, "far"), Keys: filepath.Join(y.dir, "keys"), User: "keeper", Password: "x", Plain: true, Faults: f}) // TLS is another test's, and half of the time
	require.NoError(t, err)
	t.Cleanup(s.Close)
	secret := filepath.Join(y.dir, "pw")
	require.NoError(t, os.WriteFile(secret, []byte("x"), 0o600))
	c := map[string]config.Store{
		place.SFTP:   {SFTP: s.Address + "revlet", PasswordFile: secret},
		place.WebDAV: {WebDAV: s.Address + "/revlet", User: "keeper", PasswordFile: secret},
		place.S3:     {S3: s.Address + "/revlet", AccessKey: "keeper", SecretFile: secret, Region: "eu-1"},
		place.FTP:    {PlainFTP: s.Address + "revlet", PasswordFile: secret},
	}[kind]
	require.NoError(t, c.Settle(y.dir))
	y.cfg = c
	y.far = y.open()
	y.write("index.html", "Opening hours")
	y.write("uploads/lens.jpg", strings.Repeat("not a picture ", 4000))
	return y
}

// open opens the far store as one machine does.
func (y *yard) open() store.Named {
	s, err := (&opener.Opener{Disk: &disk.Disk{}, KnownHosts: filepath.Join(y.dir, "known"), Trust: true, RetryPause: time.Millisecond}).Open("harbour", y.cfg)
	require.NoError(y.t, err)
	y.t.Cleanup(func() { _ = s.Close() })
	return s
}

func (y *yard) write(rel, text string) {
	p := filepath.Join(y.dir, "htdocs", rel)
	require.NoError(y.t, os.MkdirAll(filepath.Dir(p), 0o755))
	require.NoError(y.t, os.WriteFile(p, []byte(text), 0o644))
}

func (y *yard) backup(stores ...store.Named) (*backup.Result, error) {
	s, err := site.OpenFrom("museum", config.Site{Root: filepath.Join(y.dir, "htdocs"), Recipe: "none"}, nil)
	require.NoError(y.t, err)
	st, err := state.Open(&disk.Disk{}, filepath.Join(y.dir, "state"))
	require.NoError(y.t, err)
	y.now = y.now.Add(time.Minute)
	return backup.Run(y.t.Context(), backup.Job{Site: s, Stores: stores, State: st, Scope: archive.Files, Program: "test", Now: func() time.Time { return y.now }, To: y.to, RecipientNames: y.name})
}

// sound verifies everything that is listed, and returns how many archives that
// is.
func (y *yard) sound() int { return y.soundNewest(1 << 30) }

// soundNewest verifies the newest archives only: after each of many runs, all would
// be the square of them.
func (y *yard) soundNewest(most int) int {
	l, err := catalog.List(y.t.Context(), []store.Named{y.far}, "museum", catalog.Options{Keys: y.keys})
	require.NoError(y.t, err)
	require.Empty(y.t, l.Broken)
	v := &verify.Verifier{}
	for i := range l.Archives[:min(most, len(l.Archives))] {
		r, err := v.Archive(y.t.Context(), &l.Archives[i], y.far, verify.Full)
		require.NoError(y.t, err)
		require.Empty(y.t, r.Damage)
	}
	return len(l.Archives)
}

// Every call that the far end makes to its files, or every request, fails once:
// whatever is listed afterwards is whole, and the next run completes.
func TestEveryFarCallFailsOnceWhileBackingUp(t *testing.T) {
	for _, kind := range place.Kinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			var mu sync.Mutex
			calls, at, lasting := 0, -1, false
			f := &place.Faults{Fail: func(op, name string) error {
				mu.Lock()
				defer mu.Unlock()
				if calls++; at > 0 && (calls == at || lasting && calls > at) {
					return &os.PathError{Op: op, Path: name, Err: errors.New("input/output error")}
				}
				return nil
			}}
			y := newYard(t, kind, f)
			if kind == place.WebDAV { // one kind is enough for encrypted archives
				file, recipient, err := encryption.NewKey("test")
				require.NoError(t, err)
				ids, err := encryption.ParseKey([]byte(file), nil)
				require.NoError(t, err)
				y.keys, y.name = encryption.NewKeys(ids...), []string{recipient}
				y.to, err = encryption.ParseRecipients(y.name)
				require.NoError(t, err)
			}
			arm := func(k int, forGood bool) {
				mu.Lock()
				defer mu.Unlock()
				calls, at, lasting = 0, k, forGood
			}
			listed, failed, last := 0, 0, 0
			for _, forGood := range []bool{false, true} {
				for k := 1; k < 200; k += 1 + k/12 {
					y.write("index.html", fmt.Sprintf("Opening hours %v %d", forGood, k))
					arm(k, forGood)
					_, err := y.backup(y.far)
					mu.Lock()
					over := calls < k
					mu.Unlock()
					arm(-1, false)
					now := y.soundNewest(2)
					require.LessOrEqual(t, now, listed+1)
					if err == nil {
						require.Equal(t, listed+1, now, "call %d: an archive was reported that is not there", k)
					} else {
						failed++
					}
					listed, last = now, k
					if over {
						break
					}
				}
			}
			_, err := y.backup(y.far)
			require.NoError(t, err)
			assert.Equal(t, listed+1, y.sound())
			t.Logf("up to %d calls, %d runs failed, %d archives are whole", last, failed, listed+1)
			assert.Positive(t, failed)
			left, err := y.far.List(t.Context(), "museum/running")
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

// Two machines write the same site to one store in the same second: both
// archives are there, each under a name of its own.
func TestTwoMachinesAtOneStore(t *testing.T) {
	y := newYard(t, place.SFTP, nil)
	other := *y
	other.dir = t.TempDir()
	other.write("index.html", "the other machine's")
	var g sync.WaitGroup
	results := make([]*backup.Result, 2)
	for i, m := range []*yard{y, &other} {
		g.Go(func() {
			r, err := m.backup(y.open())
			assert.NoError(t, err)
			results[i] = r
		})
	}
	g.Wait()
	require.NotNil(t, results[0])
	require.NotNil(t, results[1])
	assert.NotEqual(t, results[0].Record.Name, results[1].Record.Name)
	assert.Equal(t, 2, y.sound())
}

// meanwhile is a store in which something happens right after a record was looked for the
// first time.
type meanwhile struct {
	store.Store
	once sync.Once
	what func()
}

func (m *meanwhile) Stat(ctx context.Context, name string) (store.Info, error) {
	info, err := m.Store.Stat(ctx, name)
	m.once.Do(m.what)
	return info, err
}

// A machine that takes a whole archive while another one is about to claim the same name
// keeps it.
func TestANameIsTakenAtTheLastMoment(t *testing.T) {
	y := newYard(t, place.SFTP, nil)
	other := *y
	other.dir = t.TempDir()
	other.write("index.html", "the other machine's")
	var theirs *backup.Result
	late := y.open()
	late.Store = &meanwhile{Store: late.Store, what: func() {
		var err error
		theirs, err = other.backup(y.open())
		require.NoError(t, err)
	}}
	mine, err := y.backup(late)
	require.NoError(t, err)
	assert.NotEqual(t, theirs.Record.Name, mine.Record.Name)
	assert.Equal(t, 2, y.sound())
}

// An import keeps its archive's name, and does not take that of one that has come meanwhile.
func TestAnImportedNameIsTakenAtTheLastMoment(t *testing.T) {
	y := newYard(t, place.SFTP, nil)
	other := *y
	other.dir = t.TempDir()
	other.write("index.html", "the other machine's")
	s, err := site.OpenFrom("museum", config.Site{Root: filepath.Join(y.dir, "htdocs"), Recipe: "none"}, nil)
	require.NoError(t, err)
	st, err := state.Open(&disk.Disk{}, filepath.Join(y.dir, "state"))
	require.NoError(t, err)
	late := y.open()
	late.Store = &meanwhile{Store: late.Store, what: func() {
		_, err := other.backup(y.open())
		require.NoError(t, err)
	}}
	taken := y.now.Add(time.Minute)
	imported := &backup.Imported{Record: &archive.Record{Name: archive.NewName("museum", taken), Site: "museum", Taken: taken, Scope: archive.Files},
		List: func(func(archive.Entry) error) error { return nil }}
	_, err = backup.Run(t.Context(), backup.Job{Site: s, Stores: []store.Named{late}, State: st, Scope: archive.Files, Program: "test", Now: func() time.Time { return taken }, Imported: imported})
	require.ErrorIs(t, err, backup.ErrThere)
	assert.Equal(t, 1, y.sound())
}

// A store whose disk is full does not spoil the archive for the other.
func TestAFullStoreIsLeftOut(t *testing.T) {
	y := newYard(t, place.SFTP, nil)
	here := filepath.Join(y.dir, "here")
	require.NoError(t, os.Mkdir(here, 0o700))
	full := &disk.Disk{Fault: func(op, path string) error {
		if op == "write" || op == "rename" {
			return errors.New("no space left on device")
		}
		return nil
	}}
	r, err := y.backup(store.Named{Name: "here", Store: folder.New(full, here)}, y.far)
	require.NoError(t, err)
	require.Len(t, r.Pending, 1)
	assert.Equal(t, "here", r.Pending[0].Store)
	assert.Equal(t, 1, y.sound())
}

package opener_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/practice/place"
	"revlet/internal/store"
	"revlet/internal/store/opener"
	"revlet/internal/store/sshconn"
)

// kinds are the stores that are put to the same tests: plain ones too, where
// the protocol has a choice.
var (
	// served are kinds whose stand-ins can be made to fail.
	served = []string{place.SFTP, place.WebDAV, "linked", place.S3, place.FTP, "plain_ftp"}
	kinds  = append([]string{"folder", "program"}, served...)
)

// lab is a stand-in and what a store needs to get into it.
type lab struct {
	t      *testing.T
	kind   string
	server *place.Server
	dir    string
	opener *opener.Opener
	cfg    config.Store
}

// newLab starts a stand-in of a kind; a folder needs none.
func newLab(t *testing.T, kind string, f *place.Faults) *lab {
	t.Parallel()
	l := &lab{t: t, kind: kind, dir: t.TempDir(), cfg: config.Store{Lanes: 3, Silence: "2 seconds"}}
	l.opener = &opener.Opener{Disk: &disk.Disk{}, KnownHosts: filepath.Join(l.dir, "known_hosts"), Links: filepath.Join(l.dir, "links"), Trust: true, RetryPause: 5 * time.Millisecond}
	secret := filepath.Join(l.dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("practice\n"), 0o600))
	var grants *place.Grants
	if kind == "program" {
		text, err := os.ReadFile("../../../examples/store-helper.py")
		require.NoError(t, err)
		helper := filepath.Join(l.dir, "store-helper.py") // the checkout may be another account's
		require.NoError(t, os.WriteFile(helper, text, 0o600))
		require.NoError(t, os.Chmod(helper, 0o700))
		require.NoError(t, os.Mkdir(filepath.Join(l.dir, "far"), 0o700))
		l.cfg.Program = []string{helper, filepath.Join(l.dir, "far")}
	} else if kind == "folder" {
		l.cfg.Folder = filepath.Join(l.dir, "store")
		require.NoError(t, os.Mkdir(l.cfg.Folder, 0o700))
	} else {
		o := place.Options{Dir: filepath.Join(l.dir, "far"), Keys: filepath.Join(l.dir, "keys"), User: "keeper", Password: "practice", Plain: kind == "plain_ftp", Faults: f}
		served := strings.TrimPrefix(kind, "plain_")
		if kind == "linked" {
			grants = &place.Grants{Requests: 7}
			served, o.Grants = place.WebDAV, grants
		}
		var err error
		l.server, err = place.Start(served, o)
		require.NoError(t, err)
		t.Cleanup(l.server.Close)
		l.address(l.server.Address, secret)
	}
	require.NoError(t, l.cfg.Settle(l.dir))
	if grants != nil { // whoever gives tokens is sound, and on a server of its own
		giver, err := place.Start(place.WebDAV, place.Options{Keys: filepath.Join(l.dir, "keys"), Grants: grants})
		require.NoError(t, err)
		t.Cleanup(giver.Close)
		l.cfg.Link.Issuer = giver.Address
		l.link(grants)
	}
	return l
}

// link has somebody say yes.
func (l *lab) link(g *place.Grants) {
	to, err := l.opener.Link("lab", l.cfg)
	require.NoError(l.t, err)
	asked, err := to.Ask(l.t.Context())
	require.NoError(l.t, err)
	require.True(l.t, g.Answer(asked.Code, true))
	require.NoError(l.t, to.Wait(l.t.Context(), asked))
}

func (l *lab) address(address, secret string) {
	l.cfg.PasswordFile, l.cfg.CAFile = secret, l.server.CAFile
	switch l.kind {
	case place.SFTP:
		l.cfg.SFTP = address + "deep/revlet"
	case place.WebDAV:
		l.cfg.WebDAV, l.cfg.User = address+"/revlet", "keeper"
	case "linked":
		l.cfg.WebDAV, l.cfg.PasswordFile = address+"/revlet", ""
		l.cfg.Link = &config.Link{Issuer: address, Client: "revlet"}
	case place.S3:
		l.cfg.S3, l.cfg.AccessKey, l.cfg.SecretFile, l.cfg.PasswordFile, l.cfg.Region = address+"/deep/revlet", "keeper", secret, "", "eu-1"
	case place.FTP:
		l.cfg.FTP = address + "deep/revlet"
	case "plain_ftp":
		l.cfg.PlainFTP = address + "deep/revlet"
	}
}

func (l *lab) open() store.Named {
	s, err := l.opener.Open("lab", l.cfg)
	require.NoError(l.t, err)
	l.t.Cleanup(func() { _ = s.Close() })
	return s
}

func get(t *testing.T, s store.Store, name string, offset int64) (string, error) {
	in, err := s.Open(t.Context(), name, offset)
	if err != nil {
		return "", err
	}
	defer in.Close()
	data, err := io.ReadAll(in)
	return string(data), err
}

func put(t *testing.T, s store.Store, name, text string) error {
	return s.Put(t.Context(), name, strings.NewReader(text), int64(len(text)))
}

// large is content of some MiB that no two places of are alike.
func large(n int) string {
	data := make([]byte, n)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	return string(data)
}

func TestEveryKindOfStoreKeepsItsPromises(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			s := newLab(t, kind, nil).open()
			require.NoError(t, s.Check(t.Context()))
			require.NoError(t, s.Check(t.Context()), "again")
			empty, err := s.List(t.Context(), "museum/parts")
			require.NoError(t, err)
			assert.Empty(t, empty)

			text := large(9 << 20)
			require.NoError(t, put(t, s, "museum/parts/ab/abcd", text))
			require.NoError(t, put(t, s, "museum/parts/ab/empty", ""))
			require.NoError(t, put(t, s, "museum/archives/odd name & ü%20.json", "first"))
			require.NoError(t, put(t, s, "museum/archives/odd name & ü%20.json", "second"), "over what is there")
			got, err := get(t, s, "museum/parts/ab/abcd", 0)
			require.NoError(t, err)
			assert.True(t, got == text)
			got, err = get(t, s, "museum/parts/ab/abcd", 9<<20-5)
			require.NoError(t, err)
			assert.Equal(t, text[9<<20-5:], got, "from the middle on")
			got, err = get(t, s, "museum/parts/ab/abcd", 9<<20)
			require.NoError(t, err)
			assert.Empty(t, got, "at its very end there is nothing more")
			got, err = get(t, s, "museum/archives/odd name & ü%20.json", 0)
			require.NoError(t, err)
			assert.Equal(t, "second", got)
			info, err := s.Stat(t.Context(), "museum/parts/ab/abcd")
			require.NoError(t, err)
			assert.EqualValues(t, 9<<20, info.Bytes)

			all, err := s.List(t.Context(), "museum")
			require.NoError(t, err)
			var names []string
			for _, i := range all {
				names = append(names, fmt.Sprintf("%s %d", i.Name, i.Bytes))
			}
			assert.ElementsMatch(t, []string{"museum/parts/ab/abcd 9437184", "museum/parts/ab/empty 0", "museum/archives/odd name & ü%20.json 6"}, names)
			folders, err := s.Folders(t.Context(), "")
			require.NoError(t, err)
			assert.Equal(t, []string{"museum"}, folders, "what is being prepared does not show")

			_, err = s.Stat(t.Context(), "museum/none")
			assert.ErrorIs(t, err, store.ErrNotFound)
			_, err = get(t, s, "museum/none", 0)
			assert.ErrorIs(t, err, store.ErrNotFound)
			require.NoError(t, s.Remove(t.Context(), "museum/parts/ab/abcd"))
			require.NoError(t, s.Remove(t.Context(), "museum/parts/ab/abcd"), "again is no error")
			require.NoError(t, s.Remove(t.Context(), "museum/none/of/this"), "nor in a folder that is not there")
			_, err = s.Stat(t.Context(), "museum/parts/ab/abcd")
			assert.ErrorIs(t, err, store.ErrNotFound)
		})
	}
}

// A connection that is cut again and again costs time, nothing else: uploads go
// on or start over, downloads go on where they were.
func TestCutConnectionsAreMadeUpFor(t *testing.T) {
	for _, kind := range served {
		t.Run(kind, func(t *testing.T) {
			faults := &place.Faults{}
			l := newLab(t, kind, faults)
			text := large(5 << 20)
			require.NoError(t, put(t, l.open(), "museum/parts/ab/there", text))
			faults.DropAfter = 6 << 20 // one journey fits, not two, on a connection
			s := l.open()
			for i := range 4 {
				name := fmt.Sprintf("museum/parts/ab/%d", i)
				require.NoError(t, put(t, s, name, text))
				got, err := get(t, s, name, 0)
				require.NoError(t, err)
				assert.True(t, got == text)
			}
			faults.DropAfter = 2 << 20 // nothing fits in one go
			got, err := get(t, l.open(), "museum/parts/ab/there", 0)
			require.NoError(t, err, "reading goes on where it was cut")
			assert.True(t, got == text)
		})
	}
}

func TestAnUploadThatWasCutGoesOn(t *testing.T) {
	for _, kind := range []string{place.SFTP, place.FTP} {
		t.Run(kind, func(t *testing.T) {
			faults := &place.Faults{}
			l := newLab(t, kind, faults)
			s := l.open()
			require.NoError(t, s.Check(t.Context()))
			faults.DropAfter = 12 << 20
			text := large(40 << 20)
			require.NoError(t, put(t, s, "museum/parts/ab/big", text), "no connection lasts for all of it")
			faults.DropAfter = 0
			got, err := get(t, l.open(), "museum/parts/ab/big", 0)
			require.NoError(t, err)
			assert.True(t, got == text)
		})
	}
}

// What will not pass is an error at once, in words that say what to do.
func TestWhatWillNotPassIsSaidAtOnce(t *testing.T) {
	for _, kind := range slices.DeleteFunc(slices.Clone(served), func(k string) bool { return k == "linked" }) { // its own are in package link
		t.Run(kind, func(t *testing.T) {
			l := newLab(t, kind, &place.Faults{})
			refused := func(why string, change func(*config.Store), says ...string) {
				cfg := l.cfg
				change(&cfg)
				s, err := l.opener.Open("lab", cfg)
				if err == nil {
					began := time.Now()
					err = s.Check(t.Context())
					assert.Less(t, time.Since(began), 2*time.Second, why)
					_ = s.Close()
				}
				require.Error(t, err, why)
				for _, words := range says {
					assert.ErrorContains(t, err, words, why)
				}
			}
			wrong := filepath.Join(l.dir, "wrong")
			require.NoError(t, os.WriteFile(wrong, []byte("guess"), 0o600))
			if kind == place.S3 {
				refused("wrong access key", func(c *config.Store) { c.AccessKey = "nobody" }, "access_key:", "InvalidAccessKeyId")
				refused("no such bucket", func(c *config.Store) { c.S3 = strings.Replace(c.S3, "/museum", "/lighthouse", 1) }, `there is no bucket "lighthouse"`)
			} else {
				refused("wrong password", func(c *config.Store) { c.PasswordFile = wrong }, "does not let", "wrong")
			}
			refused("no such password file", func(c *config.Store) { c.PasswordFile, c.SecretFile = wrong+"er", wrong+"er" }, "wronger")
			refused("nobody listens", func(c *config.Store) {
				port := fmt.Sprint(freePort(t))
				for _, a := range []*string{&c.SFTP, &c.WebDAV, &c.S3, &c.FTP, &c.PlainFTP} {
					*a = replacePort(*a, port)
				}
			}, "refused")
			if l.server.CAFile != "" {
				refused("a certificate that nobody vouches for", func(c *config.Store) { c.CAFile = "" }, "certificate", "not trusted", "ca_file:")
			}
			if kind == "plain_ftp" {
				refused("no TLS there", func(c *config.Store) { c.FTP, c.PlainFTP = c.PlainFTP, "" }, "offers no TLS", "plain_ftp:")
			}
		})
	}
}

func freePort(t *testing.T) int {
	s, err := place.Start(place.FTP, place.Options{Plain: true})
	require.NoError(t, err)
	s.Close()
	_, port, _ := strings.Cut(strings.TrimSuffix(s.Address, "/"), "127.0.0.1:")
	var n int
	_, err = fmt.Sscan(port, &n)
	require.NoError(t, err)
	return n
}

func replacePort(address, port string) string {
	before, after, ok := strings.Cut(address, "127.0.0.1:")
	if !ok {
		return address
	}
	_, path, _ := strings.Cut(after, "/")
	return before + "127.0.0.1:" + port + "/" + path
}

func TestHostKeysArePinned(t *testing.T) {
	l := newLab(t, place.SFTP, nil)
	l.opener.Trust = false
	err := l.open().Check(t.Context())
	var unknown *sshconn.HostKeyError
	require.ErrorAs(t, err, &unknown)
	assert.Equal(t, l.server.Fingerprint, unknown.Fingerprint)
	assert.True(t, reason.Is(err, reason.HostUnknown))

	l.opener.Trust = true
	var told string
	l.opener.Trusted = func(_, fingerprint string) { told = fingerprint }
	require.NoError(t, l.open().Check(t.Context()))
	assert.Equal(t, l.server.Fingerprint, told)
	l.opener.Trust = false
	require.NoError(t, l.open().Check(t.Context()), "accepted once, known from then on")

	// Another machine takes over the address.
	address := strings.TrimSuffix(strings.TrimPrefix(l.server.Address, "sftp://keeper@"), "/")
	l.server.Close()
	other, err := place.Start(place.SFTP, place.Options{Listen: address, User: "keeper", Password: "practice"})
	require.NoError(t, err)
	t.Cleanup(other.Close)
	for _, trust := range []bool{false, true} {
		l.opener.Trust = trust
		err = l.open().Check(t.Context())
		assert.ErrorContains(t, err, "HAS CHANGED", "--trust does not accept a changed key")
		assert.ErrorContains(t, err, other.Fingerprint)
	}
	require.NoError(t, l.opener.Forget(l.cfg))
	require.NoError(t, l.open().Check(t.Context()))
	l.cfg.HostKey = l.server.Fingerprint
	assert.ErrorContains(t, l.open().Check(t.Context()), "HAS CHANGED", "what the configuration pins goes before what is known")
	l.cfg.HostKey = other.Fingerprint
	require.NoError(t, l.open().Check(t.Context()))
}

func TestAFullPlaceSaysSo(t *testing.T) {
	for _, kind := range served {
		t.Run(kind, func(t *testing.T) {
			s := newLab(t, kind, &place.Faults{Room: 3 << 20}).open()
			require.NoError(t, s.Check(t.Context()))
			require.NoError(t, put(t, s, "museum/parts/ab/fits", large(1<<20)))
			err := put(t, s, "museum/parts/ab/not", large(5<<20))
			assert.ErrorIs(t, err, store.ErrFull)
			all, err := s.List(t.Context(), "museum")
			require.NoError(t, err)
			require.Len(t, all, 1, "what did not fit is not there, not even in part")
		})
	}
}

func TestAPlaceThatFallsSilentIsGivenUp(t *testing.T) {
	for _, kind := range served {
		t.Run(kind, func(t *testing.T) {
			faults := &place.Faults{}
			l := newLab(t, kind, faults)
			require.NoError(t, put(t, l.open(), "museum/parts/ab/there", large(3<<20)))
			l.cfg.Patience = 80 * time.Millisecond
			faults.HangAfter = 1
			began := time.Now()
			_, err := get(t, l.open(), "museum/parts/ab/there", 0)
			assert.ErrorContains(t, err, "stopped answering")
			assert.ErrorContains(t, put(t, l.open(), "museum/parts/ab/new", large(3<<20)), "stopped answering")
			_, err = l.open().List(t.Context(), "museum")
			assert.ErrorContains(t, err, "stopped answering")
			assert.Less(t, time.Since(began), 20*time.Second)
		})
	}
}

// A call can be given up before its connection is made.
func TestACallThatIsGivenUpAtOnceEnds(t *testing.T) {
	for _, kind := range served {
		t.Run(kind, func(t *testing.T) {
			l := newLab(t, kind, &place.Faults{HangAfter: 1})
			for range 20 {
				ctx, cancel := context.WithCancel(t.Context())
				cancel()
				done := make(chan error, 1)
				go func() { _, err := l.open().List(ctx, "museum"); done <- err }()
				select {
				case err := <-done:
					require.Error(t, err)
				case <-time.After(10 * time.Second):
					t.Fatal("the call hangs")
				}
			}
		})
	}
}

// A slow line is not a silent one, however much a client library has taken in
// before it sends.
func TestSlowIsNotSilent(t *testing.T) {
	for _, kind := range served {
		t.Run(kind, func(t *testing.T) {
			l := newLab(t, kind, &place.Faults{Slow: 1 << 20})
			l.cfg.Patience = 1500 * time.Millisecond
			text := large(3 << 20)
			require.NoError(t, put(t, l.open(), "museum/parts/ab/slow", text))
			got, err := get(t, l.open(), "museum/parts/ab/slow", 0)
			require.NoError(t, err)
			assert.True(t, got == text)
		})
	}
}

func TestCancelEndsACall(t *testing.T) {
	for _, kind := range served {
		t.Run(kind, func(t *testing.T) {
			s := newLab(t, kind, &place.Faults{Slow: 200 << 10}).open()
			ctx, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
			defer cancel()
			began := time.Now()
			text := large(8 << 20)
			assert.ErrorIs(t, s.Put(ctx, "museum/parts/ab/slow", strings.NewReader(text), int64(len(text))), context.DeadlineExceeded)
			assert.Less(t, time.Since(began), 5*time.Second)
		})
	}
}

func TestARateIsKept(t *testing.T) {
	l := newLab(t, place.SFTP, nil)
	l.cfg.BytesPerSecond = 2 << 20
	s := l.open()
	began := time.Now()
	require.NoError(t, put(t, s, "museum/parts/ab/a", large(2<<20)))
	_, err := get(t, s, "museum/parts/ab/a", 0)
	require.NoError(t, err)
	took := time.Since(began).Seconds()
	assert.Greater(t, took, 1.2, "4 MiB at 2 MiB a second")
	assert.Less(t, took, 8.0, "a busy machine, and the rate kept twice")
}

// Every call that the far end makes to its files fails once; what Put said is
// there is there, whole, and what it said is not there is not there in part.
func TestEveryFarCallMayFail(t *testing.T) {
	for _, kind := range served {
		t.Run(kind, func(t *testing.T) {
			var mu sync.Mutex
			calls, at := 0, -1
			faults := &place.Faults{Fail: func(op, name string) error {
				mu.Lock()
				defer mu.Unlock()
				if calls++; calls == at {
					return &os.PathError{Op: op, Path: name, Err: errors.New("input/output error")}
				}
				return nil
			}}
			l := newLab(t, kind, faults)
			text := large(200 << 10)
			last := 0
			for k := 1; ; k++ {
				mu.Lock()
				calls, at = 0, k
				mu.Unlock()
				name := fmt.Sprintf("museum/parts/ab/%d", k)
				s := l.open()
				err := errors.Join(s.Check(t.Context()), put(t, s, name, text))
				_, listErr := s.List(t.Context(), "museum")
				mu.Lock()
				over := calls < k
				at = -1
				mu.Unlock()
				_ = s.Close()
				got, readErr := get(t, l.open(), name, 0)
				if err == nil {
					require.NoError(t, readErr, "call %d failed", k)
				}
				if readErr == nil {
					require.True(t, bytes.Equal([]byte(text), []byte(got)), "call %d failed: half an object", k)
				}
				all, err := l.open().List(t.Context(), "museum")
				require.NoError(t, err)
				assert.False(t, slices.ContainsFunc(all, func(i store.Info) bool { return i.Bytes != int64(len(text)) }))
				require.NoError(t, l.open().Remove(t.Context(), name))
				if over {
					require.NoError(t, listErr)
					break
				}
				last = k
			}
			t.Logf("%d calls failed in turn", last)
			assert.GreaterOrEqual(t, last, 5)
		})
	}
}

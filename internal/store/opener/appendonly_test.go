package opener_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/reason"
	"revlet/internal/practice/place"
	"revlet/internal/store"
	"revlet/internal/store/appendonly"
)

// Where the account may neither delete nor overwrite, everything but that works, and
// nothing is asked for that is refused.
func TestEveryKindOfStoreThatAnotherMachineKeeps(t *testing.T) {
	for _, kind := range []string{place.SFTP, place.WebDAV, place.S3, place.FTP, "plain_ftp"} {
		t.Run(kind, func(t *testing.T) {
			l := newLab(t, kind, &place.Faults{AppendOnly: true})
			raw := l.open() // as an intruder would
			assert.True(t, reason.Is(raw.Check(t.Context()), reason.NoDeletion), "it is said what is meant")
			l.cfg.Keeper = "elsewhere"
			s := l.open()
			require.NoError(t, s.Check(t.Context()))
			big := large(3 << 20)
			require.NoError(t, put(t, s, "museum/parts/ab/big", big))
			require.NoError(t, put(t, s, "museum/parts/ab/big", big), "again, the same")
			assert.ErrorIs(t, put(t, s, "museum/parts/ab/big", strings.Repeat("x", len(big))), store.ErrKeeper, "something else of that length")
			assert.ErrorIs(t, put(t, s, "museum/parts/ab/big", "short"), store.ErrKeeper)
			assert.ErrorIs(t, s.Remove(t.Context(), "museum/parts/ab/big"), store.ErrKeeper)
			assert.ErrorIs(t, s.Remove(t.Context(), "museum/parts/ab/none"), store.ErrKeeper)

			const lock = "museum/running/museum-20261123-032000.token"
			require.NoError(t, put(t, s, lock, "begun"))
			require.NoError(t, put(t, s, lock, "renewed"))
			require.NoError(t, s.Remove(t.Context(), lock))
			require.NoError(t, s.Remove(t.Context(), lock))
			locks, err := s.List(t.Context(), "museum/running")
			require.NoError(t, err)
			assert.Len(t, locks, 3)
			_, err = s.Stat(t.Context(), lock+appendonly.Over)
			require.NoError(t, err)

			// Whoever has the account cannot do more, whatever he sends.
			_ = raw.Remove(t.Context(), "museum/parts/ab/big")
			_ = put(t, raw, "museum/parts/ab/big", strings.Repeat("x", len(big)))
			_ = put(t, raw, lock, "x")
			got, err := get(t, s, "museum/parts/ab/big", 0)
			require.NoError(t, err)
			assert.Equal(t, big, got)
		})
	}
}

// Two machines that bring the same object at a time do not hinder each other.
func TestTheSameObjectFromTwoMachines(t *testing.T) {
	for _, kind := range []string{place.SFTP, place.WebDAV, place.FTP} {
		t.Run(kind, func(t *testing.T) {
			l := newLab(t, kind, &place.Faults{AppendOnly: true})
			l.cfg.Keeper = "elsewhere"
			a, b := l.open(), l.open()
			content := large(1 << 20)
			var wg sync.WaitGroup
			for _, s := range []store.Named{a, b} {
				wg.Go(func() { assert.NoError(t, put(t, s, "museum/parts/ab/same", content)) })
			}
			wg.Wait()
			got, err := get(t, a, "museum/parts/ab/same", 0)
			require.NoError(t, err)
			assert.Equal(t, content, got)
		})
	}
}

// A bucket's object lock is asked for with every object, and again for those that a later
// archive names.
func TestAnObjectLockIsAskedFor(t *testing.T) {
	for mode, want := range map[string]string{"": "GOVERNANCE", "compliance": "COMPLIANCE"} {
		t.Run(want, func(t *testing.T) { askedFor(t, mode, want) })
	}
}

func askedFor(t *testing.T, mode, want string) {
	var mu sync.Mutex
	seen := map[string]string{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if r.Method != http.MethodPut {
			return
		}
		body := new(strings.Builder)
		_ = r.Write(body)
		what := r.URL.Path
		if r.URL.Query().Has("retention") {
			what += "?retention"
		}
		seen[what] = r.Header.Get("X-Amz-Object-Lock-Mode") + " " + r.Header.Get("X-Amz-Object-Lock-Retain-Until-Date") + " " + body.String()
	}))
	t.Cleanup(server.Close)
	l := newLab(t, "folder", nil)
	l.cfg.Folder, l.cfg.S3, l.cfg.AccessKey, l.cfg.SecretFile = "", server.URL+"/museum/revlet", "keeper", l.dir+"/secret"
	l.cfg.Region, l.cfg.Lock, l.cfg.LockMode = "eu-1", "30 days", mode
	require.NoError(t, l.cfg.Settle(l.dir))
	s := l.open()
	require.NoError(t, put(t, s, "museum/parts/ab/x", "content"))
	require.NoError(t, s.Protect(t.Context(), "museum/parts/ab/x"))
	until := time.Now().AddDate(0, 0, 30).UTC().Format("2006-01-02")
	assert.Contains(t, seen["/museum/revlet/museum/parts/ab/x"], want+" "+until)
	assert.Contains(t, seen["/museum/revlet/museum/parts/ab/x?retention"], "<Mode>"+want+"</Mode>")
	assert.Contains(t, seen["/museum/revlet/museum/parts/ab/x?retention"], "<RetainUntilDate>"+until)
}

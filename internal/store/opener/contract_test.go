package opener_test

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/practice/place"
	"revlet/internal/store"
	"revlet/internal/store/opener"
)

// One connection is enough for many calls: who waits for it is not taken for a far
// end that has fallen silent.
func TestWaitingForAConnectionIsNoSilence(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			l := newLab(t, kind, &place.Faults{Slow: 300 << 10})
			l.cfg.Lanes, l.cfg.Silence = 1, "1 second"
			if kind == "program" { // its interpreter alone may take that long to start, and its disk to be written
				l.cfg.Silence = "5 seconds"
			}
			require.NoError(t, l.cfg.Settle(l.dir))
			s := l.open()
			text := large(360 << 10)
			var g sync.WaitGroup
			for i := range 3 {
				g.Go(func() { assert.NoError(t, put(t, s, fmt.Sprintf("museum/parts/%d", i), text)) })
			}
			g.Wait()
			for i := range 3 {
				g.Go(func() {
					got, err := get(t, s, fmt.Sprintf("museum/parts/%d", i), 0)
					assert.NoError(t, err)
					assert.True(t, got == text)
				})
			}
			g.Wait()
		})
	}
}

// What replaces an object of the same length is what is read from then on.
func TestAReplacementOfTheSameLengthIsSeen(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			s := newLab(t, kind, nil).open()
			require.NoError(t, put(t, s, "museum/archives/a.json", strings.Repeat("a", 5000)))
			for _, c := range "bcd" {
				text := strings.Repeat(string(c), 5000)
				require.NoError(t, put(t, s, "museum/archives/a.json", text))
				got, err := get(t, s, "museum/archives/a.json", 0)
				require.NoError(t, err)
				assert.Equal(t, text, got)
			}
			all, err := s.List(t.Context(), "museum")
			require.NoError(t, err)
			assert.Len(t, all, 1, "and nothing of the others is left")
		})
	}
}

// A listing that lags behind shows less, never something else; what is asked for by
// name is there at once.
func TestAListingThatLags(t *testing.T) {
	for _, kind := range []string{place.SFTP, place.WebDAV, place.FTP} {
		t.Run(kind, func(t *testing.T) {
			s := newLab(t, kind, &place.Faults{Lag: 1500 * time.Millisecond}).open()
			require.NoError(t, put(t, s, "museum/parts/new", "x"))
			info, err := s.Stat(t.Context(), "museum/parts/new")
			require.NoError(t, err)
			assert.EqualValues(t, 1, info.Bytes)
			listed := func() bool {
				all, err := s.List(t.Context(), "museum")
				require.NoError(t, err)
				return len(all) == 1
			}
			assert.False(t, listed())
			assert.Eventually(t, listed, 5*time.Second, 100*time.Millisecond)
		})
	}
}

// A proxy in front of an HTTP store answers 503, or breaks off in the middle of a body,
// every few requests: a read goes on where it was, and a write is whole.
func TestAProxyThatFailsNowAndThen(t *testing.T) {
	for _, kind := range []string{place.WebDAV, place.S3} {
		t.Run(kind, func(t *testing.T) {
			l := newLab(t, kind, nil)
			behind, err := url.Parse(l.server.Address[strings.Index(l.server.Address, "http"):])
			require.NoError(t, err)
			behind.Path = ""
			var requests atomic.Int64
			forward := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(behind); r.Out.Host = r.In.Host }}
			pem, err := os.ReadFile(l.server.CAFile)
			require.NoError(t, err)
			security, err := store.TLS(l.server.CAFile)
			require.NoError(t, err)
			security.ServerName = behind.Hostname()
			forward.Transport = &http.Transport{TLSClientConfig: security}
			forward.ErrorLog = nil
			failing := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				switch n := requests.Add(1); {
				case n%11 == 0:
					http.Error(w, "busy", http.StatusServiceUnavailable)
				case n%13 == 0 && r.Method == http.MethodGet:
					rec := httptest.NewRecorder()
					forward.ServeHTTP(rec, r)
					w.Header().Set("Content-Length", fmt.Sprint(rec.Body.Len()))
					w.WriteHeader(rec.Code)
					_, _ = w.Write(rec.Body.Bytes()[:rec.Body.Len()/2]) // and the connection is closed
				default:
					forward.ServeHTTP(w, r)
				}
			}))
			t.Cleanup(failing.Close)
			ca := filepath.Join(l.dir, "both.pem")
			require.NoError(t, os.WriteFile(ca, append(pem, certificate(failing)...), 0o600))
			// The S3 signature covers the host: the client must name the one behind.
			l.server.CAFile = ca
			l.address(strings.Replace(l.server.Address, behind.Host, failing.Listener.Addr().String(), 1), l.cfg.PasswordFile+l.cfg.SecretFile)
			require.NoError(t, l.cfg.Settle(l.dir))
			s := l.open()
			for i := range 12 {
				text := large(200<<10 + i)
				name := fmt.Sprintf("museum/parts/%d", i)
				require.NoError(t, put(t, s, name, text))
				got, err := get(t, s, name, 0)
				require.NoError(t, err)
				assert.True(t, got == text, "read %d bytes of %d", len(got), len(text))
			}
			all, err := s.List(t.Context(), "museum")
			require.NoError(t, err)
			assert.Len(t, all, 12)
			assert.Greater(t, requests.Load(), int64(20))
		})
	}
}

// certificate is a test server's own, in PEM.
func certificate(s *httptest.Server) []byte {
	var out bytes.Buffer
	fmt.Fprintln(&out, "-----BEGIN CERTIFICATE-----")
	encoded := base64.StdEncoding.EncodeToString(s.Certificate().Raw)
	for len(encoded) > 64 {
		fmt.Fprintln(&out, encoded[:64])
		encoded = encoded[64:]
	}
	fmt.Fprintf(&out, "%s\n-----END CERTIFICATE-----\n", encoded)
	return out.Bytes()
}

// A reader that is not read to its end gives its connection back.
func TestAReaderThatIsGivenUpCostsNoConnection(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			l := newLab(t, kind, nil)
			l.cfg.Lanes = 1
			s := l.open()
			require.NoError(t, put(t, s, "museum/parts/a", large(3<<20)))
			for range 4 {
				in, err := s.Open(t.Context(), "museum/parts/a", 0)
				require.NoError(t, err)
				_, err = io.ReadFull(in, make([]byte, 1000))
				require.NoError(t, err)
				require.NoError(t, in.Close())
			}
			_, err := s.Stat(t.Context(), "museum/parts/a")
			assert.NoError(t, err)
		})
	}
}

func TestAStoreThatCannotBeOpenedSaysWhy(t *testing.T) {
	o := &opener.Opener{Disk: &disk.Disk{}}
	for name, c := range map[string]config.Store{
		"no password file": {WebDAV: "https://dav.example/x", User: "keeper", PasswordFile: "/no/such/file"},
		"no CA file":       {WebDAV: "https://dav.example/x", CAFile: "/no/such/file"},
	} {
		_, err := o.Open("shelf", c)
		require.Error(t, err, name)
		assert.ErrorContains(t, err, "store shelf", name)
		assert.ErrorContains(t, err, "/no/such/file", name)
	}
	s, err := o.Open("harbour", config.Store{SFTP: "sftp://keeper@127.0.0.1:1/x", Silence: "1 second"})
	require.NoError(t, err, "nothing is connected yet")
	assert.ErrorContains(t, s.Check(t.Context()), "key_file")
	u := store.Unusable{Err: errors.New("why"), Address: "sftp"}
	assert.EqualError(t, u.Check(t.Context()), "why")
	_, err = u.List(t.Context(), "")
	assert.EqualError(t, err, "why")
	assert.True(t, u.Offsite())
}

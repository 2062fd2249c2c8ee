package notify

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/config"
	"revlet/internal/watch/report"
)

func trouble() Event {
	at := time.Date(2026, 11, 26, 3, 25, 0, 0, time.UTC)
	return Event{Kind: KindRun, At: at, Host: "vps", Program: "revlet test", Trouble: true, Title: "kestrelpoint: alarm planted", Zone: "Europe/Oslo", Sites: []SiteNews{{
		Site: report.Site{Name: "kestrelpoint", Address: "https://kestrelpoint.example/", Archives: []report.Archive{}, Stores: []report.Store{}, Duties: []report.Duty{}, Pending: []string{"harbour"}, Runs: []report.Run{},
			Newest: &report.Archive{Name: "kestrelpoint-20261126-032000", Taken: at},
			Alarms: []report.Alarm{{Kind: "planted", Since: at, Detail: "uploads/<script>alert(1)</script>.php", Why: "why it matters", Do: "what to do"}}},
		Told: []RunNews{{Run: report.Run{ID: 7, Command: "backup", Archive: "kestrelpoint-20261126-032000", Outcome: "gaps", Started: at, Stores: []string{"here"}}, Saved: &archive.Totals{Files: 1234, FileBytes: 5e6, Tables: 3, Rows: 4567, DatabaseBytes: 1e6}, GapCount: 2,
			NotSaved: []archive.Gap{{Path: "private/notes.txt", Kind: "unreadable", Why: "permission denied"}}, Changed: "3 files new"}},
		Since: []report.Run{}}}}
}

func TestAMessageSaysWhatHappenedAndWhatToDo(t *testing.T) {
	text, html, err := trouble().render()
	require.NoError(t, err)
	for _, want := range []string{"kestrelpoint", "1,234 files (5.0 MB)", "3 tables with 4,567 rows", "private/notes.txt", "permission denied", "why it matters", "what to do", "harbour", "04:25"} {
		assert.Contains(t, text, want)
		if want != "04:25" {
			assert.Contains(t, html, want)
		}
	}
	assert.NotContains(t, html, "<script>alert", "what comes from a site is no part of the page")
	assert.Contains(t, html, "&lt;script&gt;")
	for line := range strings.Lines(text) {
		assert.LessOrEqual(t, len(line), 900, "mail has lines of 998 bytes at most (RFC 5322)")
	}
}

func TestEveryKindOfMessageRenders(t *testing.T) {
	for _, kind := range []string{KindRun, KindDigest, KindTest} {
		for _, zone := range []string{"", "UTC", "No/Such", "America/New_York"} {
			e := trouble()
			e.Kind, e.Zone = kind, zone
			_, _, err := e.render()
			require.NoError(t, err, kind)
			e.Sites = nil
			_, _, err = e.render()
			require.NoError(t, err, kind)
		}
	}
	seen := map[string]bool{}
	for _, outcome := range []string{"done", "gaps", "pending", "failed", "damage", "interrupted"} {
		words := verdict("backup", outcome)
		assert.False(t, seen[words], outcome)
		seen[words] = true
	}
	for _, command := range []string{"verify", "rehearse"} {
		assert.NotContains(t, verdict(command, "pending"), "done", command)
	}
	assert.Contains(t, verdict("rehearse", "damage"), "DOES NOT RESTORE")
	assert.Equal(t, "nothing", saved(archive.Totals{}))
}

func TestAnEventIsTheJSONThatItWas(t *testing.T) {
	e := trouble()
	data, err := json.Marshal(e)
	require.NoError(t, err)
	var back Event
	require.NoError(t, json.Unmarshal(data, &back))
	assert.Equal(t, e, back, "what waits in the outbox loses nothing")
}

func TestAWebhookIsSigned(t *testing.T) {
	var stamp, signature string
	var body []byte
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		stamp, signature = r.Header.Get(StampHeader), r.Header.Get(SignatureHeader)
		body, _ = io.ReadAll(r.Body)
	}))
	defer s.Close()
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("lamp\n"), 0o600))
	now := time.Unix(1_795_000_000, 0)
	require.NoError(t, Webhook(t.Context(), &config.Webhook{URL: s.URL, SecretFile: secret}, []byte(`{"a":1}`), now))
	assert.Equal(t, "1795000000", stamp)
	assert.Equal(t, `{"a":1}`, string(body))
	assert.Equal(t, Signature("lamp", stamp, body), signature)
	assert.NotEqual(t, signature, Signature("lamp", "1795000001", body), "the time is part of it")
	// HMAC-SHA256 of "1.x" under "key", made with openssl dgst -sha256 -hmac key.
	assert.Len(t, Signature("key", "1", []byte("x")), 64)
	require.NoError(t, Webhook(t.Context(), &config.Webhook{URL: s.URL}, nil, now))
	assert.Empty(t, signature, "without a secret nothing is signed")
}

func TestCallsThatFailSayWhyAndNoSecret(t *testing.T) {
	status := 503
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }))
	defer s.Close()
	tls := httptest.NewTLSServer(http.NotFoundHandler())
	defer tls.Close()
	hidden := "/very-secret-token"
	for address, says := range map[string]string{
		s.URL + hidden:                "503",
		"http://127.0.0.1:1" + hidden: "refused",
		tls.URL + hidden:              "certificate",
	} {
		err := Ping(t.Context(), address, "kp", "")
		require.Error(t, err)
		assert.ErrorContains(t, err, says)
		assert.NotContains(t, err.Error(), "very-secret-token")
	}
	status = 204
	require.NoError(t, Ping(t.Context(), s.URL+"/{site}", "a site/with slashes", ""))
	assert.Error(t, Ping(t.Context(), s.URL, "kp", "/no/such/ca.pem"))
	assert.Error(t, Ping(t.Context(), "http://[", "kp", ""))
}

// A number in an address is no word of a mail server's.
func TestAPortIsNoAnswer(t *testing.T) {
	dial := &net.OpError{Op: "dial", Net: "tcp", Err: errors.New("connect: connection refused to 127.0.0.1:37535")}
	assert.ErrorContains(t, explain(fmt.Errorf("dial failed: %w", dial), "smtp"), "cannot be reached")
	assert.NotContains(t, explain(errors.New("read 127.0.0.1:37535: reset"), "smtp").Error(), "account")
	assert.NotContains(t, explain(errors.New("read 127.0.0.1:53501: reset"), "smtp").Error(), "account")
	assert.Contains(t, explain(errors.New("SMTP AUTH failed: 535 5.7.8 no"), "smtp").Error(), "account")
}

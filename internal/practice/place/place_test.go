package place

import (
	"errors"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asked is what a place answers over WebDAV; 0 is no answer.
func asked(t *testing.T, s *Server, method, name, user, body string) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, strings.TrimSuffix(s.Address, "/")+"/"+name, strings.NewReader(body))
	require.NoError(t, err)
	req.SetBasicAuth(user, "practice")
	resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		return 0, err.Error()
	}
	return resp.StatusCode, string(text)
}

func started(t *testing.T, f *Faults) *Server {
	t.Helper()
	s, err := Start(WebDAV, Options{User: "keeper", Password: "practice", Plain: true, Faults: f})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func TestAPlaceHoldsWhatIsPutThere(t *testing.T) {
	s := started(t, nil)
	status, _ := asked(t, s, "PUT", "lamp", "keeper", "lit")
	assert.Equal(t, 201, status)
	status, text := asked(t, s, "GET", "lamp", "keeper", "")
	assert.Equal(t, 200, status)
	assert.Equal(t, "lit", text)
	status, _ = asked(t, s, "GET", "lamp", "somebody", "")
	assert.Equal(t, 401, status)
	s.Close()
	status, _ = asked(t, s, "GET", "lamp", "keeper", "")
	assert.Zero(t, status, "it is closed")
}

// The faults that tests rely on happen.
func TestFaultsHappen(t *testing.T) {
	away := &Faults{}
	away.Away.Store(true)
	for name, c := range map[string]struct {
		faults *Faults
		good   bool
	}{
		"sound":             {&Faults{}, true},
		"away":              {away, false},
		"nobody is let in":  {&Faults{Refuse: true}, false},
		"full":              {&Faults{Room: 10}, false},
		"cut":               {&Faults{DropAfter: 50}, false},
		"dead":              {&Faults{DieAfter: 50}, false},
		"a call that fails": {&Faults{Fail: func(op, _ string) error { return errors.New(op + " fails") }}, false},
	} {
		s := started(t, c.faults)
		status, _ := asked(t, s, "PUT", "lamp", "keeper", strings.Repeat("lit ", 100))
		assert.Equal(t, c.good, status/100 == 2, "%s: %d", name, status)
	}
}

func TestNothingIsDeletedWhereThatIsNotAllowed(t *testing.T) {
	for only, want := range map[bool]bool{false: true, true: false} {
		s := started(t, &Faults{AppendOnly: only})
		status, _ := asked(t, s, "PUT", "lamp", "keeper", "lit")
		require.Equal(t, 201, status)
		status, _ = asked(t, s, "DELETE", "lamp", "keeper", "")
		assert.Equal(t, want, status/100 == 2, "%d", status)
		status, _ = asked(t, s, "GET", "lamp", "keeper", "")
		assert.Equal(t, !want, status == 200)
	}
}

func TestAnUnknownKindOfPlaceIsRefused(t *testing.T) {
	_, err := Start("pigeon", Options{})
	assert.Error(t, err)
}

package lampblack

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func built(t *testing.T) (root string, ask func(path string) (int, string)) {
	root = t.TempDir()
	require.NoError(t, Build(t.Context(), root, "http://kestrelpoint.example"))
	h := Handler(root)
	return root, func(path string) (int, string) {
		rec := httptest.NewRecorder()
		h.ServeHTTP(rec, httptest.NewRequest(http.MethodGet, path, nil))
		return rec.Code, rec.Body.String()
	}
}

func TestItBreaksTheWayRealOnesDo(t *testing.T) {
	root, ask := built(t)
	status, front := ask("/")
	assert.Equal(t, 200, status)
	assert.Contains(t, front, "Kestrel Point Lighthouse Museum")
	assert.Contains(t, strings.ToLower(front), "</html>")
	status, _ = ask("/visit")
	assert.Equal(t, 200, status)
	status, _ = ask("/no-such-page")
	assert.Equal(t, 404, status)
	status, _ = ask("/uploads/2026/lens.svg")
	assert.Equal(t, 200, status)
	status, _ = ask("/../settings.yaml")
	assert.Equal(t, 404, status, "settings are not served")

	require.NoError(t, os.Rename(filepath.Join(root, "themes/lantern"), filepath.Join(root, "away")))
	status, _ = ask("/")
	assert.Equal(t, 500, status, "without its theme")
	require.NoError(t, os.Rename(filepath.Join(root, "away"), filepath.Join(root, "themes/lantern")))
	require.NoError(t, Execute(t.Context(), filepath.Join(root, DatabaseFile), "ALTER TABLE exhibits RENAME TO gone"))
	status, page := ask("/")
	assert.Equal(t, 500, status, "without a table")
	assert.NotContains(t, page, "<script>")
	require.NoError(t, Execute(t.Context(), filepath.Join(root, DatabaseFile), "ALTER TABLE gone RENAME TO exhibits"))
	status, again := ask("/")
	assert.Equal(t, 200, status)
	assert.Equal(t, front, again)
	assert.Error(t, Execute(t.Context(), filepath.Join(root, DatabaseFile), "no SQL"))
}

func TestItClosesForMaintenanceAndNotForEver(t *testing.T) {
	root, ask := built(t)
	flag := filepath.Join(root, "maintenance.flag")
	require.NoError(t, os.WriteFile(flag, nil, 0o644))
	status, _ := ask("/")
	assert.Equal(t, 503, status)
	old := time.Now().Add(-longestMaintenance - time.Minute)
	require.NoError(t, os.Chtimes(flag, old, old))
	status, _ = ask("/")
	assert.Equal(t, 200, status)
	require.NoError(t, os.WriteFile(flag, []byte(strconv.FormatInt(time.Now().Add(time.Hour).Unix(), 10)), 0o644))
	require.NoError(t, os.Chtimes(flag, old, old))
	status, _ = ask("/")
	assert.Equal(t, 503, status, "what it says counts, and may lie ahead")
}

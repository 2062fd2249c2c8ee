package e2e

import (
	"encoding/json"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func makePipe(path string) error { return syscall.Mkfifo(path, 0o644) }

// replaceOnce changes the last place where old stands.
func replaceOnce(t *testing.T, text, old, new string) string {
	t.Helper()
	i := strings.LastIndex(text, old)
	require.GreaterOrEqual(t, i, 0, old)
	return text[:i] + new + text[i+len(old):]
}

func decodeJSON(t *testing.T, text string, into any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), into), text)
}

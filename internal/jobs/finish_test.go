package jobs

import (
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/site"
)

// The page that is left at the old place leads every visitor to the same page at the new one; what an
// address says cannot get out of its quotes.
func TestTheRedirectThatIsLeft(t *testing.T) {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	a := &Agent{Config: &config.Config{Sites: map[string]config.Site{
		"lighthouse": {Address: "https://lighthouse.example/visit/"},
		"quoted":     {Address: "https://lighthouse.example/it's"},
		"same":       {Address: "https://kestrelpoint.example/other"},
	}}}
	s := &site.Site{Name: "kestrelpoint", Recipe: recipe, Address: "https://kestrelpoint.example/museum"}
	text, err := a.redirect(s, "lighthouse")
	require.NoError(t, err)
	assert.Contains(t, text, `'Location: https://lighthouse.example/visit' . substr($_SERVER['REQUEST_URI'], 7)`)
	quoted, err := a.redirect(s, "quoted")
	require.NoError(t, err)
	assert.Contains(t, quoted, `it\'s' . substr`)
	_, err = a.redirect(s, "same")
	require.ErrorContains(t, err, "back to itself")
	bare := *s
	bare.Maintenance.File = "closed.html"
	_, err = a.redirect(&bare, "lighthouse")
	require.ErrorContains(t, err, "web server's settings")

	php, err := exec.LookPath("php")
	if err != nil {
		t.Skip("php is not installed; scripts/setup.sh installs it")
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".maintenance"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "router.php"), []byte("<?php require __DIR__ . '/.maintenance'; echo 'open';"), 0o600))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	require.NoError(t, l.Close())
	cmd := exec.Command(php, "-S", at, "router.php")
	cmd.Dir = dir
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	require.Eventually(t, func() bool {
		resp, err := client.Get("http://" + at + "/museum/hours?day=2")
		if err != nil {
			return false
		}
		defer resp.Body.Close()
		return assert.Equal(t, http.StatusMovedPermanently, resp.StatusCode) && assert.Equal(t, "https://lighthouse.example/visit/hours?day=2", resp.Header.Get("Location"))
	}, 10*time.Second, 50*time.Millisecond)
}

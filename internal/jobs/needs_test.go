package jobs

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
)

func TestVerdictsOnNeeds(t *testing.T) {
	wants := site.Needs{PHP: "8.1", Modules: []string{"intl", "mbstring"}}
	for name, c := range map[string]struct {
		has  php
		want []string
	}{
		"all is there":     {php{PHP: "8.2.1", Modules: []string{"Core", "Intl", "mbstring"}}, []string{NeedMet, NeedMet}},
		"too old":          {php{PHP: "7.4.33", Modules: []string{"intl", "mbstring"}}, []string{NeedNotMet, NeedMet}},
		"a module lacks":   {php{PHP: "8.1.0", Modules: []string{"mbstring"}}, []string{NeedMet, NeedNotMet}},
		"nobody could say": {php{}, []string{NeedUnknown, NeedUnknown}},
	} {
		var got []string
		for _, n := range judgePHP(wants, c.has) {
			got = append(got, n.Verdict)
		}
		assert.Equal(t, c.want, got, name)
	}
	assert.Empty(t, judgePHP(site.Needs{}, php{PHP: "8"}))
}

// The page that asks a web server for its PHP is there for one request, under a name that
// nobody can know.
func TestThePageThatAsksForPHP(t *testing.T) {
	b := newBench(t, "", "")
	root := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(root, "index.html"), nil, 0o644))
	answer := `{"php":"8.3.1","modules":["intl"]}`
	var asked []string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.Path)
		text, err := os.ReadFile(filepath.Join(root, r.URL.Path))
		if err != nil {
			http.NotFound(w, r)
			return
		}
		assert.Contains(t, string(text), "unlink(__FILE__)")
		_, _ = w.Write([]byte(answer))
	}))
	defer s.Close()
	m := &Move{Entry: config.Site{Root: root}, Site: &site.Site{Address: s.URL}}
	got := b.servedPHP(t.Context(), m)
	assert.Equal(t, "8.3.1", got.PHP)
	assert.Equal(t, []string{"intl"}, got.Modules)
	answer = "<?php @unlink(" // a server that shows its scripts
	assert.Empty(t, b.servedPHP(t.Context(), m).PHP)
	require.Len(t, asked, 2)
	assert.NotEqual(t, asked[0], asked[1])
	left, err := os.ReadDir(root)
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing stays")
	s.Close()
	assert.Empty(t, b.servedPHP(t.Context(), m).PHP)
	m.Entry.Root = filepath.Join(root, "none")
	assert.Empty(t, b.servedPHP(t.Context(), m).PHP)
}

func TestTheProgramThatIsNamedHasToBePHP(t *testing.T) {
	b := newBench(t, "", "")
	for _, program := range []string{"/nowhere/php", "/bin/false", "/bin/echo"} {
		_, err := b.phpThere(t.Context(), &Move{Order: MoveOrder{PHP: program}})
		assert.True(t, reason.Is(err, reason.Usage), program)
	}
	fake := filepath.Join(t.TempDir(), "php5")
	require.NoError(t, os.WriteFile(fake, []byte("#!/bin/sh\necho '{\"php\":\"5.3.29\",\"modules\":[]}'\n"), 0o755))
	has, err := b.phpThere(t.Context(), &Move{Order: MoveOrder{PHP: fake}})
	require.NoError(t, err)
	assert.Equal(t, "5.3.29", has.PHP)
}

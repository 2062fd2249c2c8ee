package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

func TestStoreAddresses(t *testing.T) {
	for typed, kind := range map[string]string{
		"/var/backups/revlet": "folder", "./archives": "folder", "sftp://keeper@harbour.example/revlet": "sftp", "https://dav.example/backups": "webdav",
		"s3://s3.example/bucket/prefix": "s3", "ftp://ftp.example/revlet": "ftp", "plain-ftp://ftp.example/revlet": "plain_ftp",
	} {
		s, err := ParseAddress(typed)
		require.NoError(t, err, typed)
		require.NoError(t, s.Settle("/etc/revlet"), typed)
		assert.Equal(t, kind, s.Kind(), typed)
		assert.Equal(t, 4, s.Lanes)
	}
	_, err := ParseAddress("gopher://old.example/")
	assert.ErrorContains(t, err, "sftp://")
	for text, dir := range map[string]string{"sftp://h/srv/x": "/srv/x", "sftp://h/~/x/y": "x/y", "sftp://h": ".", "sftp://h/~/": ".", "sftp://h/": "/"} {
		s := Store{SFTP: text}
		u, err := s.URL()
		require.NoError(t, err)
		assert.Equal(t, dir, RemoteDir(u), text)
	}
}

func TestFaultsInStoresSayWhatToDo(t *testing.T) {
	for entry, says := range map[string]string{
		`{sftp: "sftp://h/x", folder: /a}`:                               "it has 2 addresses",
		`{sftp: "h/x"}`:                                                  "it looks like sftp://host/folder",
		`{webdav: "ftp://h/x"}`:                                          "it looks like https://host/folder",
		`{sftp: "sftp://u:secret@h/x"}`:                                  "password_file",
		`{s3: "https://s3.example/"}`:                                    "names no bucket",
		`{s3: "https://s3.example/b", style: virtual}`:                   "path or host",
		`{folder: /a, rate: fast}`:                                       "5 MB/s",
		`{folder: /a, rate: "0 B/s"}`:                                    "at least",
		`{folder: /a, lanes: 1000}`:                                      "1 to 64",
		`{folder: /a, silence: forever}`:                                 "90 seconds",
		`{folder: /a, password_file: a, password_env: B}`:                "keep one",
		`{sftpp: "sftp://h/x"}`:                                          `did you mean "sftp"`,
		`{ftp: "ftp://h/x", acces_key: x}`:                               `did you mean "access_key"`,
		`{folder: /a}` + "\nencrypt: {to: []}":                           "names nobody",
		`{folder: /a}` + "\nencrypt: {to: [age1nonsense]}":               "no age recipient",
		`{folder: /a}` + "\nencrypt: {to: [AGE-SECRET-KEY-1ABCDEFGHIJ]}": "secret key",
	} {
		_, err := Parse("f.yaml", []byte("stores:\n  here: "+entry+"\n"))
		require.Error(t, err, entry)
		assert.ErrorContains(t, err, says, entry)
		assert.NotContains(t, err.Error(), "u:secret", "no secret is shown")
		assert.Contains(t, err.Error(), "f.yaml:", entry)
	}
}

func TestSpansAndRhythms(t *testing.T) {
	for phrase, want := range map[string]time.Duration{"every 30 days": 720 * time.Hour, "every day": 24 * time.Hour, "every 2 weeks": 336 * time.Hour} {
		d, err := ParseEvery(phrase)
		require.NoError(t, err, phrase)
		assert.Equal(t, want, d, phrase)
	}
	for _, phrase := range []string{"", "30 days", "every", "every 0 days", "every -1 days", "every 5 fortnights", "every 1e9 days", "every 2000 days"} {
		_, err := ParseEvery(phrase)
		assert.Error(t, err, phrase)
	}
}

// What is written into the file is read back the same.
func TestAddedStoresAndSitesComeBack(t *testing.T) {
	file := filepath.Join(t.TempDir(), "revlet.yaml")
	require.NoError(t, os.WriteFile(file, []byte("# mine\nstate: ./s\n"), 0o600))
	store := Store{SFTP: "sftp://keeper@h.example:2222/~/re vlet", KeyFile: "/home/k/id: odd", Rate: "5 MB/s", Silence: "90 seconds", Lanes: 2}
	site := Site{Root: "/srv/a b", Address: "https://a.example/", Recipe: "none", Stores: []string{"harbour"}, Roots: map[string]string{"media": "/srv/m, n"},
		Databases: map[string]Database{"main": {MySQL: "u@127.0.0.1:3306/db"}, "more": {SQLite: "/srv/x.db"}}, Skip: []string{"tmp/**"}, Check: &Check{Path: "/", Status: 200}}
	_, err := Add(&disk.Disk{}, file, map[string]Store{"harbour": store}, map[string]Site{"museum": site})
	require.NoError(t, err)
	c, err := Load(file)
	require.NoError(t, err)
	got := c.Stores["harbour"]
	assert.Equal(t, []any{store.SFTP, store.KeyFile, store.Rate, store.Silence, 2}, []any{got.SFTP, got.KeyFile, got.Rate, got.Silence, got.Lanes})
	assert.EqualValues(t, 5_000_000, got.BytesPerSecond)
	assert.Equal(t, 90*time.Second, got.Patience)
	back := c.Sites["museum"]
	assert.Equal(t, site.Roots, back.Roots)
	assert.Equal(t, site.Databases, back.Databases)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(text), "# mine\n"), "what stands there stays")
}

// Nothing goes over a line for all to read unless that was written out.
func TestPlainStoresAreCalledThat(t *testing.T) {
	for _, bad := range []Store{{WebDAV: "http://dav.example/revlet"}, {S3: "http://s3.example/bucket"}, {WebDAV: "http://192.0.2.1/x"}, {PlainWebDAV: "https://dav.example/x"}, {PlainS3: "https://s3.example/b"},
		{WebDAV: "http://127.0.0.1.evil.example/x"}, {S3: "http://localhost.evil.example/b"}, {WebDAV: "http://[2001:db8::1]/x"}} {
		assert.Error(t, bad.Settle("/"), bad)
	}
	for _, good := range []Store{{WebDAV: "https://dav.example/revlet"}, {PlainWebDAV: "http://dav.example/revlet"}, {PlainS3: "http://s3.example/bucket"}, {WebDAV: "http://127.0.0.1:8080/x"}, {S3: "http://[::1]:9000/b"}, {S3: "http://localhost:9000/b"}} {
		assert.NoError(t, good.Settle("/"), good)
	}
	s, err := ParseAddress("http://dav.example/revlet")
	require.NoError(t, err)
	require.ErrorContains(t, s.Settle("/"), "plain_webdav")
	s, err = ParseAddress("plain-http://dav.example/revlet")
	require.NoError(t, err)
	require.NoError(t, s.Settle("/"))
}

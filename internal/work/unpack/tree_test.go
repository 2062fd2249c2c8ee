package unpack

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// unpack writes a tar's entries as a restore does, without a list to compare
// with: the tree alone has to keep everything inside.
func unpack(t testing.TB, dir string, data []byte) error {
	d := &disk.Disk{}
	root, err := d.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	tree := &Tree{Disk: d, root: root, Label: "webroot", Owners: &Owners{}}
	tr := tar.NewReader(bytes.NewReader(data))
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			return tree.finishFolders()
		}
		if err != nil {
			return err
		}
		rel, wanted, err := tree.wants(h)
		if err == nil && wanted {
			err = tree.entry(rel, h, io.LimitReader(tr, 1<<20))
		}
		if err != nil {
			return err
		}
	}
}

func tarOf(t testing.TB, headers ...tar.Header) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		if h.Typeflag == tar.TypeReg {
			h.Size = 4
		}
		h.Mode = 0o644
		require.NoError(t, w.WriteHeader(&h))
		if h.Typeflag == tar.TypeReg {
			_, err := w.Write([]byte("evil"))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func reg(name string) tar.Header { return tar.Header{Name: name, Typeflag: tar.TypeReg} }

func TestHostileTar(t *testing.T) {
	for name, headers := range map[string][]tar.Header{
		"climbs":             {reg("webroot/../../outside/x")},
		"climbs by root":     {reg("webroot/..")},
		"absolute":           {reg("/etc/passwd")},
		"another root":       {reg("elsewhere/x")},
		"dots":               {reg("webroot/./x")},
		"through a link":     {{Name: "webroot/link", Typeflag: tar.TypeSymlink, Linkname: "../../outside"}, reg("webroot/link/x")},
		"over a link":        {{Name: "webroot/link", Typeflag: tar.TypeSymlink, Linkname: "../../outside/kept"}, {Name: "webroot/link/", Typeflag: tar.TypeDir}, reg("webroot/link/x")},
		"hard link out":      {{Name: "webroot/hard", Typeflag: tar.TypeLink, Linkname: "webroot/../../outside/kept"}},
		"hard link absolute": {{Name: "webroot/hard", Typeflag: tar.TypeLink, Linkname: "/etc/passwd"}},
		"character device":   {{Name: "webroot/null", Typeflag: tar.TypeChar, Devmajor: 1, Devminor: 3}},
		"block device":       {{Name: "webroot/disk", Typeflag: tar.TypeBlock}},
		"pipe":               {{Name: "webroot/pipe", Typeflag: tar.TypeFifo}},
	} {
		t.Run(name, func(t *testing.T) {
			base := t.TempDir()
			dir, outside := filepath.Join(base, "a/new"), filepath.Join(base, "outside")
			require.NoError(t, os.MkdirAll(dir, 0o755))
			require.NoError(t, os.MkdirAll(outside, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(outside, "kept"), []byte("kept"), 0o644))
			assert.Error(t, unpack(t, dir, tarOf(t, headers...)))
			names, err := os.ReadDir(outside)
			require.NoError(t, err)
			assert.Len(t, names, 1, "nothing is written outside")
			data, err := os.ReadFile(filepath.Join(outside, "kept"))
			require.NoError(t, err)
			assert.Equal(t, "kept", string(data))
		})
	}
}

func TestAFileOverALinkReplacesTheLink(t *testing.T) {
	base := t.TempDir()
	dir := filepath.Join(base, "new")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(base, "kept"), []byte("kept"), 0o644))
	require.NoError(t, unpack(t, dir, tarOf(t, tar.Header{Name: "webroot/link", Typeflag: tar.TypeSymlink, Linkname: "../kept"}, reg("webroot/link"))))
	data, err := os.ReadFile(filepath.Join(base, "kept"))
	require.NoError(t, err)
	assert.Equal(t, "kept", string(data))
}

func FuzzTree(f *testing.F) {
	f.Add(tarOf(f, reg("webroot/a/b"), tar.Header{Name: "webroot/l", Typeflag: tar.TypeSymlink, Linkname: ".."}, reg("webroot/../x")))
	f.Fuzz(func(t *testing.T, data []byte) {
		base := t.TempDir()
		dir := filepath.Join(base, "box/new")
		require.NoError(t, os.MkdirAll(dir, 0o755))
		_ = unpack(t, dir, data)
		for _, outer := range []string{base, filepath.Join(base, "box")} {
			names, err := os.ReadDir(outer)
			require.NoError(t, err)
			if len(names) != 1 {
				t.Fatalf("written outside: %v", names)
			}
		}
		_ = filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
			if d != nil && d.IsDir() {
				_ = os.Chmod(p, 0o755)
			}
			if strings.Contains(p, "..") && strings.Contains(p, "/../") {
				t.Fatal(p)
			}
			return nil
		})
	})
}

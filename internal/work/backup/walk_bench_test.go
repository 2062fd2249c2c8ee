package backup

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
)

// A webroot of a large CMS: ten thousand small files in five hundred folders.
func BenchmarkWalk(b *testing.B) {
	root := b.TempDir()
	for d := range 500 {
		dir := filepath.Join(root, fmt.Sprintf("extensions/%02d/part-%03d", d%40, d))
		require.NoError(b, os.MkdirAll(dir, 0o755))
		for f := range 20 {
			require.NoError(b, os.WriteFile(filepath.Join(dir, fmt.Sprintf("file-%02d.php", f)), []byte("<?php // the lamp"), 0o644))
		}
	}
	s, err := site.OpenFrom("kestrelpoint", config.Site{Root: root, Recipe: "none", Skip: []string{"cache/**", "**/*.log"}}, nil)
	require.NoError(b, err)
	b.ReportAllocs()
	for b.Loop() {
		files := 0
		folders := OpenFolders(b.Context(), &disk.Disk{}, s)
		w := &walker{disk: &disk.Disk{}, folders: folders, site: s, file: func(planned) error { files++; return nil }, tree: func(archive.Entry) error { return nil },
			gap: func(g archive.Gap) { b.Fatal(g) }, skip: func(name, _ string) { b.Fatal(name) }, isDatabase: func([]byte) bool { return false }}
		if err := w.walk(b.Context()); err != nil || files != 10000 {
			b.Fatal(files, err)
		}
		folders.Close()
	}
}

package e2e

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// What docs/BAD-DAY.md says to type is typed, line by line as it stands there, on a site whose archives are
// called as those of the document: a bad day is no day for a line that does not work.
func TestBadDayAsItIsWritten(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/BAD-DAY.md")
	require.NoError(t, err)
	w, _ := museum(t)
	execute := func(statement string) {
		require.NoError(t, lampblack.Execute(context.Background(), w.path("htdocs", lampblack.DatabaseFile), statement))
	}
	wreck := func() {
		require.NoError(t, os.RemoveAll(w.path("htdocs/uploads/2026")))
		execute("DELETE FROM remarks; DELETE FROM pages WHERE slug IN ('visit', 'history'); DELETE FROM keepers_log WHERE id < 9")
	}
	w.clock = time.Date(2026, 10, 31, 3, 20, 0, 0, time.UTC)
	w.run("backup")
	w.write("htdocs/uploads/2026/lens.txt", strings.Repeat("a new lens\n", 300))
	execute("INSERT INTO remarks SELECT 99, id, 'E. Marrow', 'the lens is splendid' FROM pages LIMIT 1")
	w.clock = time.Date(2026, 11, 26, 3, 20, 0, 0, time.UTC)
	w.run("backup")
	w.clock = w.clock.Add(24 * time.Hour)

	codes := map[string][]int{"compare": {0, 4}, "verify": {4}}
	typed := 0
	for _, section := range strings.Split(string(text), "\n## ")[1:] {
		title, _, _ := strings.Cut(section, "\n")
		switch title {
		case "First: what differs?":
			wreck()
		case "Somebody got in":
			require.NoError(t, os.MkdirAll(w.path("htdocs/uploads/2026"), 0o755))
			w.write("htdocs/uploads/2026/door.php", "<?php evil();")
		case "The archive itself is damaged":
			for _, p := range w.parts("kestrelpoint") {
				if p.Kind == "files" {
					flip(t, p.file)
				}
			}
		}
		for _, block := range shellBlock.FindAllStringSubmatch(section, -1) {
			for line := range strings.Lines(block[1]) {
				line, _, _ = strings.Cut(strings.TrimSpace(line), " #")
				words := strings.Fields(strings.ReplaceAll(line, `"`, ""))
				require.Equal(t, "revlet", words[0], line)
				args := words[1:]
				if args[0] == "restore" {
					w.try("settle", "kestrelpoint", "--unsaved", "--yes")
					if title == "A page, a theme, a table is gone" {
						wreck()
					}
					args = append(args, "--yes")
				}
				want := append([]int{0}, codes[args[0]]...)
				if strings.Contains(line, "--salvage") {
					want = []int{4}
				}
				r := w.try(args...)
				assert.Contains(t, want, r.code, "%s\n%s%s", line, r.out, r.err)
				typed++
			}
		}
		switch title {
		case "Somebody got in":
			assert.NoFileExists(t, w.path("htdocs/uploads/2026/door.php"))
			assert.FileExists(t, w.path("evidence.tar.zst"))
		}
	}
	assert.Greater(t, typed, 14)
}

package tree

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A folder that cannot be looked into is not an empty one.
func TestASurveyOfWhatIsClosed(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755))
	for _, name := range []string{"open/a", "shut/b", "listed/c", "empty"} {
		path := filepath.Join(dir, name)
		if name == "empty" {
			require.NoError(t, os.Mkdir(path, 0o755))
			continue
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, nil, 0o644))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "shut"), 0o000))
	require.NoError(t, os.Chmod(filepath.Join(dir, "listed"), 0o744))
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(dir, "shut"), 0o755) })
	args := []string{"sh", "-c", surveyCommand(dir, ".")}
	if os.Geteuid() == 0 { // as an account without rights
		for at := dir; at != "/"; at = filepath.Dir(at) {
			_ = os.Chmod(at, 0o755)
		}
		args = append([]string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"}, args...)
	}
	out, err := exec.Command(args[0], args[1:]...).Output()
	require.NoError(t, err)
	s, err := readSurvey(strings.NewReader(string(out)), ".")
	require.NoError(t, err)
	assert.Contains(t, s.folders, "open")
	assert.Contains(t, s.folders, "empty")
	assert.NotContains(t, s.folders, "shut")
	assert.NotContains(t, s.folders, "listed")
	assert.Equal(t, fs.ModeDir, s.at("shut").mode)
	assert.Len(t, s.folders["."], 4)
}

// What a far end says in a survey is taken only where it can be so.
func TestSurveysThatCannotBe(t *testing.T) {
	const root, end = "d 755 0 1.0 1.0 1 1 1 0 0 0\x00root\x00root\x00\x00\x00", surveyEnd + "\x00"
	good := func(name string) string {
		return "f 644 5 1.5 2.25 7 1 1 33 33 8\x00www\x00www\x00" + name + "\x00\x00"
	}
	s, err := readSurvey(strings.NewReader(root+good("index.php")+good("a\n\xffb")+end), ".")
	require.NoError(t, err)
	assert.Len(t, s.folders["."], 2)
	assert.EqualValues(t, 5, s.at("index.php").size)
	assert.Equal(t, int64(1.5e9), s.at("index.php").mtime.UnixNano())
	for name, text := range map[string]string{
		"nothing":            "",
		"a message":          "This account is for SFTP only.\n",
		"no end":             root + good("index.php"),
		"an error":           root + good("index.php") + "end of survey 1\x00",
		"cut in a path":      root + good("index.php")[:20],
		"a path that climbs": root + good("../../etc/passwd") + end,
		"an absolute path":   root + good("/etc/passwd") + end,
		"the folder again":   root + "d" + good(".")[1:] + end,
		"a long name":        root + good(strings.Repeat("x", 2000)) + end,
		"a path without end": root + good(strings.Repeat("x/", 3000)+"x") + end,
		"a link to nowhere":  root + "l" + good("x")[1:] + end,
		"a long link":        root + "l" + strings.TrimSuffix(good("x")[1:], "\x00") + strings.Repeat("y", 5000) + "\x00" + end,
		"a path with a dot":  root + good("a/./b") + end,
		"twice":              root + good("x") + good("x") + end,
		"no root":            good("x") + end,
		"a negative size":    root + strings.Replace(good("x"), " 5 ", " -5 ", 1) + end,
		"a strange kind":     root + "q" + good("x")[1:] + end,
		"a strange mode":     root + strings.Replace(good("x"), "644", "999", 1) + end,
		"a strange time":     root + strings.Replace(good("x"), "1.5", "soon", 1) + end,
		"too few numbers":    root + strings.Replace(good("x"), " 33 33 8", "", 1) + end,
	} {
		_, err := readSurvey(strings.NewReader(text), ".")
		assert.Error(t, err, name)
	}
}

func FuzzSurvey(f *testing.F) {
	f.Add("d 755 0 1.0 1.0 1 1 1 0 0 0\x00root\x00root\x00\x00\x00f 644 5 1.5 2.25 7 1 1 33 33 8\x00www\x00www\x00a/b\x00\x00" + surveyEnd + "\x00")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := readSurvey(strings.NewReader(text), ".")
		if err != nil {
			return
		}
		for dir, all := range s.folders {
			for _, one := range all {
				if name := Join(dir, one.name); strings.Contains(one.name, "/") || one.name == ".." || one.name == "." || one.name == "" || strings.Contains(one.name, "\x00") || s.at(name) == nil {
					t.Fatalf("%q in %q", one.name, dir)
				}
			}
		}
	})
}

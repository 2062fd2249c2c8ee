package main

import (
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The same commit gives the same bytes, wherever it is built, and the package can be installed, upgraded and
// removed in a Debian root of its own. It takes minutes: make test-long runs it.
func TestRelease(t *testing.T) {
	if os.Getenv("REVLET_LONG") == "" {
		t.Skip("REVLET_LONG=1 runs it")
	}
	made := func(folder string) (out string, sums string) {
		clone := filepath.Join(t.TempDir(), folder)
		run(t, "git", "clone", "-q", "../..", clone)
		out = filepath.Join(t.TempDir(), "out")
		cmd := exec.Command("go", "run", "./scripts/release", "-out", out, "-only", "linux/amd64")
		cmd.Dir = clone
		text, err := cmd.CombinedOutput()
		require.NoError(t, err, string(text))
		data, err := os.ReadFile(filepath.Join(out, "SHA256SUMS"))
		require.NoError(t, err)
		return out, string(data)
	}
	out, sums := made("one")
	_, again := made("another-place")
	assert.Equal(t, sums, again)
	assert.Equal(t, 4, strings.Count(sums, "\n"))
	for line := range strings.Lines(sums) {
		sum, name, _ := strings.Cut(strings.TrimSpace(line), "  ")
		data, err := os.ReadFile(filepath.Join(out, name))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(data)), sum)
	}

	t.Run("deb", func(t *testing.T) {
		root := t.TempDir()
		for _, name := range []string{"updates", "info", "triggers"} {
			require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg", name), 0o755))
		}
		require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644))
		dpkg := []string{"dpkg", "--root=" + root, "--force-not-root", "--force-depends"}
		lifeOfAPackage(t, root, out, "deb", append(dpkg, "-i"), append(dpkg, "-i"), append(dpkg, "-r"))
	})
	t.Run("rpm", func(t *testing.T) {
		if _, err := exec.LookPath("rpm"); err != nil {
			t.Skip("no rpm here; scripts/setup.sh installs it")
		}
		root := t.TempDir()
		rpm := []string{"rpm", "--root=" + root, "--nodeps"}
		lifeOfAPackage(t, root, out, "rpm", append(rpm, "-i"), append(rpm, "-U", "--replacepkgs"), append(rpm, "-e"))
	})
}

// lifeOfAPackage installs, upgrades and removes a package in a root of its own; what it does is given by
// commands that lack its file's name, or its name.
func lifeOfAPackage(t *testing.T, root, from, kind string, install, upgrade, remove []string) {
	t.Helper()
	file, err := filepath.Glob(filepath.Join(from, "*."+kind))
	require.NoError(t, err)
	require.Len(t, file, 1)
	with := func(command []string, what string) {
		t.Helper()
		run(t, command[0], append(slices.Clone(command[1:]), what)...)
	}
	with(install, file[0])
	assert.Regexp(t, `^revlet \S+, commit [0-9a-f]{12} of `, run(t, filepath.Join(root, "usr/bin/revlet"), "--version"))
	for _, file := range []string{"usr/share/man/man1/revlet-restore.1.gz", "usr/share/bash-completion/completions/revlet", "usr/share/doc/revlet/docs/BAD-DAY.md"} {
		assert.FileExists(t, filepath.Join(root, file))
	}
	config := filepath.Join(root, "etc/revlet/revlet.yaml")
	require.NoError(t, os.MkdirAll(filepath.Dir(config), 0o755))
	require.NoError(t, os.WriteFile(config, []byte("mine"), 0o600))
	with(upgrade, file[0])
	assert.FileExists(t, filepath.Join(root, "usr/bin/revlet"))
	with(remove, "revlet")
	assert.NoFileExists(t, filepath.Join(root, "usr/bin/revlet"))
	assert.FileExists(t, config, "what the user has made stays")
}

func run(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

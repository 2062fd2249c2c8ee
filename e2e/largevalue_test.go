package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A value of 64 MB, serialised by PHP and with addresses in it, moves in bounded memory.
func TestALargeValueMovesInBoundedMemory(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	t.Parallel()
	s := ownMariadb(t)
	s.exec(t, "SET GLOBAL max_allowed_packet = 1073741824")
	s.exec(t, "CREATE DATABASE museum_cms; CREATE TABLE museum_cms.options (id INT PRIMARY KEY, v LONGTEXT); CREATE USER keeper@'127.0.0.1' IDENTIFIED BY 'made up'; GRANT ALL ON museum_cms.* TO keeper@'127.0.0.1'; CREATE DATABASE new_cms; GRANT ALL ON new_cms.* TO keeper@'127.0.0.1'")
	const part = 1 << 20
	s.exec(t, fmt.Sprintf(`INSERT INTO museum_cms.options SELECT 1, CONCAT('a:2:{i:0;s:%d:"', REPEAT('the lamp\n burns "all" night; ', %d), '";i:1;s:30:"https://kestrelpoint.example/x";}')`, 64*part/29*29, 64*part/29))
	w := plainSite(t, "mysql", fmt.Sprintf("keeper@127.0.0.1:%d/museum_cms", s.port), ", password_file: ./db.pw")
	cmd := w.command("move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new"), "--address", "https://lighthouse.example",
		"--database", fmt.Sprintf("mysql: keeper@127.0.0.1:%d/new_cms", s.port), "--password-file", w.path("db.pw"), "--yes")
	out, peak := peakOf(t, cmd)
	require.Equal(t, 4, cmd.ProcessState.ExitCode(), out)
	assert.Equal(t, []string{`:28:"https://lighthouse.example/x";}`}, s.column(t, "SELECT RIGHT(v, 36) FROM new_cms.options"))
	assert.Equal(t, s.column(t, "SELECT LENGTH(v) - 2 FROM museum_cms.options"), s.column(t, "SELECT LENGTH(v) FROM new_cms.options"))
	assert.Less(t, peak, int64(320)) // alone: 240
}

func TestALargeValueMovesInBoundedMemoryOnPostgres(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	s.exec(t, "postgres", "CREATE ROLE keeper LOGIN")
	s.exec(t, "postgres", "CREATE DATABASE museum OWNER keeper")
	s.exec(t, "postgres", "CREATE DATABASE new OWNER keeper")
	s.exec(t, "museum", `SET ROLE keeper; CREATE TABLE options (id int PRIMARY KEY, v text); INSERT INTO options SELECT 1, 'a:2:{i:0;s:' || length(t) || ':"' || t || '";i:1;s:30:"https://kestrelpoint.example/x";}' FROM (SELECT repeat(E'the lamp\n burns "all" night; ', 2314098) AS t) AS x`)
	w := plainSite(t, "postgres", fmt.Sprintf("keeper@127.0.0.1:%d/museum", s.Port), "")
	cmd := w.command("move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new"), "--address", "https://lighthouse.example", "--database", fmt.Sprintf("postgres: keeper@127.0.0.1:%d/new", s.Port), "--yes")
	out, peak := peakOf(t, cmd)
	require.Equal(t, 4, cmd.ProcessState.ExitCode(), out)
	conn, err := s.Root(t.Context(), "new")
	require.NoError(t, err)
	defer conn.Close(t.Context())
	var end string
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT right(v, 35) FROM options").Scan(&end))
	assert.Equal(t, `28:"https://lighthouse.example/x";}`, end)
	assert.Less(t, peak, int64(320)) // alone: 240
}

// peakOf runs a command and returns what it printed, and the most memory that it had, in MiB. It is asked of the kernel
// while the command runs (proc(5), VmHWM): what is told of one that has ended counts from before its program began, when
// it was still a copy of this one.
func peakOf(t *testing.T, cmd *exec.Cmd) (out string, peak int64) {
	t.Helper()
	var printed bytes.Buffer
	cmd.Stdout, cmd.Stderr = &printed, &printed
	require.NoError(t, cmd.Start())
	ended := make(chan struct{})
	go func() { defer close(ended); _ = cmd.Wait() }()
	look := time.NewTicker(5 * time.Millisecond)
	defer look.Stop()
	for {
		select {
		case <-ended:
			require.Positive(t, peak)
			t.Log("peak in MiB:", peak)
			return printed.String(), peak
		case <-look.C:
			status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
			if _, after, ok := strings.Cut(string(status), "VmHWM:"); ok {
				var kib int64
				_, err := fmt.Sscan(after, &kib)
				require.NoError(t, err)
				peak = kib >> 10
			}
		}
	}
}

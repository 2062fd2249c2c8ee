package jobs

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/watch/history"
)

func TestCommandsAroundABackup(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("REVLET_PASSPHRASE_FILE", "/secret")
	t.Setenv("DB_PASSWORD", "hidden")
	said := dir + "/said"
	entry := func(before, after, trouble, limit string) string {
		return fmt.Sprintf("    commands: {before: %q, after: %q, on_trouble: %q, limit: %q}\n", before, after, trouble, limit)
	}
	note := func(moment string) string {
		return "echo hello from " + moment + "; echo " + moment + " $REVLET_SITE $REVLET_WORK $REVLET_OUTCOME $REVLET_ARCHIVE >> " + said
	}
	b := newBenchIn(t, dir, entry(note("before")+"; env | sort > "+dir+"/env", note("after"), note("trouble"), "1 minute"), "")
	told := func() string {
		data, _ := os.ReadFile(said)
		_ = os.Remove(said)
		return string(data)
	}
	taken := b.taken(Order{}).Record.Name
	assert.Equal(t, "before kestrelpoint backup done\nafter kestrelpoint backup done "+taken+"\n", told())
	env, err := os.ReadFile(dir + "/env")
	require.NoError(t, err)
	assert.Contains(t, string(env), "REVLET_ROOT="+b.path("htdocs")+"\n")
	assert.NotContains(t, string(env), "/secret")
	assert.NotContains(t, string(env), "hidden")
	assert.Contains(t, b.lastRun("backup").Log, "hello from after")

	b.configure(entry("echo no disk; exit 3", note("after"), note("trouble"), ""), "")
	b.open()
	_, err = b.Backup(t.Context(), museum, Order{Scope: archive.Full})
	assert.ErrorContains(t, err, "no archive was taken: the command `before:` of kestrelpoint failed: exit status 3: no disk")
	assert.Equal(t, "trouble kestrelpoint backup failed\n", told())
	assert.Equal(t, history.Failed, b.lastRun("backup").Outcome)

	b.configure(entry("", "echo not reached; false", note("trouble"), ""), "")
	b.open()
	d, err := b.Backup(t.Context(), museum, Order{Scope: archive.Full})
	require.NoError(t, err, "the archive is there")
	assert.True(t, d.Incomplete())
	assert.ErrorContains(t, d.AfterFailed, "not reached")
	assert.Equal(t, "trouble kestrelpoint backup gaps "+d.Record.Name+"\n", told())

	b.later(time.Minute)
	b.configure(entry("sleep 60 & sleep 60", "", "", "1 second"), "")
	b.open()
	began := time.Now()
	_, err = b.Backup(t.Context(), museum, Order{Scope: archive.Full})
	assert.ErrorContains(t, err, "it took longer than 1s")
	assert.Less(t, time.Since(began), 20*time.Second, "what it has started is ended, too")
}

func TestTheTailOfWhatIsSaid(t *testing.T) {
	var out tail
	for i := range 5000 {
		fmt.Fprintf(&out, "line %d of what a command has to say\n", i)
	}
	_, _ = out.Write([]byte(strings.Repeat("x", 3*mostOutput) + "\xffend"))
	assert.LessOrEqual(t, len(out.String()), mostOutput+2)
	assert.True(t, strings.HasSuffix(out.String(), "?end\n"))
}

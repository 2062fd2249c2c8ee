package rehearse

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/work/compare"
)

// What a rehearsal that was killed has left serving is ended, and nothing else is.
func TestWhatARehearsalLeftIsEnded(t *testing.T) {
	scratch, server := filepath.Join(t.TempDir(), "scratch"), filepath.Join(t.TempDir(), "server")
	for _, dir := range []string{filepath.Join(scratch, "webroot"), server} {
		require.NoError(t, os.MkdirAll(dir, 0o700))
	}
	require.NoError(t, os.WriteFile(filepath.Join(scratch, serverNote), []byte(server), 0o600))
	begin := func(env string) (cmd *exec.Cmd, ended chan error) {
		cmd = exec.Command("sleep", "60")
		cmd.Env = append(os.Environ(), env)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill() })
		ended = make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		return cmd, ended
	}
	_, ours := begin(Mark(scratch))
	other, others := begin(Mark(scratch + "-of-another"))
	require.NoError(t, Clean(&disk.Disk{}, scratch))
	select {
	case err := <-ours:
		assert.ErrorContains(t, err, "killed")
	case <-time.After(10 * time.Second):
		t.Fatal("what serves the copy runs still")
	}
	assert.NoDirExists(t, scratch)
	assert.NoDirExists(t, server)
	select {
	case <-others:
		t.Fatalf("process %d belongs to another", other.Process.Pid)
	default:
	}
	require.NoError(t, Clean(&disk.Disk{}, scratch), "there is nothing left to clean")
}

func TestWhichDifferencesCount(t *testing.T) {
	for _, c := range []struct {
		path, how string
		counts    bool
	}{
		{"webroot/index.php", compare.Changed, true}, {"webroot/index.php", compare.Removed, true}, {"webroot/index.php", compare.Rights, false},
		{"above/wp-config.php", compare.Removed, false}, {"above", compare.Removed, false}, {"webroot/above/x", compare.Removed, true},
	} {
		assert.Equal(t, c.counts, Job{}.differs(compare.File{Path: c.path, How: c.how}), c.path+" "+c.how)
	}
	assert.True(t, (&Result{}).Passed())
	assert.False(t, (&Result{Trouble: []string{"x"}}).Passed())
}

// Others may write to the folder for temporary files too: a name that they know before could be theirs already.
func TestNobodyForeseesWhereServersAre(t *testing.T) {
	temporary, servers := t.TempDir(), map[string]bool{}
	for range 3 {
		j := Job{Scratch: filepath.Join(t.TempDir(), "rehearsal", "site"), Temporary: temporary, Disk: &disk.Disk{}}
		require.NoError(t, j.makeScratch())
		servers[j.server] = true
		assert.DirExists(t, j.server)
		require.NoError(t, Clean(j.Disk, j.Scratch))
		assert.NoDirExists(t, j.server)
	}
	assert.Len(t, servers, 3)
	if os.Geteuid() != 0 {
		t.Skip("the rest is about root")
	}
	for mode, wrong := range map[os.FileMode]bool{0o777: true, 0o777 | os.ModeSticky: false, 0o755: false} {
		require.NoError(t, os.Chmod(temporary, mode))
		j := Job{Scratch: filepath.Join(t.TempDir(), "rehearsal", "site"), Temporary: temporary, Disk: &disk.Disk{}}
		if err := j.makeScratch(); wrong {
			assert.ErrorContains(t, err, "others could exchange", mode)
		} else {
			assert.NoError(t, err, mode)
		}
		require.NoError(t, Clean(j.Disk, j.Scratch))
	}
	require.NoError(t, os.Chmod(temporary, 0o755))
	require.NoError(t, os.Chown(temporary, 61871, 61871))
	j := Job{Scratch: filepath.Join(t.TempDir(), "rehearsal", "site"), Temporary: temporary, Disk: &disk.Disk{}}
	assert.ErrorContains(t, j.makeScratch(), "others could exchange")
}

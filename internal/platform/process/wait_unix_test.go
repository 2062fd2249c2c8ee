//go:build unix

package process

import (
	"bytes"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a command leaves running, with its output open, makes no failure of one that has ended well, nor a good
// one of a failure.
func TestWaitingForWhatIsLeftRunning(t *testing.T) {
	for script, good := range map[string]bool{"sleep 60 & exit 0": true, "sleep 60 & exit 3": false, "exit 0": true} {
		cmd := exec.Command("sh", "-c", script)
		cmd.Stdout, cmd.WaitDelay = &bytes.Buffer{}, 50*time.Millisecond
		require.NoError(t, Start(cmd))
		assert.Equal(t, good, Wait(cmd) == nil, script)
		KillAll(cmd)
	}
}

package jobs

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/loopback"
	"revlet/internal/practice/lampblack"
	"revlet/internal/site"
	"revlet/internal/watch/history"
	"revlet/internal/work/rehearse"
)

// A copy that is not served is no copy that does not work: only an answer of its own says that.
func TestACopyThatIsNotServedIsNoVerdict(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	for command, says := range map[string]string{
		"no-such-program {port} {root}":                                 "no-such-program:",
		"echo bind: Address already in use >&2; exit 3 # {port} {root}": "Address already in use",
	} {
		b.configure("    rehearse: {serve: \""+command+"\"}\n", "")
		b.Close()
		b.open()
		_, err := b.Rehearse(t.Context(), b.held(), nil)
		require.ErrorIs(t, err, rehearse.ErrUnserved, command)
		assert.ErrorContains(t, err, says)
		assert.Equal(t, history.Failed, b.lastRun("rehearse").Outcome, "it is not called damaged")
		last, err := b.History.LastRehearsal(t.Context(), museum)
		require.NoError(t, err)
		assert.Nil(t, last, "nothing is known of it")
	}
	assert.FileExists(t, b.path("htdocs/"+lampblack.DatabaseFile))
}

// overtaken is a place that somebody else has as soon as it is let go of.
type overtaken struct {
	net.Listener
	t    *testing.T
	as   int
	gone bool
}

func (o *overtaken) Close() error {
	if o.gone {
		return nil
	}
	o.gone = true
	if err := o.Listener.Close(); err != nil {
		return err
	}
	taken := make(chan net.Listener)
	go func() {
		if o.as != os.Geteuid() {
			runtime.LockOSThread() // and never unlocked: the thread ends with this
			if err := listensAs(o.as); err != nil {
				o.t.Error(err)
			}
		}
		l, err := net.Listen("tcp", o.Addr().String())
		if err != nil {
			o.t.Error(err)
		}
		taken <- l
	}()
	l := <-taken
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		time.Sleep(300 * time.Millisecond) // the command ends meanwhile
		fmt.Fprint(w, "<html><title>fine</title></html>")
	})}
	go func() { _ = server.Serve(l) }()
	o.t.Cleanup(func() { _ = server.Close() })
	return nil
}

func TestSomebodyElsesAnswerIsNotTheCopys(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		as      int
		command string
		says    string
	}{
		"another account": {65534, "sleep 60 # {port} {root}", "the account 65534 has its port"},
		"this account":    {os.Geteuid(), "echo taken >&2; exit 1 # {port} {root}", "another program has its port"},
	} {
		if c.as != os.Geteuid() && (os.Geteuid() != 0 || runtime.GOOS != "linux") {
			continue
		}
		l, err := loopback.Hold()
		require.NoError(t, err)
		place := &servedCopy{Listener: &overtaken{Listener: l, t: t, as: c.as}, command: c.command, mark: "X=y"}
		_, err = place.Try(t.Context(), &site.Site{Root: t.TempDir(), Address: place.Address()})
		require.ErrorIs(t, err, rehearse.ErrUnserved, name)
		assert.ErrorContains(t, err, c.says, name)
	}
}

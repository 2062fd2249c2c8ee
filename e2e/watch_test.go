package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/inbox"
	"revlet/internal/practice/place"
)

// desk is where the museum's mail and webhooks arrive.
type desk struct {
	mail  *inbox.MailServer
	hook  *inbox.HookServer
	mu    sync.Mutex
	mails []inbox.Mail
	calls []inbox.Call
}

// openDesk starts a mail server and a receiver of webhooks.
func openDesk(t *testing.T, w *world) *desk {
	d := &desk{}
	var err error
	d.mail, err = inbox.StartMail(inbox.MailOptions{Security: inbox.StartTLS, User: "keeper", Password: "practice", Keys: w.path("mailkeys"), Refuse: "nobody@kestrelpoint.example",
		Received: func(m inbox.Mail) { d.mu.Lock(); d.mails = append(d.mails, m); d.mu.Unlock() }})
	require.NoError(t, err)
	d.hook, err = inbox.StartHook(inbox.HookOptions{Secret: "lamp", Received: func(c inbox.Call) { d.mu.Lock(); d.calls = append(d.calls, c); d.mu.Unlock() }})
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.mail.Close(); _ = d.hook.Close() })
	w.write("mail.pw", "practice\n")
	w.write("hook.secret", "lamp\n")
	return d
}

// take returns what has arrived since the last time.
func (d *desk) take() (mails []inbox.Mail, calls []inbox.Call) {
	d.mu.Lock()
	defer d.mu.Unlock()
	mails, calls = d.mails, d.calls
	d.mails, d.calls = nil, nil
	return mails, calls
}

func (d *desk) config(when, to string) string {
	return fmt.Sprintf(`notify:
  mail: {smtp: %q, from: revlet@kestrelpoint.example, to: [%s], user: keeper, password_file: ./mail.pw, ca_file: ./mailkeys/certificate.pem, when: %s}
  webhook: {url: "%s/revlet", secret_file: ./hook.secret, when: always}
  ping: {start: "%s/start/{site}", success: "%s/fine/{site}", failure: "%s/wrong/{site}"}
`, d.mail.Address, to, when, d.hook.Address, d.hook.Address, d.hook.Address, d.hook.Address)
}

// watched is the museum with duties, two stores and a desk; it is noon.
func watched(t *testing.T) (*world, *desk, *place.Faults, string) {
	w, address := museum(t)
	faults := &place.Faults{}
	_, f := standin(w, place.S3, faults, "")
	d := openDesk(t, w)
	site := fmt.Sprintf("state: ./state\ntime_zone: UTC\nstores: {here: {folder: ./archives}, harbour: %s}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    address: %q\n    stores: [here, harbour]\n    keep: [newest 3]\n    schedule: [\"full, every day at 03:20\", \"verify, every sunday at 05:00\"]\n", f.config, address)
	w.write("revlet.yaml", site+d.config("[on trouble, every monday at 07:00]", "keeper@kestrelpoint.example"))
	w.clock = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	w.run("duties")
	return w, d, faults, site
}

// nextDay is the next morning at four, when the daily duty is due.
func (w *world) nextDay() {
	w.clock = time.Date(w.clock.Year(), w.clock.Month(), w.clock.Day()+1, 4, 0, 0, 0, time.UTC)
}

// What is told, by exit code, mail, webhook and ping, is what happened.
func TestWhatIsToldIsTrue(t *testing.T) {
	t.Parallel()
	w, d, faults, site := watched(t)
	monitor := func(code int, words ...string) { w.t.Helper(); w.fails(code, words, "status") }
	monitor(4, "none", "not backed up")

	w.nextDay()
	w.run("due")
	monitor(0, "good", "yes")
	mails, calls := d.take()
	assert.Empty(t, mails, "nothing is wrong")
	require.Len(t, calls, 3)
	assert.Equal(t, []string{"/start/kestrelpoint", "/fine/kestrelpoint", "/revlet"}, []string{calls[0].Path, calls[1].Path, calls[2].Path})
	assert.True(t, calls[2].Signed)
	var told struct {
		Trouble bool
		Sites   []struct {
			Told []struct{ Archive, Outcome string }
		}
	}
	require.NoError(t, json.Unmarshal(calls[2].Body, &told))
	assert.False(t, told.Trouble)
	assert.Equal(t, w.newest(), told.Sites[0].Told[0].Archive)
	assert.Equal(t, "done", told.Sites[0].Told[0].Outcome)

	w.step(t, "a gap and a store that is away", func(t *testing.T) {
		// Something cannot be saved, and a store is away.
		require.NoError(t, makePipe(w.path("htdocs/uploads/pipe")))
		faults.Away.Store(true)
		w.nextDay()
		w.fails(3, nil, "due")
		monitor(3, "pending in harbour")
		mails, _ := d.take()
		require.Len(t, mails, 1)
		assert.Equal(t, "kestrelpoint: backed up, but 1 path could not be saved", mails[0].Subject)
		for _, body := range []string{mails[0].Text, mails[0].HTML} {
			assert.Contains(t, body, "uploads/pipe")
			assert.Contains(t, body, "still to come to harbour")
			assert.Contains(t, body, "saved")
		}
		assert.Contains(t, mails[0].Text, "NOT SAVED, 1 in all")
		assert.Contains(t, mails[0].Text, "full, every day at 03:20", "when it is next")
		w.clock = w.clock.AddDate(0, 0, 2)
		monitor(4, "kestrelpoint/pending", "kestrelpoint/overdue", "was due on 5 Mar 2026 03:20")
	})

	w.step(t, "a planted file", func(t *testing.T) {
		// All is well again; only then a file is planted.
		faults.Away.Store(false)
		require.NoError(t, os.Remove(w.path("htdocs/uploads/pipe")))
		w.nextDay()
		w.run("due")
		monitor(0, "good")
		d.take()
		w.write("htdocs/uploads/2026/ornament.php", "<?php")
		w.nextDay()
		w.run("due")
		monitor(4, "kestrelpoint/planted", "ornament.php", "why it matters", "what to do")
		mails, _ := d.take()
		require.NotEmpty(t, mails)
		assert.Contains(t, mails[0].Subject, "planted")
	})

	w.step(t, "an alarm stops removal", func(t *testing.T) {
		// An alarm stops removal until somebody has looked.
		for range 3 {
			w.nextDay()
			w.try("due")
		}
		before := len(w.archivesIn("here"))
		assert.Greater(t, before, 3)
		w.fails(4, []string{"Stopped:", "planted"}, "retention")
		w.fails(2, []string{"--why"}, "status", "--accept", "kestrelpoint/planted")
		w.fails(2, []string{"there is no alarm \"plantd\""}, "status", "--accept", "kestrelpoint/plantd", "--why", "x")
		w.run("status", "--accept", "kestrelpoint/planted", "--why", "ours")
		w.run("retention", "--apply")
		assert.Len(t, w.archivesIn("here"), 3)
		assert.Contains(t, w.run("history", "--command", "accept"), "planted: ours")
		monitor(0, "good")
	})

	w.step(t, "damage is found by the weekly turn", func(t *testing.T) {
		// Damage is found by the weekly turn.
		flip(t, w.parts("kestrelpoint")[0].file)
		for w.clock.Weekday() != time.Sunday {
			w.nextDay()
		}
		d.take()
		w.clock = w.clock.Add(2 * time.Hour)
		w.fails(4, nil, "due")
		monitor(4, "kestrelpoint/damage", "stores heal")
		mails, calls := d.take()
		require.NotEmpty(t, mails)
		assert.Equal(t, "kestrelpoint: DAMAGE was found", mails[0].Subject)
		assert.Contains(t, fmt.Sprint(calls), "/wrong/kestrelpoint")
		w.run("stores", "heal", "here")
		w.run("verify")
		monitor(0, "good")
	})

	w.step(t, "a run that fails says why", func(t *testing.T) {
		// A run that fails says why.
		require.NoError(t, os.Rename(w.path("htdocs"), w.path("moved")))
		w.nextDay()
		w.fails(1, []string{"htdocs"}, "due")
		mails, _ := d.take()
		require.Len(t, mails, 1)
		assert.Equal(t, "kestrelpoint: the backup FAILED", mails[0].Subject)
		assert.Contains(t, mails[0].Text, "WHY: ")
		w.clock = w.clock.Add(4 * time.Hour)
		w.try("due")
		mails, _ = d.take()
		require.Len(t, mails, 1)
		assert.Equal(t, "Backups: 0 of 1 site well", mails[0].Subject)
		assert.Contains(t, mails[0].Text, "since the last digest")
		monitor(4, "kestrelpoint/failed")
		assert.Contains(t, w.run("history", "--trouble"), "failed")
		require.NoError(t, os.Rename(w.path("moved"), w.path("htdocs")))
	})

	w.step(t, "a mail that cannot be sent", func(t *testing.T) {
		// A mail that cannot be sent fails nothing, is shown, and sent later.
		w.write("revlet.yaml", site+strings.Replace(d.config("always", "keeper@kestrelpoint.example"), d.mail.Address, fmt.Sprintf("smtp://127.0.0.1:%d", freePort(t)), 1))
		w.nextDay()
		r := w.fails(0, []string{"could not be sent", "cannot be reached"}, "due")
		assert.NotContains(t, r.err, "practice")
		monitor(0, "A message could not be sent")
		w.write("revlet.yaml", site+d.config("always", "keeper@kestrelpoint.example"))
		d.take()
		w.clock = w.clock.Add(time.Hour)
		w.run("due")
		mails, _ := d.take()
		require.Len(t, mails, 1)
		assert.Equal(t, "kestrelpoint: works again", mails[0].Subject)
		assert.NotContains(t, w.run("status"), "could not be sent")
	})
}

// archivesIn names a store's archives, as its own records say.
func (w *world) archivesIn(store string) []string {
	dir := map[string]string{"here": "archives", "harbour": "far/buckets/museum/revlet"}[store]
	all, err := filepath.Glob(w.path(dir, "kestrelpoint/archives/*.json"))
	require.NoError(w.t, err)
	return all
}

func TestNotifyFaults(t *testing.T) {
	t.Parallel()
	w, d, _, site := watched(t)
	good := d.config("always", "keeper@kestrelpoint.example")
	w.run("notify", "test")
	w.write("wrong.pw", "no\n")
	mails, calls := d.take()
	require.Len(t, mails, 1)
	assert.Contains(t, mails[0].Subject, "a test from")
	assert.Len(t, calls, 2)
	for name, c := range map[string]struct {
		change func(string) string
		words  []string
	}{
		"a recipient who is refused": {func(s string) string { return strings.Replace(s, "to: [keeper@", "to: [nobody@", 1) }, []string{"nobody of that name here"}},
		"a wrong password": {func(s string) string {
			w.write("wrong.pw", "no\n")
			return strings.Replace(s, "./mail.pw", "./wrong.pw", 1)
		}, []string{"does not let the account in", "password_file"}},
		"a certificate not trusted": {func(s string) string { return strings.Replace(s, ", ca_file: ./mailkeys/certificate.pem", "", 1) }, []string{"not trusted", "ca_file"}},
		"a wrong secret":            {func(s string) string { return strings.Replace(s, "./hook.secret", "./wrong.pw", 1) }, []string{"401"}},
		"TLS where there is none":   {func(s string) string { return strings.Replace(s, "smtp://127", "smtps://127", 1) }, []string{"not sent:"}},
	} {
		t.Run(name, func(t *testing.T) {
			w.write("revlet.yaml", site+c.change(good))
			r := w.fails(1, c.words, "notify", "test")
			assert.NotContains(t, r.out+r.err, "practice", "no secrets")
		})
	}
	for text, words := range map[string][]string{
		"  mail: {smtp: \"http://x\", from: a@b.example, to: [a@b.example]}\n":                             {"revlet.yaml:", "smtp://mail.example:587"},
		"  mail: {smtp: \"smtp://x\", from: a@b.example, to: [a@b.example], when: sometimes}\n":            {"always, on trouble"},
		"  mail: {smtp: \"smtp://x\", from: a@b.example, to: [a@b.example], when: [always, on trouble]}\n": {"keep one"},
		"  webhook: {url: hooks.example}\n":                                                                {"https://hooks.example/revlet"},
		"  ping: {}\n":                                                                                     {"start:"},
	} {
		w.write("revlet.yaml", site+"notify:\n"+text)
		w.fails(2, words, "duties")
	}
}

// What came of the duties of several sites stands in one table.
func TestDutiesOfSeveralSites(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.clock = time.Now()
	config := "state: ./state\nstores: {here: {folder: ./archives}}\ndefaults: {stores: [here], recipe: none, schedule: [\"full, every hour\"]}\nsites:\n"
	for _, name := range []string{"kestrelpoint", "northlight", "saltmarsh"} {
		w.write(name+"/index.html", name)
		config += "  " + name + ": {root: ./" + name + "}\n"
	}
	w.write("revlet.yaml", config)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.run("duties")
	require.NoError(t, os.RemoveAll(w.path("northlight")))
	w.nextDay()
	r := w.fails(1, []string{"northlight: full, every hour: ", "webroot is missing"}, "due")
	assert.Regexp(t, `(?m)^kestrelpoint +full, every hour +\d{8}-\d{6} .* done$`, r.out)
	assert.Regexp(t, `(?m)^northlight +full, every hour +- .* failed$`, r.out)
	assert.Contains(t, r.out, "3 sites had their turn, 1 site is in trouble")
	w.nextDay()
	r = w.fails(1, []string{"webroot is missing"}, "--quiet", "due")
	assert.Empty(t, r.out)
	w.nextDay()
	require.NoError(t, os.RemoveAll(w.path("saltmarsh")))
	w.write("revlet.yaml", strings.ReplaceAll(config, "  kestrelpoint: {root: ./kestrelpoint}\n  northlight: {root: ./northlight}\n", ""))
	assert.NotContains(t, w.fails(1, []string{"saltmarsh"}, "due").out, "had their turn", "of one site it is said already")
}

// However often cron starts it, a turn is taken once, and a long run is not
// disturbed.
func TestDueByCron(t *testing.T) {
	t.Parallel()
	w, _, faults, _ := watched(t)
	assert.Empty(t, w.run("due"), "nothing is due")
	faults.Slow = 400 << 10
	w.nextDay()
	long := w.command("due")
	var said bytes.Buffer
	long.Stdout, long.Stderr = &said, &said
	require.NoError(t, long.Start())
	busy := func() bool { return len(w.running()) > 0 }
	require.Eventually(t, busy, 20*time.Second, 10*time.Millisecond)
	tries := 0
	for ; busy() && tries < 500; tries++ {
		r := w.try("--quiet", "due")
		require.Equal(t, 0, r.code)
		require.Empty(t, r.out+r.err, "cron would mail what is said")
	}
	require.NoError(t, long.Wait(), said.String())
	assert.Greater(t, tries, 3)
	assert.Len(t, w.archivesIn("here"), 1)
	assert.Empty(t, w.run("due"))

	faults.Slow = 0
	w.clock = w.clock.AddDate(0, 0, 9)
	w.run("due")
	assert.Len(t, w.archivesIn("here"), 2, "after a time off, once")
	assert.Empty(t, w.run("due"))
}

// running are the marks of runs in the local store.
func (w *world) running() []string {
	all, _ := filepath.Glob(w.path("archives/kestrelpoint/running/*"))
	return all
}

// A service says when it is ready, reads its configuration anew, does what is
// due, and ends when it is told to.
func TestServe(t *testing.T) {
	w, d, _, site := watched(t)
	address := &net.UnixAddr{Name: w.path("notify.sock"), Net: "unixgram"}
	socket, err := net.ListenUnixgram("unixgram", address)
	require.NoError(t, err)
	defer socket.Close()
	w.nextDay()
	cmd := w.command("serve")
	cmd.Env = append(cmd.Env, "NOTIFY_SOCKET="+address.Name, "WATCHDOG_USEC=300000")
	var said lockedBuffer
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	hears := func(word string) {
		t.Helper()
		buf := make([]byte, 1000)
		for {
			require.NoError(t, socket.SetReadDeadline(time.Now().Add(10*time.Second)))
			n, err := socket.Read(buf)
			require.NoError(t, err, "waiting for %s: %s", word, said.String())
			if strings.Contains(string(buf[:n]), word) {
				return
			}
		}
	}
	hears("READY=1")
	hears("WATCHDOG=1")
	require.Eventually(t, func() bool { return len(w.archivesIn("harbour")) == 1 && len(w.running()) == 0 }, 20*time.Second, 20*time.Millisecond)
	w.write("revlet.yaml", site+"stors: {}\n")
	require.NoError(t, cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(said.String(), `unknown key "stors"`) }, 30*time.Second, 20*time.Millisecond)
	again := strings.Replace(site, "every day at 03:20", "every 30 minutes", 1) + d.config("always", "keeper@kestrelpoint.example")
	w.write("revlet.yaml", strings.Replace(again, "state: ./state", "state: ./elsewhere", 1))
	require.NoError(t, cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "`state:` is another folder now") }, 30*time.Second, 20*time.Millisecond)
	w.write("revlet.yaml", again)
	require.NoError(t, os.Chmod(w.path("revlet.yaml"), 0o666))
	require.NoError(t, cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "not read anew: others may change") }, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, os.Chmod(w.path("revlet.yaml"), 0o600))
	require.NoError(t, cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "anew: 1 site") }, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	hears("STOPPING=1")
	require.NoError(t, cmd.Wait(), said.String())
	assert.Contains(t, said.String(), "stopped")
	w.clock = w.clock.Add(time.Hour)
	assert.Contains(t, w.run("duties"), "full, every 30 minutes")
}

// lockedBuffer can be read while a program writes to it.
type lockedBuffer struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.String()
}

// A history that cannot be used is set aside; what there is, is read from the
// stores again.
func TestHistoryIsRebuilt(t *testing.T) {
	t.Parallel()
	w, _, _, _ := watched(t)
	for range 5 {
		w.nextDay()
		w.run("due")
	}
	w.run("hold", w.newest(), "--why", "for the anniversary")
	newest, left := w.newest(), len(w.archivesIn("here"))
	for name, spoil := range map[string]func(file string){
		"noise": func(file string) { require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte("noise "), 3000), 0o600)) },
		"newer": func(file string) { sqlite(t, file, "PRAGMA user_version = 99") },
		"holes": func(file string) {
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			for i := 4096; i < len(data); i += 4096 {
				copy(data[i:], bytes.Repeat([]byte{0xff}, 64))
			}
			require.NoError(t, os.WriteFile(file, data, 0o600))
		},
	} {
		t.Run(name, func(t *testing.T) {
			sqlite(t, w.path("state/history.db"), "PRAGMA wal_checkpoint(TRUNCATE)")
			spoil(w.path("state/history.db"))
			r := w.fails(0, []string{"set aside as", "read from the stores again"}, "status")
			assert.Contains(t, r.out, newest)
			assert.NotContains(t, w.try("status").err, "set aside", "said once")
			w.run("retention", "--apply")
			assert.Len(t, w.archivesIn("here"), left)
			assert.Contains(t, w.run("retention"), "for the anniversary", "the hold lies in the stores")
			aside, err := filepath.Glob(w.path("state/history.db.unusable-*"))
			require.NoError(t, err)
			require.NotEmpty(t, aside)
			for _, f := range aside {
				require.NoError(t, os.Remove(f))
			}
		})
	}
}

func sqlite(t *testing.T, file, statement string) {
	t.Helper()
	need(t, "sqlite3")
	out, err := exec.Command("sqlite3", file, statement).CombinedOutput()
	require.NoError(t, err, string(out))
}

// Whatever a clock does, nothing is lost by it.
func TestClocksThatJump(t *testing.T) {
	t.Parallel()
	w, _, _, site := watched(t)
	w.write("revlet.yaml", strings.Replace(site, "newest 3", "one per day for 1 week", 1))
	for range 7 {
		w.nextDay()
		w.run("due")
	}
	real := w.clock
	all := w.archivesIn("here")
	w.clock = real.AddDate(1, 0, 0)
	w.try("due")
	w.try("retention", "--apply")
	assert.Subset(t, w.archivesIn("here"), all, "forward by a year")
	w.clock = real.AddDate(0, 0, -1)
	w.fails(4, []string{"kestrelpoint/clock", "dated in the future"}, "status")
	w.try("retention", "--apply")
	assert.Subset(t, w.archivesIn("here"), all, "back by a day")
	w.nextDay()
	w.nextDay()
	w.run("due")
	assert.Len(t, w.archivesIn("here"), len(all)+2, "turns go on")
}

// Rules and phrases that make no sense are refused, and say where they stand.
func TestRefusedRules(t *testing.T) {
	t.Parallel()
	w, _, _, site := watched(t)
	for change, words := range map[[2]string][]string{
		{"newest 3", "newest 0"}:                                         {"revlet.yaml:9:", "between 1 and"},
		{"newest 3", "newest 3, newest 5"}:                               {"`newest 3` adds nothing beside `newest 5`"},
		{"[newest 3]", "[]"}:                                             {"would keep nothing"},
		{"newest 3", "one per moon for 1 year"}:                          {"none of hour, day, week"},
		{"every day at 03:20", "evry day at 3am"}:                        {"revlet.yaml:10:", `did you mean "full, every day at 03:00"`},
		{"time_zone: UTC", "time_zone: Atlantis/Main"}:                   {"Europe/Berlin"},
		{"{folder: ./archives}", "{folder: ./archives, keep: [last 4]}"}: {"write `newest 4`"},
	} {
		w.write("revlet.yaml", strings.Replace(site, change[0], change[1], 1))
		w.fails(2, words, "due")
	}
	w.write("revlet.yaml", strings.Replace(site, "state: ./state", "state: ./hook.secret", 1))
	w.fails(1, []string{"state folder", "hook.secret"}, "due")
}

// Holds lie in the stores; a store that is away is told later.
func TestHolds(t *testing.T) {
	t.Parallel()
	w, _, faults, _ := watched(t)
	w.nextDay()
	w.run("due")
	first := w.newest()
	faults.Away.Store(true)
	w.fails(3, []string{"harbour does not know of the hold"}, "hold", first, "--why", "before the lamp was replaced")
	faults.Away.Store(false)
	w.run("retention")
	assert.FileExists(t, w.path("far/buckets/museum/revlet/kestrelpoint/holds", first+".json"), "it is told when it answers again")
	assert.Regexp(t, first+".* held", w.run("archives"))
	for range 5 {
		w.nextDay()
		w.run("due")
	}
	assert.Contains(t, strings.Join(w.archivesIn("here"), " "), first)
	assert.Contains(t, strings.Join(w.archivesIn("harbour"), " "), first)
	assert.Len(t, w.archivesIn("harbour"), 4)
	w.run("release", first)
	w.nextDay()
	w.run("due")
	assert.NotContains(t, strings.Join(append(w.archivesIn("here"), w.archivesIn("harbour")...), " "), first)
	assert.Contains(t, w.run("history", "--archives"), first, "its line stays")
	assert.Contains(t, w.run("backup", "--hold"), "Saved")
	assert.Contains(t, w.run("retention", "--json"), "it is held")
}

// The report is one page that fetches nothing, and metrics are what a
// collector's own parser takes.
func TestReport(t *testing.T) {
	t.Parallel()
	need(t, "/usr/bin/python3", "/usr/lib/python3/dist-packages/prometheus_client/openmetrics/parser.py")
	w, _, _, _ := watched(t)
	for range 3 {
		w.nextDay()
		w.run("due")
	}
	w.run("report", "--to", "report.html")
	page, err := os.ReadFile(w.path("report.html"))
	require.NoError(t, err)
	assert.NotRegexp(t, `(src|href)="(https?:)?//|@import|url\(`, string(page))
	assert.Equal(t, 4, strings.Count(string(page), "<svg"), "two charts, each for light and dark")
	assert.Contains(t, string(page), "newest good full")
	info, err := os.Stat(w.path("report.html"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	parse := exec.Command("/usr/bin/python3", "-c", "import sys\nfrom prometheus_client.openmetrics.parser import text_string_to_metric_families as p\nfor f in p(sys.stdin.read()):\n for s in f.samples: print(s.name, sorted(s.labels.items()), float(s.value))")
	parse.Stdin = strings.NewReader(w.run("report", "--metrics"))
	out, err := parse.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "revlet_archives [('site', 'kestrelpoint'), ('store', 'harbour')] 3.0")
	assert.Contains(t, string(out), "revlet_offsite [('site', 'kestrelpoint')] 1.0")
	assert.Contains(t, w.run("report", "--text"), "full, every day at 03:20")
}

// The crontab's own lines stay; ours is there once.
func TestScheduleInstall(t *testing.T) {
	w, _, _, _ := watched(t)
	table := w.path("table")
	w.write("bin/crontab", "#!/bin/sh\nif [ \"$1\" = -l ]; then cat "+table+" 2>/dev/null || { echo no crontab for keeper >&2; exit 1; }; else cat > "+table+"; fi\n")
	require.NoError(t, os.Chmod(w.path("bin/crontab"), 0o755))
	t.Setenv("PATH", w.path("bin")+":"+os.Getenv("PATH"))
	shown := w.run("schedule", "install", "--cron")
	assert.NoFileExists(t, table)
	w.run("schedule", "install", "--cron", "--apply")
	data, err := os.ReadFile(table)
	require.NoError(t, err)
	assert.Contains(t, shown, string(data))
	w.write("table", "0 1 * * * /bin/theirs\n7 7 * * * /old/revlet --config "+w.path("revlet.yaml")+" due  # revlet\n")
	w.run("schedule", "install", "--cron", "--apply")
	assert.Contains(t, w.run("schedule", "install", "--cron", "--apply"), "already")
	data, err = os.ReadFile(table)
	require.NoError(t, err)
	assert.Regexp(t, regexp.MustCompile(`(?s)^0 1 \* \* \* /bin/theirs\n\d-59/5 \* \* \* \* .*revlet.* --quiet due  # revlet\n$`), string(data))
	w.write("other/revlet.yaml", w.read("revlet.yaml"))
	w.fails(1, []string{"something else is installed under that name", "--name"}, "--config", w.path("other/revlet.yaml"), "schedule", "install", "--cron", "--apply")
	w.run("--config", w.path("other/revlet.yaml"), "schedule", "install", "--cron", "--apply", "--name", "revlet-other")
	w.run("schedule", "remove", "--cron")
	w.fails(1, []string{"nothing called revlet is installed"}, "schedule", "remove", "--cron")
	assert.Regexp(t, `^0 1 .*theirs\n.* --quiet due  # revlet-other\n$`, w.read("table"))
	w.fails(2, []string{"--cron, --systemd"}, "schedule", "install")
	w.fails(2, []string{"only shows"}, "schedule", "install", "--launchd", "--apply")
	assert.Contains(t, w.run("schedule", "install", "--launchd"), "<string>"+w.path("revlet.yaml")+"</string>")
	assert.Contains(t, w.run("schedule", "install", "--task-scheduler"), "schtasks /Create")
	unit := w.run("schedule", "install", "--systemd")
	assert.Contains(t, unit, "Type=notify")
	assert.Contains(t, unit, "--config "+w.path("revlet.yaml"))
	assert.Contains(t, unit, "NoNewPrivileges=yes\nRestrictRealtime=yes")
	if os.Geteuid() == 0 {
		assert.Contains(t, unit, "CapabilityBoundingSet=CAP_CHOWN")
	}
}

// A state folder that is full or cannot be written to gets a clear error; when
// that is mended all is as before.
func TestStateFolderFullOrReadOnly(t *testing.T) {
	w, _, _, site := watched(t)
	w.nextDay()
	w.run("due")
	small := w.path("small")
	require.NoError(t, os.Mkdir(small, 0o700))
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=400k"); err != nil {
		t.Skipf("no small file system can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(small, syscall.MNT_DETACH) })
	require.NoError(t, os.CopyFS(small, os.DirFS(w.path("state"))))
	w.write("revlet.yaml", strings.Replace(site, "./state", "./small", 1))
	all := w.archivesIn("here")
	_ = os.WriteFile(w.path("small/fill"), make([]byte, 1<<20), 0o600)
	w.nextDay()
	w.fails(1, []string{"small/history.db", "full", "`state:`"}, "due")
	require.NoError(t, os.Remove(w.path("small/fill")))
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY, "size=400k"))
	w.fails(1, []string{"small/history.db", "cannot be written", "`state:`"}, "due")
	assert.Equal(t, all, w.archivesIn("here"))
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", syscall.MS_REMOUNT, "size=4m"))
	w.run("due")
	assert.Len(t, w.archivesIn("here"), len(all)+1)
	w.run("verify")
}

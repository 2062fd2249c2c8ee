package jobs

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/watch/history"
	"revlet/internal/watch/notify"
	"revlet/internal/watch/report"
)

// hook is a receiver of webhooks and pings.
type hook struct {
	*httptest.Server
	mu     sync.Mutex
	events []notify.Event
	pings  []string
	// status is what every call is answered with.
	status int
}

func newHook(t *testing.T) *hook {
	h := &hook{status: 200}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		if r.URL.Path == "/hook" && h.status == 200 {
			var e notify.Event
			if err := json.NewDecoder(r.Body).Decode(&e); err != nil {
				t.Errorf("what was sent is no event: %v", err)
			}
			h.events = append(h.events, e)
		} else if r.URL.Path != "/hook" {
			h.pings = append(h.pings, r.URL.Path)
		}
		w.WriteHeader(h.status)
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hook) titles() (all []string) {
	for _, e := range h.events {
		all = append(all, e.Title)
	}
	return all
}

const daily = "    schedule: [\"full, every day at 03:00\"]\n"

// days lets a number of days pass, each with its duties.
func (b *bench) days(n int) {
	for range n {
		b.later(24 * time.Hour)
		b.due()
	}
}

func TestTroubleIsToldOnceADayUntilItIsOver(t *testing.T) {
	t.Parallel()
	h := newHook(t)
	b := newBench(t, daily, "notify: {webhook: {url: \""+h.URL+"/hook\", when: on trouble}}\n")
	b.due()
	// A site whose copies are all here is trouble of its own; accept that.
	b.days(1)
	for _, kind := range []string{"nothing-offsite", "never-verified", "never-rehearsed"} {
		_ = b.Accept(t.Context(), museum, kind, "a test")
	}
	h.events = nil
	b.days(2)
	assert.Empty(t, h.titles(), "all is well: nobody is told")

	require.NoError(t, os.Rename(b.path("htdocs"), b.path("gone")))
	b.days(1)
	require.Len(t, h.events, 1)
	assert.Equal(t, museum+": the backup FAILED", h.events[0].Title)
	assert.True(t, h.events[0].Trouble)
	for range 3 {
		b.later(61 * time.Minute)
		b.due()
	}
	assert.Len(t, h.events, 1, "tried again each hour, told once")
	b.later(24 * time.Hour)
	b.due()
	assert.Len(t, h.events, 2, "a reminder after a day")
	require.NoError(t, os.Rename(b.path("gone"), b.path("htdocs")))
	b.later(61 * time.Minute)
	b.due()
	require.Len(t, h.events, 3)
	assert.Equal(t, museum+": works again", h.events[2].Title)
	assert.False(t, h.events[2].Trouble)
}

func TestAlwaysMeansAlways(t *testing.T) {
	t.Parallel()
	h := newHook(t)
	b := newBench(t, daily, "notify: {webhook: {url: \""+h.URL+"/hook\", when: always}}\n")
	b.due()
	b.days(3)
	require.Len(t, h.events, 3)
	told := h.events[2].Sites[0].Told
	require.Len(t, told, 1)
	assert.Equal(t, history.Done, told[0].Outcome)
	assert.Contains(t, told[0].Changed, "no file since "+museum)
	require.NotNil(t, told[0].Saved)
	assert.Positive(t, told[0].Saved.Files)
}

func TestDigests(t *testing.T) {
	t.Parallel()
	h := newHook(t)
	b := newBench(t, daily, "notify: {webhook: {url: \""+h.URL+"/hook\", when: every monday at 07:00}}\n")
	b.due()
	b.days(6)
	assert.Empty(t, h.events)
	b.days(1)
	require.Len(t, h.events, 1)
	assert.Equal(t, notify.KindDigest, h.events[0].Kind)
	assert.Equal(t, "Backups: 0 of 1 site well", h.events[0].Title, "all its copies are on this machine")
	assert.Len(t, h.events[0].Sites[0].Since, 7)
	b.due()
	assert.Len(t, h.events, 1)
}

func TestAMessageThatCannotBeSentWaits(t *testing.T) {
	t.Parallel()
	h := newHook(t)
	b := newBench(t, daily, "notify: {webhook: {url: \""+h.URL+"/hook\", when: always}}\n")
	b.due()
	h.status = 503
	b.days(1)
	require.Len(t, events[MessageUnsent](b), 1)
	unsent, err := b.History.Unsent(t.Context())
	require.NoError(t, err)
	require.Len(t, unsent, 1)
	b.later(30 * time.Second)
	b.due()
	assert.Len(t, events[MessageUnsent](b), 1, "not at once")
	b.later(2 * time.Minute)
	b.due()
	assert.Len(t, events[MessageUnsent](b), 2, "with longer and longer pauses")
	h.status = 200
	b.later(10 * time.Minute)
	b.due()
	require.Len(t, h.events, 1, "and is sent in the end")

	h.status = 503
	b.days(1)
	b.later(giveUp + time.Hour)
	b.due()
	unsent, err = b.History.Unsent(t.Context())
	require.NoError(t, err)
	assert.Len(t, unsent, 1, "the one of a week ago is given up, the one of today waits")
}

func TestPings(t *testing.T) {
	t.Parallel()
	h := newHook(t)
	b := newBench(t, daily, "notify: {ping: {start: \""+h.URL+"/start/{site}\", success: \""+h.URL+"/ok/{site}\", failure: \""+h.URL+"/bad/{site}\"}}\n")
	b.due()
	b.days(1)
	assert.Equal(t, []string{"/start/" + museum, "/ok/" + museum}, h.pings)
	h.pings = nil
	require.NoError(t, os.Rename(b.path("htdocs"), b.path("gone")))
	b.days(1)
	assert.Equal(t, []string{"/start/" + museum, "/bad/" + museum}, h.pings)
	h.pings = nil
	unlock, err := b.State.Lock(museum)
	require.NoError(t, err)
	b.days(1)
	assert.Empty(t, h.pings, "nothing was begun: another run is at work")
	unlock()
	h.Close()
	require.NoError(t, os.Rename(b.path("gone"), b.path("htdocs")))
	b.told = nil
	b.days(1)
	assert.Len(t, events[ArchiveTaken](b), 1, "a watchdog that is away stops nothing")
	assert.NotEmpty(t, events[Warning](b))
}

func TestTestMessages(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	_, err := b.TestMessages(t.Context())
	assert.ErrorContains(t, err, "nothing is configured")
	h := newHook(t)
	b = newBench(t, "", "notify: {webhook: {url: \""+h.URL+"/hook\"}, ping: {success: \""+h.URL+"/ok\"}, mail: {smtp: \"smtp://127.0.0.1:1\", from: a@b.example, to: [c@d.example]}}\n")
	sent, err := b.TestMessages(t.Context())
	require.NoError(t, err)
	require.Len(t, sent, 3)
	assert.Error(t, sent[0].Err, "nobody listens there")
	assert.NoError(t, sent[1].Err)
	assert.NoError(t, sent[2].Err)
	assert.Equal(t, notify.KindTest, h.events[0].Kind)
}

func TestATitleSaysWhatItIsAbout(t *testing.T) {
	t.Parallel()
	for want, told := range map[string][][2]string{
		"all is well":                                {{"backup", history.Done}},
		"the backup FAILED":                          {{"verify", history.Failed}, {"backup", history.Failed}},
		"the verification FAILED":                    {{"backup", history.Done}, {"verify", history.Failed}},
		"the rehearsal FAILED":                       {{"rehearse", history.Failed}, {"verify", history.Damage}},
		"an archive DOES NOT RESTORE":                {{"rehearse", history.Damage}},
		"DAMAGE was found":                           {{"verify", history.Damage}},
		"backed up, but not in every store yet":      {{"backup", history.Waiting}},
		"the verification did not reach every store": {{"verify", history.Waiting}},
	} {
		n := notify.SiteNews{}
		for _, one := range told {
			n.Told = append(n.Told, notify.RunNews{Run: report.Run{Command: one[0], Outcome: one[1]}})
		}
		assert.Equal(t, museum+": "+want, title(museum, n))
	}
}

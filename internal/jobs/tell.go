package jobs

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/watch/history"
	"revlet/internal/watch/notify"
	"revlet/internal/watch/report"
)

// The channels that messages go through.
const (
	channelMail    = "mail"
	channelWebhook = "webhook"
)

// rulesOf are the occasions on which each channel tells something.
func (a *Agent) rulesOf() map[string][]config.TellRule {
	rules := map[string][]config.TellRule{}
	if n := a.Config.Notify; n != nil {
		if n.Mail != nil {
			rules[channelMail] = n.Mail.Rules
		}
		if n.Webhook != nil {
			rules[channelWebhook] = n.Webhook.Rules
		}
	}
	return rules
}

// event begins one with what is the same for all.
func (a *Agent) event(kind string) notify.Event {
	host, _ := os.Hostname()
	zone := a.Config.Zone(config.Site{}).String()
	if zone == "Local" {
		zone = cmp.Or(a.Zone, "UTC")
	}
	return notify.Event{Kind: kind, At: a.Now(), Host: host, Program: a.Program, Zone: zone, Sites: []notify.SiteNews{}}
}

// news is what there is to tell of a site.
func (a *Agent) news(ctx context.Context, name string) (notify.SiteNews, error) {
	s, err := a.assess(ctx, name)
	if err != nil {
		return notify.SiteNews{}, err
	}
	n := notify.SiteNews{Site: *s, Told: []notify.RunNews{}, Since: []report.Run{}}
	n.Archives, n.Runs = []report.Archive{}, []report.Run{}
	return n, nil
}

// gapsTold is how many gaps a message names.
const gapsTold = 50

// tell puts what came of a site's duties into the outbox, for those who want to
// know.
func (a *Agent) tell(ctx context.Context, name string, done []turn) error {
	n, err := a.news(ctx, name)
	if err != nil {
		return err
	}
	var wrong, known, again bool
	for _, t := range done {
		n.Told = append(n.Told, a.runNews(ctx, *t.run))
		wrong = wrong || t.run.Outcome != history.Done && !(t.failed() && t.failedBefore())
		known = known || t.failed() && t.failedBefore()
		again = again || t.failedBefore() && !t.failed()
	}
	e := a.event(notify.KindRun)
	e.Trouble, e.Sites, e.Title = wrong || known || len(n.Open()) > 0, append(e.Sites, n), title(name, n)
	if again && !e.Trouble {
		e.Title = name + ": works again"
	}
	for channel, rules := range a.rulesOf() {
		fresh, err := a.alarming(ctx, channel, name, n.Open(), known)
		if err != nil {
			return err
		}
		for _, r := range rules {
			if r.Always || r.Trouble && (wrong || again || fresh) {
				err = errors.Join(err, a.queue(ctx, channel, e), a.History.Mark(ctx, toldMark(channel, name), a.Now()))
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// reminder is how often one is told of an alarm that is known already.
const reminder = 24*time.Hour - time.Minute

func toldMark(channel, site string) string { return "told " + channel + " " + site }

// alarming tells whether there is an alarm that a channel has not been told of,
// or trouble that it has been told of, but not for a day.
func (a *Agent) alarming(ctx context.Context, channel, site string, open []report.Alarm, known bool) (bool, error) {
	last, err := a.History.Marked(ctx, toldMark(channel, site))
	if err != nil || len(open) == 0 && !known {
		return false, err
	}
	since := a.Now().Sub(last)
	return since > reminder || since < 0 || slices.ContainsFunc(open, func(o report.Alarm) bool { return o.Since.After(last) }), nil
}

// title is the subject of a message: the worst first.
func title(name string, n notify.SiteNews) string {
	gaps := 0
	of := func(outcome string) (commands []string) {
		for _, t := range n.Told {
			if t.Outcome == outcome {
				commands = append(commands, t.Command)
			}
		}
		return commands
	}
	for _, t := range n.Told {
		gaps += t.GapCount
	}
	open, waiting := n.Open(), of(history.Waiting)
	switch {
	case len(of(history.Failed)) > 0:
		return name + ": the " + workName(of(history.Failed)) + " FAILED"
	case slices.Contains(of(history.Damage), "rehearse"):
		return name + ": an archive DOES NOT RESTORE"
	case len(of(history.Damage)) > 0:
		return name + ": DAMAGE was found"
	case len(open) > 0:
		return fmt.Sprintf("%s: alarm %s", name, open[0].Kind)
	case len(of(history.Gaps)) > 0:
		return fmt.Sprintf("%s: backed up, but %s could not be saved", name, english.Plural(gaps, "path", "paths"))
	case slices.Contains(waiting, "backup"):
		return name + ": backed up, but not in every store yet"
	case len(waiting) > 0:
		return name + ": the " + workName(waiting) + " did not reach every store"
	default:
		return name + ": all is well"
	}
}

// workName is what the first of some runs was, a backup before all else.
func workName(commands []string) string {
	names := map[string]string{"backup": "backup", "verify": "verification", "rehearse": "rehearsal"}
	if slices.Contains(commands, "backup") {
		return names["backup"]
	}
	return cmp.Or(names[commands[0]], commands[0])
}

// runNews is what there is to tell of a run, with what its archive holds and
// could not hold.
func (a *Agent) runNews(ctx context.Context, run history.Run) notify.RunNews {
	n := notify.RunNews{Run: report.RunOf(run), NotSaved: []archive.Gap{}}
	if run.Archive == "" || run.Command != "backup" {
		return n
	}
	known, err := a.History.Archives(ctx, run.Site)
	if i := slices.IndexFunc(known, func(h history.Archive) bool { return h.Name == run.Archive }); err == nil && i >= 0 {
		n.Changed = known[i].Changes.Words()
	}
	signers, err := a.signersOf(run.Site)
	if err != nil {
		a.warn(err)
	}
	for _, s := range a.Stores(a.Config.Sites[run.Site]) {
		rec, err := catalog.ReadRecord(ctx, s, run.Site, run.Archive)
		if err != nil || signers == nil || signers.check(rec) != nil {
			continue
		}
		if len(rec.Sealed) > 0 {
			rec.UnsealFrom(a.openRecord(run.Site, run.Archive))
		}
		n.Saved, n.GapCount = &rec.Totals, len(rec.Gaps)
		n.NotSaved = append(n.NotSaved, rec.Gaps[:min(len(rec.Gaps), gapsTold)]...)
		break
	}
	return n
}

func (a *Agent) queue(ctx context.Context, channel string, e notify.Event) error {
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return a.History.Queue(ctx, history.Message{Channel: channel, Title: e.Title, Body: body, Created: a.Now()})
}

// sendDigests puts digests whose time has come into the outbox.
func (a *Agent) sendDigests(ctx context.Context) error {
	for channel, rules := range a.rulesOf() {
		for _, r := range rules {
			if r.Digest == nil {
				continue
			}
			if err := a.digest(ctx, channel, r); err != nil {
				return err
			}
		}
	}
	return nil
}

func (a *Agent) digest(ctx context.Context, channel string, r config.TellRule) error {
	mark := "digest " + channel + " " + r.Digest.Rhythm
	last, err := a.History.Marked(ctx, mark)
	if err != nil {
		return err
	}
	if last.IsZero() || last.After(a.Now()) {
		return a.History.Mark(ctx, mark, a.Now())
	}
	if r.Digest.Next(last, a.Config.Zone(config.Site{}), 0).After(a.Now()) {
		return nil
	}
	e := a.event(notify.KindDigest)
	well := 0
	for _, name := range a.Config.SiteNames() {
		n, err := a.news(ctx, name)
		if err != nil {
			return err
		}
		runs, err := a.History.Runs(ctx, history.RunFilter{Site: name, Since: last})
		if err != nil {
			return err
		}
		for _, run := range runs {
			n.Since = append(n.Since, report.RunOf(run))
			e.Trouble = e.Trouble || run.Outcome == history.Failed || run.Outcome == history.Damage
		}
		if n.Health() == "good" {
			well++
		}
		e.Sites = append(e.Sites, n)
	}
	e.Trouble = e.Trouble || well < len(e.Sites)
	e.Title = fmt.Sprintf("Backups: %d of %s well", well, english.Plural(len(e.Sites), "site", "sites"))
	if err := a.queue(ctx, channel, e); err != nil {
		return err
	}
	return a.History.Mark(ctx, mark, a.Now())
}

const (
	// giveUp is how long a message that cannot be sent is tried.
	giveUp = 7 * 24 * time.Hour
	// longestWait is the longest pause between two tries.
	longestWait = 6 * time.Hour
)

// sendWaiting sends what is in the outbox. What cannot be sent stays there, and
// is tried again later; it fails nothing.
func (a *Agent) sendWaiting(ctx context.Context) {
	waiting, err := a.History.Unsent(ctx)
	if err != nil {
		a.warn(err)
	}
	for _, m := range waiting {
		wait := min(time.Minute<<min(m.Tries, 20), longestWait)
		if ctx.Err() != nil || m.Tries > 0 && a.Now().Before(m.Tried.Add(wait)) && !m.Tried.After(a.Now()) {
			continue
		}
		failure := a.send(ctx, m)
		if failure != nil {
			a.Tell(MessageUnsent{m.Title, m.Channel, failure})
		}
		if failure != nil && a.Now().Sub(m.Created) > giveUp {
			err = a.History.Drop(ctx, m.ID)
		} else {
			err = a.History.Sent(ctx, m.ID, a.Now(), failure)
		}
		if err != nil {
			a.warn(err)
		}
	}
}

// errNoChannel tells that a message is for a channel that is configured no more.
var errNoChannel = errors.New("it is no longer configured")

func (a *Agent) send(ctx context.Context, m history.Message) error {
	n := a.Config.Notify
	switch {
	case n == nil:
		return errNoChannel
	case m.Channel == channelWebhook && n.Webhook != nil:
		return notify.Webhook(ctx, n.Webhook, m.Body, a.Now())
	case m.Channel == channelMail && n.Mail != nil:
		var e notify.Event
		if err := json.Unmarshal(m.Body, &e); err != nil {
			return err
		}
		return notify.Mail(ctx, n.Mail, e)
	}
	return errNoChannel
}

type pingKind int

const (
	pingStart pingKind = iota
	pingSuccess
	pingFailure
)

// ping calls a watchdog elsewhere. That it cannot be reached fails nothing.
func (a *Agent) ping(ctx context.Context, site string, kind pingKind) {
	if a.Config.Notify == nil || a.Config.Notify.Ping == nil {
		return
	}
	p := a.Config.Notify.Ping
	address := [...]string{pingStart: p.Start, pingSuccess: p.Success, pingFailure: p.Failure}[kind]
	if address == "" {
		return
	}
	if err := notify.Ping(ctx, address, site, p.CAFile); err != nil {
		a.warnf("ping: %w", err)
	}
}

// Sent is what came of one test message.
type Sent struct {
	What string
	Err  error
}

// TestMessages sends a test message by every way that is configured.
func (a *Agent) TestMessages(ctx context.Context) ([]Sent, error) {
	n := a.Config.Notify
	if n == nil || n.Mail == nil && n.Webhook == nil && n.Ping == nil {
		return nil, reason.BadUsage("nothing is configured under `notify:` in %s", a.Config.Path)
	}
	e := a.event(notify.KindTest)
	e.Title = "Revlet: a test from " + e.Host
	for _, name := range a.Config.SiteNames() {
		one, err := a.news(ctx, name)
		if err != nil {
			return nil, err
		}
		e.Sites = append(e.Sites, one)
	}
	var all []Sent
	if n.Mail != nil {
		all = append(all, Sent{"mail to " + strings.Join(n.Mail.To, ", "), notify.Mail(ctx, n.Mail, e)})
	}
	if n.Webhook != nil {
		body, err := json.Marshal(e)
		if err == nil {
			err = notify.Webhook(ctx, n.Webhook, body, a.Now())
		}
		all = append(all, Sent{"webhook", err})
	}
	if n.Ping != nil && n.Ping.Success != "" {
		all = append(all, Sent{"ping of success", notify.Ping(ctx, n.Ping.Success, "test", n.Ping.CAFile)})
	}
	return all, nil
}

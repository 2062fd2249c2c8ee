package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/config"
	"revlet/internal/history"
	"revlet/internal/notify"
	"revlet/internal/report"
)

// The channels that messages go through.
const (
	channelMail    = "mail"
	channelWebhook = "webhook"
)

// rulesOf are the occasions on which each channel tells something.
func (a *app) rulesOf() map[string][]config.TellRule {
	rules := map[string][]config.TellRule{}
	if n := a.config.Notify; n != nil {
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
func (a *app) event(kind string) notify.Event {
	host, _ := os.Hostname()
	zone := a.config.Zone(config.Site{}).String()
	if zone == "Local" {
		zone = localZone()
	}
	return notify.Event{Kind: kind, At: a.now(), Host: host, Program: "revlet " + Version, Zone: zone, Sites: []notify.SiteNews{}}
}

// localZone names this machine's time zone, as far as it has a name.
func localZone() string {
	if name := os.Getenv("TZ"); name != "" {
		return strings.TrimPrefix(name, ":")
	}
	target, err := os.Readlink("/etc/localtime")
	if _, name, ok := strings.Cut(target, "zoneinfo/"); err == nil && ok {
		return name
	}
	return "UTC"
}

// news is what there is to tell of a site.
func (a *app) news(ctx context.Context, name string) (notify.SiteNews, error) {
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
func (a *app) tell(ctx context.Context, name string, done []turn) error {
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
				err = errors.Join(err, a.queue(ctx, channel, e), a.history.Mark(ctx, toldMark(channel, name), a.now()))
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
func (a *app) alarming(ctx context.Context, channel, site string, open []report.Alarm, known bool) (bool, error) {
	last, err := a.history.Marked(ctx, toldMark(channel, site))
	if err != nil || len(open) == 0 && !known {
		return false, err
	}
	since := a.now().Sub(last)
	return since > reminder || since < 0 || slices.ContainsFunc(open, func(o report.Alarm) bool { return o.Since.After(last) }), nil
}

// title is the subject of a message: the worst first.
func title(name string, n notify.SiteNews) string {
	gaps := 0
	outcomes := map[string]bool{}
	for _, t := range n.Told {
		outcomes[t.Outcome] = true
		gaps += t.GapCount
	}
	open := n.Open()
	switch {
	case outcomes[history.Failed]:
		return name + ": the backup FAILED"
	case outcomes[history.Damage]:
		return name + ": DAMAGE was found"
	case len(open) > 0:
		return fmt.Sprintf("%s: alarm %s", name, open[0].Kind)
	case outcomes[history.Gaps]:
		return fmt.Sprintf("%s: backed up, but %s could not be saved", name, count(int64(gaps), "path", "paths"))
	case outcomes[history.Waiting]:
		return name + ": backed up, but not in every store yet"
	default:
		return name + ": all is well"
	}
}

// runNews is what there is to tell of a run, with what its archive holds and
// could not hold.
func (a *app) runNews(ctx context.Context, run history.Run) notify.RunNews {
	n := notify.RunNews{Run: report.RunOf(run), NotSaved: []archive.Gap{}}
	if run.Archive == "" || run.Command != "backup" {
		return n
	}
	known, err := a.history.Archives(ctx, run.Site)
	if i := slices.IndexFunc(known, func(h history.Archive) bool { return h.Name == run.Archive }); err == nil && i >= 0 {
		n.Changed = changedSince(known[i].Changes)
	}
	for _, s := range a.stores(a.config.Sites[run.Site]) {
		rec, err := catalog.ReadRecord(ctx, s, run.Site, run.Archive)
		if err != nil {
			continue
		}
		if len(rec.Sealed) > 0 {
			rec.UnsealFrom(a.keptOpen(run.Site, run.Archive))
		}
		n.Saved, n.GapCount = &rec.Totals, len(rec.Gaps)
		n.NotSaved = append(n.NotSaved, rec.Gaps[:min(len(rec.Gaps), gapsTold)]...)
		break
	}
	return n
}

func (a *app) queue(ctx context.Context, channel string, e notify.Event) error {
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return a.history.Queue(ctx, history.Message{Channel: channel, Title: e.Title, Body: body, Created: a.now()})
}

// sendDigests puts digests whose time has come into the outbox.
func (a *app) sendDigests(ctx context.Context) error {
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

func (a *app) digest(ctx context.Context, channel string, r config.TellRule) error {
	mark := "digest " + channel + " " + r.Digest.Rhythm
	last, err := a.history.Marked(ctx, mark)
	if err != nil {
		return err
	}
	if last.IsZero() || last.After(a.now()) {
		return a.history.Mark(ctx, mark, a.now())
	}
	if r.Digest.Next(last, a.config.Zone(config.Site{}), 0).After(a.now()) {
		return nil
	}
	e := a.event(notify.KindDigest)
	well := 0
	for _, name := range a.config.SiteNames() {
		n, err := a.news(ctx, name)
		if err != nil {
			return err
		}
		runs, err := a.history.Runs(ctx, history.RunFilter{Site: name, Since: last})
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
	e.Title = fmt.Sprintf("Backups: %d of %s well", well, count(int64(len(e.Sites)), "site", "sites"))
	if err := a.queue(ctx, channel, e); err != nil {
		return err
	}
	return a.history.Mark(ctx, mark, a.now())
}

const (
	// giveUp is how long a message that cannot be sent is tried.
	giveUp = 7 * 24 * time.Hour
	// longestWait is the longest pause between two tries.
	longestWait = 6 * time.Hour
)

// sendWaiting sends what is in the outbox. What cannot be sent stays there, and
// is tried again later; it fails nothing.
func (a *app) sendWaiting(ctx context.Context) {
	waiting, err := a.history.Unsent(ctx)
	if err != nil {
		fmt.Fprintln(a.err, "warning: "+err.Error())
	}
	for _, m := range waiting {
		wait := min(time.Minute<<min(m.Tries, 20), longestWait)
		if ctx.Err() != nil || m.Tries > 0 && a.now().Before(m.Tried.Add(wait)) && !m.Tried.After(a.now()) {
			continue
		}
		failure := a.send(ctx, m)
		if failure != nil {
			fmt.Fprintf(a.err, "warning: the message “%s” could not be sent by %s: %v; it is tried again\n", m.Title, m.Channel, failure)
		}
		if failure != nil && a.now().Sub(m.Created) > giveUp {
			err = a.history.Drop(ctx, m.ID)
		} else {
			err = a.history.Sent(ctx, m.ID, a.now(), failure)
		}
		if err != nil {
			fmt.Fprintln(a.err, "warning: "+err.Error())
		}
	}
}

// errNoChannel tells that a message is for a channel that is configured no more.
var errNoChannel = errors.New("it is no longer configured")

func (a *app) send(ctx context.Context, m history.Message) error {
	n := a.config.Notify
	switch {
	case n == nil:
		return errNoChannel
	case m.Channel == channelWebhook && n.Webhook != nil:
		return notify.Webhook(ctx, n.Webhook, m.Body, a.now())
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
func (a *app) ping(ctx context.Context, site string, kind pingKind) {
	if a.config.Notify == nil || a.config.Notify.Ping == nil {
		return
	}
	p := a.config.Notify.Ping
	address := [...]string{pingStart: p.Start, pingSuccess: p.Success, pingFailure: p.Failure}[kind]
	if address == "" {
		return
	}
	if err := notify.Ping(ctx, address, site, p.CAFile); err != nil {
		fmt.Fprintf(a.err, "warning: ping: %v\n", err)
	}
}

func (a *app) notifyCommand() *cli.Command {
	return &cli.Command{
		Name: "notify", Usage: "what tells you of runs",
		Commands: []*cli.Command{{
			Name: "test", Usage: "send a test message by every way that is configured",
			Action: a.notifyTest,
		}},
	}
}

func (a *app) notifyTest(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	n := a.config.Notify
	if n == nil || n.Mail == nil && n.Webhook == nil && n.Ping == nil {
		return usageError("nothing is configured under `notify:` in %s", a.config.Path)
	}
	e := a.event(notify.KindTest)
	e.Title = "Revlet: a test from " + e.Host
	for _, name := range a.config.SiteNames() {
		one, err := a.news(ctx, name)
		if err != nil {
			return err
		}
		e.Sites = append(e.Sites, one)
	}
	failed := false
	try := func(what string, err error) {
		if err != nil {
			failed = true
			fmt.Fprintf(a.out, "%s %s: %s\n", a.bad("not sent:"), what, printableText(err.Error()))
			return
		}
		fmt.Fprintf(a.out, "%s %s\n", a.good("sent:"), what)
	}
	if n.Mail != nil {
		try("mail to "+strings.Join(n.Mail.To, ", "), notify.Mail(ctx, n.Mail, e))
	}
	if n.Webhook != nil {
		body, err := json.Marshal(e)
		if err == nil {
			err = notify.Webhook(ctx, n.Webhook, body, a.now())
		}
		try("webhook", err)
	}
	if n.Ping != nil && n.Ping.Success != "" {
		try("ping of success", notify.Ping(ctx, n.Ping.Success, "test", n.Ping.CAFile))
	}
	if failed {
		return &exitError{code: exitFailed}
	}
	return nil
}

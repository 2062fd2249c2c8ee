package cli

import (
	"fmt"
	"strings"
	"sync"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
)

// hearOne is hear for events that may come at the same time.
func (a *app) hearOne() func(jobs.Event) {
	var mu sync.Mutex
	return func(e jobs.Event) {
		mu.Lock()
		defer mu.Unlock()
		a.hear(e)
	}
}

// hear tells a person of what happens while a job goes on.
func (a *app) hear(e jobs.Event) {
	switch e := e.(type) {
	case jobs.Warning:
		text := e.Text
		if e.Err != nil {
			text = render.Inline(e.Err)
		}
		fmt.Fprintln(a.err, "warning: "+render.PrintableText(text))
	case jobs.HistoryLost:
		fmt.Fprintf(a.err, "warning: %v; it is set aside as %s. What archives there are is read from the stores again; earlier runs and checks are no longer known.\n", e.Fault, e.SetAside)
	case jobs.Recovered:
		a.note("a restore of %s from %s had stopped half-way; it is now %s.", e.Site, e.Archive, e.Did)
	case jobs.CutoverDied:
		fmt.Fprintf(a.err, "warning: the cutover of %s to %s has stopped half-way (%s), and %s may be closed. `revlet cutover finish %s --to %s` goes on with it, `--back` takes it back.\n", e.Site, e.To, e.Step, e.Site, e.Site, e.To)
	case jobs.StoreSilent:
		a.note("store %s: %s; going on without it", e.Store, render.Inline(e.Err))
	case jobs.PassedOver:
		a.note("%s is newer, and is passed over: %s.", e.Archive, e.Why)
	case jobs.SettingsFromArchive:
		a.note("the live settings cannot be read; the database settings in the archive are used.")
	case jobs.SiteDescribed:
		a.note("site %s is written into %s, as its archive describes it:\n%s", e.Site, e.Path, strings.TrimRight(render.PrintableText(e.Added), "\n"))
	case jobs.SeveralSites:
		a.note("this installation holds several sites; `revlet adopt %s --settings FILE` adopts another: %s", e.Root, joined(e.Settings))
	case jobs.SignerTaken:
		a.note("archives of %s by %s (%s) are taken from now on: they were there when this machine first looked. To hold to that, put it into `signed_by:` of the site: %s", e.Site, e.Fingerprint, e.Host, e.Key)
	case jobs.HostTrusted:
		a.note("the key %s of %s is accepted from now on.", e.Fingerprint, e.Host)
	case jobs.MessageUnsent:
		fmt.Fprintf(a.err, "warning: the message “%s” could not be sent by %s: %v; it is tried again\n", e.Title, e.Channel, e.Err)
	case jobs.DutyFailed:
		fmt.Fprintf(a.err, "revlet: %s: %s: %s\n", e.Site, e.Duty, render.Inline(e.Err))
	case jobs.ArchiveTaken:
		a.log("%s: %s, %s, %s new", e.Record.Site, e.Record.Name, render.Count(e.Record.Totals.Files, "file", "files"), render.Size(e.Record.Totals.NewBytes))
	case jobs.CopiesVerified:
		a.log("%s: %s verified", e.Site, render.Count(int64(e.Copies), "copy", "copies"))
	case jobs.Rehearsed:
		a.log("%s: %s restores, in %s", e.Site, e.Name, render.Took(e.Result.Total))
	default:
		a.hearGuard(e)
	}
}

func (a *app) note(format string, args ...any) {
	fmt.Fprintln(a.err, "note: "+render.PrintableText(fmt.Sprintf(format, args...)))
}

// log says what was done, with the time, unless only what is wrong is to be said.
func (a *app) log(format string, args ...any) {
	if !a.hush {
		fmt.Fprintf(a.Out, "%s  %s\n", render.When(a.Now()), fmt.Sprintf(format, args...))
	}
}

// words writes a result as text for the history's log.
func (a *app) words(result any) string {
	return a.Plain(func(p *render.Printer) {
		switch r := result.(type) {
		case *jobs.Delivered:
			p.ShowBackup(r)
		case []jobs.StoreRetention:
			p.ShowRemoved(r)
		case *jobs.Proof:
			p.ShowReports(r)
		case jobs.Rehearsed:
			p.ShowRehearsed(r.Held, r.Result)
		}
	})
}

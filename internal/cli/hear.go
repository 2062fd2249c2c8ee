package cli

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

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
		a.tell(slog.LevelWarn, text)
	case jobs.HistoryLost:
		a.warning("%v; it is set aside as %s. What archives there are is read from the stores again; earlier runs and checks are no longer known.", e.Fault, e.SetAside)
	case jobs.Recovered:
		a.note("a restore of %s from %s had stopped half-way; it is now %s.", e.Site, e.Archive, e.Did)
		a.tellLeft(e.Left)
	case jobs.CutoverDied:
		a.warning("the cutover of %s to %s has stopped half-way (%s), and %s may be closed. `revlet cutover finish %s --to %s` goes on with it, `--back` takes it back.", e.Site, e.To, e.Step, e.Site, e.Site, e.To)
	case jobs.StoreSilent:
		a.note("store %s: %s; going on without it", e.Store, render.Inline(e.Err))
	case jobs.PassedOver:
		a.note("%s is newer, and is passed over: %s.", e.Archive, e.Why)
	case jobs.SettingsFromArchive:
		a.note("the live settings cannot be read; the database settings in the archive are used.")
	case jobs.SiteDescribed:
		a.note("site %s is written into %s, as its archive describes it:\n%s", e.Site, e.Path, asLines(strings.TrimRight(e.Added, "\n")))
	case jobs.SeveralSites:
		a.note("this installation holds several sites; `revlet adopt %s --settings FILE` adopts another: %s", e.Root, joined(e.Settings))
	case jobs.SignerTaken:
		a.note("archives of %s by %s (%s) are taken from now on: they were there when this machine first looked. To hold to that, put it into `signed_by:` of the site: %s", e.Site, e.Fingerprint, e.Host, e.Key)
	case jobs.HostTrusted:
		a.note("the key %s of %s is accepted from now on.", e.Fingerprint, e.Host)
	case jobs.MessageUnsent:
		a.warning("the message “%s” could not be sent by %s: %v; it is tried again", e.Title, e.Channel, e.Err)
	case jobs.DutyFailed:
		a.tell(slog.LevelError, fmt.Sprintf("%s: %s: %s", e.Site, e.Duty, render.Inline(e.Err)))
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

// levelNote is of what a person should know, and nobody need do anything about.
const levelNote = slog.LevelInfo + 2

func (a *app) note(format string, args ...any)    { a.tell(levelNote, said(format, args)) }
func (a *app) warning(format string, args ...any) { a.tell(slog.LevelWarn, said(format, args)) }

// asLines is text of several lines, which may be told as it is.
type asLines string

// said is fmt.Sprintf; what others have a part in makes no lines.
func said(format string, args []any) string {
	for i, arg := range args {
		switch arg := arg.(type) {
		case error:
			args[i] = render.ErrText(arg)
		case string:
			args[i] = render.PrintableText(arg)
		}
	}
	return fmt.Sprintf(format, args...)
}

// log says what was done, with the time, unless only what is wrong is to be said.
func (a *app) log(format string, args ...any) {
	if !a.hush {
		a.tell(slog.LevelInfo, said(format, args))
	}
}

// How what happens is told: as text, as JSON, or as the journal of systemd takes it.
const (
	logText    = "text"
	logJSON    = "json"
	logJournal = "journal"
)

// tell writes what happens, where and as it is wanted.
func (a *app) tell(level slog.Level, text string) {
	text = render.PrintableLines(text)
	w := a.err
	if level == slog.LevelInfo {
		w = a.Out
	}
	switch a.logAs {
	case logJSON:
		line := map[string]any{"time": a.Now().UTC().Format(time.RFC3339Nano), "level": map[slog.Level]string{slog.LevelInfo: "info", levelNote: "note", slog.LevelWarn: "warning", slog.LevelError: "error"}[level], "text": text}
		data, err := json.Marshal(line)
		if err == nil {
			fmt.Fprintln(w, string(data))
		}
	case logJournal: // sd-daemon(3)
		priority := map[slog.Level]int{slog.LevelInfo: 6, levelNote: 5, slog.LevelWarn: 4, slog.LevelError: 3}[level]
		for line := range strings.SplitSeq(text, "\n") {
			fmt.Fprintf(w, "<%d>%s\n", priority, line)
		}
	default:
		before := map[slog.Level]string{slog.LevelInfo: render.When(a.Now()) + "  ", levelNote: "note: ", slog.LevelWarn: "warning: ", slog.LevelError: "revlet: "}[level]
		fmt.Fprintln(w, before+text)
	}
}

// chooseLog says how what happens is told: as is typed, or as the journal takes it where it listens.
func (a *app) chooseLog(c *cli.Command) error {
	switch typed := c.String("log-format"); {
	case typed == logText || typed == logJSON:
		a.logAs = typed
	case typed != "":
		return usageError("--log-format %q: it is text or json", typed)
	case a.env("JOURNAL_STREAM") != "":
		a.logAs = logJournal
	}
	return nil
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

package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/cli/render"
	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/jobs"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/check"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/restore"
)

// constants are the string constants of a type that a package declares.
func constants(t *testing.T, dir, typed string) (all []string) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	require.NoError(t, err)
	for _, name := range files {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		for _, d := range f.Decls {
			g, ok := d.(*ast.GenDecl)
			if !ok || g.Tok != token.CONST {
				continue
			}
			for _, s := range g.Specs {
				v := s.(*ast.ValueSpec)
				if id, ok := v.Type.(*ast.Ident); ok && id.Name == typed {
					text, err := strconv.Unquote(v.Values[0].(*ast.BasicLit).Value)
					require.NoError(t, err)
					all = append(all, text)
				}
			}
		}
	}
	require.NotEmpty(t, all)
	return all
}

func TestThereIsAdviceForEveryReason(t *testing.T) {
	reasons := constants(t, "../platform/reason", "Reason")
	for _, r := range reasons {
		if reason.Reason(r) == reason.Usage {
			continue // the sentence itself says what is wrong with the request
		}
		assert.NotEmpty(t, render.Advice[reason.Reason(r)], r)
	}
	for r := range render.Advice {
		assert.Contains(t, reasons, string(r), "advice for what no error says")
	}
}

func TestThereIsARemedyForEveryAlarm(t *testing.T) {
	for _, kind := range alarm.Kinds() {
		assert.NotEmpty(t, render.Remedies[kind], kind)
	}
	assert.Len(t, render.Remedies, len(alarm.Kinds()))
}

// commands gathers every command with its path.
func commands(c *cli.Command, path string, visit func(path string, c *cli.Command)) {
	visit(path, c)
	for _, sub := range c.Commands {
		commands(sub, strings.TrimSpace(path+" "+sub.Name), visit)
	}
}

func testApp(out, errOut io.Writer) *app {
	a := &app{Printer: render.Printer{Out: out, Now: func() time.Time { return time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC) }}, in: strings.NewReader(""), err: errOut, env: func(string) string { return "" }, jobs: jobs.New()}
	if err := a.setUp(); err != nil {
		panic(err)
	}
	a.Now = func() time.Time { return time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC) }
	return a
}

func TestAdviceNamesCommandsAndOptionsThatExist(t *testing.T) {
	known, options := map[string]bool{}, map[string]bool{"--help": true}
	commands(testApp(io.Discard, io.Discard).root(), "", func(path string, c *cli.Command) {
		known[path] = true
		for _, f := range c.Flags {
			for _, n := range f.Names() {
				options["--"+n] = true
			}
		}
	})
	check := func(text string) {
		for i, piece := range strings.Split(text, "`") {
			words := strings.Fields(piece)
			for _, w := range words {
				if strings.HasPrefix(w, "--") && len(w) > 2 {
					assert.True(t, options[strings.Trim(w, ",.;")], "%q has no option %s", text, w)
				}
			}
			if i%2 == 0 || len(words) < 2 || words[0] != "revlet" {
				continue
			}
			two := words[1]
			if len(words) > 2 && known[two+" "+words[2]] {
				two += " " + words[2]
			}
			assert.True(t, known[two], "%q names no command", piece)
		}
	}
	for _, text := range render.Advice {
		check(text)
	}
	for _, text := range render.Remedies {
		check(text)
	}
}

func TestErrorsSayWhatToDoNext(t *testing.T) {
	err := fmt.Errorf("restore kp: %w; nothing was changed", reason.New(reason.ParentsGone, reason.Names{"table": "pages", "column": "id", "value": "2"}, "rows refer to pages that are gone"))
	assert.Equal(t, "restore kp: rows refer to pages that are gone; nothing was changed\nnext: add --rows pages:id=2, or --anyway to put them back without", render.Advised(err))
	twice := errors.Join(reason.New(reason.NoKey, nil, "store a"), reason.New(reason.NoKey, nil, "store b"))
	assert.Equal(t, 1, strings.Count(render.Advised(twice), "next:"), "the same advice once")
	assert.Equal(t, "plain", render.Advised(errors.New("plain")))
	assert.NotContains(t, render.Inline(err), "\n")
}

func TestExitCodes(t *testing.T) {
	for want, errs := range map[int][]error{
		exitDone:    {nil},
		exitUsage:   {usageError("x"), reason.BadUsage("x"), fmt.Errorf("w: %w", &config.Error{Reason: "x"}), config.ErrNone, site.ErrSettings, reason.New(reason.NoPassphrase, nil, "x")},
		exitFailed:  {errors.New("x"), reason.New(reason.NoArchives, nil, "x"), context.Canceled},
		exitGaps:    {&exitError{code: exitGaps}, verdictCode(catalog.NotReached)},
		exitDamage:  {fmt.Errorf("w: %w", &exitError{code: exitDamage}), verdictCode(catalog.Damaged)},
		exitPutBack: {&exitError{code: exitPutBack}},
	} {
		for _, err := range errs {
			assert.Equal(t, want, exitCode(err), "%v", err)
		}
	}
	assert.NoError(t, verdictCode(catalog.Sound))
	assert.Equal(t, exitFailed, worse(exitDamage, exitFailed))
	assert.Equal(t, exitDamage, worse(exitDamage, exitGaps))
	assert.Equal(t, exitDone, codeOf(history.Done))
	assert.Equal(t, exitGaps, codeOf(history.Waiting))
	assert.Equal(t, exitDamage, codeOf(history.Damage))
}

// What was done is said, whatever interrupted it; only what was really given up half-way
// is called stopped.
func TestAnInterruptHidesNoOutcome(t *testing.T) {
	var errOut bytes.Buffer
	a := testApp(io.Discard, &errOut)
	assert.Equal(t, exitFailed, a.finish(fmt.Errorf("back up kp: %w", context.Canceled)), "nobody has stopped it")
	stopped := make(chan struct{})
	close(stopped)
	a.stopped = stopped
	assert.Equal(t, exitInterrupted, a.finish(fmt.Errorf("back up kp: %w", context.Canceled)))
	assert.Contains(t, errOut.String(), "stopped before it was done")
	errOut.Reset()
	assert.Equal(t, exitFailed, a.finish(&exitError{exitFailed, errors.New("kestrelpoint is broken")}))
	assert.Equal(t, "revlet: kestrelpoint is broken\n", errOut.String())
	errOut.Reset()
	assert.Equal(t, exitGaps, a.finish(&exitError{code: exitGaps}))
	assert.Empty(t, errOut.String())
}

func TestGuardOutcomesAreWorded(t *testing.T) {
	for _, o := range constants(t, "../jobs", "GuardOutcome") {
		var out bytes.Buffer
		a := testApp(&out, io.Discard)
		err := a.guarded(&jobs.Guarded{Outcome: jobs.GuardOutcome(o), Site: "kestrelpoint", Archive: "kestrelpoint-20261126-120000", Err: errors.New("the cause"), Answers: []check.Result{{URL: "http://x/", Trouble: "500"}}})
		said := out.String()
		if err != nil {
			said += err.Error()
		}
		switch code := exitCode(err); jobs.GuardOutcome(o) {
		case jobs.Fine:
			assert.Equal(t, exitDone, code)
		case jobs.BrokenBefore:
			assert.Equal(t, exitDamage, code)
			assert.Contains(t, said, "was not run")
		case jobs.PutBack:
			assert.Equal(t, exitPutBack, code)
		default:
			assert.Equal(t, exitFailed, code, o)
			assert.NotContains(t, said, "Fine", o)
		}
	}
}

func TestRowsAsTyped(t *testing.T) {
	picks, err := rowPicks("pages:id=12,slug=visit,remarks:page=3")
	require.NoError(t, err)
	require.Len(t, picks, 3)
	assert.Equal(t, "pages slug visit", picks[1].Table+" "+picks[1].Column+" "+picks[1].Value)
	assert.Equal(t, "remarks", picks[2].Table)
	for _, bad := range []string{"", "pages", "id=12", "pages:=3", "pages:id", ":id=3"} {
		_, err := rowPicks(bad)
		assert.Equal(t, exitUsage, exitCode(err), bad)
	}
}

func TestTheClockAndTheZoneAreRead(t *testing.T) {
	_, err := clock("noon")
	assert.Equal(t, exitUsage, exitCode(err))
	now, err := clock("2026-11-20T03:20:00Z")
	require.NoError(t, err)
	assert.Equal(t, 2026, now().Year())
	assert.Equal(t, "Europe/Oslo", localZone(":Europe/Oslo"))
}

func TestDatesAsTyped(t *testing.T) {
	for _, good := range []string{"2026-11-20", "2026-11-20 14:00", "2026-11-20 14:00:05", "2026-11-20T14:00:00Z", "2026-11-20 14:00 UTC", render.When(time.Date(2026, 11, 20, 14, 0, 0, 0, time.Local))} {
		at, err := date("--before", good)
		require.NoError(t, err, good)
		assert.Equal(t, 2026, at.Year())
	}
	none, err := date("--before", "")
	require.NoError(t, err)
	assert.True(t, none.IsZero())
	for _, bad := range []string{"yesterday", "20.11.2026", "2026-13-01", "2026-11-20 14:00 XYZ", "2026-11-20 14:00 JST"} {
		_, err := date("--before", bad)
		assert.Equal(t, exitUsage, exitCode(err), bad)
	}
}

// sharesIn makes shares of an archive that Revlet has written itself.
func sharesIn(s *site.Site, h *catalog.Held) sharesOf {
	return func(tables []string, rows []database.RowPick) (map[string]*database.RowSelection, error) {
		held, err := restore.TablesByLabel(h, nil)
		if err != nil {
			return nil, err
		}
		return restore.RowShares(s, h, held, tables, rows)
	}
}

func TestWantedReadsTheOptionsOfARestore(t *testing.T) {
	recipe, err := site.RecipeNamed("lampblack")
	require.NoError(t, err)
	s := &site.Site{Name: "kp", Recipe: recipe}
	held := func(scope archive.Scope) *catalog.Held {
		h := &catalog.Held{Record: &archive.Record{Name: "kp-20261126-120000", Scope: scope}}
		if scope.HasDatabase() {
			h.Origin.Databases = map[string]archive.DBOrigin{"main": {Engine: "sqlite"}}
			h.Parts = []archive.Part{{Kind: archive.KindRows, Database: "main", Table: "pages"}}
		}
		return h
	}
	full := held(archive.Full)
	parse := func(h *catalog.Held, args ...string) (w wish, err error) {
		a := testApp(io.Discard, io.Discard)
		c := a.restoreCommand()
		c.Action = func(_ context.Context, c *cli.Command) error { w, err = wanted(c, s, h, sharesIn(s, h)); return nil }
		require.NoError(t, c.Run(t.Context(), append([]string{"restore"}, args...)))
		return w, err
	}
	for args, want := range map[string]string{
		"":                                  "files database",
		"--only files":                      "files",
		"--only database":                   "database",
		"--only themes":                     "share",
		"--only themes,database":            "share database",
		"--path uploads/**":                 "share",
		"--path uploads/** --only database": "share database",
		"--mode fill":                       "share",
		"--table pages":                     "rows",
		"--rows pages:id=1":                 "rows",
		"--table pages --only files":        "files rows",
	} {
		w, err := parse(full, strings.Fields(args)...)
		require.NoError(t, err, args)
		var got []string
		if w.Selection != nil {
			got = append(got, "share")
		} else if w.Files {
			got = append(got, "files")
		}
		if w.Rows != nil {
			got = append(got, "rows")
		} else if w.Database {
			got = append(got, "database")
		}
		assert.Equal(t, want, strings.Join(got, " "), args)
		assert.Equal(t, w.Files, w.Selection != nil || strings.Contains(want, "files"), args)
	}
	for _, args := range []string{"--mode some", "--only nothing-such", "--path [", "--path a --only themes", "--only database --table pages", "--mode fill --only database", "--rows pages"} {
		_, err := parse(full, strings.Fields(args)...)
		assert.Error(t, err, args)
	}
	w, err := parse(held(archive.Database))
	require.NoError(t, err)
	assert.False(t, w.Files)
	_, err = parse(held(archive.Files), "--table", "pages")
	assert.ErrorContains(t, err, "holds no database")
}

func TestEveryCommandRefusesWhatItDoesNotKnow(t *testing.T) {
	commands(testApp(io.Discard, io.Discard).root(), "", func(path string, c *cli.Command) {
		if len(c.Commands) > 0 || c.Hidden {
			return
		}
		a := testApp(io.Discard, io.Discard)
		err := a.root().Run(t.Context(), append(append([]string{"revlet"}, strings.Fields(path)...), "--no-such-option"))
		assert.Equal(t, exitUsage, exitCode(err), path)
		assert.ErrorContains(t, err, "--help", path)
		assert.NotEmpty(t, c.Usage, path)
	})
}

// Whoever an output is from, to a terminal it is text and colour.
func TestTheGateToTheTerminal(t *testing.T) {
	for in, want := range map[string]string{
		"\x1b[1;31mred\x1b[0m\tand\r\nmore": "\x1b[1;31mred\x1b[0m\tand\r\nmore",
		"\x1b]0;title\x07":                  "\uFFFD]0;title\uFFFD",
		"\x1b[2J\x1b[10;5H":                 "\uFFFD[2J\uFFFD[10;5H",
		"\u009b31m ümläut \x00":             "\uFFFD31m ümläut \uFFFD",
	} {
		for _, gated := range []bool{true, false} {
			var to bytes.Buffer
			n, err := (&output{to: &to, gated: gated}).Write([]byte(in))
			require.NoError(t, err)
			assert.Equal(t, len(in), n)
			assert.Equal(t, map[bool]string{true: want, false: in}[gated], to.String())
		}
	}
	assert.Equal(t, "store x: \uFFFD[31mred", render.Advised(errors.New("store x: \x1b[31mred")))
}

// The gate of a terminal took the sequences with which `cutover watch` draws in place of what it had drawn for somebody else's.
func TestWhatIsDrawnAnewGoesThroughTheGate(t *testing.T) {
	var to strings.Builder
	p := render.Printer{Out: &output{to: &to, gated: true}, Now: time.Now}
	p.Redraw(3, func(p *render.Printer) { fmt.Fprint(p.Out, "a\x1b[2Jb\n") })
	assert.Equal(t, "\x1b[3A\x1b[Ja\uFFFD[2Jb\n", to.String())
}

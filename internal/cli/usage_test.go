package cli

import (
	"bytes"
	"context"
	"log/slog"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"revlet/internal/cli/manual"
	"revlet/internal/cli/render"
)

// each visits all commands that people call.
func each(c *cli.Command, path string, visit func(path string, c *cli.Command)) {
	visit(path, c)
	for _, sub := range c.Commands {
		if !sub.Hidden {
			each(sub, strings.TrimSpace(path+" "+sub.Name), visit)
		}
	}
}

func practiceRoot() *cli.Command {
	a := &app{}
	a.Out, a.err = &bytes.Buffer{}, &bytes.Buffer{}
	root := a.root()
	_ = root.Run(context.Background(), []string{"revlet", "help"}) // so that each knows what is above it
	return root
}

// Every command that does something has two examples, and the examples name commands and options that there are.
func TestExamples(t *testing.T) {
	root := practiceRoot()
	used := map[string]bool{}
	each(root, "", func(path string, c *cli.Command) {
		all := examples[path]
		used[path] = true
		if len(c.Commands) == 0 && c.Category != groupSetUp && !strings.HasPrefix(path, "completion") {
			assert.GreaterOrEqual(t, len(all), 2, path)
		}
		for _, e := range all {
			words := shellWords(t, e[0])
			at := root
			for i, word := range words {
				if word == "--" {
					break
				}
				if sub := at.Command(word); sub != nil {
					at = sub
				}
				if name, ok := strings.CutPrefix(word, "--"); ok {
					assert.True(t, slices.ContainsFunc(slices.Concat(at.Flags, root.Flags), func(f cli.Flag) bool { return slices.Contains(f.Names(), name) }), "%s: --%s", e[0], name)
				}
				require.NotEmpty(t, words[i])
			}
			if path != "" {
				assert.Equal(t, "revlet "+path, fullName(at, root), e[0])
			}
		}
	})
	for path := range examples {
		assert.True(t, used[path], "there is no command %q", path)
	}
}

func fullName(at, root *cli.Command) (name string) {
	each(root, "", func(path string, c *cli.Command) {
		if c == at {
			name = "revlet " + path
		}
	})
	return name
}

// shellWords are the words that a shell makes of a line.
func shellWords(t *testing.T, line string) []string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "sh", "-c", `printf '%s\n' `+line).Output()
	require.NoError(t, err, line)
	return strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
}

// The help of every command fits the terminal, says all options with what stands for their values, and
// lists those of all commands once.
func TestHelp(t *testing.T) {
	root := practiceRoot()
	each(root, "", func(path string, c *cli.Command) {
		var b bytes.Buffer
		manual.Print(&b, c, manual.Words{Title: plain, Dim: plain, Width: 80})
		for line := range strings.SplitSeq(b.String(), "\n") {
			if !strings.Contains(line, "sftp://") {
				assert.LessOrEqual(t, len([]rune(line)), 80, line)
			}
		}
		for _, f := range c.Flags {
			doc, _ := f.(cli.DocGenerationFlag)
			assert.Contains(t, b.String(), "--"+f.Names()[0])
			if doc.TakesValue() {
				assert.Equal(t, 2, strings.Count(doc.GetUsage(), "`"), "%s --%s: what stands for its value?", path, f.Names()[0])
			}
		}
		if path != "" {
			assert.NotContains(t, b.String(), "history, journals and scratch files")
		}
	})
}

func plain(s string) string { return s }

func TestWrongUsage(t *testing.T) {
	for line, want := range map[string]string{
		"restor":                  `there is no command "restor"; did you mean "restore"?`,
		"stores hael":             `there is no command "stores hael"; did you mean "heal"?`,
		"help stores hael":        `there is no command "stores hael"; did you mean "heal"?`,
		"xylophone":               `there is no command "xylophone"; ` + "`revlet --help` lists them",
		"backup --scop full":      "unknown option --scop; did you mean --scope?",
		"backup --xylophone":      "unknown option --xylophone; `revlet backup --help`",
		"restore --only":          "option --only needs a value",
		"move kestrelpoint":       "needed: --to",
		"cutover watch --times x": `--times "x": that is no value for it`,
	} {
		var out bytes.Buffer
		assert.Equal(t, exitUsage, Main(t.Context(), append([]string{"revlet"}, strings.Fields(line)...), strings.NewReader(""), &out, &out), line)
		assert.Contains(t, out.String(), want)
	}
}

func TestHelpOfNestedCommands(t *testing.T) {
	for _, line := range []string{"help stores heal", "stores heal --help"} {
		var out bytes.Buffer
		assert.Zero(t, Main(t.Context(), append([]string{"revlet"}, strings.Fields(line)...), strings.NewReader(""), &out, &out), line)
		assert.True(t, strings.HasPrefix(out.String(), "revlet stores heal: "), out.String())
	}
}

// The pages of the manual are ones that man(1)'s own formatter has nothing against.
func TestManual(t *testing.T) {
	pages := Manual(time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC))
	assert.Greater(t, len(pages), 30)
	assert.Contains(t, pages["revlet-stores.1"], ".SH REVLET STORES HEAL")
	assert.Contains(t, pages["revlet.1"], ".BR revlet-backup (1)")
	groff, err := exec.LookPath("groff")
	if err != nil {
		t.Skip("groff is not installed: whether the pages can be formatted is not known")
	}
	for name, page := range pages {
		cmd := exec.CommandContext(t.Context(), groff, "-man", "-Tutf8", "-ww", "-z")
		cmd.Stdin = strings.NewReader(page)
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, name)
		assert.Empty(t, string(out), name)
	}
}

// What happens is told as it is wanted: for people, for a collector, and for the journal with its priorities.
func TestLogFormats(t *testing.T) {
	for format, want := range map[string][2]string{
		"":         {"2026-11-28 12:00 UTC  saved\n", "note: look\nwarning: a store�[0m is full\nrevlet: failed\n"},
		logJSON:    {`{"level":"info","text":"saved","time":"2026-11-28T12:00:00Z"}` + "\n", `{"level":"note","text":"look","time":"2026-11-28T12:00:00Z"}` + "\n" + `{"level":"warning","text":"a store�[0m is full","time":"2026-11-28T12:00:00Z"}` + "\n" + `{"level":"error","text":"failed","time":"2026-11-28T12:00:00Z"}` + "\n"},
		logJournal: {"<6>saved\n", "<5>look\n<4>a store�[0m is full\n<3>failed\n"},
	} {
		var out, errOut bytes.Buffer
		a := testApp(&out, &errOut)
		a.logAs, a.Now = format, func() time.Time { return time.Date(2026, 11, 28, 12, 0, 0, 0, time.Local).In(time.UTC) }
		a.log("saved")
		a.note("look")
		a.warning("a store\x1b[0m is full")
		a.tell(slog.LevelError, "failed")
		if format != logJSON || time.Local == time.UTC {
			assert.Equal(t, want[0], out.String())
			assert.Equal(t, want[1], errOut.String())
		}
	}
}

// inCode finds what stands in code in a document: lines of blocks, and words between backquotes.
var inCode = regexp.MustCompile("(?s)```[a-z]*\n(.*?)```|`([^`\n]+)`")

// Every command line in the documents is one that the program takes: commands and options are there.
func TestCommandLinesInDocuments(t *testing.T) {
	root := practiceRoot()
	files, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	seen := 0
	for _, file := range append(files, "../../README.md", "../../CONTRIBUTING.md") {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range inCode.FindAllStringSubmatch(string(data), -1) {
			text := strings.ReplaceAll(m[1]+m[2], "\\\n", " ")
			for line := range strings.Lines(text) {
				line, _, _ = strings.Cut(strings.TrimSpace(line), " # ")
				words := strings.Fields(strings.TrimPrefix(strings.TrimPrefix(line, "$ "), "sudo "))
				if len(words) < 2 || words[0] != "revlet" || strings.ContainsAny(words[1], "…|") {
					continue
				}
				seen++
				at := root
				for i, word := range words[1:] {
					word = strings.Trim(word, `"'[](),;`)
					if word == "--" || word == "|" || word == "&&" || word == ">" {
						break
					}
					if sub := at.Command(word); sub != nil && (i == 0 || len(at.Commands) > 0) {
						at = sub
					} else if i == 0 && !strings.HasPrefix(word, "-") {
						assert.Fail(t, "no such command", "%s: %s", file, line)
					}
					name, isOption := strings.CutPrefix(word, "--")
					name, _, _ = strings.Cut(strings.TrimRight(name, ".…"), "=")
					for one := range strings.SplitSeq(name, "|") {
						one = strings.TrimLeft(one, "-")
						if isOption && one != "help" && one != "version" {
							assert.True(t, slices.ContainsFunc(slices.Concat(at.Flags, root.Flags), func(f cli.Flag) bool { return slices.Contains(f.Names(), one) }), "%s: --%s in `%s`", file, one, line)
						}
					}
				}
			}
		}
	}
	assert.Greater(t, seen, 120)
}

// docs/TROUBLESHOOTING.md has every reason for which a command fails, with what can be done about it.
func TestTroubleshootingIsWhole(t *testing.T) {
	const file = "../../docs/TROUBLESHOOTING.md"
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	before, _, ok := strings.Cut(string(data), "| reason | what can be done |\n")
	require.True(t, ok)
	text := before + "| reason | what can be done |\n|---|---|\n"
	for _, why := range slices.Sorted(maps.Keys(render.Advice)) {
		advice := strings.ReplaceAll(strings.ReplaceAll(render.Advice[why], "\n", " "), "|", `\|`)
		for _, role := range regexp.MustCompile(`\{[a-z]+\}`).FindAllString(advice, -1) {
			advice = strings.ReplaceAll(advice, role, strings.ToUpper(strings.Trim(role, "{}")))
		}
		text += "| `" + string(why) + "` | " + advice + " |\n"
	}
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		data = []byte(text)
	}
	assert.Equal(t, text, string(data), "run it with UPDATE=1")
}

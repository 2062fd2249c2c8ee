package manual

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/urfave/cli/v3"
)

func tree() *cli.Command {
	c := &cli.Command{Name: "revlet", Usage: "it", Flags: []cli.Flag{&cli.StringFlag{Name: "config", Usage: "the `FILE`"}}, Commands: []*cli.Command{
		{Name: "restore", Usage: "put back", ArgsUsage: "ARCHIVE|FILE", Flags: []cli.Flag{
			&cli.StringFlag{Name: "only", Usage: "only `WHAT`", Value: "all of it"}, &cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"}}},
		{Name: "stores", Usage: "places", Commands: []*cli.Command{{Name: "heal", Usage: "mend", ArgsUsage: "STORE [SITE…]"}, {Name: "test", Usage: "try"}, {Name: "secret", Hidden: true}}},
		{Name: "guard", Usage: "watch", ArgsUsage: "SITE -- CMD…"},
	}}
	c.Action, c.HideHelpCommand = func(context.Context, *cli.Command) error { return nil }, true
	_ = c.Run(context.Background(), []string{"revlet"}) // so that each knows what is above it
	Set(c.Commands[0], []Example{{"restore site --only themes", "a part"}})
	return c
}

func TestComplete(t *testing.T) {
	values := func(_ *cli.Command, kind string, given []string) []Choice {
		return []Choice{{Word: kind + "-" + strings.Join(given, "+")}}
	}
	for typed, want := range map[string]string{
		"":                          "restore stores guard",
		"re":                        "restore",
		"stores ":                   "heal test",
		"stores heal ":              "STORE-",
		"stores heal here ":         "SITE-here",
		"stores heal here a b ":     "SITE-here+a+b",
		"restore ":                  "ARCHIVE- FILE-",
		"restore A":                 "ARCHIVE-",
		"restore x ":                "",
		"restore --":                "--only --yes --config --help",
		"restore --o":               "--only",
		"restore --only ":           "WHAT-",
		"restore x --only ":         "WHAT-x",
		"restore --only=":           "--only=WHAT-",
		"restore --only x ":         "ARCHIVE- FILE-",
		"restore --only=x ":         "ARCHIVE- FILE-",
		"restore --yes ":            "ARCHIVE- FILE-",
		"--config x stores heal ":   "STORE-",
		"restore --config ":         "FILE-",
		"guard site -- ":            Files,
		"guard site -- rm --only x": Files,
		"nothing ":                  "restore stores guard",
	} {
		var got []string
		for _, c := range Complete(tree(), strings.Split(typed, " "), values) {
			got = append(got, c.Word)
		}
		assert.Equal(t, want, strings.Join(got, " "), "%q", typed)
	}
	assert.Len(t, Complete(tree(), nil, values), 3)
}

func TestPrint(t *testing.T) {
	var b bytes.Buffer
	same := func(s string) string { return s }
	Print(&b, tree().Commands[0], Words{Title: same, Dim: same, Width: 40})
	assert.Equal(t, `revlet restore: put back

  revlet restore [OPTION…] ARCHIVE|FILE

Examples
  revlet restore site --only themes
      a part

Options
  --only WHAT  only WHAT (default: all
               of it)
  --yes, -y    do not ask

Options of all commands (--config):
revlet --help.
`, b.String())
}

func TestWrap(t *testing.T) {
	assert.Equal(t, []string{"a bb", "ccc", "dddddddd", "e"}, wrap("a bb ccc  dddddddd\te", 5))
	assert.Equal(t, []string{""}, wrap("", 5))
	assert.Equal(t, []string{"größe ist", "wahr"}, wrap("größe ist wahr", 9))
}

package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"revlet/internal/cli/manual"
	"revlet/internal/cli/render"
	"revlet/internal/config"
)

// The groups in which help lists commands.
const (
	groupSetUp    = "Set up"
	groupTake     = "Take"
	groupLook     = "Look"
	groupPutBack  = "Put back"
	groupMove     = "Move"
	groupStores   = "Stores and room"
	groupAuto     = "By itself"
	groupPractice = "Practice"
)

// inGroup gives commands a heading in the help.
func inGroup(group string, commands ...*cli.Command) []*cli.Command {
	for _, c := range commands {
		c.Category = group
	}
	return commands
}

// width is how wide the terminal is that is written to; 0 if it is none.
func width(w any) int {
	if f, ok := w.(interface{ Fd() uintptr }); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > leastWidth {
			return n
		}
	}
	return 0
}

// Help is as wide as the terminal, but for wide ones, where long lines are hard to read. A terminal that
// says it is narrower than leastWidth is not believed.
const (
	usualWidth, mostWidth = 80, 100
	leastWidth            = 30
)

// teach has commands help, complete and answer wrong usage in our own words.
func (a *app) teach(root *cli.Command) {
	cli.HelpPrinter = func(w io.Writer, _ string, data any) {
		if c, ok := data.(*cli.Command); ok {
			manual.Print(w, c, manual.Words{Title: a.Bold, Dim: a.Dim, Width: min(cmp.Or(a.Columns, usualWidth), mostWidth)})
		}
	}
	root.Commands = append(root.Commands, a.helpCommand(), a.completeCommand())
	a.teachBelow(root, "")
}

func (a *app) teachBelow(c *cli.Command, path string) {
	manual.Set(c, examples[path])
	c.HideHelpCommand = true
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return usageError("%s; `%s --help` lists the options", wrongOption(c, err), strings.TrimSpace("revlet "+path))
	}
	if len(c.Commands) > 0 && c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error { return noCommand(c) }
	}
	for _, sub := range c.Commands {
		a.teachBelow(sub, strings.TrimSpace(path+" "+sub.Name))
	}
}

// noCommand says that there is no command as was typed, or lists what there is.
func noCommand(c *cli.Command) error {
	if !c.Args().Present() {
		return cli.ShowSubcommandHelp(c)
	}
	return usageError("%w; `%s --help` lists them", unknownCommand(c, c.Args().First()), c.FullName())
}

// unknownCommand says that c has no command of that name.
func unknownCommand(c *cli.Command, name string) error {
	path := strings.TrimSpace(strings.TrimPrefix(c.FullName(), c.Root().Name) + " " + name)
	return usageError("there is no command %q%s", path, didYouMean(name, commandNames(c)))
}

func commandNames(c *cli.Command) (names []string) {
	for _, sub := range c.VisibleCommands() {
		names = append(names, sub.Name)
	}
	return names
}

func didYouMean(typed string, known []string) string {
	if near := config.Nearest(typed, known); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

var (
	notDefined = regexp.MustCompile(`^flag provided but not defined: -+(.*)$`)
	needsValue = regexp.MustCompile(`^flag needs an argument: -*(.*)$`)
	invalid    = regexp.MustCompile(`^invalid value "(.*)" for flag -+([^ :]+): (.*)$`)
	required   = regexp.MustCompile(`^Required flags? "(.*)" not set$`)
)

// wrongOption says what is wrong with an option.
func wrongOption(c *cli.Command, err error) string {
	var names []string
	for _, f := range slices.Concat(c.Flags, c.Root().Flags) {
		names = append(names, f.Names()...)
	}
	text := err.Error()
	if m := notDefined.FindStringSubmatch(text); m != nil {
		text = "unknown option " + dashed(m[1])
		if near := config.Nearest(m[1], names); near != "" {
			text += "; did you mean " + dashed(near) + "?"
		}
		return text
	}
	if m := needsValue.FindStringSubmatch(text); m != nil {
		return "option " + dashed(m[1]) + " needs a value"
	}
	if m := invalid.FindStringSubmatch(text); m != nil {
		return fmt.Sprintf("%s %q: that is no value for it", dashed(m[2]), m[1])
	}
	if m := required.FindStringSubmatch(text); m != nil {
		return "needed: --" + strings.ReplaceAll(strings.ReplaceAll(m[1], `"`, ""), ", ", ", --")
	}
	return text
}

// dashed is an option as it is typed.
func dashed(name string) string {
	name = strings.TrimLeft(name, "-")
	if len(name) == 1 {
		return "-" + name
	}
	return "--" + name
}

// helpCommand shows the help of any command, however deep.
func (a *app) helpCommand() *cli.Command {
	return &cli.Command{Name: "help", Usage: "what a command does, and its options", ArgsUsage: "[COMMAND…]", Category: groupSetUp,
		Action: func(_ context.Context, c *cli.Command) error {
			at := c.Root()
			for _, name := range c.Args().Slice() {
				sub := at.Command(name)
				if sub == nil {
					return unknownCommand(at, name)
				}
				at = sub
			}
			cli.HelpPrinter(a.Out, "", at)
			return nil
		}}
}

// completeCommand helps a shell to complete what is typed.
func (a *app) completeCommand() *cli.Command {
	c := &cli.Command{Name: "completion", Usage: "have the shell complete commands, options and names", Category: groupSetUp,
		Description: "Prints what the shell needs to complete commands, options, and the names of sites, archives,\n" +
			"stores, components, tables and runs. They come from this machine; nobody is asked over the network."}
	for _, shell := range manual.Shells {
		c.Commands = append(c.Commands, &cli.Command{Name: shell.Name, Usage: "for " + shell.Title, Description: "Install it: " + shell.Install + ".",
			Action: func(context.Context, *cli.Command) error { _, err := io.WriteString(a.Out, shell.Script); return err }})
	}
	c.Commands = append(c.Commands, &cli.Command{Name: "words", Hidden: true, SkipFlagParsing: true, Action: a.completeWords})
	return c
}

// errNoWords is never shown: a shell that completes shows nothing.
var errNoWords = errors.New("no words")

// completeWords prints what the last word may become, a line each, with a tab before what it is.
func (a *app) completeWords(ctx context.Context, c *cli.Command) error {
	words := c.Args().Slice()
	if len(words) == 0 {
		return errNoWords
	}
	for _, choice := range manual.Complete(c.Root(), words, a.known(ctx, words)) {
		fmt.Fprintf(a.Out, "%s\t%s\n", choice.Word, choice.What)
	}
	return nil
}

// Manual writes the pages of the manual, by the name of their file, such as revlet-backup.1.
func Manual(at time.Time) map[string]string {
	a := &app{Printer: render.Printer{Out: io.Discard}, err: io.Discard, env: func(string) string { return "" }}
	root := a.root()
	_ = root.Run(context.Background(), []string{root.Name, "help"}) // so that each knows what is above it
	pages := map[string]string{}
	for _, c := range append(root.VisibleCommands(), root) {
		var page strings.Builder
		manual.Man(&page, c, Version, at)
		pages[strings.ReplaceAll(c.FullName(), " ", "-")+".1"] = page.String()
	}
	return pages
}

package manual

import (
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// Choice is something that a word may become.
type Choice struct{ Word, What string }

// Files, as the only choice, says that the shell is to offer files.
const Files = ":files"

// Complete says what the last of some words, which follow the program's name, may become. values knows
// what there is of a kind, such as SITE, without asking anybody over a network; path is the command.
func Complete(root *cli.Command, words []string, values func(c *cli.Command, kind string, given []string) []Choice) []Choice {
	c, given, before := root, []string{}, cli.Flag(nil)
	last := len(words) - 1
	for i, word := range words[:max(last, 0)] {
		switch {
		case before != nil:
			before = nil
		case word == "--" && len(c.Commands) == 0:
			return []Choice{{Files, ""}} // a command of the user's own
		case strings.HasPrefix(word, "-"):
			if f := flagOf(c, word); f != nil && takesValue(f) && !strings.Contains(word, "=") && i < last {
				before = f
			}
		case c.Command(word) != nil && len(given) == 0:
			c = c.Command(word)
		default:
			given = append(given, word)
		}
	}
	word := ""
	if last >= 0 {
		word = words[last]
	}
	return starting(word, choices(c, word, given, before, values))
}

func choices(c *cli.Command, word string, given []string, before cli.Flag, values func(*cli.Command, string, []string) []Choice) (all []Choice) {
	if before != nil {
		return values(c, placeholder(before), given)
	}
	if strings.HasPrefix(word, "-") {
		name, _, has := strings.Cut(word, "=")
		if f := flagOf(c, name); has && f != nil {
			for _, v := range values(c, placeholder(f), given) {
				all = append(all, Choice{name + "=" + v.Word, v.What})
			}
			return all
		}
		return flags(c)
	}
	for _, sub := range c.Commands {
		if !sub.Hidden {
			all = append(all, Choice{sub.Name, sub.Usage})
		}
	}
	if len(all) > 0 {
		return all
	}
	kinds := strings.Fields(strings.NewReplacer("[", " ", "]", " ").Replace(c.ArgsUsage))
	if len(kinds) == 0 {
		return nil
	}
	kind := kinds[min(len(given), len(kinds)-1)]
	if len(given) >= len(kinds) && !strings.HasSuffix(kind, "…") {
		return nil
	}
	for one := range strings.SplitSeq(strings.TrimSuffix(kind, "…"), "|") {
		all = append(all, values(c, one, given)...)
	}
	return all
}

// starting keeps the choices that begin with a word, each once.
func starting(word string, all []Choice) (some []Choice) {
	for _, c := range all {
		if c.Word == Files || strings.HasPrefix(c.Word, word) && !slices.Contains(some, c) {
			some = append(some, c)
		}
	}
	return some
}

func flags(c *cli.Command) (all []Choice) {
	for _, o := range append(options(c), options(c.Root())...) {
		if len(o.Names[0]) > 1 {
			all = append(all, Choice{"--" + o.Names[0], o.Text})
		}
	}
	return append(all, Choice{"--help", "what it does, and its options"})
}

// flagOf is the flag of a command, or of all commands, that a word names.
func flagOf(c *cli.Command, word string) cli.Flag {
	name, _, _ := strings.Cut(strings.TrimLeft(word, "-"), "=")
	for _, f := range slices.Concat(c.Flags, c.Root().Flags) {
		if slices.Contains(f.Names(), name) {
			return f
		}
	}
	return nil
}

func takesValue(f cli.Flag) bool {
	doc, ok := f.(cli.DocGenerationFlag)
	return ok && doc.TakesValue()
}

// placeholder stands for a flag's value.
func placeholder(f cli.Flag) string {
	doc, ok := f.(cli.DocGenerationFlag)
	if !ok {
		return ""
	}
	_, rest, _ := strings.Cut(doc.GetUsage(), "`")
	name, _, _ := strings.Cut(rest, "`")
	return name
}

package cli

import (
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// goesWith refuses options that a way of using a command does not heed, such as a share of what it then does whole. mode names
// that way, as it was typed; the options that it has are listed. Where the key and the output are concerned, all have them.
func goesWith(c *cli.Command, mode string, options ...string) error {
	options = append(slices.DeleteFunc(options, func(name string) bool { return name == "" }), "json", "key")
	for _, f := range c.Flags {
		if name := f.Names()[0]; c.IsSet(name) && !slices.Contains(options, name) && "--"+name != mode {
			return usageError("--%s has no meaning with %s, which goes with %s", name, mode, others(options[:len(options)-2]))
		}
	}
	return nil
}

// others names options.
func others(names []string) string {
	if len(names) == 0 {
		return "no other option"
	}
	return "--" + strings.Join(names, ", --") + " alone"
}

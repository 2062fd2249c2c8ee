package practice

import (
	"context"
	"fmt"
	"strings"

	"github.com/miekg/dns"
	"github.com/urfave/cli/v3"

	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/practice/nameserver"
)

func (s Stage) standinDNS() *cli.Command {
	return &cli.Command{
		Name: "dns", Usage: "simulate name servers and resolvers", ArgsUsage: "ZONES", DisableSliceFlagSeparator: true,
		Description: "Answers for the zones in the file ZONES (RFC 1035, section 5), which is read again whenever\n" +
			"it changes. Each --resolver is one more address, at which a resolver asks that server,\n" +
			"remembers what it learns for as long as the zone says, and is wrong as it is told to be.",
		Flags: []cli.Flag{
			listenFlag,
			&cli.StringSliceFlag{Name: "resolver", Usage: "the `ADDRESS` of a resolver; may be given again"},
			&cli.StringSliceFlag{Name: "lagging", Usage: "a resolver at `ADDRESS=SPAN` that goes on with what it knows for so much longer"},
			&cli.StringSliceFlag{Name: "silent", Usage: "a resolver at `ADDRESS` that answers nothing"},
			&cli.StringSliceFlag{Name: "lying", Usage: "a resolver at `ADDRESS=RECORD` that says this record, such as \"*. 60 A 10.0.0.1\""},
		},
		Action: s.runDNS,
	}
}

func (s Stage) runDNS(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return reason.BadUsage("a file of ZONES is needed, and nothing else; it got %d arguments", c.Args().Len())
	}
	far, err := nameserver.Start(c.Args().First(), c.String("listen"))
	if err != nil {
		return err
	}
	defer far.Close()
	fmt.Fprintf(s.Out, "answering for %s at %s until interrupted\n", c.Args().First(), far.Address)
	for _, kind := range []string{"resolver", "lagging", "silent", "lying"} {
		for _, value := range c.StringSlice(kind) {
			at, faults, err := resolverFaults(kind, value)
			if err != nil {
				return err
			}
			r, err := far.Resolve(at, faults)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "a resolver (%s) is at %s\n", kind, r.Address)
		}
	}
	<-ctx.Done()
	return nil
}

// resolverFaults reads where a resolver is to be, and what is to be wrong with it.
func resolverFaults(kind, value string) (at string, f nameserver.Faults, err error) {
	at, what, ok := strings.Cut(value, "=")
	switch kind {
	case "resolver":
	case "silent":
		f.Silent = true
	case "lagging":
		if f.Lag, err = config.ParseSpan(what); err != nil || !ok {
			return at, f, reason.BadUsage("--lagging %q is to be ADDRESS=SPAN, such as \"127.0.0.1:0=30 seconds\"", value)
		}
	case "lying":
		rr, err := dns.NewRR(what)
		if err != nil || rr == nil {
			return at, f, reason.BadUsage("--lying %q is to be ADDRESS=RECORD, such as \"127.0.0.1:0=kestrelpoint.example. 60 A 10.0.0.1\"", value)
		}
		f.Lies = []dns.RR{rr}
	}
	return at, f, nil
}

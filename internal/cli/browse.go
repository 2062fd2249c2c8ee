package cli

import (
	"context"
	"errors"
	"fmt"
	"os/exec"

	"github.com/urfave/cli/v3"

	"revlet/internal/platform/reason"
	"revlet/internal/work/browse"
)

func (a *app) browseCommand() *cli.Command {
	return &cli.Command{
		Name: "browse", Usage: "look into an archive with a browser or a file manager", ArgsUsage: "ARCHIVE",
		Description: "Shows folders and files, with preview and download, tables with search, and what differs in other\n" +
			"archives, on a page of this machine; and the files as a folder for the file manager (WebDAV).\n" +
			"Nothing can be changed, and nothing of the site runs. Whoever knows the address that is shown can\n" +
			"read the archive until Ctrl-C ends it.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:0", Usage: "where the page is to be, a loopback `ADDRESS`; port 0 is a free one"},
			&cli.BoolFlag{Name: "open", Usage: "open it in this desktop's browser"},
			beforeFlag, keyFlag, signedByFlag,
		},
		Action: a.browse,
	}
}

func (a *app) browse(ctx context.Context, c *cli.Command) error {
	typed, err := oneArg(c, "ARCHIVE")
	if err != nil {
		return err
	}
	limit, err := a.openBefore(ctx, c)
	if err != nil {
		return err
	}
	s, err := a.jobs.Browse(ctx, typed, limit, c.String("listen"))
	if errors.Is(err, browse.ErrNotLoopback) {
		return reason.BadUsage("--listen %w, such as 127.0.0.1:8199", err)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s in a browser   %s\n   in a file manager   %s\n\nCtrl-C ends it. Give the address to nobody: it opens the whole archive.\n", a.Bold(s.Archive.Name), s.URL(), s.Folder())
	if c.Bool("open") {
		a.openBrowser(ctx, s)
	}
	<-ctx.Done()
	return s.Close()
}

// openBrowser opens the desktop's browser. Everybody on the machine can read the words of its command, so they are no more than a
// ticket that is of use to this account, and once.
func (a *app) openBrowser(ctx context.Context, s *browse.Server) {
	ticket := s.Ticket()
	if ticket == "" {
		a.note("no browser is opened: on this system others could read the address from its command line. Open it yourself")
		return
	}
	if err := exec.CommandContext(ctx, "xdg-open", ticket).Start(); err != nil {
		a.note("no browser could be opened: %v", err)
	}
}

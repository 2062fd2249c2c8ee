package practice

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"
	"unicode"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/practice/inbox"
	"revlet/internal/practice/lampblack"
	"revlet/internal/practice/place"
)

// StandinCommand is the command that runs simulated places and sites.
func StandinCommand(s Stage) *cli.Command {
	c := &cli.Command{
		Name: "standin", Usage: "run a simulated place or site on this machine, for practice and tests",
		Commands: []*cli.Command{{
			Name: "lampblack", Usage: "serve a site of Lampblack, the stand-in CMS", ArgsUsage: "WEBROOT",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8871", Usage: "the `ADDRESS` to answer on"},
				&cli.BoolFlag{Name: "new", Usage: "build the museum's site in WEBROOT first"},
			},
			Action: s.standinLampblack,
		}},
	}
	titles := map[string]string{place.SFTP: "an SFTP server", place.WebDAV: "a WebDAV server", place.S3: "an S3-style object store", place.FTP: "an FTP server"}
	for _, kind := range place.Kinds {
		c.Commands = append(c.Commands, &cli.Command{
			Name: kind, Usage: "simulate " + titles[kind], ArgsUsage: "[FOLDER]",
			Description: "Serves FOLDER, or memory without one, until interrupted, and fails as it is told to.",
			Flags:       placeFlags(kind),
			Action:      func(ctx context.Context, c *cli.Command) error { return s.standinPlace(ctx, c, kind) },
		})
	}
	c.Commands = append(c.Commands, s.standinDNS(), s.standinMail(), s.standinHook())
	return c
}

func (s Stage) standinMail() *cli.Command {
	return &cli.Command{
		Name: "mail", Usage: "simulate a mail server that shows what it receives", ArgsUsage: "[FOLDER]",
		Description: "Takes mail until interrupted, prints each one, and saves it in FOLDER if that is given.",
		Flags: []cli.Flag{
			listenFlag,
			&cli.StringFlag{Name: "security", Value: inbox.StartTLS, Usage: "the `KIND`: starttls, tls or plain"},
			&cli.StringFlag{Name: "user", Usage: "the `ACCOUNT` that must log in (default: nobody need)"},
			&cli.StringFlag{Name: "password", Value: "practice", Usage: "with which `PASSWORD`"},
			&cli.StringFlag{Name: "keys", Usage: "a `FOLDER` for the server's own certificate"},
			&cli.StringFlag{Name: "refuse", Usage: "the `ADDRESS` of somebody who is not known here"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if kind := c.String("security"); kind != inbox.StartTLS && kind != inbox.TLS && kind != inbox.Plain {
				return reason.BadUsage("--security %q: it is starttls, tls or plain", kind)
			}
			far, err := inbox.StartMail(inbox.MailOptions{Listen: c.String("listen"), Security: c.String("security"), User: c.String("user"), Password: c.String("password"),
				Keys: c.String("keys"), Dir: c.Args().First(), Refuse: c.String("refuse"), Received: func(m inbox.Mail) {
					fmt.Fprintf(s.Out, "── mail to %s: %s\n\n%s\n", strings.Join(m.To, ", "), m.Subject, visible(m.Text))
				}})
			if err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "taking mail at %s until interrupted\n", far.Address)
			if far.CAFile != "" {
				fmt.Fprintf(s.Out, "its certificate is in %s, for `ca_file:`\n", far.CAFile)
			}
			<-ctx.Done()
			return far.Close()
		},
	}
}

func (s Stage) standinHook() *cli.Command {
	return &cli.Command{
		Name: "hook", Usage: "simulate a receiver of webhooks and pings that shows what it gets",
		Flags: []cli.Flag{
			listenFlag,
			&cli.StringFlag{Name: "secret", Usage: "the `SECRET` that calls must be signed with"},
			&cli.IntFlag{Name: "answer", Value: http.StatusNoContent, Usage: "the `STATUS` of every answer"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			far, err := inbox.StartHook(inbox.HookOptions{Listen: c.String("listen"), Secret: c.String("secret"), Answer: c.Int("answer"), Received: func(call inbox.Call) {
				signed := ""
				if call.Signed {
					signed = ", signed"
				}
				fmt.Fprintf(s.Out, "── %s %s%s\n%s\n", call.Method, call.Path, signed, visible(string(call.Body)))
			}})
			if err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "taking calls at %s until interrupted\n", far.Address)
			<-ctx.Done()
			return far.Close()
		},
	}
}

var listenFlag = &cli.StringFlag{Name: "listen", Value: "127.0.0.1:0", Usage: "the `ADDRESS` to answer on; port 0 is a free one"}

func placeFlags(kind string) []cli.Flag {
	flags := []cli.Flag{
		listenFlag,
		&cli.StringFlag{Name: "user", Value: "keeper", Usage: "the `ACCOUNT` that may come in (the access key of an S3 place)"},
		&cli.StringFlag{Name: "password", Value: "practice", Usage: "with which `PASSWORD` (the secret of an S3 place)"},
		&cli.StringFlag{Name: "keys", Usage: "a `FOLDER` for the place's own keys, so that it stays the same place"},
		&cli.StringFlag{Name: "drop-after", Usage: "cut each connection after `BYTES`, such as 3MB"},
		&cli.StringFlag{Name: "die-after", Usage: "answer nothing any more after `BYTES` in all"},
		&cli.StringFlag{Name: "hang-after", Usage: "fall silent after `BYTES` in all"},
		&cli.StringFlag{Name: "slow", Usage: "pass at most `BYTES` a second on each connection"},
		&cli.StringFlag{Name: "room", Usage: "be full after `BYTES`"},
		&cli.BoolFlag{Name: "append-only", Usage: "let nobody delete or overwrite what is there"},
		&cli.BoolFlag{Name: "refuse", Usage: "let nobody in"},
		&cli.StringFlag{Name: "lag", Usage: "leave what is younger than a `SPAN`, such as \"5 seconds\", out of listings"},
	}
	if kind == place.WebDAV {
		flags = append(flags, &cli.BoolFlag{Name: "grants", Usage: "take tokens in place of a password, for `link:`; somebody says yes on its page /link"},
			&cli.DurationFlag{Name: "token-lasts", Usage: "for how `LONG` a token is good, such as 2m", Value: time.Hour})
	}
	if kind != place.SFTP {
		flags = append(flags, &cli.BoolFlag{Name: "plain", Usage: "without TLS"})
	}
	return flags
}

func (s Stage) standinPlace(ctx context.Context, c *cli.Command, kind string) error {
	faults, err := placeFaults(c)
	if err != nil {
		return err
	}
	o := place.Options{Dir: c.Args().First(), Listen: c.String("listen"), User: c.String("user"), Password: c.String("password"),
		Keys: c.String("keys"), Plain: c.Bool("plain"), Faults: faults}
	if kind == place.WebDAV && c.Bool("grants") {
		o.Grants = &place.Grants{Lasts: c.Duration("token-lasts")}
	}
	far, err := place.Start(kind, o)
	if err != nil {
		return err
	}
	defer far.Close()
	if o.Grants == nil {
		fmt.Fprintf(s.Out, "answering at %s until interrupted; user %s, password %s\n", far.Address, c.String("user"), c.String("password"))
	} else {
		fmt.Fprintf(s.Out, "answering at %s until interrupted; `link: {issuer: %q, client: revlet}`\n", far.Address, far.Address)
	}
	if far.Fingerprint != "" {
		fmt.Fprintf(s.Out, "its key is %s\n", far.Fingerprint)
	}
	if far.CAFile != "" {
		fmt.Fprintf(s.Out, "its certificate is in %s, for `ca_file:`\n", far.CAFile)
	}
	<-ctx.Done()
	return nil
}

// placeFaults reads what is to go wrong.
func placeFaults(c *cli.Command) (*place.Faults, error) {
	f := &place.Faults{Refuse: c.Bool("refuse"), AppendOnly: c.Bool("append-only")}
	for name, to := range map[string]*int64{"drop-after": &f.DropAfter, "die-after": &f.DieAfter, "hang-after": &f.HangAfter, "slow": &f.Slow, "room": &f.Room} {
		if c.String(name) == "" {
			continue
		}
		n, err := humanize.ParseBytes(c.String(name))
		if err != nil || n == 0 {
			return nil, reason.BadUsage("--%s %q is no amount such as 3MB", name, c.String(name))
		}
		*to = int64(n)
	}
	if c.String("lag") != "" {
		var err error
		if f.Lag, err = config.ParseSpan(c.String("lag")); err != nil {
			return nil, reason.BadUsage("--lag %w", err)
		}
	}
	return f, nil
}

func (s Stage) standinLampblack(ctx context.Context, c *cli.Command) error {
	root := c.Args().First()
	if c.Args().Len() != 1 {
		return reason.BadUsage("a WEBROOT is needed, and nothing else; it got %d arguments", c.Args().Len())
	}
	listener, err := net.Listen("tcp", c.String("listen"))
	if err != nil {
		return err
	}
	address := "http://" + listener.Addr().String()
	if c.Bool("new") {
		if err := lampblack.Build(ctx, root, address); err != nil {
			return err
		}
	}
	fmt.Fprintf(s.Out, "serving %s at %s/ until interrupted\n", root, address)
	return serve(ctx, listener, lampblack.Handler(root))
}

// serve answers until ctx ends.
func serve(ctx context.Context, l net.Listener, h http.Handler) error {
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// visible replaces what a terminal must not be sent.
func visible(s string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && !unicode.IsPrint(r) {
			return '\uFFFD'
		}
		return r
	}, s)
}

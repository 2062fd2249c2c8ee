package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"revlet/internal/config"
	"revlet/internal/standin/lampblack"
	"revlet/internal/standin/place"
	"revlet/internal/standin/post"
)

func (a *app) standinCommand() *cli.Command {
	c := &cli.Command{
		Name: "standin", Usage: "run a simulated place or site on this machine, for practice and tests",
		Commands: []*cli.Command{{
			Name: "lampblack", Usage: "serve a site of Lampblack, the stand-in CMS", ArgsUsage: "WEBROOT",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8871", Usage: "the `ADDRESS` to answer on"},
				&cli.BoolFlag{Name: "new", Usage: "build the museum's site in WEBROOT first"},
			},
			Action: a.standinLampblack,
		}},
	}
	titles := map[string]string{place.SFTP: "an SFTP server", place.WebDAV: "a WebDAV server", place.S3: "an S3-style object store", place.FTP: "an FTP server"}
	for _, kind := range place.Kinds {
		c.Commands = append(c.Commands, &cli.Command{
			Name: kind, Usage: "simulate " + titles[kind], ArgsUsage: "[FOLDER]",
			Description: "Serves FOLDER, or memory without one, until interrupted, and fails as it is told to.",
			Flags:       placeFlags(kind),
			Action:      func(ctx context.Context, c *cli.Command) error { return a.standinPlace(ctx, c, kind) },
		})
	}
	c.Commands = append(c.Commands, a.standinMail(), a.standinHook())
	return c
}

func (a *app) standinMail() *cli.Command {
	return &cli.Command{
		Name: "mail", Usage: "simulate a mail server that shows what it receives", ArgsUsage: "[FOLDER]",
		Description: "Takes mail until interrupted, prints each one, and saves it in FOLDER if that is given.",
		Flags: []cli.Flag{
			listenFlag,
			&cli.StringFlag{Name: "security", Value: post.StartTLS, Usage: "starttls, tls or plain"},
			&cli.StringFlag{Name: "user", Usage: "who must log in (default: nobody need)"},
			&cli.StringFlag{Name: "password", Value: "practice", Usage: "with which password"},
			&cli.StringFlag{Name: "keys", Usage: "a `FOLDER` for the server's own certificate"},
			&cli.StringFlag{Name: "refuse", Usage: "the `ADDRESS` of somebody who is not known here"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if kind := c.String("security"); kind != post.StartTLS && kind != post.TLS && kind != post.Plain {
				return usageError("--security %q: it is starttls, tls or plain", kind)
			}
			s, err := post.StartMail(post.MailOptions{Listen: c.String("listen"), Security: c.String("security"), User: c.String("user"), Password: c.String("password"),
				Keys: c.String("keys"), Dir: c.Args().First(), Refuse: c.String("refuse"), Received: func(m post.Mail) {
					fmt.Fprintf(a.out, "── mail to %s: %s\n\n%s\n", strings.Join(m.To, ", "), m.Subject, printableText(m.Text))
				}})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "taking mail at %s until interrupted\n", s.Address)
			if s.CAFile != "" {
				fmt.Fprintf(a.out, "its certificate is in %s, for `ca_file:`\n", s.CAFile)
			}
			<-ctx.Done()
			return s.Close()
		},
	}
}

func (a *app) standinHook() *cli.Command {
	return &cli.Command{
		Name: "hook", Usage: "simulate a receiver of webhooks and pings that shows what it gets",
		Flags: []cli.Flag{
			listenFlag,
			&cli.StringFlag{Name: "secret", Usage: "what calls must be signed with"},
			&cli.IntFlag{Name: "answer", Value: http.StatusNoContent, Usage: "the `STATUS` of every answer"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := post.StartHook(post.HookOptions{Listen: c.String("listen"), Secret: c.String("secret"), Answer: c.Int("answer"), Received: func(call post.Call) {
				signed := ""
				if call.Signed {
					signed = ", signed"
				}
				fmt.Fprintf(a.out, "── %s %s%s\n%s\n", call.Method, call.Path, signed, printableText(string(call.Body)))
			}})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "taking calls at %s until interrupted\n", s.Address)
			<-ctx.Done()
			return s.Close()
		},
	}
}

var listenFlag = &cli.StringFlag{Name: "listen", Value: "127.0.0.1:0", Usage: "the `ADDRESS` to answer on; port 0 is a free one"}

func placeFlags(kind string) []cli.Flag {
	flags := []cli.Flag{
		listenFlag,
		&cli.StringFlag{Name: "user", Value: "keeper", Usage: "who may come in (the access key of an S3 place)"},
		&cli.StringFlag{Name: "password", Value: "practice", Usage: "with which password (the secret of an S3 place)"},
		&cli.StringFlag{Name: "keys", Usage: "a `FOLDER` for the place's own keys, so that it stays the same place"},
		&cli.StringFlag{Name: "drop-after", Usage: "cut each connection after `BYTES`, such as 3MB"},
		&cli.StringFlag{Name: "die-after", Usage: "answer nothing any more after `BYTES` in all"},
		&cli.StringFlag{Name: "hang-after", Usage: "fall silent after `BYTES` in all"},
		&cli.StringFlag{Name: "slow", Usage: "pass at most `BYTES` a second on each connection"},
		&cli.StringFlag{Name: "room", Usage: "be full after `BYTES`"},
		&cli.BoolFlag{Name: "refuse", Usage: "let nobody in"},
		&cli.StringFlag{Name: "lag", Usage: "leave what is younger than a `SPAN`, such as \"5 seconds\", out of listings"},
	}
	if kind != place.SFTP {
		flags = append(flags, &cli.BoolFlag{Name: "plain", Usage: "without TLS"})
	}
	return flags
}

func (a *app) standinPlace(ctx context.Context, c *cli.Command, kind string) error {
	faults, err := placeFaults(c)
	if err != nil {
		return err
	}
	s, err := place.Start(kind, place.Options{Dir: c.Args().First(), Listen: c.String("listen"), User: c.String("user"), Password: c.String("password"),
		Keys: c.String("keys"), Plain: c.Bool("plain"), Faults: faults})
	if err != nil {
		return err
	}
	defer s.Close()
	fmt.Fprintf(a.out, "answering at %s until interrupted; user %s, password %s\n", s.Address, c.String("user"), c.String("password"))
	if s.Fingerprint != "" {
		fmt.Fprintf(a.out, "its key is %s\n", s.Fingerprint)
	}
	if s.CAFile != "" {
		fmt.Fprintf(a.out, "its certificate is in %s, for `ca_file:`\n", s.CAFile)
	}
	<-ctx.Done()
	return nil
}

// placeFaults reads what is to go wrong.
func placeFaults(c *cli.Command) (*place.Faults, error) {
	f := &place.Faults{Refuse: c.Bool("refuse")}
	for name, to := range map[string]*int64{"drop-after": &f.DropAfter, "die-after": &f.DieAfter, "hang-after": &f.HangAfter, "slow": &f.Slow, "room": &f.Room} {
		if c.String(name) == "" {
			continue
		}
		n, err := humanize.ParseBytes(c.String(name))
		if err != nil || n == 0 {
			return nil, usageError("--%s %q is no amount such as 3MB", name, c.String(name))
		}
		*to = int64(n)
	}
	if c.String("lag") != "" {
		var err error
		if f.Lag, err = config.ParseSpan(c.String("lag")); err != nil {
			return nil, usageError("--lag %w", err)
		}
	}
	return f, nil
}

func (a *app) standinLampblack(ctx context.Context, c *cli.Command) error {
	root, err := oneArg(c, "WEBROOT")
	if err != nil {
		return err
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
	fmt.Fprintf(a.out, "serving %s at %s/ until interrupted\n", root, address)
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

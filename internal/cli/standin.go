package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/standin/lampblack"
)

func (a *app) standinCommand() *cli.Command {
	return &cli.Command{
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

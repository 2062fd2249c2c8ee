package scratchserver

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"

	"github.com/jackc/pgx/v5"
)

// Postgres is a running private server. Its postgres account has no password
// and can only connect through the socket.
type Postgres struct {
	// Port is where it answers on 127.0.0.1, if it does, and a part of the socket's name.
	Port int
	// Socket is the folder that the server's socket is in.
	Socket string
	*running
}

// PostgresPrograms returns the folder of the newest installed server's
// programs, which Debian keeps out of the path.
func PostgresPrograms() (string, error) {
	if p, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(p), nil
	}
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(found) == 0 {
		return "", errors.Join(errors.New("no PostgreSQL server is installed"), err)
	}
	return filepath.Dir(newest(found)), nil
}

// newest is the path with the highest version in it, as a number: 9.6 comes before 16.
func newest(paths []string) string {
	version := func(p string) float64 {
		n, err := strconv.ParseFloat(filepath.Base(filepath.Dir(filepath.Dir(p))), 64)
		if err != nil {
			return -1 // some other folder
		}
		return n
	}
	return slices.MaxFunc(paths, func(a, b string) int { return cmp.Compare(version(a), version(b)) })
}

// StartPostgres makes a new data folder below dir and starts a server on it.
// The server refuses to run as root; it is then given to the account postgres
// or nobody.
func StartPostgres(ctx context.Context, dir string, o Options) (*Postgres, error) {
	bin, err := PostgresPrograms()
	if err != nil {
		return nil, err
	}
	s := &Postgres{Socket: dir}
	who, err := unprivileged("postgres", dir)
	if err != nil {
		return nil, err
	}
	byAddress := "scram-sha-256"
	if o.Trust {
		byAddress = "trust"
	}
	install := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", filepath.Join(dir, "data"), "-U", "postgres", "--auth-local=trust", "--auth-host="+byAddress, "--no-sync", "-E", "UTF8", "--locale=C.UTF-8")
	who.runs(install)
	install.Dir = dir
	if out, err := install.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("make a scratch database server: %w: %s", err, out)
	}
	address := ""
	if o.Listen {
		address = "127.0.0.1"
	}
	err = onFreePort(func(port int) error {
		s.Port = port
		cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", filepath.Join(dir, "data"), "-p", strconv.Itoa(port), "-k", dir, "-h", address, "-F", "-c", "unix_socket_permissions=0700")
		cmd.Args = append(cmd.Args, o.Flags...)
		cmd.Dir = dir
		who.runs(cmd)
		s.running, err = launch(ctx, cmd, s.wait)
		return err
	})
	if err != nil {
		return nil, err
	}
	return s, nil
}

// Root opens a database as the server's first account.
func (s *Postgres) Root(ctx context.Context, db string) (*pgx.Conn, error) {
	return pgx.Connect(ctx, fmt.Sprintf("host=%s port=%d user=postgres dbname=%s", s.Socket, s.Port, db))
}

func (s *Postgres) wait(ctx context.Context, p *running) error {
	return p.answers(ctx, func() bool {
		conn, err := s.Root(ctx, "postgres")
		return err == nil && conn.Close(ctx) == nil
	})
}

// Stop ends the server at once; its folder stays.
func (s *Postgres) Stop() error { return s.stop(syscall.SIGINT) }

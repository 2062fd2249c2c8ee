// Package scratchserver runs private database servers in temporary folders,
// on free ports of the loopback address, from the programs that are installed.
package scratchserver

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // to ask the server whether it is up
)

// MariaDB is a running private server. Its root account has no password and
// can only connect through the socket.
type MariaDB struct {
	Port   int
	Socket string
	dir    string
	*process
}

// startWait bounds how long a server may take to answer.
const startWait = time.Minute

// StartMariaDB makes a new data folder below dir and starts a server on it.
// options are added to the server's command line.
func StartMariaDB(ctx context.Context, dir string, options ...string) (*MariaDB, error) {
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s := &MariaDB{Port: port, Socket: filepath.Join(dir, "s"), dir: dir}
	// A folder of its own for temporary files: a server clears the one that it shares with
	// others when it starts, and with that tables that they are using.
	temporary := filepath.Join(dir, "tmp")
	if err := os.Mkdir(temporary, 0o700); err != nil {
		return nil, err
	}
	common := []string{"--no-defaults", "--datadir=" + filepath.Join(dir, "data"), "--tmpdir=" + temporary, "--user=" + me.Username}
	install := exec.CommandContext(ctx, "mariadb-install-db", append(common, "--auth-root-authentication-method=normal", "--skip-test-db")...)
	if out, err := install.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("make a scratch database server: %w: %s", err, out)
	}
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command("mariadbd", append(append(common, "--bind-address=127.0.0.1", fmt.Sprintf("--port=%d", port),
		"--socket="+s.Socket, "--pid-file="+filepath.Join(dir, "pid")), options...)...)
	cmd.Stdout, cmd.Stderr = log, log
	if s.process, err = start(cmd); err != nil {
		return nil, fmt.Errorf("start a scratch database server: %w", err)
	}
	if err := s.wait(ctx); err != nil {
		text, _ := os.ReadFile(log.Name())
		return nil, errors.Join(fmt.Errorf("start a scratch database server: %w: %s", err, text), s.Stop())
	}
	return s, nil
}

// Root opens the server as its root account.
func (s *MariaDB) Root() (*sql.DB, error) {
	return sql.Open("mysql", "root@unix("+s.Socket+")/?multiStatements=true")
}

// Account makes an account that may do everything here.
func (s *MariaDB) Account(ctx context.Context, name, password string) error {
	root, err := s.Root()
	if err != nil {
		return err
	}
	defer root.Close()
	text := strings.NewReplacer(`\`, `\\`, "'", `\'`)
	who := "'" + text.Replace(name) + "'@'%'"
	_, err = root.ExecContext(ctx, fmt.Sprintf("CREATE USER IF NOT EXISTS %s IDENTIFIED BY '%s'; GRANT ALL ON *.* TO %s", who, text.Replace(password), who))
	return err
}

func (s *MariaDB) wait(ctx context.Context) error {
	root, err := s.Root()
	if err != nil {
		return err
	}
	defer root.Close()
	return s.answers(ctx, func() bool { return root.PingContext(ctx) == nil })
}

// Stop ends the server; its folder stays.
func (s *MariaDB) Stop() error { return s.stop(syscall.SIGTERM) }

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Package scratchserver runs private database servers in temporary folders, from the
// programs that are installed.
//
// Others work on the same machine, and what is loaded into such a server may be hostile.
// So its socket lies in a folder that nobody else may enter, it answers on the loopback
// address only when it has to, the first account can be used through the socket alone,
// accounts for copies have rights on their own database and no others, least of all on
// files, and started by root it runs as an account without rights.
package scratchserver

import (
	"context"
	"database/sql"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // to ask the server whether it is up
)

// MariaDB is a running private server. Its first account has no password: it is told by
// the account of the operating system that uses the socket.
type MariaDB struct {
	// Port is where it answers on 127.0.0.1, if it does.
	Port   int
	Socket string
	first  string
	dir    string
	*running
}

// Options say how a server is run.
type Options struct {
	// Listen has it answer on the loopback address, too.
	Listen bool
	// Trust lets every account in there without a password. It is for tests.
	Trust bool
	// Flags are added to the server's command line.
	Flags []string
}

// startWait bounds how long a server may take to answer.
const startWait = time.Minute

// StartMariaDB makes a new data folder below dir and starts a server on it.
func StartMariaDB(ctx context.Context, dir string, o Options) (*MariaDB, error) {
	me, err := self()
	if err != nil {
		return nil, err
	}
	as, err := unprivileged("mysql", dir)
	if err != nil {
		return nil, err
	}
	s := &MariaDB{Socket: filepath.Join(dir, "s"), first: me, dir: dir}
	// A folder of its own for temporary files: a server clears the one that it shares with
	// others when it starts, and with that tables that they are using.
	temporary := filepath.Join(dir, "tmp")
	if err := as.mkdir(temporary); err != nil {
		return nil, err
	}
	common := []string{"--no-defaults", "--datadir=" + filepath.Join(dir, "data"), "--tmpdir=" + temporary, "--user=" + as.name}
	way := []string{"--auth-root-authentication-method=socket", "--auth-root-socket-user=" + me}
	if o.Trust {
		s.first, way = "root", []string{"--auth-root-authentication-method=normal"}
	}
	install := exec.CommandContext(ctx, "mariadb-install-db", append(append(common, way...), "--skip-test-db")...)
	as.runs(install)
	install.Dir = dir
	if out, err := install.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("make a scratch database server: %w: %s", err, out)
	}
	err = onFreePort(func(port int) error {
		s.Port = port
		network := []string{"--skip-networking"}
		if o.Listen {
			network = []string{"--bind-address=127.0.0.1", fmt.Sprintf("--port=%d", port)}
		}
		cmd := exec.Command("mariadbd", slices.Concat(common, network, []string{"--socket=" + s.Socket, "--pid-file=" + filepath.Join(dir, "pid"),
			"--secure-file-priv=" + temporary, "--local-infile=0", "--skip-symbolic-links"}, o.Flags)...)
		cmd.Dir = dir
		as.runs(cmd)
		s.running, err = launch(ctx, cmd, s.wait)
		return err
	})
	if err != nil {
		return nil, err
	}
	return s, nil
}

// Root opens the server as its first account.
func (s *MariaDB) Root() (*sql.DB, error) {
	return sql.Open("mysql", s.first+"@unix("+s.Socket+")/?multiStatements=true")
}

// Account makes an account that may do everything in one database, and nothing elsewhere.
func (s *MariaDB) Account(ctx context.Context, name, password, db string) error {
	root, err := s.Root()
	if err != nil {
		return err
	}
	defer root.Close()
	text := strings.NewReplacer(`\`, `\\`, "'", `\'`)
	place := strings.NewReplacer("`", "``", `\`, `\\`, "_", `\_`, "%", `\%`)
	who := "'" + text.Replace(name) + "'@'%'"
	_, err = root.ExecContext(ctx, fmt.Sprintf("CREATE USER IF NOT EXISTS %s IDENTIFIED BY '%s'; GRANT ALL ON `%s`.* TO %s", who, text.Replace(password), place.Replace(db), who))
	return err
}

func (s *MariaDB) wait(ctx context.Context, p *running) error {
	root, err := s.Root()
	if err != nil {
		return err
	}
	defer root.Close()
	return p.answers(ctx, func() bool { return root.PingContext(ctx) == nil })
}

// Stop ends the server; its folder stays.
func (s *MariaDB) Stop() error { return s.stop(syscall.SIGTERM) }

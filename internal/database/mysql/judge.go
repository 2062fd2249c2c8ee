package mysql

import (
	"cmp"
	"context"
	"crypto/rsa"
	driverapi "database/sql/driver"
	"errors"
	"math/big"
	"net"
	"strings"
	"syscall"

	driver "github.com/go-sql-driver/mysql"

	"revlet/internal/database"
	"revlet/internal/platform/loopback"
)

// guardedConnector makes guarded connections, and sees whose the far end is before anything is said on one.
type guardedConnector struct {
	c    Config
	base *driver.Config
}

// Driver implements driver.Connector.
func (k guardedConnector) Driver() driverapi.Driver { return &driver.MySQLDriver{} }

// Connect implements driver.Connector.
func (k guardedConnector) Connect(ctx context.Context) (made driverapi.Conn, err error) {
	defer caught(&err)
	conn, err := k.dial(ctx)
	if err != nil {
		return nil, err
	}
	meter := &database.Meter{}
	most := cmp.Or(k.c.most, database.MostAnswer)
	meter.Begin(most)
	dc := k.base.Clone()
	dc.DialFunc = func(context.Context, string, string) (net.Conn, error) { return metered(conn, meter), nil }
	line := database.Passwords
	if dc.TLS == nil {
		if line, err = k.c.TLS.Judge(conn, k.c.Dial != nil); err != nil {
			_ = conn.Close()
			return nil, err
		}
	}
	if line == database.Proofs {
		onlyProofs(dc)
	}
	connector, err := driver.NewConnector(dc)
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	if made, err = connector.Connect(ctx); err != nil {
		return nil, whyNot(err, line, meter)
	}
	return &guardedConn{Conn: made, meter: meter, most: most}, nil
}

// whyNot is why a server was not got into.
func whyNot(err error, line database.Line, meter *database.Meter) error {
	var said *driver.MySQLError
	switch {
	case meter.Err != nil:
		return meter.Err
	case line == database.Proofs && !errors.As(err, &said) && strings.Contains(err.Error(), "rsa"):
		return database.ErrProofOnly
	}
	return err
}

// metered is a connection on which what is read is counted. The driver looks whether one that it has kept is still good, where
// the system lets it.
func metered(conn net.Conn, meter *database.Meter) net.Conn {
	m := meteredConn{conn, meter}
	if raw, ok := conn.(syscall.Conn); ok {
		return struct {
			meteredConn
			syscall.Conn
		}{m, raw}
	}
	return m
}

type meteredConn struct {
	net.Conn
	meter *database.Meter
}

// Read implements net.Conn.
func (c meteredConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if too := c.meter.Said(n); too != nil {
		return 0, too
	}
	return n, err
}

func (k guardedConnector) dial(ctx context.Context) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, k.base.Timeout)
	defer cancel()
	if k.c.Dial != nil {
		return k.c.Dial(ctx, k.base.Net, k.base.Addr)
	}
	return loopback.DialAs(ctx, k.base.Net, k.base.Addr, k.c.As)
}

// onlyProofs has the driver send no password. Two ways of logging in, sha256_password and the first login to
// caching_sha2_password, send it as it is at a socket, and elsewhere encrypted for a key that the server says is its own (MySQL manual, 8.4.1.2):
// the line is taken for none of a socket, and the server's key for known: one so short that nothing can be encrypted for it.
func onlyProofs(dc *driver.Config) {
	const name = "revlet-none"
	driver.RegisterServerPubKey(name, &rsa.PublicKey{N: new(big.Int).Lsh(big.NewInt(1), 127), E: 65537})
	dc.ServerPubKey, dc.Net = name, "tcp"
}

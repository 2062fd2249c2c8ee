package mysql

import (
	"context"
	"crypto/rsa"
	driverapi "database/sql/driver"
	"errors"
	"math/big"
	"net"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	"revlet/internal/database"
	"revlet/internal/platform/loopback"
)

// judgingConnector makes connections, and sees whose the far end is before anything is said on one.
type judgingConnector struct {
	c    Config
	base *driver.Config
}

// Driver implements driver.Connector.
func (k judgingConnector) Driver() driverapi.Driver { return &driver.MySQLDriver{} }

// Connect implements driver.Connector.
func (k judgingConnector) Connect(ctx context.Context) (driverapi.Conn, error) {
	conn, err := k.dial(ctx)
	if err != nil {
		return nil, err
	}
	dc := k.base.Clone()
	dc.DialFunc = func(context.Context, string, string) (net.Conn, error) { return conn, nil }
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
	made, err := connector.Connect(ctx)
	var said *driver.MySQLError
	if line == database.Proofs && err != nil && !errors.As(err, &said) && strings.Contains(err.Error(), "rsa") {
		return nil, database.ErrProofOnly
	}
	return made, err
}

func (k judgingConnector) dial(ctx context.Context) (net.Conn, error) {
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

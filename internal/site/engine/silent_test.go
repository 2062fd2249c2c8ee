package engine

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database/mysql"
	"revlet/internal/database/postgres"
)

// A database server that hangs takes connections and says nothing: that is said, soon.
func TestAServerThatHangsIsGivenUp(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	for name, open := range map[string]func(context.Context) error{
		"mysql": func(ctx context.Context) error {
			_, err := mysql.Open(ctx, mysql.Config{Host: "127.0.0.1", Port: port, User: "museum", Name: "museum", OpenTime: 200 * time.Millisecond})
			return err
		},
		"postgres": func(ctx context.Context) error {
			_, err := postgres.Open(ctx, postgres.Config{Host: "127.0.0.1", Port: port, User: "museum", Name: "museum", OpenTime: 200 * time.Millisecond})
			return err
		},
	} {
		start := time.Now()
		err := open(t.Context())
		assert.ErrorContains(t, err, "says nothing", name)
		assert.Less(t, time.Since(start), 5*time.Second, name)
	}
}

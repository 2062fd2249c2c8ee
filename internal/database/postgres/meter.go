package postgres

import (
	"encoding/binary"
	"io"

	"github.com/jackc/pgx/v5/pgproto3"

	"revlet/internal/database"
)

// metered reads what a server says, and bounds it: a row of a table that is copied by itself, and otherwise all until the server is
// ready for another query (PostgreSQL manual, "Message Formats").
type metered struct {
	r     io.Reader
	meter database.Meter
	head  []byte
	// body is how much of a message is yet to come, in bytes.
	body int64
}

// frontend is pgproto3's, with bounds.
func frontend(r io.Reader, w io.Writer) *pgproto3.Frontend {
	m := &metered{r: r}
	m.meter.Begin(database.MostAnswer)
	f := pgproto3.NewFrontend(m, w)
	f.SetMaxBodyLen(database.MostRow)
	return f
}

const (
	headLength = 5
	copyData   = 'd'
	readyAgain = 'Z'
)

// Read implements io.Reader.
func (m *metered) Read(p []byte) (int, error) {
	n, err := m.r.Read(p)
	for said := p[:n]; len(said) > 0; {
		if m.body == 0 {
			take := min(headLength-len(m.head), len(said))
			m.head, said = append(m.head, said[:take]...), said[take:]
			if len(m.head) == headLength {
				m.begins()
			}
			continue
		}
		take := min(m.body, int64(len(said)))
		m.body, said = m.body-take, said[take:]
		if too := m.meter.Said(int(take)); too != nil {
			return 0, too
		}
	}
	return n, err
}

// begins begins a message.
func (m *metered) begins() {
	m.body = max(int64(binary.BigEndian.Uint32(m.head[1:]))-4, 0)
	switch m.head[0] {
	case copyData:
		m.meter.Begin(database.MostRow)
	case readyAgain:
		m.meter.Begin(database.MostAnswer)
	}
	m.head = m.head[:0]
}

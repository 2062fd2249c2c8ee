package engine

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// ErrFarFile is wrapped when a database that is a file on another machine would have to be
// written to.
var ErrFarFile = errors.New("a database that is a file on another machine cannot be written to yet")

// reachable refuses a database on another machine that nothing leads to: its address means
// something else on this one.
func reachable(db site.Database) error {
	if db.On != "" && (db.Place == nil || db.Place.Base() != db.On) {
		return fmt.Errorf("database %s is on %s, and nothing leads there", db.Label, db.On)
	}
	return nil
}

// usualSockets are where servers of MySQL's kind have their socket, as distributions set
// them up: what `localhost` means to programs there.
var usualSockets = []string{"/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"}

// through returns how a database's server is dialled; nil is from this machine. What a
// site's settings say is meant on the site's own machine.
func through(db site.Database) func(ctx context.Context, network, address string) (net.Conn, error) {
	if db.Place == nil {
		return nil
	}
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := db.Place.Dial(ctx, network, address)
		if err != nil {
			err = &database.TunnelError{Why: whyNoTunnel(network, err), Err: err}
		}
		return conn, err
	}
	if db.Engine != "mysql" || db.Host != "localhost" || db.Socket != "" {
		return dial
	}
	var found atomic.Pointer[string]
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		if socket := found.Load(); socket != nil {
			return dial(ctx, "unix", *socket)
		}
		for _, socket := range usualSockets {
			conn, err := dial(ctx, "unix", socket)
			if err == nil {
				found.Store(&socket)
				return conn, nil
			}
			if errors.Is(err, tree.ErrUnreachable) {
				return nil, err
			}
		}
		return dial(ctx, network, net.JoinHostPort("127.0.0.1", strconv.Itoa(db.Port)))
	}
}

// whyNoTunnel says why a connection was not led on, in words. The reasons are those of RFC 4254,
// 5.1.
func whyNoTunnel(network string, err error) string {
	var refused *ssh.OpenChannelError
	switch {
	case !errors.As(err, &refused):
		return err.Error()
	case refused.Reason == ssh.ConnectionFailed && network == "unix": // OpenSSH says no more of sockets
		return "nothing answers there: no database server has its socket there, or the SSH server forwards no sockets (`AllowStreamLocalForwarding`)"
	case refused.Reason == ssh.ConnectionFailed:
		return "nothing answers there; is the database server running?"
	}
	return "the SSH server there forwards no connection (`AllowTcpForwarding`); ask who runs it, or have the host dump the database and name that with `dump:`"
}

// farSource is a copy of a database file that is on another machine.
type farSource struct {
	database.Source
	disk *disk.Disk
	copy string
}

// Close implements database.Source.
func (f farSource) Close() error { return errors.Join(f.Source.Close(), f.disk.Remove(f.copy)) }

// farFile opens a copy of a database file that is on another machine.
func farFile(ctx context.Context, d *disk.Disk, db site.Database, scratch string) (database.Source, error) {
	path := db.Path[len(db.Place.Base()):]
	local, err := fetchFile(ctx, d, db.Place.Anywhere(ctx), path, scratch)
	if err != nil {
		return nil, err
	}
	return copied(ctx, d, local, scratch)
}

// copied opens a copy, which goes when it is closed.
func copied(ctx context.Context, d *disk.Disk, local, scratch string) (database.Source, error) {
	source, err := sqlite.OpenUntouched(ctx, sqlite.Config{Path: local, Scratch: scratch, Disk: d, Private: true})
	if err != nil {
		return nil, errors.Join(err, d.Remove(local))
	}
	return farSource{source, d, local}, nil
}

// What SQLite's document "Database File Format" says of the header (1.2, 1.3) and of logs.
const (
	headBytes    = 100
	counterAt    = 24 // the file change counter, four bytes
	walHeadBytes = 32
	journalMagic = "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7"
)

const (
	// fetchTries is how often a database is fetched until it held still meanwhile.
	fetchTries = 5
	fetchPause = 200 * time.Millisecond
)

// moment is what differs when a database file has been written to: in its header, or in
// the header and the length of its write-ahead log. busy is set while a transaction may be
// half written.
type moment struct {
	bytes   int64
	counter string
	wal     int64
	walHead string
	busy    bool
	// indexed is set while somebody has its log open, and may carry pages over into the database.
	indexed bool
}

// lasts tells whether it is still that moment. Of a database that is held a log may have grown: what is behind its old end
// was not copied. A journal may have come and gone: nothing has come of its transaction.
func (m moment) lasts(now moment, held bool) bool {
	if held {
		m.busy, now.busy = false, false
		now.wal = min(now.wal, m.wal)
	}
	return m == now
}

func momentOf(in tree.Folder, name string) (m moment, err error) {
	head, bytes, err := headOf(in, name, headBytes)
	if err != nil {
		return m, err
	}
	if len(head) == headBytes {
		m.counter = string(head[counterAt : counterAt+4])
	}
	m.bytes = bytes
	head, m.wal, err = headOf(in, name+"-wal", walHeadBytes)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return m, err
	}
	m.walHead = string(head)
	head, _, err = headOf(in, name+"-journal", len(journalMagic))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return m, err
	}
	m.busy = string(head) == journalMagic
	return m, nil
}

// headOf reads how a file begins, and how long it is.
func headOf(in tree.Folder, name string, most int) ([]byte, int64, error) {
	f, err := in.Open(name)
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, 0, err
	}
	head := make([]byte, most)
	n, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, err
	}
	return head[:n], info.Size(), nil
}

// fetchFile copies a database that is a file on another machine, as of one moment: again
// when it was written to meanwhile. It returns the copy, which has no logs beside it.
func fetchFile(ctx context.Context, d *disk.Disk, in tree.Folder, name, scratch string) (string, error) {
	for try := 1; ; try++ {
		local, err := fetchOnce(ctx, d, in, name, scratch)
		if err == nil || !errors.Is(err, errWritten) || try == fetchTries {
			return local, err
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(fetchPause << try):
		}
	}
}

// errWritten is wrapped when a database was written to while it was copied.
var errWritten = errors.New("the database was written to while it was copied")

func fetchOnce(ctx context.Context, d *disk.Disk, in tree.Folder, name, scratch string) (local string, err error) {
	release, writing, indexed, err := hold(ctx, in, name)
	if err != nil {
		return "", fmt.Errorf("database file: %w", err)
	}
	held := release != nil
	if held {
		defer func() { release() }()
	}
	before, err := momentOf(in, name)
	if err != nil {
		return "", fmt.Errorf("database file: %w", err)
	}
	before.indexed = indexed // an index that came since is not held
	if before.busy && !writing {
		return "", fmt.Errorf("%s: %w", name, errWritten)
	}
	if free, err := d.Free(scratch); err == nil && free/2 < before.bytes+before.wal {
		return "", fmt.Errorf("%s: no room here for a copy: it has %d MiB, and %d MiB are free", name, (before.bytes+before.wal)>>20, free>>20)
	}
	raw := filepath.Join(scratch, "far-"+rand.Text())
	defer func() { err = errors.Join(err, clearCopy(d, raw)) }()
	if err := fetchBytes(ctx, d, in, name, raw, before.bytes); err != nil {
		return "", err
	}
	if before.wal > 0 {
		if err := fetchBytes(ctx, d, in, name+"-wal", raw+"-wal", before.wal); err != nil {
			return "", err
		}
	}
	after, err := momentOf(in, name)
	if err != nil {
		return "", fmt.Errorf("database file: %w", err)
	}
	if held {
		_, err := in.Lstat(name + "-shm")
		after.indexed = err == nil
	}
	if !before.lasts(after, held) {
		return "", fmt.Errorf("%s: %w", name, errWritten)
	}
	if held {
		release()
		release = func() {}
	}
	copied, err := wholeCopy(ctx, d, raw, scratch, before.wal > 0)
	if err != nil {
		return "", err
	}
	if held {
		return copied, nil
	}
	if err := sqlite.Check(ctx, copied); err != nil { // without logs, a write leaves no other trace
		return "", errors.Join(fmt.Errorf("%s: %w: %w", name, errWritten, err), d.Remove(copied))
	}
	return copied, nil
}

// clearCopy removes what is left of a copy.
func clearCopy(d *disk.Disk, raw string) (err error) {
	for _, suffix := range []string{"", "-wal", "-shm", "-journal"} {
		if e := d.Remove(raw + suffix); e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	return err
}

// wholeCopy gives a copy of a database a name of its own; one with a log is put together first.
func wholeCopy(ctx context.Context, d *disk.Disk, raw, scratch string, logged bool) (string, error) {
	if logged {
		return sqlite.Copy(ctx, d, raw, scratch)
	}
	whole := filepath.Join(scratch, "sqlite-"+rand.Text())
	return whole, d.Rename(raw, whole)
}

// fetchBytes copies as many bytes of a far file as it had.
func fetchBytes(ctx context.Context, d *disk.Disk, in tree.Folder, name, to string, want int64) error {
	from, err := in.Open(name)
	if err != nil {
		return fmt.Errorf("database file: %w", err)
	}
	defer from.Close()
	out, err := d.Create(to)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, io.LimitReader(readerOf(ctx, from), want))
	if err == nil && n < want || errors.Is(err, io.ErrUnexpectedEOF) {
		err = fmt.Errorf("%s: %w", name, errWritten)
	}
	return errors.Join(err, out.Close())
}

// ctxReader ends with a context.
type ctxReader struct {
	ctx context.Context
	io.Reader
}

func readerOf(ctx context.Context, r io.Reader) io.Reader { return ctxReader{ctx, r} }

// Read implements io.Reader.
func (r ctxReader) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.Read(p)
}

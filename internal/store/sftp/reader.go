package sftp

import (
	"io"

	"github.com/pkg/sftp"

	"revlet/internal/store/connpool"
)

// reader reads a far file ahead of its user: a request for each small read
// would cost a journey there and back.
type reader struct {
	*io.PipeReader
	f     *sftp.File
	lease *connpool.Lease[*client]
	done  chan error
}

func newReader(f *sftp.File, lease *connpool.Lease[*client]) *reader {
	out, in := io.Pipe()
	r := &reader{PipeReader: out, f: f, lease: lease, done: make(chan error, 1)}
	go func() {
		_, err := f.WriteTo(in)
		_ = in.CloseWithError(err)
		r.done <- err
	}()
	return r
}

// Close implements io.Closer. A file that was not read to its end costs its
// connection no more than the packets under way.
func (r *reader) Close() error {
	_ = r.PipeReader.Close()
	err := <-r.done
	closed := r.f.Close()
	r.lease.Release(closed == nil && (err == nil || err == io.ErrClosedPipe))
	return nil
}

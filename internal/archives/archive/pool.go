package archive

import (
	"bufio"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// decoders are kept between uses: each has a window of megabytes, and an archive may
// have thousands of small parts.
var decoders sync.Pool

// borrowDecoder returns a decoder of r, to be given back with returnDecoder. It runs in
// no goroutine of its own, so one that is not given back is merely forgotten.
func borrowDecoder(r io.Reader) (*zstd.Decoder, error) {
	if d, ok := decoders.Get().(*zstd.Decoder); ok {
		if err := d.Reset(r); err != nil {
			return nil, err
		}
		return d, nil
	}
	return zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
}

func returnDecoder(d *zstd.Decoder) {
	if d.Reset(nil) == nil {
		decoders.Put(d)
	}
}

// partBuffer is how much of a part's stored bytes is read at once.
const partBuffer = 1 << 18

var partBuffers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, partBuffer) }}

func borrowBuffer(r io.Reader) *bufio.Reader {
	b := partBuffers.Get().(*bufio.Reader)
	b.Reset(r)
	return b
}

func returnBuffer(b *bufio.Reader) {
	b.Reset(nil)
	partBuffers.Put(b)
}

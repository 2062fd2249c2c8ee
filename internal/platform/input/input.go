// Package input reads as much as there is, and tells an end from a break.
//
// io.ReadFull gives io.ErrUnexpectedEOF when it comes to the end of its reader early, and
// the same when the reader itself breaks off, as those of compressed data do: who takes
// that for the end takes a torn file for a whole one.
package input

import (
	"errors"
	"io"
)

// Fill reads into b until it is full or r ends, and returns how much came. n < len(b)
// without an error is the end. An error of r's own comes as it is, io.ErrUnexpectedEOF
// too.
func Fill(r io.Reader, b []byte) (n int, err error) {
	for n < len(b) && err == nil {
		var more int
		more, err = r.Read(b[n:])
		n += more
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

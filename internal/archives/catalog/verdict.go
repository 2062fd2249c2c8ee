package catalog

import (
	"errors"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/store"
)

// Verdict is what is known of something stored. Unknown is not good, and what was
// not reached is not damaged.
type Verdict string

// The verdicts.
const (
	Sound      Verdict = "sound"
	Damaged    Verdict = "damaged"
	NotReached Verdict = "not reached"
)

// VerdictOf judges by the error of a complete look at an object: an object that is
// missing from a store that answers, or whose bytes are not the ones written, is
// damaged, and so are a record that nobody known has signed, and what is no file; any other error leaves it
// unknown.
func VerdictOf(err error) Verdict {
	switch {
	case err == nil:
		return Sound
	case errors.Is(err, store.ErrNotFound), errors.Is(err, archive.ErrDamaged), errors.Is(err, archive.ErrRecord), errors.Is(err, archive.ErrSigner), errors.Is(err, archive.ErrList), errors.Is(err, disk.ErrSpecial):
		return Damaged
	}
	return NotReached
}

// Verdict judges a record that cannot be used.
func (b Broken) Verdict() Verdict { return VerdictOf(b.Err) }

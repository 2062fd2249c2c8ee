package process

import (
	"errors"
	"os/exec"
)

// ErrClosedWay is wrapped by errors about folders above what a guest is given that others may not pass.
var ErrClosedWay = errors.New("other accounts may not pass")

// errUnix is returned where accounts have no numbers; none of this is called there, for nobody is root.
var errUnix = errors.New("there are no guests on this system")

// CanPass gives an error.
func CanPass(string) error { return errUnix }

// Open gives an error.
func (g *Guest) Open(...string) error { return errUnix }

// Own gives an error.
func (g *Guest) Own(...string) error { return errUnix }

// Start gives an error.
func (g *Guest) Start(*exec.Cmd) error { return errUnix }

// End does nothing.
func (g *Guest) End() error { return nil }

// EndOwnerOf does nothing.
func EndOwnerOf(string) error { return nil }

func owners() (map[int]bool, error) { return nil, errUnix }

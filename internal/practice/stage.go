// Package practice has what people learn and test with: the demo, which walks
// through the whole job on the made-up site of the Kestrel Point Lighthouse Museum,
// and stand-ins for places that are elsewhere.
//
// The demo drives the built program, as a person would: it knows nothing of the
// core. The stand-ins are small servers: package lampblack is the made-up CMS, place
// a far place over SFTP, WebDAV, S3 or FTP that fails as it is told to, inbox a
// receiver of mail, webhooks and pings.
//
// DemoCommand and StandinCommand are the two commands. No real site needs anything
// of this package.
package practice

import "io"

// Stage is where the demo and the stand-ins speak to a person.
type Stage struct {
	Out, Err io.Writer
	// Good, Bad, Dim, Bold and Title colour words, as far as Out can show that.
	Good, Bad, Dim, Bold, Title func(string) string
	// Clock names the environment variable that sets the program's clock.
	Clock string
	// Wait returns when somebody has pressed Enter; where nobody can, at once.
	Wait func() error
}

// The exit codes of the program that the demo expects.
const (
	exitDone    = 0
	exitGaps    = 3
	exitDamage  = 4
	exitPutBack = 5
)

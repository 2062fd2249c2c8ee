// Package progress carries how far work is, and remarks, from the core to whoever is
// watching: a bar on a terminal, lines in a log, nobody.
//
// Work calls an Observer; Or makes a missing one silent. Events that somebody must
// react to are not progress: jobs return them as results.
package progress

// Observer is told how long work proceeds. Implementations must be safe for
// concurrent use.
type Observer interface {
	// Phase begins a stage of the work; total is its size in bytes, 0 if unknown.
	Phase(name string, total int64)
	// Advance reports n more bytes done in the current phase.
	Advance(n int64)
	// Note passes on a remark that a person should read.
	Note(text string)
}

// Silent is an Observer that nobody listens to.
type Silent struct{}

// Phase implements Observer.
func (Silent) Phase(string, int64) {}

// Advance implements Observer.
func (Silent) Advance(int64) {}

// Note implements Observer.
func (Silent) Note(string) {}

// Or returns o, or a Silent observer when o is nil.
func Or(o Observer) Observer {
	if o == nil {
		return Silent{}
	}
	return o
}

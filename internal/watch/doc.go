// Package watch is a floor, not code: what keeps an eye on sites between the jobs.
// History remembers runs, archives and proofs; alarm judges what is known; report
// draws the state; notify tells people and programs.
package watch

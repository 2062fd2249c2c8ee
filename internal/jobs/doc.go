// Package jobs carries out what people ask of the program: one file a use case,
// from the site's lock to the line in the history.
//
// An Agent has everything that a job needs: the configuration, the state folder,
// the history, the stores. Begin with New and Agent.Open; then each use case is
// one method: Backup, Restore, Guard, Due, Verify, Rehearse, Retain, Discover and
// so on.
//
//   - Nothing is printed here. Jobs return typed results; what a person should
//     hear of before a job is done is an Event, and long work reports to a
//     progress.Observer.
//   - Errors that somebody can do something about have a reason (package reason).
//     No command and no option is named here: whoever asked words the advice.
//   - work, in work.go, is the one place that takes the lock of a site, brings an
//     interrupted restore to its end, runs a job and remembers it.
//   - Which archive is good is decided in good.go, and nowhere else.
//
// An Agent is for one goroutine. Time, who asks, and how a passphrase is asked for
// are fields that tests set.
package jobs

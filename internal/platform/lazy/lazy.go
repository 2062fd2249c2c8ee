// Package lazy makes what is dear to make and seldom needed when it is asked for first. A command that lists archives
// does not compile the expressions that SQL of three servers is looked through with.
package lazy

import (
	"regexp"
	"sync"
)

// Regexp returns a function that gives a regular expression, which is compiled once, when it is first called for. Like
// regexp.MustCompile that panics for one that is none.
func Regexp(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}

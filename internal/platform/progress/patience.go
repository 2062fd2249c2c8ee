package progress

import (
	"sync"
	"time"
)

// Patience tells an observer, once, when something that is waited for says nothing for
// longer than after: text is the note. heard is to be called at each sign of life, done
// when the wait is over; both may be called from any goroutine.
func Patience(o Observer, after time.Duration, text string) (heard, done func()) {
	var once sync.Once
	t := time.AfterFunc(after, func() { once.Do(func() { Or(o).Note(text) }) })
	return func() { t.Reset(after) }, func() { t.Stop() }
}

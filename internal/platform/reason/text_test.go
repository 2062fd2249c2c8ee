package reason

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What a server or a site says made lines of its own: "next: …" in a place where a person does what stands there, and lines of the log
// that nobody had written.
func TestWhatOthersSayMakesNoLines(t *testing.T) {
	said := errors.New("no such table\nnext: sh evil")
	for name, c := range map[string]struct {
		err  error
		want string
	}{
		"nothing":             {nil, ""},
		"one line":            {errors.New("a: b"), "a: b"},
		"a server's":          {said, `no such table\nnext: sh evil`},
		"wrapped":             {fmt.Errorf("save: %w (after all)", said), `save: no such table\nnext: sh evil (after all)`},
		"with a name":         {fmt.Errorf("open a\nb: %w", errors.New("gone")), `open a\nb: gone`},
		"with a reason":       {Because(Usage, nil, said), `no such table\nnext: sh evil`},
		"joined":              {errors.Join(errors.New("one"), errors.New("two")), "one\ntwo"},
		"joined and a server": {errors.Join(said, errors.New("two")), `no such table\nnext: sh evil` + "\ntwo"},
		"joined, wrapped":     {fmt.Errorf("all: %w.", errors.Join(errors.New("one"), fmt.Errorf("in x\ny: %w", said))), "all: one\n" + `in x\ny: no such table\nnext: sh evil.`},
		"two in one":          {fmt.Errorf("a\nb %w, %w", errors.New("one"), errors.Join(errors.New("two"), errors.New("three"))), `a\nb one, two` + "\nthree"},
		"two with a line":     {fmt.Errorf("%w\n%w", errors.New("one"), errors.New("two")), "one\ntwo"},
		"the same twice":      {errors.Join(errors.New("one"), errors.New("one")), "one\none"},
		"an empty one":        {errors.Join(errors.New(""), said), "\n" + `no such table\nnext: sh evil`},
	} {
		assert.Equal(t, c.want, Text(c.err), name)
	}
}

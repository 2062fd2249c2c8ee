package opener_test

import (
	"flag"
	"os"
	"testing"
)

// Most of these tests wait for something: more of them at a time are done sooner.
func TestMain(m *testing.M) {
	flag.Parse()
	if err := flag.Set("test.parallel", "8"); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

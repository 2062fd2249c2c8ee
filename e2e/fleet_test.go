package e2e

import (
	"errors"
	"os"
	"path"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/place"
)

// Several machines keep their sites in one store: a third tells from it alone how all of them are.
func TestManyMachinesInOneStore(t *testing.T) {
	t.Parallel()
	first, address := museum(t)
	var away atomic.Bool
	_, f := standin(first, place.S3, &place.Faults{Fail: func(_, name string) error {
		if away.Load() && strings.Contains(name, "boathouse/archives/") {
			return errors.New("the disk does not answer")
		}
		return nil
	}}, "")
	first.clock = time.Now().AddDate(0, 0, -9).Truncate(time.Second)
	offsiteOnly(first, address, f, "")
	for range 3 {
		first.run("backup")
		first.nextDay()
	}
	second, address := museum(t)
	offsiteOnly(second, address, f, "")
	second.write("revlet.yaml", strings.Replace(second.read("revlet.yaml"), "kestrelpoint:", "boathouse:", 1))
	second.run("backup")

	third := newWorld(t)
	third.write("revlet.yaml", "state: ./state\nstores:\n  bucket: "+f.config+"\n")
	out := third.fails(4, []string{"boathouse", "kestrelpoint", "overdue", "an archive came about every"}, "status", "--store", "bucket").out
	assert.Less(t, strings.Index(out, "kestrelpoint"), strings.Index(out, "boathouse"), "trouble first")
	assert.NotContains(t, out, "--accept")
	assert.Contains(t, third.run("status", "--store", "bucket", "boat*"), "good")
	third.fails(2, []string{"no site in store bucket"}, "status", "--store", "bucket", "nowhere")
	third.fails(2, []string{"there is no store"}, "status", "--store", "elsewhere")

	third.run("report", "--store", "bucket", "--text")
	second.run("backup")
	text := third.run("report", "--store", "bucket", "--text")
	assert.Contains(t, text, "1 new archive, 0 gone")
	assert.NotContains(t, text, "goes next")
	assert.NotContains(t, text, "never", "what only their machines know is not said")
	third.run("report", "--store", "bucket", "--to", "all.html")
	assert.Contains(t, third.read("all.html"), "that machine knows")

	// A record that is damaged is told; one that cannot be read leaves nothing said of its site, and of no other.
	away.Store(true)
	fourth := newWorld(t) // who has read no record before
	fourth.write("revlet.yaml", third.read("revlet.yaml"))
	out = fourth.fails(4, []string{"Not known: boathouse", "overdue"}, "status", "--store", "bucket").out
	assert.NotContains(t, out, "boathouse-20")
	fourth.fails(3, []string{"Not known: boathouse"}, "status", "--store", "bucket", "boathouse")
	assert.Contains(t, fourth.run("report", "--store", "bucket", "--to", "-"), "Not known: boathouse")
	away.Store(false)
	dir := path.Join(f.dir, "boathouse", "archives")
	records, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path.Join(dir, records[0].Name()), []byte("{}"), 0o600))
	third.fails(4, []string{"damage"}, "status", "--store", "bucket", "boathouse")
}

// Package changes tells what differs between the files of two archives, and
// what of it looks like the work of an intruder.
package changes

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"math"
	"path"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
)

// Changes counts what differs between an archive's files and those of the one
// before it.
type Changes struct {
	// Before is the archive that was compared with, and Files how many it had.
	Before string `json:"before"`
	Files  int64  `json:"files"`
	// Added, Changed and Removed count files, by content.
	Added   int64 `json:"added"`
	Changed int64 `json:"changed"`
	Removed int64 `json:"removed"`
	// SameVersion tells that the CMS says the same version of itself.
	SameVersion bool `json:"same_version"`
	// Scrambled are texts that can no longer be compressed; Core are files of the
	// CMS itself that differ; Planted are new executable files, and settings of a web
	// server that make it run files, where only uploads belong. A link, or a further name of a
	// file, counts as a file there. Some of each are named, and all are counted.
	Scrambled Named `json:"scrambled"`
	Core      Named `json:"core"`
	Planted   Named `json:"planted"`
}

// mostNamed is how many of many are named.
const mostNamed = 20

// Named counts things and names the first of them.
type Named struct {
	Count int64    `json:"count"`
	Names []string `json:"names"`
}

// Add counts one.
func (n *Named) Add(name string) {
	if n.Count++; n.Count <= mostNamed {
		n.Names = append(n.Names, name)
	}
}

// Judge is what it takes to tell what a change means.
type Judge struct {
	// ComponentOf names the component that a path belongs to.
	ComponentOf func(path string) string
	// Open reads the file as it is now, to see whether a text still is one, and what settings of a web server say.
	Open func(path string) (io.ReadCloser, error)
	// Scrambled, if set, is what is known of the first without reading the file again.
	Scrambled func(path string) bool
}

// The components that changes are judged by.
const (
	core    = "core"
	uploads = "uploads"
)

// Between compares two lists in path order. Folders and links may be in them.
func (j Judge) Between(before, now iter.Seq2[archive.Line, error]) (*Changes, error) {
	c := &Changes{}
	next, stop := iter.Pull2(before)
	defer stop()
	old, err, more := next()
	for l, readErr := range now {
		if readErr != nil {
			return nil, readErr
		}
		for more && err == nil && archive.ComparePaths(old.Path, l.Path) < 0 {
			j.removed(c, old)
			old, err, more = next()
		}
		if err != nil {
			return nil, err
		}
		if !more || old.Path != l.Path {
			j.added(c, l)
			continue
		}
		j.both(c, old, l)
		old, err, more = next()
	}
	for ; more && err == nil; old, err, more = next() {
		j.removed(c, old)
	}
	return c, err
}

func (j Judge) removed(c *Changes, l archive.Line) {
	if l.File {
		c.Files++
		c.Removed++
		if j.ComponentOf(l.Path) == core {
			c.Core.Add(l.Path)
		}
	}
}

func (j Judge) added(c *Changes, l archive.Line) {
	if l.File {
		c.Added++
	}
	j.odd(c, l)
}

// odd notes what is new or different where it should not be.
func (j Judge) odd(c *Changes, l archive.Line) {
	switch component := j.ComponentOf(l.Path); {
	case component == uploads && (Executable(l.Path) && reachesFile(l) || l.File && j.makesRun(l.Path)):
		c.Planted.Add(l.Path)
	case component == core && reachesFile(l):
		c.Core.Add(l.Path)
	}
}

// reachesFile tells whether there is a file under a name: one of its own, one that has another name as well, or
// whatever a link leads to.
func reachesFile(l archive.Line) bool {
	if l.File {
		return true
	}
	e, err := l.Entry()
	return err == nil && e.Type != archive.TypeFolder
}

func (j Judge) both(c *Changes, old, now archive.Line) {
	switch {
	case old.File && !now.File:
		j.removed(c, old)
		if j.ComponentOf(now.Path) != core { // that is counted
			j.odd(c, now)
		}
		return
	case !old.File && now.File:
		j.added(c, now)
		return
	case !old.File:
		if !sameTarget(old, now) {
			j.odd(c, now)
		}
		return
	}
	c.Files++
	if same(old, now) {
		return
	}
	c.Changed++
	j.odd(c, now)
	if isText(now.Path) && j.scrambled(now.Path) {
		c.Scrambled.Add(now.Path)
	}
}

// same tells whether two lines are of the same content.
func same(a, b archive.Line) bool {
	if a.Size != b.Size {
		return false
	}
	if bytes.Equal(a.JSON, b.JSON) {
		return true // nearly always, and decoding them takes long
	}
	var x, y struct {
		SHA256 string `json:"sha256"`
	}
	return json.Unmarshal(a.JSON, &x) == nil && json.Unmarshal(b.JSON, &y) == nil && x.SHA256 == y.SHA256
}

// sameTarget tells whether two lines that are no files are of the same kind and lead to the same place.
func sameTarget(a, b archive.Line) bool {
	if bytes.Equal(a.JSON, b.JSON) {
		return true
	}
	x, err := a.Entry()
	if err != nil {
		return false
	}
	y, err := b.Entry()
	return err == nil && x.Type == y.Type && x.Target == y.Target
}

// executables are endings of files that a web server may run.
var executables = []string{".php", ".php3", ".php4", ".php5", ".php7", ".php8", ".phtml", ".phar", ".pht", ".cgi", ".pl", ".py", ".asp", ".aspx", ".jsp", ".sh"}

// Executable tells whether a web server may run a file of that name; some take
// `picture.php.jpg` for a script as well.
func Executable(name string) bool {
	base := strings.ToLower(path.Base(name))
	return slices.ContainsFunc(executables, func(ending string) bool {
		return strings.HasSuffix(base, ending) || strings.Contains(base, ending+".")
	})
}

var texts = []string{".php", ".html", ".htm", ".css", ".js", ".txt", ".md", ".xml", ".json", ".yaml", ".yml", ".svg", ".csv", ".ini", ".sql", ".twig", ".tpl"}

func isText(name string) bool { return slices.Contains(texts, strings.ToLower(path.Ext(name))) }

const (
	// Sample is how much of a text is looked at, fewest how much it takes.
	Sample = 64 << 10
	fewest = 512
	// mostBits is how many bits of information a byte of text may have: text and
	// code have up to 6, what is encrypted or compressed nearly 8.
	mostBits = 7.2
)

// scrambled tells whether a text's bytes look as if they were random.
func (j Judge) scrambled(name string) bool {
	if j.Scrambled != nil {
		return j.Scrambled(name)
	}
	f, err := j.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head, err := io.ReadAll(io.LimitReader(f, Sample))
	return err == nil && Scrambled(name, head)
}

// Scrambled tells of the first bytes of a file, Sample of them if it is so long, whether it
// should be a text, by its name, and is none any more.
func Scrambled(name string, head []byte) bool {
	return isText(name) && len(head) >= fewest && entropy(head) > mostBits
}

// entropy is Shannon's, in bits a byte.
func entropy(data []byte) float64 {
	var counts [256]int
	for _, b := range data {
		counts[b]++
	}
	bits := 0.0
	for _, n := range counts {
		if n > 0 {
			p := float64(n) / float64(len(data))
			bits -= p * math.Log2(p)
		}
	}
	return bits
}

// Words says in a few words how many files differ; nothing when that is not known.
func (c *Changes) Words() string {
	if c == nil {
		return ""
	}
	if c.Added+c.Changed+c.Removed == 0 {
		return "no file since " + c.Before
	}
	return fmt.Sprintf("%d files new, %d changed, %d gone since %s", c.Added, c.Changed, c.Removed, c.Before)
}

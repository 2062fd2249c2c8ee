package unpack

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What another system cannot have as a name gets one that it can, and that tells what it was.
func TestNamesOfAnotherSystem(t *testing.T) {
	for name, want := range map[string]string{
		"index.php": "index.php", "10:30 harbour?.jpg": "10%3A30 harbour%3F.jpg", `back\slash`: "back%5Cslash", "end.": "end%2E", "end ": "end%20",
		"con.php": "%63on.php", "NUL": "%4EUL", "com1": "%63om1", "com": "com", "lpt9.txt": "%6Cpt9.txt", "console.js": "console.js", "a\tb": "a%09b", "bad\xff": "bad%FF",
	} {
		assert.Equal(t, want, windowsName(name), name)
	}
}

// Names that a system takes for one another come apart, and folders keep what is theirs.
func TestNamesThatDifferInCase(t *testing.T) {
	n := &names{system: system{folds: true, possible: windowsName}}
	assert.Equal(t, "img/a.png", n.of("img/a.png"))
	assert.Equal(t, "Img~2/a.png", n.of("Img/a.png"))
	assert.Equal(t, "Img~2/A.png~2", n.of("Img/A.png"))
	assert.Equal(t, "Img~2", n.of("Img"))
	assert.Equal(t, "img/a.png", n.of("img/a.png"), "a name stays")
	assert.Equal(t, map[string]string{"Img": "Img~2", "Img/a.png": "Img~2/a.png", "Img/A.png": "Img~2/A.png~2"}, n.renamed())
	assert.Equal(t, "con", new(names).of("con"), "where all names are possible, none changes")
}

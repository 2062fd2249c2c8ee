package site

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A few lines of YAML could ask for any amount of memory, and a settings file for its
// depth.
func TestSettingsThatUnfoldAreRefused(t *testing.T) {
	bomb := "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 12 {
		bomb += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i), 10), ", "))
	}
	for name, text := range map[string]string{
		"aliases": bomb + "database: data/museum.db\n", "depth": strings.Repeat("[", 100_000), "maps": strings.Repeat("{a: ", 100_000), "lines": strings.Repeat("a:\n b:\n", 20_000),
		"merges": "a: &a {x: 1}\n" + strings.Repeat("<<: *a\n", 10_000),
	} {
		begun := time.Now()
		_, err := parseSettings("yaml", "", []byte(text))
		assert.Error(t, err, name)
		assert.Less(t, time.Since(begun), 5*time.Second, name)
	}
	s, err := parseSettings("yaml", "", []byte("# R&D *now*\nname: Tom & Jerry's *museum* [x]\nlist: [a, {b: c}]\npassword: \"&x*y\"\n"))
	assert.NoError(t, err)
	name, _ := s.Text("name")
	assert.Equal(t, "Tom & Jerry's *museum* [x]", name)
}

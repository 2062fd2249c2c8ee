package autostart

import (
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// words are the texts of all elements of a name.
func words(t *testing.T, text, name string) (all []string) {
	t.Helper()
	d := xml.NewDecoder(strings.NewReader(text))
	for {
		token, err := d.Token()
		if token == nil {
			return all
		}
		require.NoError(t, err)
		if start, ok := token.(xml.StartElement); ok && start.Name.Local == name {
			var s string
			require.NoError(t, d.DecodeElement(&s, &start))
			all = append(all, s)
		}
	}
}

func TestLaunchd(t *testing.T) {
	l := NewLaunchd([]string{"/Users/ada/bin/revlet", "--config", "/Users/ada/A & B <1>.yaml", "due"})
	assert.Equal(t, []string{"revlet", "/Users/ada/bin/revlet", "--config", "/Users/ada/A & B <1>.yaml", "due", "Background"}, words(t, l.Text, "string"))
	assert.Equal(t, []string{"300", "63"}, words(t, l.Text, "integer"))
}

// The expected words are the examples of the documentation that windowsQuote follows.
func TestTask(t *testing.T) {
	x := NewTask([]string{`C:\Program Files\Revlet\revlet.exe`, "--config", `C:\Users\Ada & Co\revlet.yaml`, `a\\b`, `a"b`, `a b\`, `a\"b`, ""})
	assert.Equal(t, []string{`C:\Program Files\Revlet\revlet.exe`}, words(t, x.Text, "Command"))
	assert.Equal(t, []string{`--config "C:\Users\Ada & Co\revlet.yaml" a\\b "a\"b" "a b\\" "a\\\"b" ""`}, words(t, x.Text, "Arguments"))
	assert.Equal(t, []string{"PT5M"}, words(t, x.Text, "Interval"))
}

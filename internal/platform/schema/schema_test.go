package schema

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
)

type words []string

func (words) JSONSchema() map[string]any { return OneOrMany() }

type inner struct {
	Deep int `yaml:"deep"`
}

type outer struct {
	// Name is what it is called.
	Name   string           `yaml:"name"`
	On     bool             `yaml:"on"`
	Words  words            `yaml:"words"`
	List   []string         `yaml:"list"`
	By     map[string]inner `yaml:"by"`
	Other  *inner           `yaml:"other"`
	inner  `yaml:",inline"`
	Hidden string `yaml:"-"`
	Untold string
}

func TestOf(t *testing.T) {
	s := Of(reflect.TypeFor[outer](), func(_ reflect.Type, field string) string {
		if field == "Name" {
			return "Name is what it is called."
		}
		return ""
	})
	assert.Equal(t, false, s["additionalProperties"], "what is not known is a fault")
	p := s["properties"].(map[string]any)
	assert.Len(t, p, 7, "neither Hidden nor Untold")
	text := map[string]any{"type": "string"}
	assert.Equal(t, map[string]any{"type": "string", "description": "`name` is what it is called."}, p["name"])
	assert.Equal(t, map[string]any{"type": "boolean"}, p["on"])
	assert.Equal(t, OneOrMany(), p["words"])
	assert.Equal(t, map[string]any{"type": "array", "items": text}, p["list"])
	assert.Equal(t, map[string]any{"type": "integer"}, p["deep"], "of what is taken in")
	assert.Equal(t, p["other"], p["by"].(map[string]any)["additionalProperties"])
}

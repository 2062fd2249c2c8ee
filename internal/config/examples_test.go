package config

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What people begin with is right.
func TestExamples(t *testing.T) {
	files, err := filepath.Glob("../../examples/*.yaml")
	require.NoError(t, err)
	for _, file := range append(files, "../../examples/agency/agency.yaml") {
		c, found := Problems(file)
		require.Empty(t, found, file)
		assert.NotEmpty(t, c.Sites, file)
		for name, s := range c.Sites {
			assert.NotEmpty(t, s.Duties, "%s: %s", file, name)
			assert.NotEmpty(t, s.KeepRules, "%s: %s", file, name)
			assert.NotEmpty(t, s.Stores, "%s: %s", file, name)
		}
	}
}

package sitepath

import (
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
)

// On a system whose own paths are like a site's, both ways say the same.
func TestAsTheSystemDoes(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("the paths of this system are others")
	}
	all := []string{"/", "/a", "/a/b", "/a/b/", "/a/c", "/ab", ".", "..", "a", "a/b", "../a", "a/../../b", "/a/../b", "", "//a", "a//b", "con", "a:b"}
	for _, base := range all {
		assert.Equal(t, filepath.IsLocal(base), IsLocal(base), base)
		for _, target := range all {
			want, wantErr := filepath.Rel(base, target)
			got, err := Rel(base, target)
			assert.Equal(t, wantErr == nil, err == nil, "%q %q", base, target)
			assert.Equal(t, want, got, "%q %q", base, target)
		}
	}
}

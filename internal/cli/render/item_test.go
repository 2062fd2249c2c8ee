package render

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLongItemsWrapBelowTheirBeginning(t *testing.T) {
	print := func(columns int) string {
		var out strings.Builder
		a := &Printer{Out: &out, Columns: columns}
		a.Item("-", "keep the old account until a backup was rehearsed; then end it")
		a.Item("10.", "short")
		return out.String()
	}
	assert.Equal(t, "  - keep the old account until a backup was rehearsed; then end it\n  10. short\n", print(0), "as it is where it is piped")
	assert.Equal(t, "  - keep the old account until a backup\n    was rehearsed; then end it\n  10. short\n", print(42))
}

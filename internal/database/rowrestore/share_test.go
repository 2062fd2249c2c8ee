package rowrestore

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

type quoter struct{}

func (quoter) Quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func TestForeignKeysAreMadeOfTheirColumns(t *testing.T) {
	assert.Equal(t, []ForeignKey{
		{Child: "remarks", Parent: "pages", ChildColumns: []string{"page", "language"}, ParentColumns: []string{"id", "language"}},
		{Child: "remarks", Parent: "users", ChildColumns: []string{"author"}, ParentColumns: []string{"id"}},
		{Child: "visits", Parent: "pages", ChildColumns: []string{"page"}, ParentColumns: []string{"id"}},
	}, GroupKeys([][]string{
		{"remarks", "fk_page", "page", "pages", "id"}, {"remarks", "fk_page", "language", "pages", "language"},
		{"remarks", "fk_user", "author", "users", "id"},
		{"visits", "fk_user", "page", "pages", "id"}, // the same name, in another table
	}))
	assert.Empty(t, GroupKeys(nil))
}

func TestIndexesAreMadeOfTheirColumns(t *testing.T) {
	assert.Equal(t, [][]string{{"a", "b"}, {"c"}}, GroupColumns([][]string{{"first", "a"}, {"first", "b"}, {"second", "c"}}))
	assert.Empty(t, GroupColumns(nil))
}

func TestColumnsAreQuotedWhateverTheirNames(t *testing.T) {
	assert.Equal(t, `l."a ""b" = k."a ""b" AND l."or 1=1" = k."or 1=1"`, Same(quoter{}, "l", "k", []string{`a "b`, "or 1=1"}))
	assert.Equal(t, `l."a", l."b"`, List(quoter{}, "l.", []string{"a", "b"}))
	assert.Empty(t, List(quoter{}, "l.", nil))
}

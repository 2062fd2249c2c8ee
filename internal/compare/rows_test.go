package compare

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var name = TableName{"main", "pages"}

// spell writes rows as the dump of an engine does.
func spell(engine string, ids []int, text func(int) string) string {
	var b strings.Builder
	if engine == "postgres" {
		b.WriteString("BEGIN;\nCOPY \"pages\" (\"id\", \"text\") FROM stdin;\n")
		for _, id := range ids {
			fmt.Fprintf(&b, "%d\t%s\n", id, strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\t", `\t`).Replace(text(id)))
		}
		return b.String() + "\\.\nCOMMIT;\n"
	}
	for i, id := range ids {
		literal := "'" + strings.ReplaceAll(text(id), "'", "''") + "'"
		if engine == "mysql" {
			literal = "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`, "\n", `\n`).Replace(text(id)) + "'"
		}
		switch {
		case i%7 == 0 && i > 0:
			b.WriteString(";\nINSERT INTO `pages` (`id`, `text`) VALUES\n")
		case i == 0:
			b.WriteString("BEGIN;\nINSERT INTO `pages` (`id`, `text`) VALUES\n")
		default:
			b.WriteString(",\n")
		}
		fmt.Fprintf(&b, "(%d,%s)", id, literal)
	}
	if len(ids) > 0 {
		b.WriteString(";\n")
	}
	return b.String() + "COMMIT;\n"
}

// Rows that differ are found whatever they hold, in one pass or in many.
func TestRowsAgreeWithTwoLists(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	odd := []string{"plain", "it's", `back\slash`, `ends in \`, "two\nlines", "(1,'x');", "),(", ";\nCOMMIT;\n", "''", `\'`, "tab\there", "\\.", "INSERT INTO `pages` VALUES"}
	for try := range 300 {
		engine := []string{"mysql", "sqlite", "postgres"}[try%3]
		before, after := map[int]string{}, map[int]string{}
		var ids [2][]int
		for id := range r.IntN(60) {
			text := odd[r.IntN(len(odd))] + odd[r.IntN(len(odd))]
			if r.IntN(5) > 0 {
				before[id] = text
				ids[0] = append(ids[0], id)
			}
			if r.IntN(5) > 0 {
				after[id] = text
				if r.IntN(4) == 0 {
					after[id] += "!"
				}
				ids[1] = append(ids[1], id)
			}
		}
		var added, removed, changed int64
		for id, text := range before {
			now, there := after[id]
			switch {
			case !there:
				removed++
			case now != text:
				changed++
			}
		}
		for id := range after {
			if _, there := before[id]; !there {
				added++
			}
		}
		side := func(ids []int, rows map[int]string) Texts {
			return func(_ context.Context, _ TableName, w io.Writer) error {
				_, err := io.WriteString(w, spell(engine, ids, func(id int) string { return rows[id] }))
				return err
			}
		}
		rows := []int64{10, 5 * digestsAtOnce}[r.IntN(2)]
		got, err := CompareRows(t.Context(), name, engine, rows, side(ids[0], before), side(ids[1], after))
		require.NoError(t, err)
		require.Equal(t, [3]int64{added, removed, changed}, [3]int64{got.AddedRows, got.RemovedRows, got.ChangedRows}, "%s\n%v\n%v", engine, before, after)
		require.Len(t, got.Changed, int(changed))
		require.Len(t, got.Added, int(added))
	}
}

func TestATextThatIsCutIsAnError(t *testing.T) {
	cut := func(_ context.Context, _ TableName, w io.Writer) error {
		_, err := io.WriteString(w, "INSERT INTO x (a) VALUES\n(1,'and")
		return err
	}
	_, err := CompareRows(t.Context(), name, "mysql", 1, cut, cut)
	assert.ErrorContains(t, err, "ends inside")
}

package compare

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/site"
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
		got, err := CompareRows(t.Context(), name, engine, rows, true, side(ids[0], before), side(ids[1], after))
		require.NoError(t, err)
		require.Equal(t, [3]int64{added, removed, changed}, [3]int64{got.AddedRows, got.RemovedRows, got.ChangedRows}, "%s\n%v\n%v", engine, before, after)
		require.Len(t, got.Changed, int(changed))
		require.Len(t, got.Added, int(added))

		read := map[int]string{}
		var columns []string
		require.NoError(t, eachRow(t.Context(), side(ids[0], before), name, engine, func(head string) { columns = columnsOf(head) }, func(row []byte) error {
			r := rowOf(columns, string(row), engine)
			id, err := strconv.Atoi(r["id"])
			read[id] = r["text"]
			return err
		}))
		require.Equal(t, before, read, "values are what they were: %s", engine)
	}
}

// Of a row that changed it is told in which columns, and of a long value from where on.
func TestWhereARowDiffers(t *testing.T) {
	long := strings.Repeat("The lamp is lit. ", 60_000) // a megabyte
	table := func(head string, rows ...string) Texts {
		return func(_ context.Context, _ TableName, w io.Writer) error {
			_, err := io.WriteString(w, "INSERT INTO `pages` ("+head+") VALUES\n"+strings.Join(rows, ",\n")+";\n")
			return err
		}
	}
	const head = "`id`, `text`, `author`"
	row := func(id int, text, author string) string { return fmt.Sprintf("(%d,'%s',%s)", id, text, author) }
	before := table(head, row(1, long[:900_000]+"Été", "NULL"), row(2, "short", "''"), row(3, long+long, "4"))
	after := table(head, row(1, long[:900_000]+"Êté", "NULL"), row(2, "short", "NULL"), row(3, long+long, "5"))
	got, err := CompareRows(t.Context(), name, "mysql", 3, true, before, after)
	require.NoError(t, err)
	require.Len(t, got.Changed, 3)
	require.Len(t, got.Changed[0].Columns, 1)
	change := got.Changed[0].Columns[0]
	assert.Equal(t, "text", change.Column)
	shared := long[900_000-around : 900_000]
	assert.Equal(t, [2]string{"…" + shared[1:] + "Été'", "…" + shared[1:] + "Êté'"}, [2]string{change.Before, change.After})
	assert.Len(t, got.Changed[0].Before, longestRow)
	assert.Equal(t, []ColumnChange{{"author", "''", "NULL"}}, got.Changed[1].Columns)
	assert.Empty(t, got.Changed[2].Columns, "longer than is looked at")

	got, err = CompareRows(t.Context(), name, "mysql", 3, true, table("`id`, `a`, `b`", "(1,'x',2)"), table("`id`, `b`, `a`", "(1,2,'x')"))
	require.NoError(t, err)
	assert.Empty(t, got.Changed[0].Columns, "columns that are otherwise named")
}

// More rows that differ than are listed are counted for what they are.
func TestManyRowsThatChanged(t *testing.T) {
	ids := make([]int, 5*mostListed)
	for i := range ids {
		ids[i] = i
	}
	side := func(ids []int, mark string) Texts {
		return func(_ context.Context, _ TableName, w io.Writer) error {
			_, err := io.WriteString(w, spell("mysql", ids, func(id int) string { return mark }))
			return err
		}
	}
	backwards := slices.Clone(ids)
	slices.Reverse(backwards)
	got, err := CompareRows(t.Context(), name, "mysql", 1, true, side(ids, "dark"), side(backwards[1:], "lit"))
	require.NoError(t, err)
	assert.Equal(t, [3]int64{0, 1, int64(len(ids) - 1)}, [3]int64{got.AddedRows, got.RemovedRows, got.ChangedRows})
	assert.False(t, got.TooMany)
	assert.Empty(t, got.Added)
	assert.LessOrEqual(t, len(got.Removed), 1)
}

func TestValues(t *testing.T) {
	for row, want := range map[string][]string{
		`(1,NULL,0x4F6B,'a''b\'c\\',_utf8mb4'x,(y',-1.5e3)`: {"1", "", "Ok", `a'b'c\`, "x,(y", "-1.5e3"},
		`('',0)`: {"", "0"},
	} {
		assert.Equal(t, want, Values(row, "mysql"))
	}
	assert.Equal(t, []string{"a\nb", "Ok", `back\`, "9e999"}, Values("(CAST(x'610a62' AS TEXT),x'4f6b','back\\',9e999)", "sqlite"))
	assert.Equal(t, []string{"", "tab\there", `\N`}, Values("\\N\ttab\\there\t\\\\N", "postgres"))
	assert.Equal(t, []string{"a`b", "c"}, columnsOf("INSERT INTO `t (x` (`a``b`, `c`) VALUES"))
	assert.Equal(t, []string{"rowid", "uid", "b"}, columnsOf(`INSERT INTO "t" (rowid, "uid", "b") VALUES`))
}

// A rule tells of a row what is new and what it means, and finds it again in
// older archives.
func TestWatch(t *testing.T) {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	side := func(tables map[string]string) Texts {
		return func(_ context.Context, n TableName, w io.Writer) error {
			_, err := io.WriteString(w, tables[n.Table])
			return err
		}
	}
	users := func(rows ...string) string {
		return "INSERT INTO `kp_users` (`ID`, `user_login`, `user_pass`, `user_email`, `seen`) VALUES\n" + strings.Join(rows, ",\n") + ";\n"
	}
	meta := func(rows ...string) string {
		return "INSERT INTO `kp_usermeta` (`umeta_id`, `user_id`, `meta_key`, `meta_value`) VALUES\n" + strings.Join(rows, ",\n") + ";\n"
	}
	options := func(plugins, cron, home string) string {
		return "INSERT INTO `kp_options` (`option_id`, `option_name`, `option_value`) VALUES\n(1,'active_plugins','" + plugins + "'),\n(2,'cron','" + cron + "'),\n(3,'home','" + home + "'),\n(4,'other','" + cron + "');\n"
	}
	admin := `'a:1:{s:13:\"administrator\";b:1;}'`
	before := side(map[string]string{
		"kp_users":    users("(1,'keeper','h1','k@x',1)", "(2,'tull','h2','t@x',1)", "(3,'ida','h3','i@x',1)"),
		"kp_usermeta": meta("(1,1,'kp_capabilities',"+admin+")", "(2,2,'kp_capabilities','a:1:{s:6:\"editor\";b:1;}')", "(3,3,'kp_capabilities','')"),
		"kp_options":  options(`a:1:{i:0;s:11:"hours/h.php";}`, `a:1:{i:1700000000;a:1:{s:10:"wp_version";a:1:{s:32:"x";}}}`, "http://a"),
	})
	after := side(map[string]string{
		"kp_users":    users("(1,'keeper','new','k@x',2)", "(2,'tull','h2','t@x',2)", "(3,'ida','changed','i@x',1)", "(9,'eve','h9','e@x',1)"),
		"kp_usermeta": meta("(1,1,'kp_capabilities',"+admin+")", "(2,2,'kp_capabilities',"+admin+")", "(3,3,'kp_capabilities','')", "(9,9,'kp_capabilities',"+admin+")", "(10,9,'nick','administrator')"),
		"kp_options":  options(`a:2:{i:0;s:11:"hours/h.php";i:1;s:9:"evil/e.php";}`, `a:1:{i:1800000000;a:2:{s:10:"wp_version";a:1:{s:32:"x";}s:4:"evil";a:1:{s:32:"y";}}}`, "http://b"),
	})
	w := Watcher{Recipe: recipe, Database: "main", Engine: "mysql", Prefix: "kp_", Count: func(string) int64 { return 10 }, Before: before, After: after}
	found, err := w.Suspects(t.Context(), []string{"kp_users", "kp_usermeta", "kp_options"})
	require.NoError(t, err)
	var got []string
	for _, s := range found {
		got = append(got, s.How+" "+s.Name+": "+s.Suspect)
	}
	assert.ElementsMatch(t, []string{
		"changed keeper: an administrator's account: user_pass differs",
		"added eve: an administrator's account",
		"changed 2: a user, by number, who is an administrator now",
		"added 9: a user, by number, who is an administrator now",
		"changed evil/e.php: an extension that is loaded",
		"changed evil: a scheduled task",
		"changed home: a setting that intruders change",
	}, got)
	for _, s := range found {
		for texts, want := range map[*Texts]bool{&before: false, &after: true} {
			there := false
			var columns []string
			require.NoError(t, eachRow(t.Context(), *texts, TableName{"main", s.Table}, "mysql", func(head string) { columns = columnsOf(head) }, func(row []byte) error {
				there = there || s.is(rowOf(columns, string(row), "mysql"))
				return nil
			}))
			assert.Equal(t, want, there, "%s %s", s.Table, s.Name)
		}
	}
}

// A database's structure is compared by what it says, not by where counters
// stand.
func TestDefinitions(t *testing.T) {
	before := collect([]string{"SET NAMES utf8mb4", "CREATE TABLE `a` (\n `id` int\n) ENGINE=InnoDB AUTO_INCREMENT=5", "CREATE TABLE \"b\" (x)", "ALTER TABLE ONLY \"b\" ADD CONSTRAINT c CHECK (x > 0)", "CREATE VIEW v AS SELECT 1"})
	after := collect([]string{"CREATE TABLE `a` (\n `id` int\n) ENGINE=InnoDB AUTO_INCREMENT=9", "CREATE TABLE \"b\" (x)", "CREATE TRIGGER `t` BEFORE INSERT ON a FOR EACH ROW SET @x = 1", "CREATE UNIQUE INDEX i ON b (x)"})
	var got []string
	for _, d := range differ("main", before, after) {
		got = append(got, d.How+" "+d.Object+" "+d.Suspect)
	}
	assert.Equal(t, []string{"added index i ", "changed table b ", "added trigger t code that the database server runs", "removed view v "}, got)
}

// Without a key, rows are a multiset: none of them is another one changed.
func TestRowsWithoutAKey(t *testing.T) {
	side := func(rows string) Texts {
		return func(_ context.Context, _ TableName, w io.Writer) error {
			_, err := io.WriteString(w, "INSERT INTO `visits` (`line`, `n`) VALUES\n"+rows+";\n")
			return err
		}
	}
	got, err := CompareRows(t.Context(), name, "mysql", 4, false, side("('x',1),\n('x',1),\n('y',1)"), side("('x',1),\n('x',2),\n('z',1),\n('z',1)"))
	require.NoError(t, err)
	assert.True(t, got.Keyless)
	assert.Empty(t, got.Changed)
	assert.ElementsMatch(t, []string{"('x',1)", "('y',1)"}, got.Removed)
	assert.ElementsMatch(t, []string{"('x',2)", "('z',1)", "('z',1)"}, got.Added)
}

func TestATextThatIsCutIsAnError(t *testing.T) {
	cut := func(_ context.Context, _ TableName, w io.Writer) error {
		_, err := io.WriteString(w, "INSERT INTO x (a) VALUES\n(1,'and")
		return err
	}
	_, err := CompareRows(t.Context(), name, "mysql", 1, true, cut, cut)
	assert.ErrorContains(t, err, "ends inside")
}

// FuzzRows: whatever an archive or a database makes of a table's text, its rows are told or refused, and a table differs from
// itself in none.
func FuzzRows(f *testing.F) {
	for _, engine := range []string{"mysql", "postgres", "sqlite"} {
		f.Add(spell(engine, []int{1, 2, 30}, func(i int) string { return fmt.Sprintf("it's\t%d\\", i) }))
	}
	f.Add("INSERT INTO `t` (`a``b`, \"c) VALUES\n(CAST('x' AS TEXT),x'0',0x,_utf8mb4'a''b'),((1),'),(');\n")
	f.Fuzz(func(t *testing.T, text string) {
		texts := func(_ context.Context, _ TableName, w io.Writer) error {
			_, err := io.WriteString(w, text)
			return err
		}
		for _, engine := range []string{"mysql", "postgres", "sqlite"} {
			n := int64(0)
			err := EachRecord(t.Context(), texts, name, engine, func(columns, values []string) error {
				n++
				return nil
			})
			for _, keyed := range []bool{true, false} {
				r, again := CompareRows(t.Context(), name, engine, n, keyed, texts, texts)
				require.Equal(t, err == nil, again == nil)
				require.True(t, err != nil || r.AddedRows+r.RemovedRows+r.ChangedRows == 0)
			}
		}
	})
}

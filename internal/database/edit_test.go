package database

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"database/sql"

	"revlet/internal/platform/reason"

	_ "modernc.org/sqlite" // the engine that needs no server
)

func TestEditsAreMadeTogetherOrNotAtAll(t *testing.T) {
	pool, err := sql.Open("sqlite", filepath.Join(t.TempDir(), "x.db"))
	require.NoError(t, err)
	defer pool.Close()
	_, err = pool.ExecContext(t.Context(), `CREATE TABLE "a ""b" (id INTEGER, "c ""d" TEXT); INSERT INTO "a ""b" VALUES (1, 'x'), (2, 'y'), (2, 'z'); CREATE TABLE gone (id INTEGER); INSERT INTO gone VALUES (1), (2)`)
	require.NoError(t, err)
	d := Dialect{Quote: func(s string) string { return quoted(s, `"`) }, Mark: func(int) string { return "?" }, Text: func(c string) string { return "CAST(" + c + " AS TEXT)" }}
	state := func() (all string) {
		require.NoError(t, pool.QueryRowContext(t.Context(), `SELECT (SELECT group_concat("c ""d") FROM "a ""b") || '|' || (SELECT count(*) FROM gone)`).Scan(&all))
		return all
	}
	const table = `a "b`
	set := func(id, to string, exactly int64) Edit {
		return Edit{Table: table, Where: map[string]string{"id": id}, Set: map[string]string{`c "d`: to}, Exactly: exactly}
	}
	leave := Edit{Table: "gone", Where: map[string]string{"id": "1"}}
	for why, edits := range map[string][]Edit{
		"two rows, not one":          {leave, set("2", "new", 1)},
		"none":                       {leave, set("3", "new", 1)},
		"a table that is not there":  {leave, {Table: "no", Where: map[string]string{"id": "1"}}},
		"a value that ends the text": {leave, set("' OR 1=1 --", "new", 1)},
	} {
		err := EditAll(t.Context(), pool, d, edits)
		require.Error(t, err, why)
		assert.Equal(t, "x,y,z|2", state(), why)
	}
	assert.True(t, reason.Is(EditAll(t.Context(), pool, d, []Edit{set("2", "new", 1)}), reason.OtherRows))
	require.NoError(t, EditAll(t.Context(), pool, d, []Edit{set("1", "new", 1), set("2", `'"?`, 2), leave}))
	assert.Equal(t, `new,'"?,'"?|1`, state())

	_, err = pool.ExecContext(t.Context(), `CREATE TRIGGER other AFTER UPDATE ON "a ""b" WHEN NEW.id = 1 BEGIN UPDATE "a ""b" SET "c ""d" = 'theirs' WHERE id = 1; END`)
	require.NoError(t, err)
	assert.True(t, reason.Is(EditAll(t.Context(), pool, d, []Edit{leave, set("1", "ours", 0)}), reason.DoesNotFit), "what was set is not what is kept")
	assert.Equal(t, `new,'"?,'"?|1`, state())
	require.NoError(t, EditAll(t.Context(), pool, d, []Edit{{Table: table, Where: map[string]string{"id": "2"}, Set: map[string]string{}, Null: []string{`c "d`}, Exactly: 2}}))
	assert.Equal(t, `new|1`, state())
}

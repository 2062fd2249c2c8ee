package rowvalues

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/database/sqltext/sqltexttest"
)

// swap changes one text into another, and remembers what it was asked.
type swap struct {
	old, new string
	asked    []string
}

func (s *swap) Mentions(v []byte) bool { return bytes.Contains(v, []byte(s.old)) }

func (s *swap) Value(table, column string, v []byte) []byte {
	s.asked = append(s.asked, table+"."+column+"="+string(v))
	if !s.Mentions(v) {
		return v
	}
	return bytes.ReplaceAll(v, []byte(s.old), []byte(s.new))
}

func changed(t *testing.T, engine, text string, c Changer) (string, error) {
	r, err := NewReader(engine, iotest.OneByteReader(strings.NewReader(text)), c)
	require.NoError(t, err)
	out, err := io.ReadAll(r)
	return string(out), err
}

var rows = map[string]struct{ in, out string }{
	"mysql": {
		in: "SET NAMES binary;\nINSERT INTO `wp_``x` (`id`, `a,b`, `c`) VALUES\n(1,'it\\'s OLD\\n\\\\',0x4f4c4420ff),\n(-2.5e+3,_utf8mb4'[\"OLD\"]',NULL),\n(3,'\\0\\r\\Z none',0x);\n" +
			"INSERT INTO `wp_``x` (`id`, `a,b`, `c`) VALUES\n(4,'OLD),(','OLD');\nCOMMIT;\n",
		out: "SET NAMES binary;\nINSERT INTO `wp_``x` (`id`, `a,b`, `c`) VALUES\n(1,'it\\'s n\\'e\\\\w\\n\\\\',0x6e27655c7720ff),\n(-2.5e+3,_utf8mb4'[\"n\\'e\\\\w\"]',NULL),\n(3,'\\0\\r\\Z none',0x);\n" +
			"INSERT INTO `wp_``x` (`id`, `a,b`, `c`) VALUES\n(4,'n\\'e\\\\w),(','n\\'e\\\\w');\nCOMMIT;\n",
	},
	"postgres": {
		in:  "SET client_encoding = 'UTF8';\nCOPY \"wp\"\"x\" (\"id\", \"a,b\", \"c\") FROM stdin;\n1\tit's OLD\\n\\\\\t\\\\x4f4c4420ff\n2\t\\N\tOLD\\tOLD\n3\t\tnone\\\\.\n\\.\n",
		out: "SET client_encoding = 'UTF8';\nCOPY \"wp\"\"x\" (\"id\", \"a,b\", \"c\") FROM stdin;\n1\tit's n'e\\\\w\\n\\\\\t\\\\x6e27655c7720ff\n2\t\\N\tn'e\\\\w\\tn'e\\\\w\n3\t\tnone\\\\.\n\\.\n",
	},
	"sqlite": {
		in:  "BEGIN;\nINSERT INTO \"wp\"\"x\" (rowid, \"a,b\", \"c\") VALUES\n(1,'it''s OLD\n;),(',x'4f4c4420ff'),\n(2,NULL,CAST(x'004f4c44' AS TEXT)),\n(-3,9e999,'none');\nCOMMIT;\n",
		out: "BEGIN;\nINSERT INTO \"wp\"\"x\" (rowid, \"a,b\", \"c\") VALUES\n(1,'it''s n''e\\w\n;),(',x'6e27655c7720ff'),\n(2,NULL,CAST(x'006e27655c77' AS TEXT)),\n(-3,9e999,'none');\nCOMMIT;\n",
	},
}

func TestRowsChangeInEveryEngine(t *testing.T) {
	for engine, c := range rows {
		s := &swap{old: "OLD", new: `n'e\w`}
		out, err := changed(t, engine, c.in, s)
		require.NoError(t, err, engine)
		assert.Equal(t, c.out, out, engine)
		assert.Contains(t, strings.Join(s.asked, "|"), ".a,b=it's OLD\n", engine)
		out, err = changed(t, engine, c.in, &swap{old: "not there"})
		require.NoError(t, err, engine)
		assert.Equal(t, c.in, out, "nothing changes by itself")
		there, err := changed(t, engine, c.in, &swap{old: "OLD", new: "NEWER"})
		require.NoError(t, err, engine)
		back, err := changed(t, engine, there, &swap{old: "NEWER", new: "OLD"})
		require.NoError(t, err, engine)
		assert.Equal(t, c.in, back, engine)
	}
}

func TestRowsOfAnotherFormAreRefused(t *testing.T) {
	for engine, texts := range map[string][]string{
		"mysql":    {"INSERT INTO t VALUES (1);\n", "INSERT INTO `t` (`a`) VALUES\n(1\n", "INSERT INTO `t` (`a`) VALUES\n('a\n", "INSERT INTO `t` (`a`) VALUES\n('a' 'b');\n", "INSERT INTO `t` (`a`) VALUES (1),\n(2);\n", "INSERT INTO `t` (`a`) VALUES\n(,1);\n", "(1"},
		"postgres": {"COPY t (a FROM stdin;\n", "COPY \"t\" (\"a\") FROM PROGRAM 'x';\n", "COPY \"t\" (\"a\") FROM stdin WITH x;\n"},
		"sqlite": {"INSERT INTO t VALUES (1);\n", "INSERT INTO \"t\" (\"a\") VALUES\n('a);\n", "INSERT INTO \"t\" (\"a\") VALUES\n(CAST(x'00' AS BLOB));\n",
			"INSERT INTO \"t\" (\"a\", \"b\") VALUES\n('a',x0);\n", "INSERT INTO \"t\" (\"a\") VALUES\n(x);\n", "INSERT INTO \"t\" (\"a\") VALUES\n(random());\n", "INSERT INTO \"t\" (\"a\") VALUES\n(\"a\");\n", "INSERT INTO \"t\" (\"a\") VALUES\n(e1);\n"},
	} {
		for _, text := range texts {
			_, err := changed(t, engine, text, &swap{old: "OLD", new: "NEW"})
			if engine == "sqlite" && strings.Contains(text, "('a);") {
				assert.ErrorIs(t, err, io.ErrUnexpectedEOF, text)
				continue
			}
			assert.ErrorIs(t, err, ErrForm, text)
			assert.ErrorIs(t, err, database.ErrForeignSQL, text)
		}
	}
	_, err := NewReader("oracle", nil, nil)
	assert.Error(t, err)
}

// FuzzReader: what does not change comes out as it went in.
func FuzzReader(f *testing.F) {
	for engine, c := range rows {
		f.Add(engine, c.in)
	}
	f.Fuzz(func(t *testing.T, engine, text string) {
		for _, engine := range []string{"mysql", "postgres", "sqlite"} {
			r, err := NewReader(engine, strings.NewReader(text), same{})
			require.NoError(t, err)
			out, err := io.ReadAll(r)
			if err == nil && engine != "sqlite" && string(out) != text {
				t.Fatalf("%s: %q became %q", engine, text, out)
			}
		}
	})
}

func BenchmarkReader(b *testing.B) {
	for engine, c := range map[string]string{
		"mysql":    "INSERT INTO `t` (`a`, `b`, `c`) VALUES\n" + strings.Repeat("(1,'"+strings.Repeat("some text ", 100)+"',0x00ff),\n", 1000),
		"postgres": "COPY \"t\" (\"a\", \"b\", \"c\") FROM stdin;\n" + strings.Repeat("1\t"+strings.Repeat("some text ", 100)+"\t\\\\x00ff\n", 1000),
	} {
		b.Run(engine, func(b *testing.B) {
			b.SetBytes(int64(len(c)))
			for b.Loop() {
				r, err := NewReader(engine, strings.NewReader(c), &quiet{})
				require.NoError(b, err)
				_, err = io.Copy(io.Discard, r)
				require.NoError(b, err)
			}
		})
	}
}

// same looks at everything and changes nothing.
type same struct{}

func (same) Mentions([]byte) bool               { return true }
func (same) Value(_, _ string, v []byte) []byte { return v }

// quiet changes nothing.
type quiet struct{}

func (quiet) Mentions(v []byte) bool             { return false }
func (quiet) Value(_, _ string, v []byte) []byte { return v }

// byRow gives rows of one table, whose column a is "it's", other values.
type byRow struct {
	swap
	set  map[string]string
	seen []string
}

func (*byRow) Looks(table string) bool { return table == "options" }

func (b *byRow) Row(_ string, value func(string) ([]byte, bool)) map[string][]byte {
	var all []string
	for _, column := range []string{"id", "a", "b", "none"} {
		v, ok := value(column)
		all = append(all, string(v))
		if !ok {
			all[len(all)-1] = "NULL"
		}
	}
	b.seen = append(b.seen, strings.Join(all, "|"))
	if all[1] != "it's\n" {
		return nil
	}
	set := map[string][]byte{}
	for column, v := range b.set {
		set[column] = []byte(v)
	}
	return set
}

func TestARowIsChangedByItsOtherValues(t *testing.T) {
	for engine, c := range map[string]struct{ in, out string }{
		"mysql": {
			"INSERT INTO `options` (`id`, `a`, `b`, `c`) VALUES\n(1,'it\\'s\\n','OLD',NULL),\n(-2,'OLD',NULL,0xff);\nINSERT INTO `options` (`id`, `a`, `b`, `c`) VALUES\n(3,0x697427730a,0x4f,'x');\nINSERT INTO `other` (`id`, `a`) VALUES\n(4,'it\\'s\\n');\n",
			"INSERT INTO `options` (`id`, `a`, `b`, `c`) VALUES\n('9\\'','it\\'s\\n','\\\\OLD','z'),\n(-2,'NEW',NULL,0xff);\nINSERT INTO `options` (`id`, `a`, `b`, `c`) VALUES\n('9\\'',0x697427730a,0x5c4f4c44,'z');\nINSERT INTO `other` (`id`, `a`) VALUES\n(4,'it\\'s\\n');\n",
		},
		"postgres": {
			"COPY \"options\" (\"id\", \"a\", \"b\", \"c\") FROM stdin;\n1\tit's\\n\tOLD\t\\N\n-2\tOLD\t\\N\t\\\\xff\n3\tit's\\n\t\\\\x4f\tx\n\\.\nCOPY \"other\" (\"id\", \"a\") FROM stdin;\n4\tit's\\n\n\\.\n",
			"COPY \"options\" (\"id\", \"a\", \"b\", \"c\") FROM stdin;\n9'\tit's\\n\t\\\\OLD\tz\n-2\tNEW\t\\N\t\\\\xff\n9'\tit's\\n\t\\\\x5c4f4c44\tz\n\\.\nCOPY \"other\" (\"id\", \"a\") FROM stdin;\n4\tit's\\n\n\\.\n",
		},
		"sqlite": {
			"INSERT INTO \"options\" (\"id\", \"a\", \"b\", \"c\") VALUES\n(1,'it''s\n','OLD',NULL),\n(-2,'OLD',NULL,x'ff'),\n(3,CAST(x'697427730a' AS TEXT),x'4f','x');\nINSERT INTO \"other\" (\"id\", \"a\") VALUES\n(4,'it''s\n');\n",
			"INSERT INTO \"options\" (\"id\", \"a\", \"b\", \"c\") VALUES\n('9''','it''s\n','\\OLD','z'),\n(-2,'NEW',NULL,x'ff'),\n('9''',CAST(x'697427730a' AS TEXT),x'5c4f4c44','z');\nINSERT INTO \"other\" (\"id\", \"a\") VALUES\n(4,'it''s\n');\n",
		},
	} {
		b := &byRow{swap: swap{old: "OLD", new: "NEW"}, set: map[string]string{"id": "9'", "b": `\OLD`, "c": "z", "unknown": "x"}}
		out, err := changed(t, engine, c.in, b)
		require.NoError(t, err, engine)
		assert.Equal(t, c.out, out, engine)
		assert.Equal(t, []string{"1|it's\n|OLD|NULL", "-2|OLD|NULL|NULL", "3|it's\n|O|NULL"}, b.seen, engine)
	}
}

func TestRowsAreReadInTimeThatGrowsWithTheirLength(t *testing.T) {
	for engine, frame := range map[string]func(text string) string{
		"mysql": func(text string) string {
			return "INSERT INTO `t` (`a`) VALUES\n('" + strings.NewReplacer("'", "\\'", "\n", "\\n", `\`, `\\`).Replace(text) + "');\n"
		},
		"postgres": func(text string) string {
			return "COPY \"t\" (\"a\") FROM stdin;\n" + strings.NewReplacer("\n", `\n`, `\`, `\\`, "\t", `\t`).Replace(text) + "\n\\.\n"
		},
		"sqlite": func(text string) string {
			return "INSERT INTO \"t\" (\"a\") VALUES\n('" + strings.ReplaceAll(text, "'", "''") + "');\n"
		},
	} {
		for _, whole := range []bool{true, false} {
			sqltexttest.Linear(t, func(text string) {
				if whole {
					text = frame(text)
				}
				r, err := NewReader(engine, strings.NewReader(text), &byRow{swap: swap{old: "OLD", new: "NEW"}})
				require.NoError(t, err)
				_, _ = io.Copy(io.Discard, r)
			})
		}
	}
}

// Long values go another way: the text that comes out is the same.
func TestLongValuesComeOutAsShortOnesDo(t *testing.T) {
	long := strings.Repeat("it's a \\ long\n\tnight ", large/20)
	for engine, frame := range map[string]func(text string) string{
		"mysql": func(text string) string {
			return "INSERT INTO `t` (`a`, `b`, `c`) VALUES\n(1,'" + string(inMySQL.escape(nil, []byte(text))) + "','" + string(inMySQL.escape(nil, []byte("x"+text))) + "'),\n(2,'x',NULL);\n"
		},
		"postgres": func(text string) string {
			return "COPY \"t\" (\"a\", \"b\", \"c\") FROM stdin;\n1\t" + string(inCopy.escape(nil, []byte(text))) + "\t" + string(inCopy.escape(nil, []byte("x"+text))) + "\n2\tx\t\\N\n\\.\n"
		},
		"sqlite": func(text string) string {
			return "INSERT INTO \"t\" (\"a\", \"b\", \"c\") VALUES\n(1,'" + strings.ReplaceAll(text, "'", "''") + "','x" + strings.ReplaceAll(text, "'", "''") + "'),\n(2,'x',NULL);\n"
		},
	} {
		for _, end := range []string{"OLD", "nothing"} {
			r, err := NewReader(engine, strings.NewReader(frame(long+end)), &swap{old: "OLD", new: `n'e\w`})
			require.NoError(t, err)
			out, err := io.ReadAll(r)
			require.NoError(t, err)
			want := frame(long + strings.ReplaceAll(end, "OLD", `n'e\w`))
			if string(out) != want { // not shown: it is long
				t.Errorf("%s, %s: %d bytes came out, %d were to", engine, end, len(out), len(want))
			}
		}
	}
}

package postgres

import (
	"bufio"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheSchemasNameIsTakenOff(t *testing.T) {
	for in, want := range map[string]string{
		"CREATE INDEX i ON public.t USING btree (a)":          "CREATE INDEX i ON t USING btree (a)",
		"SELECT 'public.t', $$public.u$$, public.v":           "SELECT 'public.t', $$public.u$$, v",
		"my_public.t, \"public.t\", x.public.t, public.\"a\"": "my_public.t, \"public.t\", x.public.t, \"a\"",
		"DEFAULT E'it\\'s public.x' || public.f()":            "DEFAULT E'it\\'s public.x' || f()",
		"AS $body$ it's public.x $body$ public.y":             "AS $body$ it's public.x $body$ y",
	} {
		assert.Equal(t, want, relative(in, "public."), in)
	}
}

func TestRowsEndAtTheMark(t *testing.T) {
	in := bufio.NewReaderSize(strings.NewReader("1\ta\n2\t\\\\.\n"+strings.Repeat("x", 70000)+"\n\\.\nafter"), 4096)
	data, err := io.ReadAll(&untilEnd{lines: linesOf(in)})
	require.NoError(t, err)
	assert.Equal(t, "1\ta\n2\t\\\\.\n"+strings.Repeat("x", 70000)+"\n", string(data))
	rest, _ := io.ReadAll(in)
	assert.Equal(t, "after", string(rest))
	_, err = io.ReadAll(&untilEnd{lines: linesOf(bufio.NewReader(strings.NewReader("1\n")))})
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

func FuzzRelative(f *testing.F) {
	f.Add("SELECT $a$;$a$ E'\\';' \"x public.y")
	f.Fuzz(func(t *testing.T, text string) {
		out := relative(text, "public.")
		assert.LessOrEqual(t, len(out), len(text))
		assert.Equal(t, out, relative(out, "no_such."), "nothing else changes")
	})
}

package portable

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// Whatever the lengths: pieces read as one file are what was written.
func TestPiecesReadAsOneFile(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for range 60 {
		dir := t.TempDir()
		want := make([]byte, 1+r.IntN(5000))
		for i := range want {
			want[i] = byte(r.Uint32())
		}
		p := &pieces{disk: &disk.Disk{}, base: filepath.Join(dir, "m.zip"), most: 1 + r.Int64N(900)}
		for rest := want; len(rest) > 0; {
			n := 1 + r.IntN(len(rest))
			_, err := p.Write(rest[:n])
			require.NoError(t, err)
			rest = rest[n:]
		}
		written, err := p.finish()
		require.NoError(t, err)
		require.Len(t, written, (len(want)+int(p.most)-1)/int(p.most)+1)
		named := written[:len(written)-1]
		r.Shuffle(len(named), func(i, k int) { named[i], named[k] = named[k], named[i] })
		if r.IntN(2) == 0 {
			require.NoError(t, os.Remove(p.base+sums)) // the names have to do
		}
		j, err := gather(named)
		require.NoError(t, err)
		assert.EqualValues(t, len(want), j.Size())
		got, err := io.ReadAll(io.NewSectionReader(j, 0, j.Size()))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got))
		for range 20 {
			from := r.IntN(len(want))
			buf := make([]byte, 1+r.IntN(2000))
			n, err := j.ReadAt(buf, int64(from))
			require.Equal(t, want[from:min(from+len(buf), len(want))], buf[:n])
			require.True(t, err == nil && n == len(buf) || errors.Is(err, io.EOF) && from+n == len(want))
		}
		require.NoError(t, j.Close())
	}
}

func TestAnExportThatFailsLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	full := &disk.Disk{}
	p := &pieces{disk: full, base: filepath.Join(dir, "m.zip"), most: 10}
	_, err := p.Write([]byte("twenty-five characters ..."))
	require.NoError(t, err)
	full.Fault = func(op, _ string) error {
		if op == "rename" {
			return errors.New("no space left on device")
		}
		return nil
	}
	_, err = p.finish()
	require.Error(t, err)
	p.abandon()
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestSQLThatWasCutIsRefused(t *testing.T) {
	dir := t.TempDir()
	for text, whole := range map[string]bool{
		"CREATE TABLE a (b INT);\n":                                                                                                    true,
		"INSERT INTO a VALUES (1);\n-- Dump completed on 2026-11-23\n":                                                                 true,
		"COMMIT;\n/*!40101 SET CHARACTER_SET_CLIENT=@OLD */;\n\n":                                                                      true,
		"COPY a (b) FROM stdin;\n1\n\\.\n\n--\n-- PostgreSQL database dump complete\n":                                                 true,
		"-- MariaDB dump 10.19\nCREATE TABLE a (b INT);\n":                                                                             false,
		"-- MySQL dump 10.13\nCREATE TABLE a (b INT);\n-- Dump completed on 2026-11-23\n":                                              true,
		"--\n-- PostgreSQL database dump\n--\nCREATE TABLE a (b int);\n":                                                               false,
		"--\n-- PostgreSQL database dump\n--\nCREATE TABLE a (b int);\n--\n-- PostgreSQL database dump complete\n--\n\\unrestrict x\n": true,
		"INSERT INTO a VALUES (1), (2":                                                                                                 false,
		"CREATE TABLE a (b INT);\nINSERT INTO a VALUES\n(1),\n":                                                                        false,
		"":                      false,
		"-- only a comment\n\n": false,
	} {
		from := filepath.Join(dir, "dump.sql")
		require.NoError(t, os.WriteFile(from, []byte(text), 0o600))
		err := unpackSQL(&disk.Disk{}, from, filepath.Join(dir, "out.sql"))
		assert.Equal(t, whole, err == nil, fmt.Sprintf("%q: %v", text, err))
	}
}

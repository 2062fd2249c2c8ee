package portable

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sqlText is longer than what is looked at, and compresses badly.
var sqlText = func() string {
	var b strings.Builder
	b.WriteString("-- MariaDB dump 10.19\nCREATE TABLE log (id INT);\n")
	for i := range 40000 {
		b.WriteString("INSERT INTO log VALUES (" + strings.Repeat(string(rune('1'+i*i%7)), i%29+1) + ");\n")
	}
	return b.String() + "-- Dump completed on 2026-11-23\n"
}()

// readSQL is what OpenSQL gives of a file of that content.
func readSQL(t *testing.T, name string, content []byte) (string, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, content, 0o600))
	r, done, err := OpenSQL(file)
	if err != nil {
		return "", err
	}
	defer done()
	text, err := io.ReadAll(r)
	return string(text), err
}

func gzipped(t *testing.T, text string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := io.WriteString(z, text)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

func zipped(t *testing.T, files map[string]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range files {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestSQLIsReadWhateverItIsPackedIn(t *testing.T) {
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	for name, content := range map[string][]byte{
		"plain.sql": []byte(sqlText), "bom.sql": []byte("\ufeff" + sqlText), "a.sql.gz": gzipped(t, sqlText), "misnamed.sql": gzipped(t, sqlText), "a.sql.zst": enc.EncodeAll([]byte(sqlText), nil),
		"a.sql.zip": zipped(t, map[string]string{"museum.sql": sqlText}), "folder.zip": zipped(t, map[string]string{"dump/": "", "dump/museum.sql": "\ufeff" + sqlText}),
		"warned.sql": []byte("mysqldump: [Warning] Using a password on the command line interface can be insecure.\n" + sqlText),
	} {
		text, err := readSQL(t, name, content)
		require.NoError(t, err, name)
		assert.True(t, text == sqlText, name)
	}
	if bzip2, err := exec.LookPath("bzip2"); err == nil {
		cmd := exec.Command(bzip2, "-c")
		cmd.Stdin = strings.NewReader(sqlText)
		packed, err := cmd.Output()
		require.NoError(t, err)
		text, err := readSQL(t, "a.sql.bz2", packed)
		require.NoError(t, err)
		assert.True(t, text == sqlText)
	}
}

func TestSQLThatBreaksOffIsNoText(t *testing.T) {
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	half := func(b []byte) []byte { return b[:len(b)/2] }
	cut := strings.TrimSuffix(sqlText, "-- Dump completed on 2026-11-23\n")
	for name, c := range map[string]struct {
		content []byte
		says    string
	}{
		"gzip":     {half(gzipped(t, sqlText)), "unexpected EOF"},
		"zstd":     {half(enc.EncodeAll([]byte(sqlText), nil)), "unexpected EOF"},
		"zip":      {half(zipped(t, map[string]string{"a.sql": sqlText})), "a ZIP file that is cut"},
		"two":      {zipped(t, map[string]string{"a.sql": sqlText, "b.sql": sqlText}), "a ZIP file of 2 files"},
		"plain":    {[]byte(cut), "it is cut"},
		"packed":   {gzipped(t, cut), "it is cut"},
		"middle":   {[]byte(cut[:len(cut)-4]), "it is cut"},
		"utf-16":   {[]byte("\xff\xfe-\x00-\x00"), "it is UTF-16"},
		"xz":       {[]byte("\xfd7zXZ\x00\x00"), "compressed by xz"},
		"empty":    {nil, "it is empty"},
		"comments": {[]byte("-- nothing\n"), "no statement"},
	} {
		_, err := readSQL(t, "a.sql", c.content)
		assert.ErrorContains(t, err, c.says, name)
	}
}

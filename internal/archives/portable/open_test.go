package portable

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// unpacked opens a file that was made by hand, and gives the folder that it lies in.
func unpacked(t *testing.T, name string, content []byte) (string, error) {
	t.Helper()
	file, dir := filepath.Join(t.TempDir(), name), t.TempDir()
	require.NoError(t, os.WriteFile(file, content, 0o600))
	o, err := Open(t.Context(), &disk.Disk{}, []string{file}, dir)
	if err != nil {
		return "", err
	}
	return o.Root, nil
}

func TestNamesInZIPFiles(t *testing.T) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, h := range []zip.FileHeader{
		{Name: "site/B\x81cher.jpg", NonUTF8: true}, // the Explorer of a Windows before 11
		{Name: "site/Bilder/Öl.jpg", NonUTF8: true}, // UTF-8 that is not marked, as a Mac writes it
		{Name: "site/Käse.jpg"},
		{Name: `site\css\a.css`, NonUTF8: true},
	} {
		w, err := z.CreateHeader(&h)
		require.NoError(t, err)
		_, err = io.WriteString(w, "x")
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	root, err := unpacked(t, "site.zip", b.Bytes())
	require.NoError(t, err)
	for _, name := range []string{"Bücher.jpg", "Bilder/Öl.jpg", "Käse.jpg", "css/a.css"} {
		assert.FileExists(t, filepath.Join(root, name))
	}
}

// A tar file that was added to holds some files twice.
func TestOfAFileThatIsThereTwiceTheLastCounts(t *testing.T) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	add := func(h tar.Header, text string) {
		h.Size, h.Mode = int64(len(text)), 0o644
		require.NoError(t, w.WriteHeader(&h))
		_, err := io.Copy(w, strings.NewReader(text))
		require.NoError(t, err)
	}
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, []byte("mine"), 0o600))
	add(tar.Header{Name: "site/index.php", Typeflag: tar.TypeReg}, "old")
	add(tar.Header{Name: "site/away", Typeflag: tar.TypeSymlink, Linkname: outside}, "")
	add(tar.Header{Name: "site/index.php", Typeflag: tar.TypeReg}, "new")
	add(tar.Header{Name: "site/folder/a", Typeflag: tar.TypeReg}, "a")
	require.NoError(t, w.Close())
	root, err := unpacked(t, "site.tar", b.Bytes())
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(root, "index.php"))
	require.NoError(t, err)
	assert.Equal(t, "new", string(text))

	b.Reset()
	w = tar.NewWriter(&b)
	add(tar.Header{Name: "site/folder/a", Typeflag: tar.TypeReg}, "a")
	add(tar.Header{Name: "site/folder", Typeflag: tar.TypeReg}, "no folder")
	require.NoError(t, w.Close())
	_, err = unpacked(t, "site.tar", b.Bytes())
	assert.ErrorIs(t, err, os.ErrExist)
	text, err = os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(text))
}

// A few bytes that say that the record is /dev/zero had an import take all of the machine's memory; links in the place of the other things
// of a portable archive had it read what they lead to.
func TestLinksInAPortableArchiveAreNotRead(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.MkdirAll(filepath.Join(secret, "webroot"), 0o755))
	for name, target := range map[string]string{
		RecordName: "/dev/zero", ListName: "/dev/zero", FilesDir: secret, DatabaseDir: secret,
		filepath.Join(FilesDir, "webroot"): secret, filepath.Join(DatabaseDir, "main.sql"): "/dev/zero", RecordName + " of 33 MiB": "",
	} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		head := &tar.Header{Name: name, Linkname: target, Typeflag: tar.TypeSymlink, Mode: 0o777}
		var content []byte
		if target == "" {
			content = bytes.Repeat([]byte(" "), mostRecord+1)
			head = &tar.Header{Name: RecordName, Typeflag: tar.TypeReg, Mode: 0o600, Size: int64(len(content))}
		} else if name != RecordName {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: RecordName, Typeflag: tar.TypeReg, Mode: 0o600, Size: 2}))
			_, err := w.Write([]byte("{}"))
			require.NoError(t, err)
		}
		require.NoError(t, w.WriteHeader(head))
		_, err := w.Write(content)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		file := filepath.Join(t.TempDir(), "museum.tar")
		require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
		_, err = Open(t.Context(), &disk.Disk{}, []string{file}, t.TempDir())
		if target == "" {
			assert.ErrorContains(t, err, "larger than")
		} else {
			assert.ErrorContains(t, err, name+" is a link", target)
		}
	}
}

package backup

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/site/tree"
)

// info describes a file that need not exist.
type info struct {
	fs.FileInfo
	size int64
}

func (i info) Size() int64 { return i.size }

func TestPartsAreCutInPathOrder(t *testing.T) {
	var jobs []job
	p := &planner{emit: func(j job) error { jobs = append(jobs, j); return nil }}
	add := func(name string, size int64) {
		require.NoError(t, p.add(planned{name: name, info: info{size: size}}))
	}
	add("a.html", 40<<20)
	add("b.jpg", 10<<20)
	add("c.html", 40<<20) // does not fit with a
	add("d.iso", 200<<20) // a part by itself
	add("e.PNG", 10<<20)  // goes with b
	for i := range partFiles + 1 {
		add(fmt.Sprintf("f/%05d.txt", i), 1)
	}
	require.NoError(t, p.finish())
	var got []string
	for _, j := range jobs {
		got = append(got, fmt.Sprintf("%s+%d %v", j.files[0].name, len(j.files), j.compress))
	}
	assert.Equal(t, []string{"a.html+1 true", "d.iso+1 true", "c.html+8192 true", "b.jpg+2 false", "f/08191.txt+2 true"}, got)
}

// packing makes a packer and the means to run it on one file.
func packing(t *testing.T) (*packer, *[]archive.Gap, func(path string, last bool) (archive.Entry, bool, []byte, error)) {
	enc, err := archive.NewEncoder()
	require.NoError(t, err)
	gaps := &[]archive.Gap{}
	k := &packer{disk: &disk.Disk{}, enc: enc, gap: func(g archive.Gap) { *gaps = append(*gaps, g) }, pace: func(int64) {}}
	return k, gaps, func(path string, last bool) (archive.Entry, bool, []byte, error) {
		var b bytes.Buffer
		tw := &tarWriter{tar.NewWriter(&b), &whole{}}
		fi, err := os.Lstat(path)
		require.NoError(t, err)
		e, ok, err := k.file(tw, planned{in: tree.Local(k.disk).Anywhere(t.Context()), rel: path, name: "webroot/" + filepath.Base(path), info: fi}, last)
		_ = tw.Flush()
		return e, ok, b.Bytes(), err
	}
}

func TestAFileThatVanishesIsNoGap(t *testing.T) {
	k, gaps, _ := packing(t)
	_, ok, err := k.file(nil, planned{in: tree.Local(nil).Anywhere(t.Context()), rel: filepath.Join(t.TempDir(), "gone"), name: "webroot/gone"}, false)
	require.NoError(t, err)
	assert.False(t, ok)
	assert.Empty(t, *gaps)
}

func TestAReadErrorIsAGap(t *testing.T) {
	k, gaps, pack := packing(t)
	file := filepath.Join(t.TempDir(), "bad")
	require.NoError(t, os.WriteFile(file, []byte("x"), 0o600))
	k.disk.Fault = func(op, _ string) error {
		if op == "read" {
			return fmt.Errorf("input/output error")
		}
		return nil
	}
	_, ok, _, err := pack(file, false)
	require.NoError(t, err)
	assert.False(t, ok)
	require.Len(t, *gaps, 1)
	assert.Equal(t, archive.Gap{Path: "webroot/bad", Kind: archive.GapUnreadable, Why: "input/output error"}, (*gaps)[0])

	k.disk.Fault = func(string, string) error { return syscall.EMFILE }
	_, _, _, err = pack(file, false)
	assert.ErrorIs(t, err, syscall.EMFILE, "a machine that has no more to read with says nothing of the file")
	assert.Len(t, *gaps, 1)
}

// TestALargeFileThatGrows is read again, and on the last try taken as long as
// it was when reading began.
func TestALargeFileThatGrows(t *testing.T) {
	k, gaps, pack := packing(t)
	file := filepath.Join(t.TempDir(), "log")
	require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte("a"), wholeBytes+10), 0o600))
	grown := int64(0)
	k.pace = func(int64) {
		f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.Write([]byte("more"))
		require.NoError(t, err)
		require.NoError(t, f.Close())
		grown += 4
		require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(time.Duration(grown)*time.Second)))
	}
	_, _, _, err := pack(file, false)
	assert.ErrorIs(t, err, errMoving)
	e, ok, data, err := pack(file, true)
	require.NoError(t, err)
	assert.True(t, ok)
	require.Len(t, *gaps, 1)
	assert.Equal(t, archive.GapMoving, (*gaps)[0].Kind)
	tr := tar.NewReader(bytes.NewReader(data))
	h, err := tr.Next()
	require.NoError(t, err)
	content, err := io.ReadAll(tr)
	require.NoError(t, err)
	assert.EqualValues(t, e.Size, len(content))
	assert.Equal(t, h.Size, e.Size)
}

func TestCompressedFilesGoApart(t *testing.T) {
	assert.False(t, archive.Packed("a/b.HTML"))
	for _, name := range []string{"a.JPG", "b.tar.gz", "c.woff2", "d.mp4"} {
		assert.True(t, archive.Packed(name), name)
	}
}

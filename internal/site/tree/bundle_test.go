package tree

import (
	"archive/tar"
	"bufio"
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// known is what a survey has told of two files.
func known() map[string]*surveyed {
	all := map[string]*surveyed{}
	for i, name := range []string{"a.css", "b.css"} {
		all[name] = &surveyed{name: name, size: 5, mode: 0o644, mtime: time.Unix(100, 0), stat: Stat{Inode: uint64(i), Dev: 7, CTime: time.Unix(200, 3)}}
	}
	return all
}

// tarred is a tar as GNU's writes it.
func tarred(t *testing.T, headers ...tar.Header) string {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range headers {
		require.NoError(t, w.WriteHeader(&h))
		_, err := io.WriteString(w, strings.Repeat("x", int(h.Size)))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	out.Write(make([]byte, bundleBlock-out.Len()%bundleBlock))
	return out.String()
}

func file(name string, size int64) tar.Header {
	return tar.Header{Name: "./" + name, Size: size, Typeflag: tar.TypeReg, Mode: 0o600}
}

func now(i int, name string) string {
	return fmt.Sprintf("81a4 5 100.000000000 200.000000003 %d 7\x00./%s\x00", i, name)
}

// Of what a far end sends in one stream only that is taken which was asked for, and is proved.
func TestBundlesThatCannotBe(t *testing.T) {
	good := tarred(t, file("a.css", 5), file("b.css", 5))
	is := bundleMark + now(0, "a.css") + now(1, "b.css") + bundleEnd
	for name, c := range map[string]struct {
		text  string
		found []string
		bad   bool
	}{
		"good":                  {good + is, []string{"a.css", "b.css"}, false},
		"one has changed":       {good + bundleMark + now(0, "a.css") + strings.Replace(now(1, "b.css"), "200.000000003", "200.000000004", 1) + bundleEnd, []string{"a.css"}, false},
		"another file":          {good + bundleMark + now(0, "a.css") + now(2, "b.css") + bundleEnd, []string{"a.css"}, false},
		"now a link":            {good + bundleMark + now(0, "a.css") + strings.Replace(now(1, "b.css"), "81a4", "a1ff", 1) + bundleEnd, []string{"a.css"}, false},
		"other rights":          {good + bundleMark + now(0, "a.css") + strings.Replace(now(1, "b.css"), "81a4", "89a4", 1) + bundleEnd, []string{"a.css"}, false},
		"nothing is told of it": {good + bundleMark + now(0, "a.css") + bundleEnd, []string{"a.css"}, false},
		"another length":        {tarred(t, file("a.css", 5), file("b.css", 6)) + is, []string{"a.css"}, false},
		"a link":                {tarred(t, file("a.css", 5), tar.Header{Name: "./b.css", Typeflag: tar.TypeSymlink, Linkname: "a.css"}) + is, []string{"a.css"}, false},
		"strange numbers":       {good + bundleMark + now(0, "a.css") + "81a4 five\x00./b.css\x00" + bundleEnd, []string{"a.css"}, false},
		"twice":                 {tarred(t, file("a.css", 5), file("a.css", 5)) + is, nil, true},
		"what nobody asked for": {tarred(t, file("c.css", 5)) + is, nil, true},
		"a path that climbs":    {tarred(t, file("../a.css", 5)) + is, nil, true},
		"no end":                {good + bundleMark + now(0, "a.css"), nil, true},
		"no mark":               {good + now(0, "a.css") + now(1, "b.css") + bundleEnd, nil, true},
		"an endless answer":     {good + bundleMark + now(0, "a.css") + now(1, "b.css") + now(1, "b.css") + bundleEnd, nil, true},
		"nothing is proved":     {good + bundleMark + bundleEnd, nil, true},
		"a message":             {"This account is for SFTP only.\n" + is, nil, true},
		"cut":                   {good[:700], nil, true},
		"too long":              {tarred(t, file("a.css", 5), file("b.css", 1<<20)) + is, nil, true},
		"nothing":               {"", nil, true},
	} {
		found, err := readBundle(bufio.NewReader(strings.NewReader(c.text)), known())
		if c.bad {
			assert.ErrorIs(t, err, errBundle, name)
			continue
		}
		require.NoError(t, err, name)
		var names []string
		for _, n := range []string{"a.css", "b.css"} {
			if w, ok := found[n]; ok {
				names = append(names, n)
				assert.Equal(t, "xxxxx", string(w.Data))
			}
		}
		assert.Equal(t, c.found, names, name)
		assert.Len(t, found, len(names), name)
	}
}

func FuzzBundle(f *testing.F) {
	f.Add([]byte(bundleMark + now(0, "a.css") + bundleEnd))
	f.Fuzz(func(t *testing.T, after []byte) {
		head := tarred(t, file("a.css", 5))
		for _, text := range []string{head + string(after), string(after)} {
			found, err := readBundle(bufio.NewReader(strings.NewReader(text)), known())
			for name, w := range found {
				if err == nil && (known()[name] == nil || len(w.Data) != 5 || w.Info.Mode() != fs.FileMode(0o644)) {
					t.Fatalf("%q", name)
				}
			}
		}
	})
}

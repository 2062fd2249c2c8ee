package compare

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"revlet/internal/site"
	"revlet/internal/site/sitepath"
)

// Text is the content of a file on one side.
type Text struct {
	There   bool
	Content string
}

// longestText is how long a text may be that is shown line by line.
const longestText = 8 << 20

// TextIn reads a text file, relative to the webroot, on one side. One that is not
// there is no error; one that is no text, or too long, is.
func TextIn(ctx context.Context, side Side, rel string) (Text, error) {
	if !sitepath.IsLocal(rel) {
		return Text{}, fmt.Errorf("%s is not a path in the webroot", rel)
	}
	content, err := contentIn(ctx, side, rel)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return Text{}, nil
	case err != nil:
		return Text{}, err
	case len(content) > longestText:
		return Text{}, fmt.Errorf("%s is too long to show line by line (over %d MiB)", rel, longestText>>20)
	case bytes.IndexByte(content, 0) >= 0:
		return Text{}, fmt.Errorf("%s is no text", rel)
	}
	return Text{There: true, Content: string(content)}, nil
}

// nameOf is the name of a path in lists: in the webroot, or in the folder that it begins with.
func nameOf(rel string, folders map[string]string) string {
	if label, _, deeper := strings.Cut(rel, "/"); deeper && folders[label] != "" && label != site.RootLabel {
		return rel
	}
	return site.RootLabel + "/" + rel
}

func contentIn(ctx context.Context, side Side, rel string) ([]byte, error) {
	switch s := side.(type) {
	case Archive:
		return s.ReadFile(ctx, nameOf(rel, s.Origin.Roots))
	case *Live:
		f, done, err := s.open(ctx, s.Site.RealName(nameOf(rel, s.Site.Folders())))
		if err != nil {
			return nil, err
		}
		defer done()
		return io.ReadAll(io.LimitReader(f, longestText+1))
	}
	return nil, fmt.Errorf("%T has no files", side)
}

// TextLines are the lines that differ, with three around them, as POSIX `diff -u`
// writes them below its header.
func TextLines(before, after Text) []string {
	unified := udiff.Unified("before", "after", before.Content, after.Content)
	if unified == "" {
		return nil
	}
	lines := strings.SplitAfter(strings.TrimSuffix(unified, "\n"), "\n")
	return lines[2:]
}

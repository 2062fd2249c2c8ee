package move

import (
	"fmt"
	"io/fs"
	"regexp"
	"strings"

	"github.com/dustin/go-humanize"

	"revlet/internal/platform/disk"
)

var (
	// dumpName is a database that somebody has exported; packedName are files that somebody
	// has packed, or settings that somebody has saved under another name.
	dumpName   = regexp.MustCompile(`(?i)\.sql(?:\.(?:gz|bz2|xz|zst|zip))?$`)
	packedName = regexp.MustCompile(`(?i)(?:\.(?:zip|7z|rar|tar|tgz|tbz2?|txz|tar\.(?:gz|bz2|xz|zst))|\.php(?:~|\.?(?:bak|old|save|orig|swp|txt|[0-9]+)))$`)
)

// mostNamed is how many files a note names.
const mostNamed = 20

// leftovers takes exported databases out of the top of the webroot, where anybody could
// download them, and names what else lies there that was hardly meant for visitors. The
// archive holds all of it still.
func (p *Plan) leftovers(tree *disk.Root) error {
	entries, err := fs.ReadDir(tree.FS(), ".")
	if err != nil {
		return err
	}
	var gone, open []string
	for _, e := range entries {
		if !e.Type().IsRegular() || !dumpName.MatchString(e.Name()) && !packedName.MatchString(e.Name()) {
			continue
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		named := fmt.Sprintf("%s (%s)", e.Name(), humanize.Bytes(uint64(max(0, info.Size()))))
		if !dumpName.MatchString(e.Name()) {
			open = append(open, named)
			continue
		}
		if err := tree.Remove(e.Name()); err != nil {
			return err
		}
		gone = append(gone, named)
	}
	p.noteFiles("left out of the webroot, where anybody could download it (the archive has it)", gone)
	p.noteFiles("in the webroot, where anybody can download it; look whether that is meant", open)
	return nil
}

func (p *Plan) noteFiles(what string, names []string) {
	if more := len(names) - mostNamed; more > 0 {
		names = append(names[:mostNamed], fmt.Sprintf("and %d more", more))
	}
	if len(names) > 0 {
		p.notes = append(p.notes, Note{Text: what + ": " + strings.Join(names, ", ")})
	}
}

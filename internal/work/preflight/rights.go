package preflight

import (
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"revlet/internal/platform/disk"
	"revlet/internal/site/tree"
)

// owners counts what in the site's folders the account that the webroot belongs to could not look after.
type owners struct {
	// account is the webroot's owner.
	account int
	// foreign are paths of other accounts, closed those of them that the owner may not read.
	foreign, closed int64
	// stateTimes tells that the place knows when what is known of a file was last changed.
	stateTimes bool
}

func (o *owners) visit(webroot bool, info fs.FileInfo) {
	st, ok := tree.StatOf(info)
	o.stateTimes = o.stateTimes || ok && !st.CTime.IsZero()
	switch {
	case !ok:
	case webroot:
		o.account = st.UID
	case st.UID != o.account:
		o.foreign++
		if info.Mode()&fs.ModeSymlink == 0 && info.Mode().Perm()&0o044 == 0 {
			o.closed++
		}
	}
}

// rights says what this account needs its rights for: as root, whether less would do.
func (r *run) rights(o owners) {
	name := disk.AccountName(o.account)
	above := filepath.Dir(r.Site.Root)
	info, err := os.Stat(above)
	st, ok := disk.AttributesOf(info)
	ownersOwn := err == nil && ok && st.UID == o.account && info.Mode().Perm()&0o200 != 0
	if os.Geteuid() != 0 {
		r.withoutRoot(o, above)
		return
	}
	var needs []string
	if o.closed > 0 {
		needs = append(needs, fmt.Sprintf("to read what belongs to others and is closed to %s (%s)", name, paths(o.closed)))
	}
	if o.foreign > 0 {
		needs = append(needs, fmt.Sprintf("to give back what belongs to others (%s)", paths(o.foreign)))
	}
	if !ownersOwn {
		needs = append(needs, fmt.Sprintf("to exchange the webroot in one step: %s is not %s's", above, name))
	}
	switch {
	case o.account == 0:
		r.add(Passed, "rights", "runs as root, and the site belongs to root")
	case len(needs) == 0:
		r.add(Passed, "rights", "runs as root, which this site's files need not: the account %s is enough (docs/SECURITY.md, least rights)", name)
	default:
		r.add(Passed, "rights", "runs as root, which it needs %s", strings.Join(needs, "; "))
	}
}

// withoutRoot says what an account of its own cannot do.
func (r *run) withoutRoot(o owners, above string) {
	if o.foreign > 0 {
		r.add(Look, "rights", "some of it belongs to other accounts (%s); a restore by this one makes it its own", paths(o.foreign))
	}
	folders := r.Site.Folders()
	closed, oneStep := false, true
	for _, label := range slices.Sorted(maps.Keys(folders)) {
		dir, above := folders[label], filepath.Dir(folders[label])
		switch {
		case !disk.Writable(dir):
			closed = true
			r.add(Look, "rights", "%s belongs to %s, and this account may not write there: it can save the site; a restore has to run as %s, or as root", dir, ownerOf(dir), ownerOf(dir))
		case !disk.Writable(above):
			oneStep = false
			r.add(Look, "rights", "%s cannot be written to: a restore exchanges the content of %s name by name, not in one step", above, dir)
		}
	}
	if o.foreign == 0 && oneStep && !closed {
		r.add(Passed, "rights", "this account is enough: everything belongs to it, and it may write to %s", above)
	}
}

// ownerOf names the account that a folder belongs to.
func ownerOf(dir string) string {
	info, err := os.Stat(dir)
	if err != nil {
		return "somebody else"
	}
	st, _ := disk.AttributesOf(info)
	return disk.AccountName(st.UID)
}

func paths(n int64) string {
	if n == 1 {
		return "1 path"
	}
	return humanize.Comma(n) + " paths"
}

package restore

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"sync"

	"revlet/internal/platform/disk"
	"revlet/internal/work/unpack"
)

// noted is what this system does not keep of a tree that is made ready for another machine:
// permissions, and links.
type noted struct {
	mu    sync.Mutex
	paths map[string]kept
}

type kept struct {
	mode   fs.FileMode
	target string
}

// noteIn has what this system does not keep of f's tree noted while it is unpacked.
func (r *run) noteIn(t *unpack.Tree, f *FilesPlan) {
	if disk.KeepsModes || f.On == "" {
		return
	}
	f.noted = &noted{paths: map[string]kept{}}
	for _, in := range r.inside {
		if in.plan == f {
			f.noted.paths[in.rel] = kept{mode: r.fileMode(r.Archive.Origin.Databases[in.db.Label]).Perm}
		}
	}
	t.Note = func(rel string, mode fs.FileMode, target string) {
		f.noted.mu.Lock()
		defer f.noted.mu.Unlock()
		f.noted.paths[rel] = kept{mode, target}
	}
}

// mode is what the archive says of a path, if this is one of its.
func (n *noted) mode(rel string) (fs.FileMode, bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	k, ok := n.paths[rel]
	return k.mode, ok
}

// links are those of the tree, with where they lead.
func (n *noted) links() map[string]string {
	all := map[string]string{}
	for rel, k := range n.paths {
		if k.target != "" {
			all[rel] = k.target
		}
	}
	return all
}

// ErrNames is wrapped when this system cannot have names that a site has, so that the site
// cannot be made ready here.
var ErrNames = errors.New("this computer cannot have some names of the site's files")

// checkNames refuses a tree of which a name was changed, or links that are exchanged one by
// one: what is there would be compared with what is here.
func (r *run) checkNames(t *unpack.Tree, f *FilesPlan) error {
	if all := slices.Sorted(maps.Keys(t.Renamed())); len(all) > 0 {
		return fmt.Errorf("%w, such as %q (%d in all): restore from one with Linux", ErrNames, all[0], len(all))
	}
	if n := len(t.Unmade()); n > 0 && f.On != "" && (f.Inner || r.Selection != nil) {
		return fmt.Errorf("%w: %d symbolic links: restore the whole site, or from a computer with Linux", ErrNames, n)
	}
	return nil
}

package restore

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// Phase is how far a restore has come. Each is journalled before it begins.
type Phase string

// The phases. A restore that is found in Staging is reverted, one in Swapping
// is finished; Undoing, Clearing and Settling are finished.
const (
	Staging  Phase = "staging"  // nothing live has changed
	Swapping Phase = "swapping" // everything is staged; live and staged change places
	Done     Phase = "done"     // the replaced state is aside
	Undoing  Phase = "undoing"  // the replaced state is being put back
	Clearing Phase = "clearing" // it is back; what was restored is being deleted
	Settling Phase = "settling" // the replaced state is being deleted
)

// Journal is all that is needed to finish or revert a restore in another
// process.
type Journal struct {
	ID      string    `json:"id"`
	Site    string    `json:"site"`
	Archive string    `json:"archive"`
	Started time.Time `json:"started"`
	Phase   Phase     `json:"phase"`
	// Files is nil when the files are not restored.
	Files *FilesPlan `json:"files,omitempty"`
	// Extra are the plans for the site's further folders.
	Extra     []*FilesPlan     `json:"extra,omitempty"`
	Databases []*database.Plan `json:"databases,omitempty"`
	// Access is how each database was reached, by label, so that it can be again
	// whatever the site's settings say by then. It holds passwords: the file is for its
	// owner only.
	Access map[string]site.Database `json:"access,omitempty"`
	// Partial is set when only some of the files are restored.
	Partial bool `json:"partial,omitempty"`
	// Switch is the maintenance file, relative to the webroot.
	Switch     string `json:"switch,omitempty"`
	SwitchText string `json:"switch_text,omitempty"`
	// Above are settings files above the webroot that were put back.
	Above []AboveFile `json:"above,omitempty"`
	// Door is the page that stands in the front door's place of a site without a
	// switch.
	Door string `json:"door,omitempty"`
	// Mirrored tells that the journal lies on the site's machine too, where that is another
	// one; Holder is which computer holds the restore.
	Mirrored bool   `json:"mirrored,omitempty"`
	Holder   string `json:"holder,omitempty"`
	// Times are the trees' own, by inode; putting the switch in changes them.
	Times map[uint64]time.Time `json:"times,omitempty"`

	path  string
	d     *disk.Disk
	drain time.Duration
	// far is the site's machine where that is not this one, keys what journals there are
	// signed with.
	far  tree.Writer
	keys *Mirror
	// number is that of the journal which this process has written there last; 0 is none. fresh
	// tells that nobody else can have written one.
	number int
	fresh  bool
	// unlinked are links that did not go over.
	unlinked []string
	// left are boxes in which something is left that belongs to another account.
	left []string
}

// FilesPlan is the files' share of a restore.
type FilesPlan struct {
	// Label is the first path element of what belongs there.
	Label string `json:"label"`
	// On is the address of the machine that the folder is on, as tree.Place.Base gives it;
	// empty for this one. Root and Box are URLs there.
	On string `json:"on,omitempty"`
	// Root is the webroot with links resolved. Named is its other name, by which links led to it.
	Root  string `json:"root"`
	Named string `json:"named,omitempty"`
	// Box is a folder beside it that only its owner may enter; what is staged
	// and what is set aside lie in it.
	Box string `json:"box"`
	// Inner is set when nothing can be staged beside the webroot: it is a mount
	// point, or the folder above it is not writable. The box then lies inside
	// it, and what is in the webroot changes places, name by name.
	Inner bool `json:"inner,omitempty"`
	// OldNames and NewNames are what lies directly in both trees then. On another machine
	// they are the paths that change places, "." for a whole folder.
	OldNames []string `json:"old_names,omitempty"`
	NewNames []string `json:"new_names,omitempty"`
	// LiveInode and StagedInode tell the two trees apart after a crash.
	LiveInode   uint64 `json:"live_inode,omitempty"`
	StagedInode uint64 `json:"staged_inode,omitempty"`
	// Carried are database files inside the webroot, relative to it, that stay
	// what they are because only the files are restored.
	Carried []string `json:"carried,omitempty"`
	// CarryByMove is set when they can have only one name: they move from tree to tree
	// right after these have changed places.
	CarryByMove bool `json:"carry_by_move,omitempty"`
	// Kept are paths, relative to the root, that the archive never held: they stay in
	// whatever tree is the webroot.
	Kept []string `json:"kept,omitempty"`
	// Times of a root on another machine are its own before and after: what is put into it
	// for a while changes them.
	LiveTime   time.Time `json:"live_time,omitzero"`
	StagedTime time.Time `json:"staged_time,omitzero"`

	// Links are those on another machine where none can be made: they go over from tree to
	// tree, if the machine lets them.
	Links []string `json:"links,omitempty"`
	// Since are paths on another machine that were made in a share since: they stay when it is
	// taken back.
	Since []string `json:"since,omitempty"`

	// account tells whether that there is root's, once it is known, and which folders are its
	// alone.
	account account
	// shadow is the folder of this machine in which what is sent is made ready.
	shadow string
	// noted is what this system does not keep of what is made ready.
	noted *noted
}

// plans are the plans for all folders.
func (j *Journal) plans() []*FilesPlan {
	if j.Files == nil {
		return nil
	}
	return append([]*FilesPlan{j.Files}, j.Extra...)
}

// plan is that for the folder with a label; nil if it stays as it is.
func (j *Journal) plan(label string) *FilesPlan {
	for _, f := range j.plans() {
		if f.Label == label {
			return f
		}
	}
	return nil
}

// Exchanged tells whether a database file that lies in one of the site's folders changes places with it.
func (j *Journal) Exchanged(label, rel string) bool {
	f := j.plan(label)
	return f != nil && !slices.Contains(f.Carried, rel)
}

// AsideFolders are the trees of files that are set aside, by label.
func (j *Journal) AsideFolders() map[string]string {
	all := map[string]string{}
	for _, f := range j.plans() {
		if f.replaced() {
			all[f.Label] = f.aside()
		}
	}
	return all
}

// On is the address of the machine that the files are on, and Path a URL of one of their
// folders as that has it; on this one, addresses are empty and paths are paths.
func (j *Journal) On() string {
	if j.Files == nil {
		return ""
	}
	return j.Files.On
}

// Path is a folder's path on that machine.
func (j *Journal) Path(folder string) string { return strings.TrimPrefix(folder, j.On()) }

// LiveFolders are where those trees were, by label.
func (j *Journal) LiveFolders() map[string]string {
	all := map[string]string{}
	for _, f := range j.plans() {
		all[f.Label] = f.Root
	}
	return all
}

func (f *FilesPlan) staged() string { return f.inBox("new") }
func (f *FilesPlan) aside() string  { return f.inBox("old") }

// spare is where a tree waits when the exchange takes several renames.
func (f *FilesPlan) spare() string { return f.inBox("next") }

func (f *FilesPlan) inBox(name string) string {
	if f.On != "" {
		return f.Box + "/" + name
	}
	return filepath.Join(f.Box, name)
}

// boxHere is the folder of this machine in which things are staged: the box itself, or that
// for what is sent to another machine's.
func (f *FilesPlan) boxHere() string {
	if f.On != "" {
		return f.shadow
	}
	return f.Box
}

// here is where the new tree is made.
func (f *FilesPlan) here() string { return filepath.Join(f.boxHere(), "new") }

// replaced tells whether something was there before.
func (f *FilesPlan) replaced() bool { return f.LiveInode != 0 || f.On != "" && len(f.OldNames) > 0 }

// newBox names the folder for a restore beside a path, or above that. token keeps anybody
// from knowing the name beforehand.
func newBox(beside, site_, id, token string) string {
	return filepath.Join(boxFolder(filepath.Dir(beside)), site.LeftoverPrefix+site_+"-"+id+"-"+token)
}

// newBoxIn is newBox for a box that lies in the webroot itself.
func newBoxIn(root, site_, id, token string) string {
	return filepath.Join(root, site.LeftoverPrefix+site_+"-"+id+"-"+token)
}

// boxFolder is where a box for what lies in a folder is made. Whoever owns that folder, or
// one above it, could put something else in a box's place: for root it is the nearest one
// on the same file system in which nobody else has that power, or the folder itself if
// there is none.
func boxFolder(dir string) string {
	if os.Geteuid() != 0 {
		return dir
	}
	device, ok := deviceOf(dir)
	for at := dir; ok; at = filepath.Dir(at) {
		if now, there := deviceOf(at); !there || now != device {
			break
		}
		if disk.OnlyRoots(at) {
			return at
		}
		if at == filepath.Dir(at) {
			break
		}
	}
	return dir
}

func deviceOf(dir string) (uint64, bool) {
	info, err := os.Lstat(dir)
	if err != nil {
		return 0, false
	}
	a, ok := disk.AttributesOf(info)
	return a.Dev, ok
}

// idLayout is how identities are made of moments.
const idLayout = "20060102_150405"

// newJournal begins a journal under an identity that no other restore of the
// site has: everything staged and set aside is named after it.
func newJournal(st *state.State, site, archive string, now time.Time) (*Journal, error) {
	j := &Journal{Site: site, Archive: archive, Started: now.UTC(), Phase: Staging, d: st.Disk}
	// Names are the order: a clock that was set back must not put it behind others.
	at := now.UTC()
	others, err := Journals(st, site)
	if err != nil {
		return nil, err
	}
	if len(others) > 0 {
		if newest, err := time.Parse(idLayout, others[0].ID); err == nil && !at.After(newest) {
			at = newest.Add(time.Second)
		}
	}
	for ; ; at = at.Add(time.Second) {
		j.ID = at.Format(idLayout)
		j.path = filepath.Join(journalDir(st, site), j.ID+".json")
		taken, err := st.Disk.Exists(j.path)
		if err != nil {
			return nil, fmt.Errorf("begin the restore's journal: %w", err)
		}
		if !taken {
			return j, nil
		}
	}
}

// access notes how a database is reached.
func (j *Journal) access(db site.Database) {
	if j.Access == nil {
		j.Access = map[string]site.Database{}
	}
	j.Access[db.Label] = db
}

func journalDir(st *state.State, site string) string {
	return filepath.Join(st.Dir, "journals", site)
}

// enter journals a phase before it begins.
func (j *Journal) enter(p Phase) error {
	j.Phase = p
	return j.save()
}

func (j *Journal) save() error {
	if err := j.saveHere(); err != nil {
		return err
	}
	return j.mirror()
}

func (j *Journal) saveHere() error {
	data, err := json.MarshalIndent(j, "", "  ")
	if err != nil {
		return err
	}
	if err := j.d.MkdirAll(filepath.Dir(j.path), 0o700); err != nil {
		return fmt.Errorf("write the restore's journal: %w", err)
	}
	if err := j.d.WriteFile(j.path, data, 0o600); err != nil {
		return fmt.Errorf("write the restore's journal: %w", err)
	}
	return nil
}

func (j *Journal) close() error {
	for _, file := range []string{j.listPath(), j.path} {
		if err := j.d.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("close the restore's journal: %w", err)
		}
	}
	return nil
}

// Journals reads the journals of a site, newest first. The caller holds the
// site's lock.
func Journals(st *state.State, site string) ([]*Journal, error) {
	if err := dropStray(st, site); err != nil {
		return nil, fmt.Errorf("clear the restore journals: %w", err)
	}
	return readJournals(st, site)
}

// readJournals is Journals for whoever does not hold the site's lock.
func readJournals(st *state.State, site string) ([]*Journal, error) {
	names, err := st.Disk.ReadNames(journalDir(st, site))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the restore journals: %w", err)
	}
	slices.Sort(names)
	slices.Reverse(names)
	var all []*Journal
	for _, name := range names {
		if strings.HasPrefix(name, ".") || !strings.HasSuffix(name, ".json") {
			continue
		}
		j := &Journal{path: filepath.Join(journalDir(st, site), name), d: st.Disk}
		data, err := st.Disk.ReadFile(j.path)
		if err == nil {
			err = json.Unmarshal(data, j)
		}
		if err != nil {
			return nil, reason.New(reason.JournalDamaged, reason.Names{"path": j.path, "site": site}, "the restore journal %s cannot be read: %w", j.path, err)
		}
		all = append(all, j)
	}
	return all, nil
}

// Interrupted tells whether a site has a restore that is not at an end: one that is
// at work, or whose process has died.
func Interrupted(st *state.State, site string) bool {
	names, err := st.Disk.ReadNames(journalDir(st, site))
	if err != nil {
		return false
	}
	for _, name := range names {
		var j Journal
		data, err := st.Disk.ReadFile(filepath.Join(journalDir(st, site), name))
		if err != nil || strings.HasPrefix(name, ".") {
			continue
		}
		if json.Unmarshal(data, &j) == nil && j.Phase != Done {
			return true
		}
	}
	return false
}

// dropStray removes journals that a process was killed while writing; the
// caller holds the site's lock, so nobody writes one now.
func dropStray(st *state.State, site string) error {
	names, err := st.Disk.ReadNames(journalDir(st, site))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, name := range names {
		if err == nil && strings.HasPrefix(name, ".") {
			err = st.Disk.Remove(filepath.Join(journalDir(st, site), name))
		}
	}
	return err
}

// safeBox refuses to work in a folder that is not one this program made.
func safeBox(box string) error {
	if !filepath.IsAbs(box) && !path.IsAbs(box) || !strings.HasPrefix(filepath.Base(box), site.LeftoverPrefix) {
		return fmt.Errorf("%q is not a folder that Revlet set aside", box)
	}
	return nil
}

func inode(d *disk.Disk, path string) (uint64, error) {
	info, err := d.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return d.Inode(path, info)
}

// makeBox creates the folder that holds what is staged and set aside.
func makeBox(d *disk.Disk, box string) error {
	err := d.Mkdir(box, 0o700)
	if errors.Is(err, os.ErrExist) { // made for another folder of this restore, or by somebody else
		var info fs.FileInfo
		if info, err = d.Lstat(box); err == nil {
			if !disk.Ours(info) {
				err = fmt.Errorf("%s is there already, and is not ours", box)
			}
		}
	}
	if err != nil {
		return fmt.Errorf("make room beside the webroot: %w; the folder above it must be writable for this account", err)
	}
	return nil
}

// openBox opens the folder that makeBox made. Where it had to be made in a folder of others,
// these can put another one in its place at any moment, but none that is ours alone.
func openBox(d *disk.Disk, box string) (*disk.Root, error) {
	root, err := d.OpenRootNoLinks(box)
	if err != nil {
		return nil, err
	}
	info, err := root.Stat(".")
	if err == nil {
		if !disk.Ours(info) {
			err = fmt.Errorf("%s is not ours: somebody has put it there", box)
		}
	}
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return root, nil
}

// openTree opens a webroot, or a tree in a box, to work in it. No link leads out of it, or
// on the way to it elsewhere.
func openTree(d *disk.Disk, tree string) (*disk.Root, error) {
	if !strings.HasPrefix(filepath.Base(filepath.Dir(tree)), site.LeftoverPrefix) {
		return d.OpenRootNoLinks(tree)
	}
	box, err := openBox(d, filepath.Dir(tree))
	if err != nil {
		return nil, err
	}
	defer box.Close()
	return box.OpenRoot(filepath.Base(tree))
}

func inodeOf(info fs.FileInfo) uint64 {
	a, _ := disk.AttributesOf(info)
	return a.Ino
}

// Elsewhere says where links lead now that led to the folders that were put back: what serves the site is not them, and
// is not touched when they are taken back. It is empty where they lead to them still.
func (j *Journal) Elsewhere() string {
	var all []string
	for _, f := range j.plans() {
		if f.Named == "" {
			continue
		}
		now, err := filepath.EvalSymlinks(f.Named)
		if errors.Is(err, fs.ErrNotExist) { // one that leads to what is not there yet, or was taken away
			if to, way := disk.Way(f.Named); way == nil && to == f.Root {
				continue
			}
		}
		switch {
		case err != nil:
			all = append(all, fmt.Sprintf("%s leads nowhere now (%v); what was put back is %s", f.Named, err, f.Root))
		case now != f.Root:
			all = append(all, fmt.Sprintf("%s leads to %s now, which stays as it is; what was put back is %s", f.Named, now, f.Root))
		}
	}
	return strings.Join(all, "; ")
}

// stands makes sure that the folders are what they were when the exchange was planned.
func (j *Journal) stands(d *disk.Disk) error {
	if at := j.Elsewhere(); at != "" {
		return fmt.Errorf("while it was unpacked, %s", at)
	}
	for _, f := range j.plans() {
		if f.On == "" {
			if err := NoMountsBelow(d, j.Site, f.Root); err != nil {
				return err
			}
		}
	}
	return nil
}

// BoxesIn finds the boxes of restores of some sites that lie in a site's folders, as far as their journals can be read:
// paths relative to those, by label. A box that is being removed has another name for a moment.
func BoxesIn(st *state.State, sites []string, s *site.Site) map[string][]string {
	all, roots := map[string][]string{}, s.Folders()
	for label, root := range roots {
		if real, err := filepath.EvalSymlinks(root); err == nil && !s.Far() {
			roots[label] = real
		}
	}
	for _, name := range sites {
		journals, err := readJournals(st, name)
		if err != nil {
			continue // told by whoever needs them
		}
		for _, j := range journals {
			for _, f := range j.plans() {
				for label, within := range roots {
					if f.On != "" {
						within = f.Root // a URL, as the box's is
					}
					if rel, ok := strings.CutPrefix(f.Box, within+"/"); ok && (f.On == "" || name == s.Name && f.Label == label) {
						all[label] = append(all[label], rel, rel+goneSuffix)
					}
				}
			}
		}
	}
	return all
}

package restore

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
)

// This file keeps the journal of a restore on the machine that it restores to as well, so that
// another computer can finish it, take it back or settle it. One computer at a time holds a
// restore: each that takes it over writes its own name into the journal there, and the one
// before finds that before it does anything more. What lies there could have been written by
// whoever has the account: a journal counts only if a computer that is known has signed it.

// Mirror signs journals, and tells whose are taken.
type Mirror struct {
	Sign func(text []byte) (signature string, err error)
	// Check refuses what nobody known has signed.
	Check func(text []byte, signature string) error
	// Unknown, if set, is told of a folder with a journal that nobody known has signed.
	Unknown func(box string)
}

// Namespace is what signatures of journals are for.
const Namespace = "revlet-journal"

// ErrTakenOver is wrapped when another computer has taken a restore over.
var ErrTakenOver = errors.New("another computer has taken this restore over")

// ErrAtWork is wrapped when another computer seems to be at work on a site just now.
var ErrAtWork = errors.New("another computer is restoring this site just now")

// ErrBoxGone is wrapped when what a restore has set aside on another machine is there no more.
var ErrBoxGone = errors.New("what the restore has set aside is not there any more")

const (
	// farJournal begins the name in a box of the journal that lies there. A number follows:
	// nothing is ever replaced.
	farJournal = "journal-"
	// mirrorLimit bounds how long it may take to write it, longestJournal its length in bytes.
	mirrorLimit    = 5 * time.Minute
	longestJournal = 64 << 20
	// deadAfter is after how long without a new journal the computer that wrote the last one
	// counts as dead.
	deadAfter = 15 * time.Minute
	// mostJournals is how many of a box are looked at, the newest first, and mostBoxes how many
	// boxes of a folder.
	mostJournals = 8
	mostBoxes    = 50
)

// mirrored is a journal on another machine.
type mirrored struct {
	*Journal
	written time.Time
}

// journalNumber is the number in a journal's name, 0 if it is none.
func journalNumber(name string) int {
	text, ok := strings.CutPrefix(name, farJournal)
	n, err := strconv.Atoi(text)
	if !ok || err != nil || n < 1 || n > 1e9 || strconv.Itoa(n) != text {
		return 0
	}
	return n
}

// readMirror reads the newest journal in a box that counts, nil if there is none, and returns
// the names of all.
func readMirror(ctx context.Context, w tree.Place, keys *Mirror, box string) (*mirrored, []string, error) {
	in, err := w.Folder(ctx, box)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, tree.ErrNoFolder) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	defer in.Close()
	names, _, err := in.ReadFolder(".", 0)
	if err != nil {
		return nil, nil, err
	}
	names = slices.DeleteFunc(names, func(name string) bool { return journalNumber(name) == 0 })
	slices.SortFunc(names, func(a, b string) int { return journalNumber(a) - journalNumber(b) })
	for i, name := range slices.Backward(names) {
		if len(names)-i > mostJournals {
			break // whoever has the account may have put any number there
		}
		m, err := readOne(in, keys, name)
		if errors.Is(err, tree.ErrUnreachable) {
			return nil, nil, err
		}
		if err == nil {
			return m, names, nil
		}
	}
	return nil, names, nil
}

func readOne(in tree.Folder, keys *Mirror, name string) (*mirrored, error) {
	info, err := in.Lstat(name)
	if err != nil {
		return nil, err
	}
	data, err := tree.ReadFile(in, name, longestJournal)
	if err != nil {
		return nil, err
	}
	signature, text, ok := bytes.Cut(data, []byte("\n")) // the signature is the first line
	if !ok || keys == nil {
		return nil, errors.New("it is not signed")
	}
	if err := keys.Check(text, string(signature)); err != nil {
		return nil, err
	}
	m := &mirrored{Journal: &Journal{}, written: info.ModTime()}
	return m, json.Unmarshal(text, m.Journal)
}

// mirror writes the journal into the box on another machine, unless another computer holds the
// restore by now.
func (j *Journal) mirror() error {
	if !j.Mirrored || j.far == nil || j.keys == nil || j.Phase == Clearing || j.Phase == Settling {
		return nil
	}
	ctx, end := context.WithTimeout(context.Background(), mirrorLimit)
	defer end()
	return j.writeMirror(ctx, j.Holder)
}

// writeMirror writes the journal there, without the passwords, if the last one is of the
// holder before.
func (j *Journal) writeMirror(ctx context.Context, before string) error {
	failed := func(err error) error {
		return fmt.Errorf("write the restore's journal on %s: %w", j.Files.On, err)
	}
	box := j.Files.at(j.Files.Box)
	name := func(n int) string { return path.Join(box, farJournal+strconv.Itoa(n)) }
	number, old := j.number, []string(nil)
	if number > 0 {
		old = []string{farJournal + strconv.Itoa(number)}
		// What this process has written last is still there: nobody has taken over.
		if there, err := isThere(ctx, j.far, name(number)); err != nil || !there {
			return failed(errors.Join(err, map[bool]error{true: ErrTakenOver}[err == nil]))
		}
	} else if !j.fresh {
		last, names, err := readMirror(ctx, j.far, j.keys, box)
		if err != nil {
			return failed(err)
		}
		if last != nil && last.Holder != before {
			return failed(ErrTakenOver)
		}
		if old = names; len(names) > 0 {
			number = journalNumber(names[len(names)-1])
		}
	}
	copied := *j
	copied.Access = map[string]site.Database{}
	for label, db := range j.Access {
		db.Password = ""
		copied.Access[label] = db
	}
	text, err := json.MarshalIndent(&copied, "", "  ")
	if err != nil {
		return failed(err)
	}
	signature, err := j.keys.Sign(text)
	if err != nil {
		return failed(err)
	}
	// Of two computers that write the same number, one fails.
	if err := j.far.Create(ctx, name(number+1), append([]byte(signature+"\n"), text...), 0); err != nil {
		return failed(err)
	}
	j.number = number + 1
	for _, name := range old {
		if err := j.far.RemoveAll(ctx, path.Join(box, name)); err != nil {
			return failed(err)
		}
	}
	return nil
}

// newHolder is a name that one computer holds a restore under.
func newHolder() string { return strings.ToLower(rand.Text()) }

// takeOver has this computer hold a restore from now on that before held.
func (j *Journal) takeOver(ctx context.Context, before string) error {
	j.Holder, j.number = newHolder(), 0
	if err := j.writeMirror(ctx, before); err != nil {
		return err
	}
	return j.saveHere()
}

// sync makes sure that this computer holds a restore whose files are elsewhere, and takes it
// over if another one had it.
func (r Recoverer) sync(ctx context.Context, j *Journal) error {
	if !j.Mirrored || j.keys == nil {
		return nil
	}
	last, _, err := readMirror(ctx, j.far, j.keys, j.Files.at(j.Files.Box))
	switch {
	case err != nil:
		return err
	case last == nil && (j.Phase == Done || j.Phase == Swapping || j.Phase == Undoing):
		if there, err := isThere(ctx, j.far, j.Files.at(j.Files.Box)); err != nil || there {
			return err
		}
		if r.settling {
			return nil
		}
		return reason.Because(reason.AsideGone, reason.Names{"site": j.Site}, fmt.Errorf("%w: %s; another computer has ended it, or somebody has removed that", ErrBoxGone, j.Files.Box))
	case last == nil || last.Holder == j.Holder:
		return nil
	}
	if err := last.free(ctx, j.far); err != nil {
		return err
	}
	taken := *last.Journal
	taken.Site, taken.path, taken.d, taken.far, taken.keys, taken.drain = j.Site, j.path, j.d, j.far, j.keys, j.drain
	for label, db := range taken.Access {
		db.Password = j.Access[label].Password
		taken.Access[label] = db
	}
	*j = taken
	return j.takeOver(ctx, last.Holder)
}

// free tells whether nobody seems to be at work on a restore that another computer holds.
func (m *mirrored) free(ctx context.Context, place tree.Place) error {
	if m.Phase == Done {
		return nil
	}
	now, known := place.Now(ctx)
	if !known {
		now = time.Now()
	}
	if age := now.Sub(m.written); age < deadAfter && age > -deadAfter {
		return fmt.Errorf("%w: it has said so %s ago; after %s it counts as dead, and what it has begun is ended", ErrAtWork, age.Round(time.Second), deadAfter)
	}
	return nil
}

// journalID is what an identity is like.
var journalID = regexp.MustCompile(`^\d{8}_\d{6}$`)

// Import takes over what other computers have restored of a site that lives elsewhere: their
// journals lie there, and become this one's.
func (r Recoverer) Import(ctx context.Context) error {
	w, ok := r.Site.Place.(tree.Writer)
	if !ok || r.Mirror == nil {
		return nil
	}
	root, err := w.Absolute(ctx, r.Site.PathAt(r.Site.Root))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err != nil {
		root = path.Clean(r.Site.PathAt(r.Site.Root))
	}
	known, err := Journals(r.State, r.Site.Name)
	if err != nil {
		return err
	}
	dirs := []string{path.Dir(root), root}
	boxes := make([][]string, len(dirs))
	g, listing := errgroup.WithContext(ctx) // each costs several journeys
	for i, dir := range dirs {
		g.Go(func() (err error) {
			boxes[i], err = boxesThere(listing, w, dir)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, dir := range dirs {
		if err := r.importFrom(ctx, w, root, dir, boxes[i], known); err != nil {
			return err
		}
	}
	return nil
}

// boxesThere are the names of what may be boxes in a folder of another machine. One that cannot be listed has none: nor could
// one be made in it.
func boxesThere(ctx context.Context, w tree.Writer, dir string) (boxes []string, err error) {
	in, err := w.Folder(ctx, dir)
	if errors.Is(err, fs.ErrNotExist) || tree.Refused(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	names, infos, err := in.ReadFolder(".", math.MaxInt)
	if tree.Refused(err) {
		return nil, nil
	}
	for i, name := range names {
		if strings.HasPrefix(name, site.LeftoverPrefix) && infos[i].Err == nil && infos[i].IsDir() {
			boxes = append(boxes, name)
		}
	}
	return boxes, err
}

func (r Recoverer) importFrom(ctx context.Context, w tree.Writer, root, dir string, names []string, known []*Journal) error {
	boxes := 0
	for _, name := range names {
		box := path.Join(dir, strings.TrimSuffix(name, goneSuffix))
		if slices.ContainsFunc(known, func(j *Journal) bool { return j.Files != nil && j.Files.Box == w.Base()+box }) {
			continue
		}
		if boxes++; boxes > mostBoxes {
			break
		}
		m, journals, err := readMirror(ctx, w, r.Mirror, path.Join(dir, name))
		if err != nil {
			return err
		}
		if m == nil && len(journals) > 0 && r.Mirror.Unknown != nil {
			r.Mirror.Unknown(w.Base() + path.Join(dir, name))
		}
		if m == nil || !m.sane(w.Base(), root, box) {
			continue
		}
		if err := r.take(ctx, w, m, strings.HasSuffix(name, goneSuffix)); err != nil {
			return err
		}
	}
	return nil
}

// take makes the journal of another computer one of this one.
func (r Recoverer) take(ctx context.Context, w tree.Writer, m *mirrored, gone bool) error {
	j := m.Journal
	j.Site, j.path, j.d = r.Site.Name, filepath.Join(journalDir(r.State, r.Site.Name), j.ID+".json"), r.State.Disk
	if taken, err := r.State.Disk.Exists(j.path); err != nil || taken {
		return err
	}
	if err := m.free(ctx, w); err != nil {
		return err
	}
	j.far, j.keys, j.Mirrored = w, r.Mirror, true
	if !gone {
		return j.takeOver(ctx, m.Holder)
	}
	// It died while it removed what was left.
	if j.Phase == Done {
		j.Phase = Settling
	} else {
		j.Phase = Clearing
	}
	return j.saveHere()
}

// sane tells whether a journal that lies in a box is one of that box, and of the site's folders.
func (m *mirrored) sane(base, root, box string) bool {
	j := m.Journal
	if j.Files == nil || j.Files.Root != base+root || j.Files.Box != base+box || j.Files.Label != site.RootLabel || !journalID.MatchString(j.ID) ||
		!slices.Contains([]Phase{Staging, Swapping, Done, Undoing}, j.Phase) || j.Switch != "" && !sitepath.IsLocal(j.Switch) {
		return false
	}
	for _, f := range j.plans() {
		if f.On != base || f.safeFarBox() != nil {
			return false
		}
		for _, rel := range slices.Concat(f.OldNames, f.NewNames, f.Carried, f.Kept, f.Links, f.Since) {
			if !sitepath.IsLocal(rel) {
				return false
			}
		}
	}
	for _, p := range j.Databases {
		if p.Engine == "sqlite" {
			return false // its places are paths of the other computer
		}
	}
	return !slices.ContainsFunc(slices.Collect(maps.Values(j.Access)), func(db site.Database) bool { return db.On != base })
}

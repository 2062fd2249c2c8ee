// Package preflight looks, before anything is done, whether a backup of a site
// would work, and what a careful administrator should know about it.
package preflight

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/store"
	"revlet/internal/work/backup"
)

// Level sorts findings.
type Level string

// The levels: all is well, a person should look, a backup would not work.
const (
	Passed Level = "passed"
	Look   Level = "look"
	Stop   Level = "stop"
)

// Finding is one thing that was looked at.
type Finding struct {
	Level Level  `json:"level"`
	About string `json:"about"`
	Text  string `json:"text"`
	// Reason, if any, tells what can be done about it.
	Reason reason.Reason `json:"-"`
}

// Job says what to look at.
type Job struct {
	Site   *site.Site
	Stores []store.Named
	// UntriedKey tells that archives are encrypted for a key that was never seen
	// to open one.
	UntriedKey bool
	State      *state.State
	// Scheduled tells that archives are taken by a duty, Told that somebody hears
	// of trouble.
	Scheduled, Told bool
	// Open opens one of the site's databases.
	Open func(ctx context.Context, db site.Database, scratch string) (database.Source, error)
	Now  func() time.Time
	// Offsite tells whether a store is on another machine than the site; nil takes the
	// store's word.
	Offsite func(store string) bool
	// Others maps folders of other sites to their names.
	Others map[string]string
}

// Run looks at everything; a finding is never an error.
func Run(ctx context.Context, j Job) ([]Finding, error) {
	r := &run{Job: j}
	if err := r.files(ctx); err != nil {
		return nil, err
	}
	for _, db := range j.Site.Databases {
		r.database(ctx, db)
	}
	if len(j.Site.Databases) == 0 {
		r.add(Look, "database", "none is known for this site; if it has one, describe it under `databases:`")
	}
	r.stores(ctx)
	r.room(ctx)
	r.clock(ctx)
	r.leftAlone()
	order := map[Level]int{Stop: 0, Look: 1, Passed: 2}
	slices.SortStableFunc(r.found, func(a, b Finding) int { return cmp.Compare(order[a.Level], order[b.Level]) })
	return r.found, nil
}

// leftAlone looks whether backups go on without anybody thinking of them.
func (r *run) leftAlone() {
	switch {
	case !r.Scheduled:
		r.add(Look, "schedule", "no archive is taken by itself; `schedule:` lists duties such as `full, every day at 03:20`")
	case !r.Told:
		r.add(Look, "schedule", "nobody is told when a duty fails; `notify:` names a mail server, a webhook or a watchdog")
	default:
		r.add(Passed, "schedule", "archives are taken by themselves, and trouble is told")
	}
}

type run struct {
	Job
	found []Finding
	// bytes is what the files and databases hold.
	bytes int64
}

func (r *run) add(l Level, about, format string, args ...any) {
	r.found = append(r.found, Finding{Level: l, About: about, Text: fmt.Sprintf(format, args...)})
}

func size(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }

// leftover matches names of archives and dumps that people leave in a webroot.
var leftover = regexp.MustCompile(`(?i)(\.(sql|dump)(\.(gz|zip|bz2|xz|zst))?|\.(tar|tgz|tar\.(gz|bz2|xz|zst)|7z|rar)|(backup|back-up|bak|old|copy|site|www|htdocs|public_html|db)[^/]*\.zip|\.(bak|old|orig|save|swp)|~)$`)

// shown is how many names a finding lists.
const shown = 3

type sized struct {
	name  string
	bytes int64
}

func (r *run) files(ctx context.Context) error {
	c := census{site: r.Site, folders: map[string]int64{}, tried: map[string]string{}, outside: backup.NewOutside(ctx, r.State.Disk, r.Site)}
	if err := r.count(ctx, &c, site.RootLabel); err != nil {
		return fmt.Errorf("look at the webroot: %w", err)
	}
	for _, label := range slices.Sorted(maps.Keys(r.Site.Roots)) {
		if err := r.count(ctx, &c, label); errors.Is(err, tree.ErrUnreachable) {
			return err
		} else if err != nil {
			r.add(Stop, "folder "+label, "%v", err)
		}
	}
	r.bytes = c.bytes
	r.add(Passed, "files", "%s files, %s", humanize.Comma(c.files), size(c.bytes))
	if c.skipped > 0 {
		r.add(Passed, "caches", "%s in files that are left out by rule (%s of them)", size(c.skippedBytes), humanize.Comma(c.skipped))
	}
	if len(c.unreadable) > 0 {
		r.add(Look, "files", "%d cannot be read by this account and would be gaps: %s", len(c.unreadable), list(c.unreadable))
	}
	r.reading(&c)
	if r.Site.Far() {
		r.elsewhere(ctx, c.owners)
	} else {
		r.rights(c.owners)
	}
	if err := c.outside.Apart(); err != nil {
		r.add(Stop, "folders", "%v", err)
	}
	if out := backup.LeadsOut(c.outside.Origin); out != "" {
		r.add(Look, "links", "%s: what is there is not saved; `roots:` takes folders along", out)
	}
	for _, label := range slices.Sorted(maps.Keys(r.Site.Folders())) {
		if dir := r.Site.PathAt(r.Site.FolderOf(label)); site.NeverExchanged(dir) {
			r.add(Stop, "folders", "%s is a folder of the system: no restore would replace it; name the folder in it that is the site's", dir)
		}
	}
	r.mounts()
	for _, shared := range r.Site.SharedWith(r.Others) {
		r.add(Look, "shared", "%s is a folder of site %s, too: a restore puts back what is there for both", shared.Folder, shared.Site)
	}
	if len(c.leftovers) > 0 {
		r.add(Look, "webroot", "old archives or copies lie in it, and anyone may be able to download them: %s", list(c.leftovers))
	}
	var dirs []sized
	for name, bytes := range c.folders {
		dirs = append(dirs, sized{name + "/", bytes})
	}
	if c.files > 0 {
		r.add(Passed, "large files", "%s", names(top(c.largest)))
		r.add(Passed, "large folders", "%s", names(top(dirs)))
	}
	return nil
}

// reading tells what came of opening files elsewhere.
func (r *run) reading(c *census) {
	switch {
	case c.opened == 0:
	case len(c.refused) == c.opened:
		r.add(Stop, "reading", "of the files that were opened over there not one can be read: %s", list(c.refused))
	case len(c.refused) > 0:
		r.add(Look, "reading", "%d of %d files that were opened over there cannot be read, and would be gaps: %s", len(c.refused), c.opened, list(c.refused))
	default:
		r.add(Passed, "reading", "%d of them were opened, one in a folder, and can be read", c.opened)
	}
}

// mounts tells what is mounted inside a folder of a site on this machine.
func (r *run) mounts() {
	if r.Site.Far() {
		return
	}
	folders := r.Site.Folders()
	for _, label := range slices.Sorted(maps.Keys(folders)) {
		what := "the webroot"
		if label != site.RootLabel {
			what = "the folder " + label
		}
		if mounts, err := r.State.Disk.MountsBelow(folders[label]); err == nil && len(mounts) > 0 {
			r.found = append(r.found, Finding{Level: Look, About: "mounted", Text: fmt.Sprintf("inside %s: %s. It is saved, but a restore would refuse to exchange %s with it in", what, list(mounts), what), Reason: reason.MountedInside})
		}
	}
}

// count goes through one of the site's folders.
func (r *run) count(ctx context.Context, c *census, label string) error {
	in, err := r.Site.At(r.State.Disk).Folder(ctx, r.Site.PathAt(r.Site.FolderOf(label)))
	if err != nil {
		return err
	}
	defer in.Close()
	c.in, c.label = in, label
	if far, ok := in.(tree.Surveyor); ok {
		if err := far.Survey("."); err != nil {
			return err
		}
	}
	if err := tree.Walk(ctx, in, ".", c.visit); err != nil {
		return err
	}
	if err := c.try(ctx); err != nil || label != site.RootLabel || !r.Site.Far() {
		return err
	}
	return r.hides(in)
}

// census counts what lies in the folders of a site.
type census struct {
	site                  *site.Site
	in                    tree.Folder
	label                 string
	outside               *backup.Outside
	links                 int
	files, bytes          int64
	skipped, skippedBytes int64
	// unreadable cannot be read by this account, leftovers look like archives and
	// dumps that somebody has left.
	unreadable, leftovers []string
	largest               []sized
	owners                owners
	// folders are the bytes in each folder at the top.
	folders map[string]int64
	// tried are files of a site elsewhere that are to be opened, one of each of some folders; opened is how many were, and
	// refused which of them could not be read, and why.
	tried   map[string]string
	opened  int
	refused []string
}

// mostTried is how many files elsewhere are opened to see whether they can be read: each costs a few journeys.
const mostTried = 20

// try opens files of a folder elsewhere: what a listing says of rights need not be what the account has.
func (c *census) try(ctx context.Context) error {
	for _, folder := range slices.Sorted(maps.Keys(c.tried)) {
		rel := c.tried[folder]
		if rel == "" || ctx.Err() != nil {
			continue
		}
		err := readable(c.in, rel)
		switch {
		case errors.Is(err, tree.ErrUnreachable):
			return err
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			c.refused = append(c.refused, fmt.Sprintf("%s (%v)", c.shown(rel), err))
			fallthrough
		default:
			c.opened++
		}
	}
	clear(c.tried)
	return ctx.Err()
}

// readable reads the first byte of a file.
func readable(in tree.Folder, rel string) error {
	f, err := in.Open(rel)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err = f.Read(make([]byte, 1)); errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// mostLinks is of how many symbolic links it is asked where they lead: elsewhere, each costs a journey.
const mostLinks = 1000

// candidates is how many files are remembered before all but the largest are
// forgotten.
const candidates = 200

// visit counts one path; err is why it could not be read.
func (c *census) visit(rel string, info fs.FileInfo, err error) error {
	switch {
	case errors.Is(err, tree.ErrUnreachable), err != nil && rel == ".":
		return err
	case errors.Is(err, fs.ErrNotExist):
		return nil // gone meanwhile
	case err != nil:
		c.unreadable = append(c.unreadable, c.shown(rel))
		return nil
	}
	c.owners.visit(c.label == site.RootLabel && rel == ".", info)
	if rel == "." {
		return nil
	}
	if rule, skip := c.site.SkipsIn(c.label, filepath.ToSlash(rel)); skip {
		if rule != "" && !info.IsDir() {
			c.skipped++
			c.skippedBytes += info.Size()
		}
		return nil
	}
	if info.Mode().IsRegular() {
		c.count(rel, info.Size())
		if folder := path.Dir(filepath.ToSlash(c.shown(rel))); c.site.Far() && info.Size() > 0 && len(c.tried) < mostTried && c.tried[folder] == "" {
			c.tried[folder] = filepath.ToSlash(rel)
		}
	}
	if info.Mode()&fs.ModeSymlink != 0 && c.links < mostLinks {
		c.links++
		if target, err := c.in.Readlink(rel); err == nil {
			c.outside.Meet(c.label+"/"+filepath.ToSlash(rel), target)
		}
	}
	if !c.site.Far() && info.Mode()&fs.ModeSymlink == 0 && !disk.Readable(filepath.Join(c.site.FolderOf(c.label), rel)) {
		c.unreadable = append(c.unreadable, c.shown(rel))
		if info.IsDir() {
			return fs.SkipDir
		}
	}
	return nil
}

// shown is a path as people know it: what is in another folder begins with that one's name.
func (c *census) shown(rel string) string {
	if c.label == site.RootLabel {
		return rel
	}
	return filepath.Join(c.label, rel)
}

// count adds a file.
func (c *census) count(rel string, bytes int64) {
	c.files++
	c.bytes += bytes
	c.largest = append(c.largest, sized{c.shown(rel), bytes})
	if len(c.largest) > candidates {
		c.largest = top(c.largest)
	}
	if first, _, inside := strings.Cut(filepath.ToSlash(c.shown(rel)), "/"); inside {
		c.folders[first] += bytes
	}
	if c.label == site.RootLabel && leftover.MatchString(path.Base(rel)) {
		c.leftovers = append(c.leftovers, fmt.Sprintf("%s (%s)", rel, size(bytes)))
	}
}

func top(all []sized) []sized {
	slices.SortFunc(all, func(a, b sized) int { return cmp.Or(cmp.Compare(b.bytes, a.bytes), cmp.Compare(a.name, b.name)) })
	return all[:min(len(all), shown)]
}

func names(all []sized) string {
	var texts []string
	for _, s := range all {
		texts = append(texts, fmt.Sprintf("%s (%s)", s.name, size(s.bytes)))
	}
	return strings.Join(texts, ", ")
}

func list(all []string) string {
	if len(all) <= shown {
		return strings.Join(all, ", ")
	}
	return fmt.Sprintf("%s … and %d more", strings.Join(all[:shown], ", "), len(all)-shown)
}

func (r *run) database(ctx context.Context, db site.Database) {
	about := "database " + db.Label
	if db.Dump != "" {
		r.dump(ctx, db, about)
		return
	}
	scratch, err := r.State.Spool("preflight-" + r.Site.Name)
	if err != nil {
		r.add(Stop, about, "%v", err)
		return
	}
	source, err := r.Open(ctx, db, scratch)
	if err != nil {
		r.add(Stop, about, "%v", err)
		return
	}
	defer source.Close()
	info := source.Info()
	r.bytes += info.Bytes
	tables, err := source.Tables(ctx)
	if err != nil {
		r.add(Stop, about, "%v", err)
		return
	}
	r.add(Passed, about, "%s: %s %s, %d tables, %s", db.Where(), info.Engine, info.Version, len(tables), size(info.Bytes))
	var plain []string
	for _, t := range tables {
		if t.Plain {
			plain = append(plain, t.Name)
		}
	}
	if len(plain) > 0 {
		r.add(Look, about, "%d tables are of an engine without transactions and are locked while they are read: %s", len(plain), list(plain))
	}
	snapshot, err := source.Snapshot(ctx)
	if err != nil {
		r.add(Stop, about, "%v", err)
		return
	}
	defer snapshot.Close()
	r.add(Passed, about, "consistent: %s", snapshot.Consistency())
	for _, g := range snapshot.Gaps() {
		r.add(Look, about, "%s would be a gap: %s", g.Object, g.Why)
	}
	if c, ok := source.(restorable); ok {
		if err := c.CheckRestore(ctx); err != nil {
			r.add(Look, about, "it can be saved, and not be restored as a whole: %v", err)
		}
	}
	if m, ok := source.(mighty); ok {
		r.powers(ctx, m, db, about)
	}
	if n := snapshot.Neighbours(); len(n) > 0 {
		r.add(Look, about, "%d tables belong to another site and are left out: %s", len(n), list(n))
	}
}

// restorable is a database that knows beforehand whether its account may put it back.
type restorable interface {
	CheckRestore(ctx context.Context) error
}

// mighty is a database whose account may do more than use it.
type mighty interface {
	Powers(ctx context.Context) ([]string, error)
}

// powers tells of rights that whoever breaks into the site would get by what he leaves in its database.
func (r *run) powers(ctx context.Context, m mighty, db site.Database, about string) {
	powers, err := m.Powers(ctx)
	switch {
	case err != nil:
		r.add(Look, about, "what its account may do beyond it cannot be found out: %v", err)
	case len(powers) > 0:
		r.add(Look, about, "the account %s may do more than use it (%s), and lends that to whatever somebody has put into the database when it is saved or restored: give the site an account of its own", db.User, strings.Join(powers, ", "))
	}
}

// dump looks for what the site's host leaves of a database.
func (r *run) dump(ctx context.Context, db site.Database, about string) {
	found, err := backup.FindDump(ctx, r.Site, db)
	if err != nil {
		r.add(Stop, about, "%v", err)
		return
	}
	r.bytes += found.Bytes
	text := fmt.Sprintf("%s, %s, written %s, is what the host has left", found.File, size(found.Bytes), humanize.Time(found.Made))
	if why := found.Doubt(time.Now(), db.AtMost); why != "" {
		r.add(Stop, about, "%s", why)
		return
	}
	r.add(Passed, about, "%s; the database itself is not read", text)
	if root := r.Site.PathAt(r.Site.Root); strings.HasPrefix(found.File, root+"/") {
		r.add(Look, about, "%s lies in the webroot, where anybody may be able to fetch it: have the host leave it elsewhere", found.File)
	}
}

func (r *run) stores(ctx context.Context) {
	offsite := false
	for _, s := range r.Stores {
		about := "store " + s.Name
		offsite = offsite || r.Offsite != nil && r.Offsite(s.Name) || r.Offsite == nil && s.Offsite()
		dir, err := backup.ExposedStore(s, r.Site, r.Others)
		if err != nil {
			r.add(Stop, about, "%s %v; move it elsewhere", dir, err)
			continue
		}
		if err := s.Check(ctx); err != nil {
			r.add(Stop, about, "%v", err)
			continue
		}
		r.add(Passed, about, "%s can be written to", s.Where())
		if dir == "" {
			continue
		}
		free, err := r.State.Disk.Free(dir)
		switch {
		case err != nil:
			r.add(Look, about, "%v", err)
		case free < r.bytes:
			r.add(Look, about, "%s free, the site holds %s before compression: a first archive may not fit", size(free), size(r.bytes))
		default:
			r.add(Passed, about, "%s free, the site holds %s before compression", size(free), size(r.bytes))
		}
	}
	if r.UntriedKey {
		r.found = append(r.found, Finding{Level: Look, About: "key", Text: "archives are encrypted, and the key was never tried: without it they are lost", Reason: reason.KeyUntried})
	}
	if !offsite {
		r.add(Look, "stores", "every store is on the site's own machine: the archives die with it")
	}
	if err := backup.Exposed(r.State.Dir, r.Site, r.Others); err != nil {
		r.add(Stop, "state", "the state folder %s %v; set `state:` elsewhere", r.State.Dir, err)
	}
}

// room looks whether a restore would work, too.
func (r *run) room(ctx context.Context) {
	if r.Site.Far() {
		r.roomThere(ctx)
		return
	}
	above := filepath.Dir(r.Site.Root)
	if real, err := filepath.EvalSymlinks(r.Site.Root); err == nil {
		above = filepath.Dir(real)
	}
	if !disk.Writable(above) {
		r.add(Look, "restore", "%s is not writable for this account: a restore could not be staged beside the webroot", above)
		return
	}
	free, err := r.State.Disk.Free(above)
	switch {
	case err != nil:
		r.add(Look, "restore", "%v", err)
	case free < r.bytes:
		r.add(Look, "restore", "%s free beside the webroot, a restore stages %s there", size(free), size(r.bytes))
	default:
		r.add(Passed, "restore", "%s free beside the webroot, a restore stages %s there", size(free), size(r.bytes))
	}
}

// clockSlack is how far this machine's clock may be from the web server's.
const clockSlack = 2 * time.Minute

func (r *run) clock(ctx context.Context) {
	zone, offset := r.Now().Zone()
	r.add(Passed, "clock", "%s, time zone %s (UTC%+d)", r.Now().Format("2006-01-02 15:04"), zone, offset/3600)
	if r.Site.Address == "" {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, r.Site.Address, nil)
	if err != nil {
		r.add(Look, "address", "%v", err)
		return
	}
	resp, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
	if err != nil {
		r.add(Look, "address", "%s does not answer: %v", r.Site.Address, err)
		return
	}
	_ = resp.Body.Close()
	there, err := http.ParseTime(resp.Header.Get("Date"))
	if apart := r.Now().Sub(there).Abs(); err == nil && apart > clockSlack {
		r.add(Look, "clock", "this machine and the web server are %s apart; one of the clocks is wrong", apart.Round(time.Second))
	}
}

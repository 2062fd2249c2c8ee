package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"revlet/internal/platform/disk"
	"revlet/internal/site"
)

// closedFor is after how long the page that closes a site gives way by itself,
// should this program have died.
const closedFor = 10 * time.Minute

// frontDoor is the script that all requests for pages of a site without a switch
// of its own come through, as a rule.
const frontDoor = "index.php"

// behindDoor is the front door's name while another page stands in its place.
const behindDoor = site.LeftoverPrefix + frontDoor

// doorText is the page that stands in the front door's place: RFC 9110, sections
// 15.6.4 and 10.2.3. Once its time is over it lets everybody through.
const doorText = `<?php
if (time() < {until}) {
    http_response_code(503);
    header('Retry-After: 10');
    header('Cache-Control: no-store');
    header('Content-Type: text/html; charset=utf-8');
    echo '<!doctype html><title>Back in a moment</title><h1>Back in a moment</h1><p>This site is being maintained. Please try again in a few seconds.</p>';
    exit;
}
require __DIR__ . '/` + behindDoor + `';
`

// planMaintenance chooses how the site is closed: by the CMS's own switch, or at
// its front door. A webroot that is exchanged name by name has no such door: the
// names around it change, too.
func (r *run) planMaintenance() error {
	if r.journal.Files == nil {
		return nil
	}
	if m := r.maintenance(); m.File != "" {
		r.journal.Switch = m.File
		r.journal.SwitchText = strings.ReplaceAll(m.Content, "{unix}", strconv.FormatInt(r.start.Unix(), 10))
		return nil
	}
	if r.journal.Files.Inner || r.far != nil {
		return nil
	}
	there, err := r.disk.Exists(filepath.Join(r.journal.Files.Root, frontDoor))
	if err == nil && there {
		r.journal.Door = strings.ReplaceAll(doorText, "{until}", strconv.FormatInt(r.start.Add(closedFor).Unix(), 10))
	}
	return err
}

// maintenance is the site's switch: the one in the configuration, or the CMS's.
func (r *run) maintenance() site.Maintenance {
	switch {
	case r.Site.Maintenance.File != "":
		return r.Site.Maintenance
	case r.Site.Recipe == nil:
		return site.Maintenance{}
	}
	return r.Site.Recipe.Maintenance
}

// openTree opens a tree of the restore to write in. It belongs to the site's account, which
// may put a link in its place or in its folders at any moment: what is opened has to be one
// of the two trees that the journal knows, and nothing is reached through it that is not in
// it. A tree that is not there gives nil.
func (j *Journal) openTree(d *disk.Disk, tree string) (*disk.Root, error) {
	now, err := inode(d, tree)
	if err != nil || now == 0 {
		return nil, err
	}
	root, err := openTree(d, tree)
	if err != nil {
		return nil, err
	}
	info, err := root.Stat(".")
	if is, notFound := root.Inode(".", info); err == nil && (notFound != nil || is != now) {
		err = fmt.Errorf("%s is not the tree that it was a moment ago", tree)
	}
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return root, nil
}

// within does something inside a tree of the restore, unless there is none.
func (j *Journal) within(d *disk.Disk, tree string, do func(*disk.Root) error) error {
	root, err := j.openTree(d, tree)
	if err != nil || root == nil {
		return err
	}
	defer root.Close()
	return do(root)
}

// shutDoor puts the page that closes the site in the front door's place. The door
// itself stays beside it under another name; it is there at every moment, unless a file
// can have only one name there.
func (j *Journal) shutDoor(tree *disk.Root) error {
	info, err := tree.Lstat(frontDoor)
	gone := errors.Is(err, fs.ErrNotExist)
	if gone { // a run may have died between moving the door and putting the page there
		if info, err = tree.Lstat(behindDoor); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
	}
	if err != nil || !info.Mode().IsRegular() {
		return err
	}
	shut, err := number(tree, behindDoor)
	if err != nil || shut != 0 && !gone {
		return err
	}
	// The page first: once the door has its other name, it is all that is missing.
	const page = behindDoor + ".new"
	if err := writePage(tree, page, j.Door, info); err != nil {
		return err
	}
	if !gone {
		err := tree.Link(frontDoor, behindDoor)
		if disk.LinkUnsupported(err) {
			err = tree.Rename(frontDoor, behindDoor) // and there is no door until the next line
		}
		if err != nil {
			return err
		}
	}
	return tree.Rename(page, frontDoor)
}

// number is the inode of a name in a tree, 0 if there is none.
func number(tree *disk.Root, name string) (uint64, error) {
	info, err := tree.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return tree.Inode(name, info)
}

// writePage writes the page for everybody who could read the door.
func writePage(tree *disk.Root, name, text string, like fs.FileInfo) error {
	if err := removeIfThere(tree, name); err != nil {
		return err
	}
	f, err := tree.Create(name, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write([]byte(text))
	return errors.Join(err, f.Chmod(like.Mode().Perm()|0o444), f.Close())
}

// unshut opens one tree again, whatever of its closing was done.
func (j *Journal) unshut(tree *disk.Root) error {
	if j.Switch != "" {
		return removeIfThere(tree, j.Switch)
	}
	if err := removeIfThere(tree, behindDoor+".new"); err != nil {
		return err
	}
	was, err := number(tree, behindDoor)
	if err != nil || was == 0 {
		return err
	}
	now, err := number(tree, frontDoor)
	if err != nil {
		return err
	}
	if now == was { // a rename between two names of one file does nothing
		return tree.Remove(behindDoor)
	}
	return tree.Rename(behindDoor, frontDoor)
}

func removeIfThere(tree *disk.Root, name string) error {
	if err := tree.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// trees are all places where a tree of this restore can be.
func (j *Journal) trees() []string {
	if j.Files.Inner {
		return []string{j.Files.Root}
	}
	return []string{j.Files.Root, j.Files.staged(), j.Files.aside(), j.Files.spare()}
}

// closes tells whether the site can be closed for the exchange.
func (j *Journal) closes() bool { return (j.Switch != "" || j.Door != "") && j.Files != nil }

// closeSite begins a phase and puts the maintenance file into both trees: the
// live one, and the one that is about to be.
func closeSite(ctx context.Context, d *disk.Disk, j *Journal, p Phase) error {
	if j.isFar() {
		return j.closeFar(ctx, p)
	}
	var trees []string
	if j.Times == nil {
		j.Times = map[uint64]time.Time{}
	}
	if j.closes() {
		for _, tree := range j.trees() {
			info, err := d.Lstat(tree)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return err
			}
			trees = append(trees, tree)
			// A time that is known already is the right one: an earlier run may
			// have died between putting the switch in and setting the time back.
			if _, known := j.Times[inodeOf(info)]; !known {
				j.Times[inodeOf(info)] = info.ModTime()
			}
		}
	}
	if err := j.enter(p); err != nil {
		return err
	}
	for _, tree := range trees {
		// To have the site back is worth more than to have it closed meanwhile.
		if err := j.within(d, tree, j.shut); err != nil && p != Undoing {
			return fmt.Errorf("close the site for maintenance: %w", err)
		}
	}
	if len(trees) > 0 {
		time.Sleep(j.drain)
	}
	return nil
}

// shut closes one tree, by the CMS's own switch or at its front door.
func (j *Journal) shut(tree *disk.Root) error {
	if j.Switch == "" {
		return j.shutDoor(tree)
	}
	f, err := tree.Create(j.Switch, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	_, err = f.Write([]byte(j.SwitchText))
	return errors.Join(err, f.Close())
}

// openSite takes the maintenance files away, wherever the trees are now.
func openSite(ctx context.Context, d *disk.Disk, j *Journal) error {
	if j.isFar() {
		return j.openFar(ctx)
	}
	if !j.closes() {
		return nil
	}
	for _, tree := range j.trees() {
		if err := j.within(d, tree, j.unshut); err != nil {
			return fmt.Errorf("end the maintenance: %w", err)
		}
		now, err := inode(d, tree)
		if err != nil {
			return err
		}
		if t, ok := j.Times[now]; ok && now != 0 {
			// Only the owner of a folder sets its time; whoever else may write to it has changed it.
			if err := setTimes(d, tree, t); err != nil && !errors.Is(err, fs.ErrPermission) {
				return err
			}
		}
	}
	return nil
}

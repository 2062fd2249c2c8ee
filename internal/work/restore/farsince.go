package restore

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"revlet/internal/site/tree"
)

// This file keeps, when the restore of a share on another machine is taken back, what was made
// in the share since. What lies beside it is no concern: it does not change places.

// farList is the name in a box of the list of what the restore of a share has put there.
const farList = "sent"

// largestFarList bounds it, in bytes.
const largestFarList = 256 << 20

// put is what was sent under a path: for a folder nothing more is known.
type put struct {
	folder       bool
	bytes, mtime int64
}

func (p put) is(info fs.FileInfo) bool {
	if p.folder || info.IsDir() {
		return p.folder && info.IsDir()
	}
	return p.bytes == info.Size() && p.mtime == info.ModTime().Unix() || info.Mode()&fs.ModeSymlink != 0
}

// noteSent writes the list of what a share is made of into the box.
func (r *run) noteSent(ctx context.Context, f *FilesPlan) error {
	var list bytes.Buffer
	for _, rel := range f.NewNames {
		top := filepath.Join(f.here(), filepath.FromSlash(rel))
		err := r.disk.WalkDir(top, func(p string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			inside, err := filepath.Rel(f.here(), p)
			if err != nil {
				return err
			}
			info, err := e.Info()
			if err != nil {
				return err
			}
			kind := 'f'
			if info.IsDir() {
				kind = 'd'
			}
			_, err = fmt.Fprintf(&list, "%c %x %d %d\n", kind, digestOf(f.Label, filepath.ToSlash(inside)), info.Size(), info.ModTime().Unix())
			return err
		})
		if err != nil {
			return err
		}
	}
	name := path.Join(f.at(f.Box), farList)
	return r.far.Put(ctx, name, bytes.NewReader(list.Bytes()), int64(list.Len()), tree.Attr{Mode: 0o600})
}

// readSent reads the list.
func (j *Journal) readSent(ctx context.Context, f *FilesPlan) (map[pathDigest]put, error) {
	data, err := tree.ReadFile(j.far.Anywhere(ctx), path.Join(f.at(f.Box), farList), largestFarList)
	if err != nil {
		return nil, err
	}
	all := map[pathDigest]put{}
	for line := range strings.Lines(string(data)) {
		var kind rune
		var digest []byte
		var p put
		if _, err := fmt.Sscanf(line, "%c %x %d %d\n", &kind, &digest, &p.bytes, &p.mtime); err != nil || len(digest) != len(pathDigest{}) {
			return nil, fmt.Errorf("%s on %s is damaged", farList, f.Box)
		}
		p.folder = kind == 'd'
		all[pathDigest(digest)] = p
	}
	return all, nil
}

// keepSinceFar notes what was made in the share since, so that it stays when the share is taken
// back, and returns notes for people. Nothing changes over there.
func (j *Journal) keepSinceFar(ctx context.Context) ([]string, error) {
	s := &sinceRun{}
	for _, f := range j.plans() {
		f.Since = nil
		sent, err := j.readSent(ctx, f)
		if err != nil {
			return nil, fmt.Errorf("keep what was made since: %w; nothing was changed", err)
		}
		for _, rel := range f.NewNames {
			if err := j.keepIn(ctx, f, rel, sent, s); err != nil {
				return nil, fmt.Errorf("keep what was made since: %w; nothing was changed", err)
			}
		}
	}
	return s.notes(), j.save()
}

// keepIn goes through one path of the share.
func (j *Journal) keepIn(ctx context.Context, f *FilesPlan, unit string, sent map[pathDigest]put, s *sinceRun) error {
	info, err := j.far.Lstat(ctx, f.live(unit))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if !info.IsDir() {
		if was := sent[digestOf(f.Label, unit)]; !was.is(info) {
			s.lost = append(s.lost, unit)
		}
		return nil
	}
	in, err := tree.Surveyed(ctx, j.far, f.live(unit))
	if err != nil {
		return err
	}
	defer in.Close()
	return tree.Walk(ctx, in, ".", func(name string, info fs.FileInfo, err error) error {
		if err != nil {
			return err
		}
		rel := path.Join(unit, name)
		was, known := sent[digestOf(f.Label, rel)]
		if known {
			if !was.is(info) {
				s.lost = append(s.lost, rel)
			}
			return nil
		}
		back, err := isThere(ctx, j.far, f.setOut(rel))
		switch {
		case err != nil:
			return err
		case back:
			s.lost = append(s.lost, rel)
		default:
			s.stays++
			f.Since = append(f.Since, rel)
		}
		if info.IsDir() {
			return fs.SkipDir
		}
		return nil
	})
}

// bringSince moves what was made since out of the share that was taken back.
func (f *FilesPlan) bringSince(ctx context.Context, j *Journal) error {
	for _, rel := range f.Since {
		there, err := isThere(ctx, j.far, f.setIn(rel))
		if err == nil && there {
			if err = f.makeWayFar(ctx, j, path.Dir(rel)); err == nil {
				err = f.move(ctx, j, f.setIn(rel), f.live(rel))
			}
		}
		if err != nil && !errors.Is(err, fs.ErrExist) { // the site has made it anew
			return fmt.Errorf("keep %s, which was made since: %w", rel, err)
		}
	}
	return nil
}

// makeWayFar makes a folder of the live tree that is not there, like the one that was taken
// back.
func (f *FilesPlan) makeWayFar(ctx context.Context, j *Journal, dir string) error {
	there, err := isThere(ctx, j.far, f.live(dir))
	if err != nil || there {
		return err
	}
	if err := f.makeWayFar(ctx, j, path.Dir(dir)); err != nil {
		return err
	}
	like, err := j.far.Lstat(ctx, f.setIn(dir))
	if err != nil {
		return err
	}
	if err := j.far.Mkdir(ctx, f.live(dir)); err != nil {
		return err
	}
	return j.far.Set(ctx, f.live(dir), tree.Attr{Mode: like.Mode()})
}

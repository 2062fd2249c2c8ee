// Package send puts a folder of this machine on another one: many files at a time, over the
// few connections that a tree.Writer keeps. What the other machine has already, and can
// prove, is copied over there instead of being sent. When Run returns without an error,
// everything is there as it is here, as far as the far end can tell: names, kinds, lengths,
// where links lead, and the SHA-256 of what was copied.
package send

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/changes"
	"revlet/internal/platform/disk"
	"revlet/internal/site/tree"
)

// Job is one folder to send.
type Job struct {
	Disk *disk.Disk
	// From is the folder here. It is the caller's alone: what its owner may not read in it is
	// made readable.
	From string
	// Place has the folder Dir, which is empty and to which nobody else can write, nor to the
	// one that it is in.
	Place tree.Writer
	Dir   string
	// Live is a folder there that may have some of the same files; empty is none.
	Live string
	// TrustTimes takes files of Live for the same that have the same length and time, in whole
	// seconds, and does not send them. What a web server may run is sent all the same.
	TrustTimes bool
	// Owner says whom a path is given to there; nil gives it to the account.
	Owner func(rel string) (uid, gid int)
	// Noted says which mode a path has, where the system that the folder is on does not keep
	// it; Links are symbolic links that it could not have, with where they lead.
	Noted func(rel string) (mode fs.FileMode, ok bool)
	Links map[string]string
	// Pace is told of the bytes that have arrived, or need not be sent.
	Pace func(int64)
}

// Sent is what was done.
type Sent struct {
	Files, Bytes int64
	// Copied of the files, with CopiedBytes, were not sent but copied over there.
	Copied, CopiedBytes int64
	// Unset is how many rights the far end has not taken.
	Unset int64
	// Unlinked are links that the place cannot make, with where they lead.
	Unlinked map[string]string
	// Same tells of a file that it is there by a copy: the one of that name in Live is proved
	// to be the same. Trusted tells of one that it was not sent, and is not in the folder.
	Same, Trusted func(rel string) bool
	// TrustedFiles counts those, with TrustedBytes.
	TrustedFiles, TrustedBytes int64
}

const (
	// atOnce is how many calls are under way at a time: a file holds up to half a MiB of memory.
	atOnce = 96
	// batch is how many files are copied by one command, batchBytes how long they are together.
	batch      = 2000
	batchBytes = 256 << 20
	// leastCopied is from which size on a file is worth asking for: a smaller one is sent as
	// quickly.
	leastCopied = 4 << 10
	// fewFolders are listed sooner than everything is looked through.
	fewFolders = 64
)

// entry is a path that is sent.
type entry struct {
	rel    string
	info   fs.FileInfo
	target string
	// of is the first name of the file, if this is a further one.
	of string
}

// link is a symbolic link that is in no folder here.
type link string

func (l link) Name() string       { return path.Base(string(l)) }
func (l link) Size() int64        { return 0 }
func (l link) Mode() fs.FileMode  { return fs.ModeSymlink | 0o777 }
func (l link) ModTime() time.Time { return time.Time{} }
func (l link) IsDir() bool        { return false }
func (l link) Sys() any           { return nil }

// fileID tells which names are of one file.
type fileID struct{ dev, inode uint64 }

// run is a job under way.
type run struct {
	Job
	folders, files, links []entry
	// names are further names of files; of is which.
	names []entry
	first map[fileID]string
	// scripts are files of which a further name is one that a web server may run.
	scripts map[string]bool
	done    sync.Map // files that are there by a copy
	trusted sync.Map // files that are not sent
	mu      sync.Mutex
	sent    Sent
	bytes   atomic.Int64
}

// Run sends the folder.
func (j Job) Run(ctx context.Context) (*Sent, error) {
	r := &run{sent: Sent{Unlinked: map[string]string{}}, Job: j, first: map[fileID]string{}, scripts: map[string]bool{}}
	if r.Pace == nil {
		r.Pace = func(int64) {}
	}
	if err := r.list(); err != nil {
		return nil, fmt.Errorf("look through what is to be sent: %w", err)
	}
	for rel, target := range r.Links {
		r.links = append(r.links, entry{rel: rel, info: link(rel), target: target})
	}
	if err := r.makeFolders(ctx); err != nil {
		return nil, err
	}
	if err := r.copyOver(ctx); err != nil {
		return nil, err
	}
	if err := r.sendFiles(ctx); err != nil {
		return nil, err
	}
	if err := r.each(ctx, r.names, r.nameAgain); err != nil {
		return nil, err
	}
	err := r.each(ctx, r.links, func(ctx context.Context, e entry) error {
		err := r.Place.Symlink(ctx, e.target, r.there(e.rel))
		if errors.Is(err, tree.ErrNoLinks) {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.sent.Unlinked[e.rel] = e.target
			return nil
		}
		return err
	})
	if err == nil {
		err = r.prove(ctx)
	}
	if err == nil {
		err = r.finishFolders(ctx) // last: one may be closed to its owner
	}
	r.sent.Same = func(rel string) bool { _, is := r.done.Load(rel); return is }
	r.sent.Trusted = r.isTrusted
	r.sent.Files, r.sent.Bytes = int64(len(r.files)), r.bytes.Load()
	return &r.sent, err
}

// attr is what a path is given beside its content.
func (r *run) attr(e entry) tree.Attr {
	a := tree.Attr{Mode: e.info.Mode(), ModTime: e.info.ModTime()}
	if r.Noted != nil {
		if mode, ok := r.Noted(e.rel); ok {
			a.Mode = a.Mode.Type() | mode
		}
	}
	if r.Owner != nil {
		a.Own = true
		a.UID, a.GID = r.Owner(e.rel)
	}
	return a
}

func (r *run) here(rel string) string  { return filepath.Join(r.From, filepath.FromSlash(rel)) }
func (r *run) there(rel string) string { return path.Join(r.Dir, rel) }

// list looks through the folder. A folder comes before what is in it.
func (r *run) list() error {
	return r.Disk.WalkDir(r.From, func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(r.From, p)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		one := entry{rel: filepath.ToSlash(rel), info: info}
		switch {
		case info.IsDir():
			r.folders = append(r.folders, one)
			if info.Mode().Perm()&0o700 != 0o700 {
				return os.Chmod(p, info.Mode().Perm()|0o700)
			}
		case info.Mode()&fs.ModeSymlink != 0:
			one.target, err = r.Disk.Readlink(p)
			r.links = append(r.links, one)
		case info.Mode().IsRegular():
			st, known := tree.StatOf(info)
			id := fileID{st.Dev, st.Inode}
			if one.of = r.first[id]; known && st.Links > 1 && one.of != "" {
				r.names = append(r.names, one)
				r.scripts[one.of] = r.scripts[one.of] || changes.Executable(one.rel)
				return nil
			}
			r.first[id] = one.rel
			one.of = ""
			r.files = append(r.files, one)
			if info.Mode().Perm()&0o400 == 0 {
				return os.Chmod(p, info.Mode().Perm()|0o400)
			}
		}
		return err
	})
}

// each does the same for many paths at a time.
func (r *run) each(ctx context.Context, all []entry, do func(context.Context, entry) error) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, e := range all {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error { return do(ctx, e) })
	}
	return g.Wait()
}

// depths are the folders by how deep they lie, the outermost first; the folder itself is
// not among them.
func (r *run) depths() [][]entry {
	var all [][]entry
	for _, e := range r.folders {
		if e.rel == "." {
			continue
		}
		depth := strings.Count(e.rel, "/")
		for len(all) <= depth {
			all = append(all, nil)
		}
		all[depth] = append(all[depth], e)
	}
	return all
}

func (r *run) makeFolders(ctx context.Context) error {
	for _, level := range r.depths() {
		if err := r.each(ctx, level, func(ctx context.Context, e entry) error { return r.Place.Mkdir(ctx, r.there(e.rel)) }); err != nil {
			return err
		}
	}
	return nil
}

// finishFolders gives folders their rights and times, the innermost first.
func (r *run) finishFolders(ctx context.Context) error {
	set := func(ctx context.Context, e entry) error { return r.Place.Set(ctx, r.there(e.rel), r.attr(e)) }
	for _, level := range slices.Backward(r.depths()) {
		if err := r.each(ctx, level, set); err != nil {
			return err
		}
	}
	return r.each(ctx, r.folders[:min(1, len(r.folders))], set)
}

func (r *run) isTrusted(rel string) bool { _, is := r.trusted.Load(rel); return is }

func (r *run) sendFiles(ctx context.Context) error {
	return r.each(ctx, r.files, func(ctx context.Context, e entry) error {
		if r.isTrusted(e.rel) {
			return nil
		}
		if _, is := r.done.Load(e.rel); is {
			return r.Place.Set(ctx, r.there(e.rel), r.attr(e))
		}
		return r.send(ctx, e)
	})
}

// nameAgain gives a file a further name, or sends it once more where that cannot be.
func (r *run) nameAgain(ctx context.Context, e entry) error {
	if !r.isTrusted(e.of) {
		linked, err := r.Place.Link(ctx, r.there(e.of), r.there(e.rel))
		if err != nil || linked {
			return err
		}
	}
	return r.send(ctx, e)
}

func (r *run) send(ctx context.Context, e entry) error {
	f, err := r.Disk.Open(r.here(e.rel))
	if err != nil {
		return err
	}
	defer f.Close()
	if err := r.Place.Put(ctx, r.there(e.rel), f, e.info.Size(), r.attr(e)); err != nil {
		return err
	}
	r.bytes.Add(e.info.Size())
	r.Pace(e.info.Size())
	return nil
}

// copyOver has the far end copy what it has already. What a web server may run is always
// sent: whoever has broken into an account may have its commands tell lies.
func (r *run) copyOver(ctx context.Context) error {
	if r.Live == "" {
		return nil
	}
	asked := r.worthAsking()
	if len(asked) == 0 {
		return nil
	}
	open := tree.Surveyed
	if len(asked) < fewFolders {
		open = func(ctx context.Context, p tree.Place, dir string) (tree.Folder, error) { return p.Folder(ctx, dir) }
	}
	live, err := open(ctx, r.Place, r.Live)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer live.Close()
	same, err := r.candidates(ctx, live, asked)
	if err != nil {
		return err
	}
	if len(same) == 0 {
		return nil
	}
	// Beside the folder: a command that is given up may go on, and must not write there.
	if err := r.Place.Mkdir(ctx, r.copies()); err != nil {
		return err
	}
	for _, some := range batches(same) {
		names := make([]string, len(some))
		for i, e := range some {
			names[i] = e.rel
		}
		sums := r.Place.Copied(ctx, r.Live, r.copies(), names)
		if sums == nil {
			break
		}
		if err := r.each(ctx, some, func(ctx context.Context, e entry) error { return r.accept(ctx, e, sums[e.rel]) }); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return r.Place.RemoveAll(ctx, r.copies())
}

// copies is the folder that copies come into before they are proved.
func (r *run) copies() string { return r.Dir + "-copies" }

// batches are what one command copies: so many files, and so many bytes, that it is done before
// it seems to hang.
func batches(all []entry) (parts [][]entry) {
	bytes := int64(0)
	for i, e := range all {
		if bytes += e.info.Size(); i == 0 || len(parts[len(parts)-1]) == batch || bytes > batchBytes {
			parts, bytes = append(parts, nil), e.info.Size()
		}
		parts[len(parts)-1] = append(parts[len(parts)-1], e)
	}
	return parts
}

// worthAsking are the files, by folder, that it is worth to ask the far end for.
func (r *run) worthAsking() map[string][]entry {
	byFolder := map[string][]entry{}
	for _, e := range r.files {
		if (e.info.Size() >= leastCopied || r.TrustTimes) && !changes.Executable(e.rel) && !r.scripts[e.rel] {
			dir := path.Dir(e.rel)
			byFolder[dir] = append(byFolder[dir], e)
		}
	}
	return byFolder
}

// candidates are the files that the far end may have already: what it calls a file, of the
// same length.
func (r *run) candidates(ctx context.Context, live tree.Folder, byFolder map[string][]entry) ([]entry, error) {
	var mu sync.Mutex
	var same []entry
	g, _ := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for dir, files := range byFolder {
		g.Go(func() error {
			names, infos, err := live.ReadFolder(dir, math.MaxInt)
			if errors.Is(err, tree.ErrUnreachable) {
				return err
			}
			if err != nil {
				return nil // it is not there, or no folder: what is in it is sent
			}
			mu.Lock()
			defer mu.Unlock()
			for _, e := range files {
				i, found := slices.BinarySearch(names, path.Base(e.rel))
				if !found || infos[i].Err != nil || !infos[i].Mode().IsRegular() || infos[i].Size() != e.info.Size() {
					continue
				}
				if r.TrustTimes && infos[i].ModTime().Unix() == e.info.ModTime().Unix() {
					r.trusted.Store(e.rel, true)
					r.sent.TrustedFiles++
					r.sent.TrustedBytes += e.info.Size()
					r.Pace(e.info.Size())
				} else if e.info.Size() >= leastCopied {
					same = append(same, e)
				}
			}
			return nil
		})
	}
	return same, g.Wait()
}

// accept takes a copy for the file if it is the same.
func (r *run) accept(ctx context.Context, e entry, sum string) error {
	if sum == "" {
		return nil
	}
	f, err := r.Disk.Open(r.here(e.rel))
	if err != nil {
		return err
	}
	defer f.Close()
	digest := sha256.New()
	if _, err := io.Copy(digest, f); err != nil {
		return err
	}
	if hex.EncodeToString(digest.Sum(nil)) != sum {
		return nil
	}
	if err := r.Place.Rename(ctx, path.Join(r.copies(), e.rel), r.there(e.rel)); err != nil {
		return err
	}
	r.done.Store(e.rel, true)
	atomic.AddInt64(&r.sent.Copied, 1)
	atomic.AddInt64(&r.sent.CopiedBytes, e.info.Size())
	r.Pace(e.info.Size())
	return nil
}

// prove looks through what is there now: every path that was sent, and none else.
func (r *run) prove(ctx context.Context) error {
	in, err := tree.Surveyed(ctx, r.Place, r.Dir)
	if err != nil {
		return err
	}
	defer in.Close()
	wanted := map[string]entry{}
	for _, all := range [][]entry{r.folders, r.files, r.names, r.links} {
		for _, e := range all {
			if _, none := r.sent.Unlinked[e.rel]; !none && !r.isTrusted(e.rel) {
				wanted[e.rel] = e
			}
		}
	}
	err = tree.Walk(ctx, in, ".", func(name string, now fs.FileInfo, err error) error {
		e, sent := wanted[name]
		switch {
		case err != nil:
			return err
		case !sent:
			return fmt.Errorf("%s is there, and was not sent", name)
		case now.Mode().Type() != e.info.Mode().Type():
			return fmt.Errorf("%s is something else there", name)
		case now.Mode().IsRegular() && now.Size() != e.info.Size():
			return fmt.Errorf("%s has %d bytes there, %d were sent", name, now.Size(), e.info.Size())
		case e.target != "":
			if target, err := in.Readlink(name); err != nil || target != e.target {
				return errors.Join(err, fmt.Errorf("the link %s leads to %q there, not to %q", name, target, e.target))
			}
		case now.Mode().IsRegular() && now.Mode().Perm() != r.attr(e).Mode.Perm():
			r.sent.Unset++
		}
		delete(wanted, name)
		return nil
	})
	if err == nil && len(wanted) > 0 {
		for rel := range wanted {
			err = fmt.Errorf("%s is missing there", rel)
			break
		}
	}
	if err != nil {
		return fmt.Errorf("what was sent is not what is there: %w", err)
	}
	return nil
}

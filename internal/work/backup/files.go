package backup

import (
	"context"
	"errors"
	"maps"
	"slices"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/site"
)

func (r *run) addGap(g archive.Gap) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.gaps = append(r.gaps, g)
}

func (r *run) addScrambled(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.scrambled) < mostScrambled {
		r.scrambled[name] = true
	}
}

// mostScrambled bounds how many such files are remembered.
const mostScrambled = 100_000

// packFiles walks the webroot and makes parts of what it finds.
func (r *run) packFiles(ctx context.Context) error {
	r.links.saved = map[string]bool{}
	g, each := errgroup.WithContext(ctx)
	jobs := make(chan job)
	for range r.Workers {
		g.Go(func() error {
			k, err := r.newPacker(each)
			if err != nil {
				return err
			}
			for j := range jobs {
				if err := r.packJob(each, k, j); err != nil {
					return err
				}
			}
			return nil
		})
	}
	g.Go(func() error {
		defer close(jobs)
		return r.walk(each, func(j job) error {
			select {
			case jobs <- j:
				return nil
			case <-each.Done():
				return each.Err()
			}
		})
	})
	if err := g.Wait(); err != nil {
		return err
	}
	k, err := r.newPacker(ctx)
	if err != nil {
		return err
	}
	return r.saveLinks(ctx, k)
}

// newPacker makes what a worker packs parts with.
func (r *run) newPacker(ctx context.Context) (*packer, error) {
	enc, err := archive.NewEncoder()
	if err != nil {
		return nil, err
	}
	k := &packer{disk: r.disk, spool: r.spool, known: r.pieceIn(r.reuse), enc: enc, ahead: r.Ahead, to: r.To, reown: r.reown(), gap: r.addGap, pace: r.observer.Advance, isDatabase: r.IsDatabase,
		whole: func(f planned) (string, error) {
			scratch, err := r.scratchIn()
			if err != nil {
				return "", err
			}
			return r.CopyDatabase(ctx, f.in, f.rel, scratch)
		}}
	if r.Site.Far() {
		k.scrambled = r.addScrambled
	}
	return k, nil
}

// walk meets every path: files go to jobs, the rest into the tree part.
func (r *run) walk(ctx context.Context, emit func(job) error) error {
	tree, err := newTreePart(r.spool, r.To)
	if err != nil {
		return err
	}
	defer tree.abandon()
	p := &planner{emit: emit}
	outside := r.lookOutside(ctx)
	defer outside.note(&r.record.Origin)
	add := func(e archive.Entry) error {
		if e.Type == archive.TypeFolder {
			r.record.Totals.Folders++
		} else {
			r.record.Totals.Links++
		}
		if e.Type == archive.TypeSymlink {
			outside.Meet(e.Path, e.Target)
		}
		if r.HandMade != nil && r.HandMade.Own != nil {
			r.HandMade.Own(&e)
		}
		if e.Path == site.RootLabel {
			r.record.Origin.Owner = archive.NewOwner(e.UID, e.GID, e.User, e.Group)
		}
		return errors.Join(tree.add(e), r.list.Add(e))
	}
	w := &walker{disk: r.disk, folders: r.folders, site: r.Site, isDatabase: r.IsDatabase, gap: r.addGap,
		file: func(f planned) error { return r.meet(p, f) },
		tree: add,
		again: func(h hardlink) error {
			if r.links.hold(h) {
				return nil
			}
			return add(h.entry)
		},
		skip: r.countSkipped}
	switch {
	case r.Imported != nil:
		err = r.meetImported(p, add)
	case r.walked != nil && !r.walked.full:
		err = r.walked.replay(w)
	default:
		err = w.walk(ctx)
	}
	if err != nil {
		return err
	}
	if err := p.finish(); err != nil {
		return err
	}
	if err := r.nameAgain(tree); err != nil {
		return err
	}
	part, file, err := tree.finish()
	if err != nil {
		return err
	}
	r.treePart = part.Name
	return r.publish(numbered{treeSeq, part}, spooled{part, file})
}

// meet takes a file into the list as it was saved before, or has it saved.
func (r *run) meet(p *planner, f planned) error {
	r.met(f)
	if r.reuse == nil {
		return p.add(f)
	}
	l, same, err := r.reuse.take(f)
	if err != nil {
		return err
	}
	if !same {
		return p.add(f)
	}
	r.count([]archive.Entry{{Size: l.Size}})
	r.observer.Advance(l.Size)
	r.noteSaved(f.name)
	return r.list.AddLines(l)
}

// countSkipped counts a path that a rule leaves out.
func (r *run) countSkipped(_, rule string) {
	if rule != "" {
		r.skipped[rule]++
		r.record.Totals.Skipped++
	}
}

// nameAgain takes the parts that are reused into the archive, before all new
// ones, and notes what in them does not belong to it.
func (r *run) nameAgain(tree *treePart) error {
	if r.reuse == nil {
		return nil
	}
	parts, err := r.reuse.finish()
	if err != nil {
		return err
	}
	r.mu.Lock()
	for i, part := range parts {
		r.files = append(r.files, numbered{i - len(parts), part})
	}
	r.reusedParts += len(parts)
	r.mu.Unlock()
	for _, part := range slices.Sorted(maps.Keys(r.reuse.stale)) {
		if err := tree.stale(part, r.reuse.stale[part]); err != nil {
			return err
		}
	}
	return nil
}

// packJob makes one part, again if a file in it changed meanwhile.
func (r *run) packJob(ctx context.Context, k *packer, j job) error {
	for {
		j.tries++
		p, err := k.pack(ctx, j)
		var moving *movingError
		switch {
		case errors.As(err, &moving):
			if j.tries > mostTries {
				f := j.files[moving.index]
				r.addGap(archive.Gap{Path: f.name, Kind: archive.GapMoving, Why: errMoving.Error()})
				j.files = slices.Delete(slices.Clone(j.files), moving.index, moving.index+1)
			}
			continue
		case err != nil || len(p.entries) == 0:
			return err
		}
		if err := r.list.Add(p.entries...); err != nil {
			return err
		}
		r.count(p.entries)
		for _, e := range p.entries {
			r.noteSaved(e.Path)
		}
		return r.publish(numbered{j.seq, p.part}, p.objects...)
	}
}

// reown is what gives files of a hand-made copy their owner, or nil.
func (r *run) reown() func(*archive.Entry) {
	if r.HandMade == nil {
		return nil
	}
	return r.HandMade.Own
}

func (r *run) count(entries []archive.Entry) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range entries {
		r.record.Totals.Files++
		r.record.Totals.FileBytes += e.Size
	}
}

// publish hands the objects of a finished part to the stores and notes the part for the record.
func (r *run) publish(n numbered, objects ...spooled) error {
	r.mu.Lock()
	r.files = append(r.files, n)
	r.mu.Unlock()
	var err error
	for _, o := range objects {
		if err != nil {
			r.spool.discard(o.file)
			continue
		}
		err = r.sendPart(o.Part, o.file)
	}
	return err
}

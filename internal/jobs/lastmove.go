package jobs

import (
	"context"
	"fmt"
	"maps"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/progress"
	"revlet/internal/site"
	"revlet/internal/watch/history"
	"revlet/internal/work/move"
	"revlet/internal/work/restore"
)

// This file moves the last archive of a cutover at the cost of what has changed since the one before it,
// which was moved a moment ago.

// mostCompared is of how many paths a difference is looked for; more come over whole.
const mostCompared = 300_000

// look is what of an entry has to be the same for a file to be left where it is.
type look struct {
	kind, mode, digest, target, xattrs string
	uid, gid                           int
	size                               int64
	changed                            time.Time
}

// lookOf is what an entry of a list is like. The time of a folder says no more than that something in it
// differs.
func lookOf(e archive.Entry) look {
	l := look{kind: e.Type, mode: e.Mode, digest: e.SHA256, target: e.Target + string(e.TargetRaw), uid: e.UID, gid: e.GID, size: e.Size, changed: e.MTime}
	if len(e.XAttrs) > 0 {
		l.xattrs = fmt.Sprint(e.XAttrs)
	}
	if e.Type == archive.TypeFolder {
		l.changed, l.size = time.Time{}, 0
	}
	return l
}

// entries are the paths of an archive's webroot, or nil for one that has too many, or folders beside it.
func entries(ctx context.Context, h *catalog.Held) (map[string]look, error) {
	if len(h.Origin.Roots) > 1 {
		return nil, nil
	}
	all := map[string]look{}
	err := h.ReadList(ctx, func(e archive.Entry) error {
		if e.IsFileTree() && len(all) <= mostCompared {
			all[e.Path] = lookOf(e)
		}
		return nil
	})
	if len(all) > mostCompared {
		return nil, err
	}
	return all, err
}

// differing is the share of the webroot that differs between two archives, or nil when all of it has to
// come: for a file of those that are changed on their way, a folder whose rights have changed, or a
// file with several names.
func differing(ctx context.Context, before, now *catalog.Held, p *move.Plan) (*restore.FileSelection, error) {
	old, err := entries(ctx, before)
	if err != nil || old == nil {
		return nil, err
	}
	all, err := entries(ctx, now)
	if err != nil || all == nil {
		return nil, err
	}
	share := map[string]bool{}
	prefix := len(site.RootLabel) + 1
	some, linked := "", map[string]bool{} // linked files have several names
	for _, l := range all {
		linked[l.target] = linked[l.target] || l.kind == archive.TypeHardlink
	}
	for path, l := range all {
		was, there := old[path]
		if there && was == l {
			if l.kind == archive.TypeFile && (some == "" || path < some) && !linked[path] && len(path) > prefix && p.AsItIs(path[prefix:]) {
				some = path
			}
			continue
		}
		if there && l.kind == archive.TypeFolder {
			return nil, nil
		}
		share[path] = true
	}
	for path := range old {
		if _, there := all[path]; !there {
			share[path] = true
		}
	}
	if !anyHeld(share, all) {
		if some == "" {
			return nil, nil
		}
		share[some] = true // a share has to hold something
	}
	rels := map[string]bool{}
	for path := range share {
		if len(path) <= prefix || !p.AsItIs(path[prefix:]) {
			return nil, nil
		}
		rels[path[prefix:]] = true
	}
	for _, side := range []map[string]look{old, all} {
		for path, l := range side {
			if l.kind == archive.TypeHardlink && (share[path] || share[l.target]) {
				return nil, nil
			}
		}
	}
	return &restore.FileSelection{Keep: func(label, rel string) bool { return label == site.RootLabel && rels[rel] }}, nil
}

// anyHeld tells whether the archive holds anything of a share.
func anyHeld(share map[string]bool, all map[string]look) bool {
	for path := range maps.Keys(share) {
		if _, there := all[path]; there {
			return true
		}
	}
	return false
}

// moveAgain moves an archive to where the one before it, which was moved just now, has come up already:
// of the files only what differs, of the databases all. false tells that this cannot be done, and that
// nothing was.
func (a *Agent) moveAgain(ctx context.Context, before *catalog.Held, m *Move, watch progress.Observer) (r *Moved, done bool, err error) {
	h := m.Order.Archive
	if m.Site.Far() {
		return nil, false, nil
	}
	share, err := differing(ctx, before, h, m.Plan)
	if err != nil || share == nil {
		return nil, false, err
	}
	r = &Moved{Move: m}
	run := history.Run{Site: m.Order.To, Command: "move", Archive: h.Name}
	err = a.work(ctx, &run, func(ctx context.Context, _ *history.Run) (err error) {
		r.Result, err = restore.Run(ctx, restore.Job{Site: m.Plan.To(), Archive: h, Files: true, Selection: share, Database: len(h.Origin.Databases) > 0, Clean: true,
			State: a.State, Open: a.openTarget, Mirror: a.mirror(m.Order.To), Observer: watch, Now: a.Now, Drain: a.Drain, Anyway: true, Others: a.otherSites(m.Order.To), Moving: m.Plan.Again()})
		return err
	})
	if err != nil {
		return nil, true, err
	}
	r.Report, err = m.Plan.Report()
	r.Answers = a.checkRestored(ctx, m.Site)
	return r, true, err
}

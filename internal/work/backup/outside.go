package backup

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// mostOutside is how many links that lead out of a site are named, mostAsked of how many it is asked whether anything
// is there, and answerWithin how long that may take: a link may lead to a machine that does not answer. A site may have
// any number of them; mostThrough is of how many it is known where in another of its folders they lead.
const (
	mostThrough  = 10_000
	mostOutside  = 50
	mostAsked    = 100
	answerWithin = 2 * time.Second
)

// Outside finds the symbolic links of a site that lead out of its folders to files and folders that there are: a
// backup keeps the links, and nothing of what is behind them.
type Outside struct {
	// bases are the site's folders, by label: absolute paths at its place, with links resolved.
	bases  map[string]string
	at     tree.Folder
	asked  int
	recipe *site.Recipe
	// Through are names of other folders of the site, each with those of the webroot's links that lead there.
	Through map[string][]string
	// Origin.Outside are the first of them, Origin.OutsideMore how many there are beyond.
	Origin archive.Origin
}

// NewOutside looks at a site's folders; of one that has no path there is nothing to tell.
func NewOutside(ctx context.Context, d *disk.Disk, s *site.Site) *Outside {
	place := s.At(d)
	o := &Outside{Through: map[string][]string{}, bases: map[string]string{}, at: place.Anywhere(ctx), recipe: s.Recipe}
	for label, dir := range s.Folders() {
		if real, err := place.Absolute(ctx, s.PathAt(dir)); err == nil {
			o.bases[label] = real
		}
	}
	return o
}

// Apart refuses a site whose folders lie one inside the other, links resolved: such an archive could not be put back. A
// folder that is not there is told when it is read.
func (o *Outside) Apart() error { return site.Apart(o.bases) }

// lookOutside is for a site that is there; what is taken in from a file has no place.
func (r *run) lookOutside(ctx context.Context) *Outside {
	if r.Imported != nil || r.HandMade != nil {
		return nil
	}
	o := NewOutside(ctx, r.disk, r.Site)
	r.through = o.Through
	return o
}

// note puts what was found into an archive's origin.
func (o *Outside) note(into *archive.Origin) {
	if o != nil {
		into.Outside, into.OutsideMore = o.Origin.Outside, o.Origin.OutsideMore
		for label, real := range o.bases {
			into.SetReal(label, real)
		}
	}
}

// Meet looks at a link: its name in the archive, and where it leads. No link lies above it in its folder, so that its
// path is what it seems.
func (o *Outside) Meet(name, target string) {
	if o == nil {
		return
	}
	label, rel, _ := strings.Cut(name, "/")
	base, ok := o.bases[label]
	if !ok {
		return
	}
	to := path.Clean(target)
	if !path.IsAbs(target) {
		to = path.Join(base, path.Dir(rel), target)
	}
	for in, dir := range o.bases {
		if rest, inside := strings.CutPrefix(to+"/", strings.TrimSuffix(dir, "/")+"/"); inside {
			if label == site.RootLabel && in != label && (len(o.Through) < mostThrough || o.recipe.LinkOf(rel) == site.UploadsComponent) {
				real := path.Join(in, rest)
				o.Through[real] = append(o.Through[real], name)
			}
			return
		}
	}
	if o.asked++; o.asked <= mostAsked && o.nothing(to) {
		return
	}
	if len(o.Origin.Outside) == mostOutside {
		o.Origin.OutsideMore++
		return
	}
	o.Origin.Outside = append(o.Origin.Outside, archive.NewOutside(name, to))
}

// nothing tells that at a path there is nothing that could be saved. Where no answer comes, nobody is asked again.
func (o *Outside) nothing(to string) bool {
	answer := make(chan bool, 1)
	go func() {
		info, err := o.at.Lstat(to)
		answer <- errors.Is(err, fs.ErrNotExist) || err == nil && info.Mode()&(fs.ModeDevice|fs.ModeNamedPipe|fs.ModeSocket) != 0
	}()
	select {
	case none := <-answer:
		return none
	case <-time.After(answerWithin):
		o.asked = mostAsked
		return false
	}
}

// outsideShown is how many links LeadsOut names.
const outsideShown = 3

// LeadsOut says which links lead out of a site, or nothing.
func LeadsOut(o archive.Origin) string {
	var all []string
	for _, l := range o.Outside[:min(len(o.Outside), outsideShown)] {
		all = append(all, strings.TrimPrefix(l.Path, site.RootLabel+"/")+" leads to "+l.To)
	}
	text := strings.Join(all, ", ")
	if more := int64(len(o.Outside)-len(all)) + o.OutsideMore; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

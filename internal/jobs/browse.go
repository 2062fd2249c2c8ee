package jobs

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"revlet/internal/work/browse"
	"revlet/internal/work/compare"
)

// Browse shows an archive to a browser on this machine, until the server is closed.
func (a *Agent) Browse(ctx context.Context, typed string, before time.Time, listen string) (*browse.Server, error) {
	h, err := a.FindOpen(ctx, typed, before, Need{})
	if err != nil {
		return nil, err
	}
	a.clearScratch()
	components, _, err := a.summarise(ctx, h)
	if err != nil {
		return nil, err
	}
	o := browse.Options{Archive: h, Listen: listen, Scratch: a.scratchFile}
	o.Facts = [][2]string{{"site", h.Site}, {"taken", h.Taken.Local().Format("Monday 2 January 2006, 15:04")}, {"scope", string(h.Scope)}, {"lies in", strings.Join(StoreNames(h.Stores), ", ")}}
	if h.Note != "" {
		o.Facts = append(o.Facts, [2]string{"note", h.Note})
	}
	for _, c := range components {
		o.Facts = append(o.Facts, [2]string{c.Name, humanize.Comma(c.Files) + " files, " + humanize.Bytes(uint64(max(c.Bytes, 0)))})
	}
	l, err := a.List(ctx, h.Site)
	if err != nil {
		return nil, err
	}
	for _, other := range l.Archives {
		if other.Name != h.Name {
			o.Others = append(o.Others, other.Name)
		}
	}
	o.Compare = func(ctx context.Context, other string) (*compare.Report, error) {
		c, err := a.comparisonOf(ctx, h, other)
		if err != nil {
			return nil, err
		}
		return c.Run(ctx)
	}
	return browse.Start(ctx, o)
}

// scratchFile makes a file in the state folder that is gone once it is closed.
func (a *Agent) scratchFile() (browse.Scratch, error) {
	f, err := os.CreateTemp(a.State.Dir, "browse-")
	if err != nil {
		return nil, err
	}
	if os.Remove(f.Name()) == nil {
		return f, nil
	}
	return removed{f}, nil // a system that keeps names of open files
}

// removed is a file whose name goes when it is closed.
type removed struct{ *os.File }

func (r removed) Close() error { return errors.Join(r.File.Close(), os.Remove(r.Name())) }

// clearScratch removes what a program that was killed has left.
func (a *Agent) clearScratch() {
	left, _ := filepath.Glob(filepath.Join(a.State.Dir, "browse-*"))
	for _, file := range left {
		_ = os.Remove(file)
	}
}

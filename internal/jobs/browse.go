package jobs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"revlet/internal/archives/catalog"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
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
	o := browse.Options{Archive: h, Listen: listen, Scratch: a.scratchFile, Accounts: []int{os.Geteuid()}}
	if a.Sudoer >= 0 {
		o.Accounts = append(o.Accounts, a.Sudoer)
	}
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

// keepFree is how much room, in bytes, what a person looks at leaves to what has to be written down.
const keepFree = 64 << 20

// scratchFile makes a file for size bytes in the state folder that is gone once it is closed. It does not fill the disk.
func (a *Agent) scratchFile(size int64) (browse.Scratch, error) {
	if free, err := a.Disk.Free(a.State.Dir); err == nil && free-keepFree < size {
		return nil, fmt.Errorf("it takes %s, and %s has room for %s: `state:` is where it is proved before any of it is shown", humanize.Bytes(uint64(size)), a.State.Dir, humanize.Bytes(uint64(max(free, 0))))
	}
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

// FileTo writes the content of one file of an archive, whose path is relative to the webroot, once it is proved
// by its digest: nothing of one that is damaged is written.
func (a *Agent) FileTo(ctx context.Context, h *catalog.Held, path string, w io.Writer) error {
	clean := strings.Trim(strings.TrimPrefix(path, "./"), "/")
	found, err := h.FindFile(ctx, site.RootLabel+"/"+clean)
	label, _, _ := strings.Cut(clean, "/")
	if _, other := h.Origin.Roots[label]; errors.Is(err, fs.ErrNotExist) && other {
		found, err = h.FindFile(ctx, clean)
	}
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, catalog.ErrLedOut) {
		return reason.New(reason.PathNotHeld, reason.Names{"archive": h.Name}, "archive %s holds no file %q; paths are relative to the webroot", h.Name, path)
	}
	if err != nil {
		return err
	}
	f, err := a.scratchFile(found.Size)
	if err != nil {
		return err
	}
	defer f.Close()
	err = h.CopyFile(ctx, *found, func() (io.Writer, error) {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		return f, f.Truncate(0)
	})
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return catalog.BecauseDamaged(h, err)
	}
	_, err = io.Copy(w, f)
	return err
}

package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"

	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// This file closes a site for longer than a restore, and opens it again.

// ErrNoSwitch is returned for a site that no file closes.
var ErrNoSwitch = errors.New("it has no file that closes it: its CMS has none, and its entry names none")

// ErrClosedAlready is returned for a site that somebody else has closed: it may open by itself at any
// moment.
var ErrClosedAlready = errors.New("the file that closes it is there already")

// Closed is how a site is closed. It is all that is needed to open it again.
type Closed struct {
	// File closes the site, relative to the webroot, which is at Root on the site's machine.
	File string `json:"file"`
	Root string `json:"root"`
}

// SwitchOf is the file that closes a site.
func SwitchOf(s *site.Site) (site.Maintenance, error) {
	m := s.Maintenance
	if m.File == "" && s.Recipe != nil {
		m = s.Recipe.Maintenance
	}
	if m.File == "" {
		return m, ErrNoSwitch
	}
	return m, nil
}

// PlanClosing says how a site will be closed, to be written down before it is.
func PlanClosing(ctx context.Context, d *disk.Disk, s *site.Site) (c Closed, err error) {
	m, err := SwitchOf(s)
	if err != nil {
		return c, err
	}
	place := s.At(d)
	root, err := place.Absolute(ctx, s.PathAt(s.Root))
	if err != nil {
		return c, err
	}
	in := place.Anywhere(ctx)
	defer in.Close()
	_, err = in.Lstat(path.Join(root, m.File))
	switch {
	case err == nil:
		return c, fmt.Errorf("%s: %w", path.Join(root, m.File), ErrClosedAlready)
	case !errors.Is(err, fs.ErrNotExist):
		return c, err
	}
	return Closed{File: m.File, Root: root}, nil
}

// Close closes the site as from a moment: one in the future keeps it closed where the CMS opens a site by
// itself that was closed for too long. A file that is there already is the one of a run that died.
func (c Closed) Close(ctx context.Context, d *disk.Disk, s *site.Site, since time.Time) error {
	m, err := SwitchOf(s)
	if err != nil {
		return err
	}
	err = c.write(ctx, d, s, strings.ReplaceAll(m.Content, "{unix}", strconv.FormatInt(since.Unix(), 10)))
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("close the site: %w", err)
	}
	return nil
}

// write makes the file, if there is none.
func (c Closed) write(ctx context.Context, d *disk.Disk, s *site.Site, text string) error {
	if s.Far() {
		w, ok := s.Place.(tree.Writer)
		if !ok {
			return fmt.Errorf("nothing can be written to %s", s.Place.Base())
		}
		return w.Create(ctx, path.Join(c.Root, c.File), []byte(text), 0o644)
	}
	root, err := openTree(d, c.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	f, err := root.Create(c.File, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write([]byte(text))
	return errors.Join(err, f.Close())
}

// Say has the file say something else, such as where the site is now.
func (c Closed) Say(ctx context.Context, d *disk.Disk, s *site.Site, text string) error {
	if err := c.Open(ctx, d, s); err != nil {
		return err
	}
	return c.write(ctx, d, s, text)
}

// Open opens the site again; a file that is gone already is no error.
func (c Closed) Open(ctx context.Context, d *disk.Disk, s *site.Site) error {
	if c.File == "" {
		return nil
	}
	err := c.remove(ctx, d, s)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("open the site again: %w", err)
	}
	return nil
}

func (c Closed) remove(ctx context.Context, d *disk.Disk, s *site.Site) error {
	if s.Far() {
		w, ok := s.Place.(tree.Writer)
		if !ok {
			return fmt.Errorf("nothing can be written to %s", s.Place.Base())
		}
		return w.Remove(ctx, path.Join(c.Root, c.File))
	}
	root, err := openTree(d, c.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	return root.Remove(c.File)
}

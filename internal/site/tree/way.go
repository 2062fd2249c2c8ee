package tree

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"
)

// Way is an absolute path at a place on another machine without links on its way, as far as it is there. A server of FTP may not
// tell of links, or of targets that mean something else to it: what it tells counts where something is there.
func Way(ctx context.Context, p Place, name string) (string, error) {
	if FilesOnly(p) {
		return wayByNames(ctx, p, path.Clean(name))
	}
	real, err := p.Absolute(ctx, name)
	if above := path.Dir(name); errors.Is(err, fs.ErrNotExist) && above != name {
		real, err = Way(ctx, p, above)
		real = path.Join(real, path.Base(name))
	}
	return real, err
}

// wayByNames asks of one name after the other where it leads.
func wayByNames(ctx context.Context, p Place, name string) (string, error) {
	all, at, left := p.Anywhere(ctx), "/", strings.Split(strings.Trim(name, "/"), "/")
	for links := 0; len(left) > 0; {
		next := path.Join(at, left[0])
		left = left[1:]
		target, err := all.Readlink(next)
		switch {
		case errors.Is(err, ErrUnreachable) || ctx.Err() != nil:
			return name, errors.Join(ctx.Err(), err)
		case err != nil:
			at = next // it is no link, or not there
			continue
		}
		if links++; links > mostLinks {
			return name, nil
		}
		if path.IsAbs(target) {
			at = "/"
		}
		left = append(strings.Split(strings.Trim(target, "/"), "/"), left...)
	}
	if _, err := all.Lstat(at); err != nil {
		return name, unreachable(err)
	}
	return at, nil
}

// mostLinks bounds how many links a way may have.
const mostLinks = 40

// unreachable is an error if it says nothing of what was asked for.
func unreachable(err error) error {
	if errors.Is(err, ErrUnreachable) {
		return err
	}
	return nil
}

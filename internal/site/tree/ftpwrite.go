package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"revlet/internal/store/ftpconn"
)

// ErrNoLinks is wrapped when a link is to be made where the place knows none.
var ErrNoLinks = errors.New("no links can be made there")

// again is do for a call that an earlier try may have done already.
func (p *ftpPlace) again(ctx context.Context, op, name string, work func(c *ftpconn.Conn, again bool) error) error {
	tried := false
	err := p.do(ctx, func(c *ftpconn.Conn) error {
		before := tried
		tried = true
		return reasonOf(work(c, before))
	})
	return pathError(op, name, err)
}

// Lstat implements Writer.
func (p *ftpPlace) Lstat(ctx context.Context, name string) (info fs.FileInfo, err error) {
	err = p.do(ctx, func(c *ftpconn.Conn) error {
		e, err := look(c, name)
		info = ftpInfo{e}
		return err
	})
	if err != nil {
		return nil, pathError("lstat", name, err)
	}
	return info, nil
}

// thereIs tells whether a name is there.
func thereIs(c *ftpconn.Conn, name string) (bool, error) {
	_, err := look(c, name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Mkdir implements Writer.
func (p *ftpPlace) Mkdir(ctx context.Context, name string) error {
	return p.again(ctx, "mkdir", name, func(c *ftpconn.Conn, again bool) error {
		if failed := c.MakeDir(name); failed != nil {
			if !ftpconn.Answered(failed) {
				return failed
			}
			there, err := thereIs(c, name)
			switch {
			case err != nil:
				return errors.Join(failed, err)
			case there && !again:
				return &fs.PathError{Op: "mkdir", Path: name, Err: fs.ErrExist}
			case !there:
				return failed
			}
		}
		return p.chmod(c, name, 0o700)
	})
}

// unknownCommand tells of an answer that the server does not know the command.
func unknownCommand(err error) bool {
	code := ftpconn.Code(err)
	return code == 500 || code == 501 || code == 502 || code == 504
}

// chmod sets rights, as far as the server takes them.
func (p *ftpPlace) chmod(c *ftpconn.Conn, name string, mode fs.FileMode) error {
	if p.noRights.Load() {
		return nil
	}
	err := c.Chmod(name, mode)
	if unknownCommand(err) {
		p.noRights.Store(true)
		return nil
	}
	return err
}

// set gives a path its rights and its time, as far as the server takes them.
func (p *ftpPlace) set(c *ftpconn.Conn, name string, a Attr) error {
	if err := p.chmod(c, name, a.Mode); err != nil {
		return err
	}
	if a.ModTime.IsZero() || p.noTimes.Load() {
		return nil
	}
	err := c.SetTime(name, a.ModTime)
	if err != nil && ftpconn.Answered(err) { // of folders, many servers take none
		if unknownCommand(err) {
			p.noTimes.Store(true)
		}
		return nil
	}
	return err
}

// Put implements Writer. A file goes on where it was cut off.
func (p *ftpPlace) Put(ctx context.Context, name string, content io.ReaderAt, size int64, a Attr) error {
	arrived := int64(0)
	for {
		before := arrived
		err := p.again(ctx, "write", name, func(c *ftpconn.Conn, again bool) error {
			if arrived = 0; again || before > 0 {
				if there, err := c.Size(name); err == nil && there <= size {
					arrived = max(there-unsureFTP, 0)
				} else if err != nil && !ftpconn.Answered(err) {
					return err
				}
			}
			n, err := c.Stor(name, arrived, io.NewSectionReader(content, arrived, size-arrived))
			arrived += n
			if code := ftpconn.Code(err); code == 552 || code == 452 {
				return fmt.Errorf("%w; is the disk or the quota there full?", err)
			}
			if err != nil {
				return err
			}
			there, err := c.Size(name)
			if unknownCommand(err) {
				var e ftpconn.Entry
				e, err = look(c, name)
				there = e.Size
			}
			if err == nil && there < size && there > before {
				arrived = there
				return errCut
			}
			if err == nil && there != size {
				err = fmt.Errorf("%w: %d bytes were sent, %d are there: is the disk or the quota there full?", errSending, size, there)
			}
			if err != nil {
				return err
			}
			return p.set(c, name, a)
		})
		if !errors.Is(err, ErrUnreachable) || arrived <= before || ctx.Err() != nil || givenUp(err) {
			return err
		}
	}
}

// unsureFTP is how much of the end of a cut upload may not have been written.
const unsureFTP = 1 << 20

// Create implements Writer.
func (p *ftpPlace) Create(ctx context.Context, name string, content []byte, mode fs.FileMode) error {
	return p.again(ctx, "create", name, func(c *ftpconn.Conn, again bool) error {
		there, err := thereIs(c, name)
		if err != nil || there && !again {
			return errors.Join(err, map[bool]error{true: &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}}[err == nil])
		}
		if _, err := c.Stor(name, 0, strings.NewReader(string(content))); err != nil {
			return err
		}
		if there, err := c.Size(name); err == nil && there != int64(len(content)) {
			return errCut
		} else if err != nil && !ftpconn.Answered(err) {
			return err
		}
		if mode == 0 {
			mode = 0o600
		}
		return p.chmod(c, name, mode)
	})
}

// Symlink implements Writer: FTP has no word for it.
func (p *ftpPlace) Symlink(context.Context, string, string) error { return ErrNoLinks }

// Link implements Writer.
func (p *ftpPlace) Link(context.Context, string, string) (bool, error) { return false, nil }

// Set implements Writer.
func (p *ftpPlace) Set(ctx context.Context, name string, a Attr) error {
	return p.again(ctx, "set", name, func(c *ftpconn.Conn, _ bool) error { return p.set(c, name, a) })
}

// Rename implements Writer. Servers replace what has the new name: it is looked for before.
func (p *ftpPlace) Rename(ctx context.Context, old, new string) error {
	return p.again(ctx, "rename", old, func(c *ftpconn.Conn, again bool) error {
		there, err := thereIs(c, new)
		if err != nil {
			return err
		}
		if there && again {
			if left, err := thereIs(c, old); err != nil || !left {
				return err // it came through
			}
		}
		if there {
			return &fs.PathError{Op: "rename", Path: new, Err: fs.ErrExist}
		}
		err = c.Rename(old, new)
		if err != nil && ftpconn.Answered(err) {
			if left, second := thereIs(c, old); second == nil && !left {
				return fs.ErrNotExist
			}
		}
		return err
	})
}

// Remove implements Writer.
func (p *ftpPlace) Remove(ctx context.Context, name string) error {
	return p.again(ctx, "remove", name, func(c *ftpconn.Conn, again bool) error {
		e, err := look(c, name)
		if again && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if e.Mode.IsDir() {
			return c.RemoveDir(name)
		}
		return c.Delete(name)
	})
}

// RemoveAll implements Writer. Links are removed, never followed.
func (p *ftpPlace) RemoveAll(ctx context.Context, name string) error {
	info, err := p.Lstat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() {
		if err := p.empty(ctx, name); err != nil {
			return err
		}
	}
	err = p.Remove(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// empty removes what is in a folder.
func (p *ftpPlace) empty(ctx context.Context, dir string) error {
	if err := p.again(ctx, "chmod", dir, func(c *ftpconn.Conn, _ bool) error { return p.chmod(c, dir, 0o700) }); err != nil {
		return err
	}
	in, err := p.Folder(ctx, dir)
	if err != nil {
		return err
	}
	defer in.Close()
	names, infos, err := in.ReadFolder(".", allInfos)
	if err != nil {
		return err
	}
	return eachAtOnce(ctx, removers, len(names), func(ctx context.Context, i int) error {
		file := path.Join(dir, names[i])
		if infos[i].IsDir() {
			return p.RemoveAll(ctx, file)
		}
		err := p.again(ctx, "remove", file, func(c *ftpconn.Conn, _ bool) error { return c.Delete(file) })
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}

// Free implements Writer: FTP has no word for it.
func (p *ftpPlace) Free(context.Context, string) (int64, bool) { return 0, false }

// Flush implements Writer.
func (p *ftpPlace) Flush(context.Context, string) error { return nil }

// Copied implements Writer: nothing can be copied over FTP.
func (p *ftpPlace) Copied(context.Context, string, string, []string) map[string]string { return nil }

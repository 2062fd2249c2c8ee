package portable

import (
	"archive/tar"
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

// Opened is a portable file, or a hand-made pair, unpacked into a folder.
type Opened struct {
	// Dir is where it was unpacked.
	Dir string
	// Record is that of the archive it was made of; nil for a hand-made one.
	Record *archive.Record
	// Root is the unpacked webroot of a hand-made one.
	Root string
	// SQL is the unpacked SQL file of a hand-made one, if there is any.
	SQL string
	// Made is when the file was last changed.
	Made time.Time
}

// File is where a file of the archive lies unpacked, by its name in the list.
func (o *Opened) File(name string) string {
	return filepath.Join(o.Dir, FilesDir, filepath.FromSlash(name))
}

// Database is where a database's SQL text lies unpacked.
func (o *Opened) Database(label string) string {
	return filepath.Join(o.Dir, DatabaseDir, label+".sql")
}

// List calls visit for every entry of the list that came with the file.
func (o *Opened) List(visit func(archive.Entry) error) error {
	f, err := os.Open(filepath.Join(o.Dir, ListName))
	if err != nil {
		return err
	}
	defer f.Close()
	return archive.ReadList(f, visit)
}

// IsPortable tells by its name whether a file may be a portable one or a piece
// of one.
func IsPortable(name string) bool {
	if m := pieceName.FindStringSubmatch(name); m != nil {
		name = m[1]
	}
	return format(name) != ""
}

// Open unpacks files into dir, an empty folder: a portable file, the pieces of
// one, or a hand-made file archive and SQL text. Nothing is written elsewhere.
func Open(ctx context.Context, d *disk.Disk, files []string, dir string) (*Opened, error) {
	var text string
	var rest []string
	for _, f := range files {
		switch {
		case IsSQL(f) && text != "":
			return nil, fmt.Errorf("two SQL files were given, %s and %s; one is enough", text, f)
		case IsSQL(f):
			text = f
		default:
			rest = append(rest, f)
		}
	}
	if len(rest) == 0 {
		return nil, reason.New(reason.OnlySQL, nil, "no file archive was given (.zip, .tar, .tar.gz, .tar.zst), only SQL")
	}
	o := &Opened{Dir: dir}
	in, err := gather(rest)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if info, err := in.files[0].Stat(); err == nil {
		o.Made = info.ModTime()
	}
	u, err := newUnpacker(d, dir)
	if err != nil {
		return nil, err
	}
	defer u.root.Close()
	if err := u.unpack(ctx, in); err != nil {
		return nil, fmt.Errorf("%s: %w", in.name, err)
	}
	return o, o.recognise(d, text)
}

// mostRecord bounds a record's size, in bytes: as in a store.
const mostRecord = 32 << 20

// leadsNowhere refuses links in the place of what a portable archive has besides files of the site: they would be read, and lead anywhere
// on this machine.
func (o *Opened) leadsNowhere() error {
	if _, err := os.Lstat(filepath.Join(o.Dir, RecordName)); errors.Is(err, fs.ErrNotExist) {
		return nil // a hand-made one, whose links are the site's
	}
	names := []string{RecordName, ListName, FilesDir, DatabaseDir}
	for _, dir := range []string{FilesDir, DatabaseDir} {
		inside, err := os.ReadDir(filepath.Join(o.Dir, dir))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, e := range inside {
			names = append(names, filepath.Join(dir, e.Name()))
		}
	}
	for _, name := range names {
		info, err := os.Lstat(filepath.Join(o.Dir, name))
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return err
		case !info.IsDir() && !info.Mode().IsRegular():
			return fmt.Errorf("it is no portable archive of Revlet: %s is a link", name)
		}
	}
	return nil
}

// recognise finds out what was unpacked.
func (o *Opened) recognise(d *disk.Disk, text string) error {
	if err := o.leadsNowhere(); err != nil {
		return err
	}
	data, err := disk.ReadRegular(filepath.Join(o.Dir, RecordName), mostRecord)
	if err == nil {
		if text != "" {
			return fmt.Errorf("this is a portable archive with its databases; it needs no SQL file (%s)", text)
		}
		o.Record, err = archive.DecodeRecord(data)
		return err
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if o.Root, err = webrootIn(o.Dir); err != nil {
		return err
	}
	if text == "" {
		return nil
	}
	o.SQL = filepath.Join(filepath.Dir(o.Dir), "hand-made.sql")
	return unpackSQL(d, text, o.SQL)
}

// webrootIn is the folder that holds the site: the one that was unpacked, or
// the only one in it.
func webrootIn(dir string) (string, error) {
	for {
		entries, err := os.ReadDir(dir)
		if err != nil {
			return "", err
		}
		entries = slices.DeleteFunc(entries, func(e fs.DirEntry) bool { return e.Name() == "__MACOSX" || e.Name() == ".DS_Store" })
		if len(entries) == 0 {
			return "", errors.New("there is nothing in the file archive")
		}
		if len(entries) > 1 || !entries[0].IsDir() {
			return dir, nil
		}
		dir = filepath.Join(dir, entries[0].Name())
	}
}

// unpackSQL copies an SQL text, unpacked, and makes sure that it is not cut.
func unpackSQL(d *disk.Disk, from, to string) error {
	in, closeIn, err := OpenSQL(from)
	if err != nil {
		return err
	}
	defer closeIn()
	out, err := d.OpenFile(to, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Close()); err != nil {
		return fmt.Errorf("the SQL file %s: %w", from, err)
	}
	return nil
}

// unpacker writes into one folder and nowhere else.
type unpacker struct {
	root *disk.Root
	d    *disk.Disk
	dir  string
	// links are made last, so that nothing is ever written through one.
	links []link
	times []func() error
}

type link struct {
	name, target string
	hard         bool
	when         time.Time
}

func newUnpacker(d *disk.Disk, dir string) (*unpacker, error) {
	root, err := d.OpenRoot(dir)
	return &unpacker{root: root, d: d, dir: dir}, err
}

// keep is left free on the disk whatever is unpacked.
const keep = 64 << 20

func (u *unpacker) unpack(ctx context.Context, in *joined) error {
	kind := format(in.name)
	var err error
	switch kind {
	case ".zip":
		err = u.zip(ctx, in)
	case ".tar", ".tar.gz", ".tgz", ".tar.zst":
		var r io.Reader
		var done func()
		if r, done, err = Decompressed(io.NewSectionReader(in, 0, in.Size())); err == nil {
			err = u.tar(ctx, r)
			done()
		}
	default:
		return errors.New("its name does not end in .zip, .tar, .tar.gz, .tgz or .tar.zst")
	}
	if err != nil {
		return err
	}
	for _, l := range u.links {
		if l.hard {
			err = u.root.LinkOrCopy(l.target, l.name)
		} else {
			err = u.root.Symlink(l.target, l.name)
			if err == nil && !l.when.IsZero() {
				err = u.root.LchtimesIfAble(l.name, l.when)
			}
		}
		if err != nil {
			return err
		}
	}
	for _, set := range slices.Backward(u.times) {
		if err := set(); err != nil {
			return err
		}
	}
	return nil
}

// mostUnpacked bounds what a file says that it unpacks to, so that sums do not run over.
const mostUnpacked = 1 << 50

func (u *unpacker) zip(ctx context.Context, in *joined) error {
	z, err := zip.NewReader(in, in.Size())
	if err != nil {
		return fmt.Errorf("it is cut or no ZIP file: its directory, at the very end, is not there (%w)", err)
	}
	var need int64
	for _, f := range z.File {
		if f.UncompressedSize64 > mostUnpacked || need > mostUnpacked {
			return fmt.Errorf("%q: it says that it unpacks to more than any disk holds: refused", f.Name)
		}
		need += int64(f.UncompressedSize64)
	}
	if free, err := u.d.Free(u.dir); err == nil && free < need+keep {
		return fmt.Errorf("no room to unpack: %s has %d MiB free, %d MiB are needed", u.dir, free>>20, (need+keep)>>20)
	}
	for _, f := range z.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := u.zipped(f); err != nil {
			return fmt.Errorf("%q: %w", f.Name, err)
		}
	}
	return nil
}

func (u *unpacker) zipped(f *zip.File) error {
	mode := f.Mode()
	name := strings.ReplaceAll(zipName(f), `\`, "/") // some programs on Windows write it so
	switch {
	case strings.HasSuffix(name, "/") || mode.IsDir():
		return u.folder(name, mode.Perm(), f.Modified)
	case mode&fs.ModeSymlink != 0:
		in, err := f.Open()
		if err != nil {
			return err
		}
		defer in.Close()
		target, err := io.ReadAll(io.LimitReader(in, 4096))
		if err != nil {
			return err
		}
		return u.link(name, string(target), false, f.Modified)
	case !mode.IsRegular():
		return nil
	}
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	return u.file(name, mode.Perm(), f.Modified, in, int64(f.UncompressedSize64))
}

// zipName is an entry's name. One that is not marked as UTF-8, and is none, is in the
// character set of DOS (PKWARE's APPNOTE.TXT, appendix D).
func zipName(f *zip.File) string {
	if !f.NonUTF8 || utf8.ValidString(f.Name) {
		return f.Name
	}
	name, err := charmap.CodePage437.NewDecoder().String(f.Name)
	if err != nil {
		return f.Name
	}
	return name
}

func (u *unpacker) tar(ctx context.Context, r io.Reader) error {
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return fmt.Errorf("it is cut or damaged: %w", err)
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = u.folder(h.Name, fs.FileMode(h.Mode).Perm(), h.ModTime)
		case tar.TypeSymlink, tar.TypeLink:
			err = u.link(h.Name, h.Linkname, h.Typeflag == tar.TypeLink, h.ModTime)
		case tar.TypeReg:
			err = u.file(h.Name, fs.FileMode(h.Mode).Perm(), h.ModTime, t, h.Size)
		}
		if errors.Is(err, io.ErrUnexpectedEOF) {
			return fmt.Errorf("it is cut or damaged, in the middle of %q: %w", h.Name, err)
		}
		if err != nil {
			return fmt.Errorf("%q: %w", h.Name, err)
		}
	}
}

// local takes a name apart and refuses one that leads out of the folder.
func local(name string) (string, error) {
	clean := path.Clean(strings.TrimPrefix(name, "./"))
	if !filepath.IsLocal(clean) {
		return "", errors.New("the name leads out of the folder: refused")
	}
	return clean, nil
}

func (u *unpacker) folder(name string, perm fs.FileMode, when time.Time) error {
	clean, err := local(name)
	if err != nil || clean == "." {
		return err
	}
	if err := u.root.MkdirAll(clean, 0o700); err != nil {
		return err
	}
	u.times = append(u.times, func() error { return u.root.Chtimes(clean, when, when) }, func() error {
		return u.root.Chmod(clean, orDefault(perm, 0o755)|0o700)
	})
	return nil
}

// orDefault is for files that were packed where there are no permissions.
func orDefault(perm, otherwise fs.FileMode) fs.FileMode {
	if perm == 0 {
		return otherwise
	}
	return perm
}

func (u *unpacker) link(name, target string, hard bool, when time.Time) error {
	clean, err := local(name)
	if err != nil {
		return err
	}
	if hard {
		if target, err = local(target); err != nil {
			return err
		}
	}
	if err := u.root.MkdirAll(path.Dir(clean), 0o700); err != nil {
		return err
	}
	u.links = append(u.links, link{clean, target, hard, when})
	return nil
}

func (u *unpacker) file(name string, perm fs.FileMode, when time.Time, r io.Reader, size int64) error {
	clean, err := local(name)
	if err != nil {
		return err
	}
	if err := u.root.MkdirAll(path.Dir(clean), 0o700); err != nil {
		return err
	}
	f, err := u.root.Create(clean, 0o600)
	if errors.Is(err, fs.ErrExist) {
		// Of what was added to a file again and again, the last counts.
		if info, failed := u.root.Lstat(clean); failed == nil && info.Mode().IsRegular() {
			if err = u.root.Remove(clean); err == nil {
				f, err = u.root.Create(clean, 0o600)
			}
		}
	}
	if err != nil {
		return err
	}
	n, err := io.Copy(f, r)
	if err == nil && n != size {
		err = fmt.Errorf("%d bytes came, %d were promised", n, size)
	}
	if err == nil {
		err = f.Chmod(orDefault(perm, 0o644))
	}
	if err == nil && !when.IsZero() {
		err = f.SetTimes(when)
	}
	return errors.Join(err, f.Close())
}

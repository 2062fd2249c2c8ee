package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"

	"github.com/klauspost/compress/zstd"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/changes"
	"revlet/internal/platform/digest"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/input"
	"revlet/internal/site/tree"
)

// partBytes is how much content a part gets, partFiles how many files: the
// first bounds what a change costs, the second what has to be remembered.
const (
	partBytes = 64 << 20
	partFiles = 8192
)

// wholeBytes is the size up to which a file is read into memory before its
// header is written, so that a change while reading costs nothing.
const wholeBytes = 4 << 20

// job is a part to be made of files.
type job struct {
	seq      int
	files    []planned
	compress bool
	tries    int
}

// planner groups files into jobs in path order: compressible and
// incompressible ones apart, one larger than a part by itself.
type planner struct {
	seq  int
	open [2]job
	size [2]int64
	emit func(job) error
}

func (p *planner) add(f planned) error {
	lane := 0
	if !archive.Packed(f.name) {
		lane = 1
	}
	size := f.info.Size()
	if size >= partBytes {
		p.seq++
		return p.emit(job{seq: p.seq, files: []planned{f}, compress: lane == 1})
	}
	if p.size[lane]+size > partBytes || len(p.open[lane].files) >= partFiles {
		if err := p.flush(lane); err != nil {
			return err
		}
	}
	p.open[lane].files = append(p.open[lane].files, f)
	p.size[lane] += size
	return nil
}

func (p *planner) flush(lane int) error {
	if len(p.open[lane].files) == 0 {
		return nil
	}
	p.seq++
	j := job{seq: p.seq, files: p.open[lane].files, compress: lane == 1}
	p.open[lane], p.size[lane] = job{}, 0
	return p.emit(j)
}

func (p *planner) finish() error { return errors.Join(p.flush(0), p.flush(1)) }

// errMoving means that a file changed while it was read.
var errMoving = errors.New("it kept changing while it was read")

// movingError names the file that made a part unusable.
type movingError struct {
	index int
	err   error
}

func (e *movingError) Error() string { return e.err.Error() }
func (e *movingError) Unwrap() error { return e.err }

// packer makes parts of files; each worker has one.
type packer struct {
	disk  *disk.Disk
	spool *spool
	enc   *zstd.Encoder
	// known finds a piece of a large file that need not be sent again.
	known func(archive.Piece) (archive.Piece, bool)
	// ahead is how many bytes of small files far away are held that were read ahead.
	ahead int64
	to    encryption.Recipients
	buf   []byte
	gap   func(archive.Gap)
	pace  func(int64)
	// scrambled, if not nil, is told of files that should be texts by their names, and are
	// none.
	scrambled func(name string)
	// head is a buffer.
	head []byte
	// reown, if not nil, gives entries another owner.
	reown func(*archive.Entry)
	// isDatabase and whole find database files and copy them untorn.
	isDatabase func(head []byte) bool
	whole      func(f planned) (string, error)
}

// packed is what came of a job: a part, its objects that are to be sent, and its list entries.
type packed struct {
	part    archive.Part
	objects []spooled
	entries []archive.Entry
}

// pack writes a job's files as one part into scratch files. Of one that has no entries nothing is left.
// A *movingError asks to try again, with or without that file.
func (k *packer) pack(ctx context.Context, j job) (p packed, err error) {
	into, err := k.contain(j)
	if err != nil {
		return p, err
	}
	if p.entries, err = k.fill(ctx, j, into); err == nil && len(p.entries) > 0 {
		p.part, p.objects, err = into.finish()
	}
	if err != nil || len(p.entries) == 0 {
		into.discard()
		return packed{}, err
	}
	p.part.Kind, p.part.Entries = archive.KindFiles, int64(len(p.entries))
	for i := range p.entries {
		p.entries[i].Part = p.part.Name
	}
	return p, nil
}

// fill writes a job's files as tar.
func (k *packer) fill(ctx context.Context, j job, into container) ([]archive.Entry, error) {
	tw := &tarWriter{tar.NewWriter(into), into}
	var entries []archive.Entry
	ahead := fetchAhead(ctx, j.files, max(k.ahead, wholeBytes))
	defer ahead.stop()
	for i, f := range j.files {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		var e archive.Entry
		var ok bool
		var err error
		if w, far, readErr := ahead.take(ctx, i); far {
			e, ok, err = k.fetched(ctx, tw, f, w, readErr, j.tries >= mostTries)
		} else {
			e, ok, err = k.file(tw, f, j.tries >= mostTries)
		}
		if errors.Is(err, errMoving) {
			err = &movingError{i, err}
		}
		if err != nil {
			return nil, err
		}
		if ok {
			entries = append(entries, e)
		}
	}
	return entries, tw.Close()
}

// tarWriter tells its container where a file's content begins.
type tarWriter struct {
	*tar.Writer
	into container
}

// WriteHeader implements archive/tar's.
func (t *tarWriter) WriteHeader(h *tar.Header) error {
	if err := t.Writer.WriteHeader(h); err != nil {
		return err
	}
	return t.into.headed()
}

// file adds one file to the part. false means that it is left out: it
// vanished, or it is a gap.
func (k *packer) file(tw *tarWriter, f planned, last bool) (archive.Entry, bool, error) {
	in, err := f.in.Open(f.rel)
	if errors.Is(err, fs.ErrNotExist) {
		return archive.Entry{}, false, nil
	}
	if err != nil {
		return archive.Entry{}, false, k.unreadable(f, err)
	}
	defer in.Close()
	info, err := in.Stat()
	if errors.Is(err, tree.ErrUnreachable) {
		return archive.Entry{}, false, err
	}
	if err != nil || !info.Mode().IsRegular() {
		k.gap(archive.Gap{Path: f.name, Kind: archive.GapMoving, Why: "it became something else while the archive was made"})
		return archive.Entry{}, false, nil
	}
	if f.as == nil && k.looksLikeDatabase(in, info) {
		return k.database(tw, f, info)
	}
	if info.Size() <= wholeBytes {
		return k.small(tw, f, in)
	}
	return k.large(tw, f, in, info, last)
}

// fetched adds a small file that was read in one go, or why it was not; it is read again,
// as often as it takes for it to hold still.
func (k *packer) fetched(ctx context.Context, tw *tarWriter, f planned, w tree.Whole, err error, last bool) (archive.Entry, bool, error) {
	for try := 1; errors.Is(err, io.ErrUnexpectedEOF) && try < mostTries && ctx.Err() == nil; try++ {
		w, err = wholeReader(f).ReadWhole(f.rel, wholeBytes)
	}
	switch {
	case ctx.Err() != nil:
		return archive.Entry{}, false, ctx.Err()
	case errors.Is(err, fs.ErrNotExist):
		return archive.Entry{}, false, nil
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, disk.ErrSpecial):
		k.gap(archive.Gap{Path: f.name, Kind: archive.GapMoving, Why: errMoving.Error()})
		return archive.Entry{}, false, nil
	case errors.Is(err, tree.ErrTooLarge):
		return k.file(tw, f, last)
	case err != nil:
		return archive.Entry{}, false, k.unreadable(f, err)
	case k.isDatabase != nil && len(w.Data) >= 512 && k.isDatabase(w.Data[:16]):
		return k.database(tw, f, w.Info)
	}
	e, err := k.write(tw, f, w.Info, bytes.NewReader(w.Data))
	return e, err == nil, err
}

func (k *packer) looksLikeDatabase(in tree.File, info fs.FileInfo) bool {
	if k.isDatabase == nil || info.Size() < 512 {
		return false
	}
	var head [16]byte
	_, err := in.ReadAt(head[:], 0)
	return err == nil && k.isDatabase(head[:])
}

// plainLogs refuses a database file whose logs are no regular files: whoever opens the
// database would wait for them, or follow them.
func plainLogs(f planned) error {
	for _, suffix := range []string{"-wal", "-shm", "-journal"} {
		info, err := f.in.Lstat(f.rel + suffix)
		if err == nil && !info.Mode().IsRegular() {
			return &fs.PathError{Op: "open", Path: f.name + suffix, Err: disk.ErrSpecial}
		}
	}
	return nil
}

// database saves a database file from a copy of one moment. What only looks
// like a database is saved like any other file.
func (k *packer) database(tw *tarWriter, f planned, info fs.FileInfo) (archive.Entry, bool, error) {
	copyErr := plainLogs(f)
	from := ""
	if copyErr == nil {
		from, copyErr = k.whole(f)
	}
	if errors.Is(copyErr, tree.ErrUnreachable) {
		return archive.Entry{}, false, copyErr
	}
	var in tree.File
	var err error
	if copyErr != nil {
		in, err = f.in.Open(f.rel)
	} else {
		defer func() { _ = k.disk.Remove(from) }()
		in, err = k.disk.Open(from)
	}
	if err != nil {
		return archive.Entry{}, false, err
	}
	defer in.Close()
	now, err := in.Stat()
	if err != nil {
		return archive.Entry{}, false, err
	}
	if copyErr != nil {
		return k.large(tw, f, in, now, true)
	}
	e, err := k.write(tw, f, resized{info, now.Size()}, in)
	e.Copied = true
	return e, err == nil, err
}

// resized describes a file whose content has another length.
type resized struct {
	fs.FileInfo
	size int64
}

// Size implements fs.FileInfo.
func (r resized) Size() int64 { return r.size }

func reason(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// small reads the whole file, as often as it takes for it to hold still.
func (k *packer) small(tw *tarWriter, f planned, in tree.File) (archive.Entry, bool, error) {
	for range mostTries {
		before, err := in.Stat()
		if err != nil {
			return archive.Entry{}, false, err
		}
		if before.Size() > wholeBytes {
			return archive.Entry{}, false, errMoving
		}
		data, err := k.readAll(in)
		if errors.Is(err, io.ErrUnexpectedEOF) {
			continue // it changed while it was read
		}
		if err != nil {
			return archive.Entry{}, false, k.unreadable(f, err)
		}
		after, err := in.Stat()
		if err != nil {
			return archive.Entry{}, false, err
		}
		if same(before, after) && int64(len(data)) == after.Size() {
			e, err := k.write(tw, f, after, bytes.NewReader(data))
			return e, err == nil, err
		}
	}
	k.gap(archive.Gap{Path: f.name, Kind: archive.GapMoving, Why: errMoving.Error()})
	return archive.Entry{}, false, nil
}

// unreadable notes a gap; a place that cannot be asked says nothing of the file.
func (k *packer) unreadable(f planned, err error) error {
	if errors.Is(err, tree.ErrUnreachable) || ofThisMachine(err) {
		return err
	}
	k.gap(archive.Gap{Path: f.name, Kind: archive.GapUnreadable, Why: reason(err)})
	return nil
}

func (k *packer) readAll(in tree.File) ([]byte, error) {
	if k.buf == nil {
		k.buf = make([]byte, wholeBytes+1)
	}
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	n, err := input.Fill(in, k.buf)
	return k.buf[:n], err
}

// large streams a file. If it changed meanwhile the part is useless; on the
// last try a file that only grew is taken as long as it was, with a gap.
func (k *packer) large(tw *tarWriter, f planned, in tree.File, before fs.FileInfo, last bool) (archive.Entry, bool, error) {
	e, err := k.write(tw, f, before, io.LimitReader(in, before.Size()))
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return e, false, errMoving
	}
	if err != nil {
		return e, false, err
	}
	after, err := in.Stat()
	if err != nil || !same(before, after) {
		if err == nil && last && after.Size() > before.Size() {
			k.gap(archive.Gap{Path: f.name, Kind: archive.GapMoving, Why: "it grew while it was read; its first " + strconv.FormatInt(before.Size(), 10) + " bytes are saved"})
			return e, true, nil
		}
		return e, false, errMoving
	}
	return e, true, nil
}

func same(a, b fs.FileInfo) bool { return a.Size() == b.Size() && a.ModTime().Equal(b.ModTime()) }

// write puts a header and info.Size() bytes from r into the tar.
func (k *packer) write(tw *tarWriter, f planned, info fs.FileInfo, r io.Reader) (archive.Entry, error) {
	e := k.entry(f, info)
	if err := tw.WriteHeader(archive.Header(e)); err != nil {
		return e, fmt.Errorf("%s: %w", f.name, err)
	}
	sha := digest.New(info.Size())
	defer sha.Close()
	to := io.MultiWriter(tw, sha)
	head := &headWriter{k.head[:0]}
	if k.scrambled != nil {
		to = io.MultiWriter(tw, sha, head)
	}
	n, err := io.Copy(to, r)
	k.pace(n)
	if err != nil {
		return e, err
	}
	if n != info.Size() {
		return e, io.ErrUnexpectedEOF
	}
	if k.head = head.data; k.scrambled != nil && changes.Scrambled(f.name, k.head) {
		k.scrambled(f.name)
	}
	sum := sha.Sum()
	e.SHA256 = hex.EncodeToString(sum[:])
	if f.as != nil && e.SHA256 != f.as.SHA256 {
		return e, fmt.Errorf("%s: %w: its content is not what was saved", f.name, archive.ErrDamaged)
	}
	return e, nil
}

// headWriter keeps the first bytes of what is written.
type headWriter struct{ data []byte }

// Write implements io.Writer.
func (h *headWriter) Write(p []byte) (int, error) {
	h.data = append(h.data, p[:min(len(p), changes.Sample-len(h.data))]...)
	return len(p), nil
}

// entry describes a file for the list; an imported one as it was.
func (k *packer) entry(f planned, info fs.FileInfo) archive.Entry {
	if f.as != nil {
		return *f.as
	}
	e := entryOf(f.in, archive.TypeFile, f.name, info)
	e.XAttrs = f.in.XAttrs(f.rel)
	if k.reown != nil {
		k.reown(&e)
	}
	return e
}

package tree

import (
	"archive/tar"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"revlet/internal/platform/process"
	"revlet/internal/store/sshconn"

	"golang.org/x/crypto/ssh"
)

// BundleReader is a Folder far away that may be able to send many small files in one stream.
type BundleReader interface {
	// ReadBundle gives those of the regular files that have come whole, and that are proved not
	// to have changed since Survey. The others have to be read one by one: it is nil where
	// there is no other way.
	ReadBundle(names []string) map[string]Whole
	// BundleBytes is how much is worth asking for at a time, in bytes; 0 is nothing.
	BundleBytes() int64
}

const (
	// firstBundle and largestBundle bound what is asked for at a time, in bytes: it grows while
	// bundles come within bundleTime.
	firstBundle   = 2 << 20
	largestBundle = 16 << 20
	bundleTime    = 3 * time.Second
	// bundlesAtOnce is how many are under way at a time: one is read, one is on its way.
	bundlesAtOnce = 2
	// bundleEntry bounds what a file takes in a tar beside its content: its name, twice.
	bundleEntry = 16 << 10
	// bundleBlock is the length that GNU tar fills its output up to with -b 128 (tar(1)).
	bundleBlock = 128 * 512
)

// bundleMark stands between the tar and what the files are after that, bundleEnd after it.
const (
	bundleMark = "revlet: now\x00"
	bundleEnd  = "revlet: end\x00"
)

// errBundle is wrapped when there is no bundle to be had.
var errBundle = errors.New("no bundle can be made")

// bundleCommand is for a POSIX shell with GNU tar and coreutils. It goes on until its standard
// input ends: for each bundle a line with a length, and the list of names twice, so long. To
// begin a shell may take as long as a bundle does.
func bundleCommand(dir string) string {
	return "LC_ALL=C; export LC_ALL; cd -- " + process.ShellQuote(dir) + ` && while read -r n; do ` +
		`head -c "$n" | tar -c -f - -b 128 --format=gnu --no-recursion --hard-dereference --no-unquote --null -T -; printf 'revlet: now\0'; ` +
		`head -c "$n" | xargs -0 stat --printf='%f %s %.9Y %.9Z %i %d\0%n\0' --; printf 'revlet: end\0'; done 2>/dev/null`
}

// bundler is a command over there that makes one bundle after the other.
type bundler struct {
	dir     string
	session *ssh.Session
	in      io.WriteCloser
	out     *bufio.Reader
	stall   *time.Timer
	silence time.Duration
}

// bundler takes one that is idle, or begins one.
func (f *sshFolder) bundler() (*bundler, error) {
	for {
		select {
		case b := <-f.place.bundlers:
			if b.dir == f.dir {
				return b, nil
			}
			_ = b.session.Close()
			continue
		default:
		}
		break
	}
	b := &bundler{dir: f.dir, silence: f.place.o.Silence}
	err := f.place.once(f.ctx, f.place.pick(), func(c *conn) (err error) {
		if b.session, err = sshconn.NewSession(c.ssh); err != nil {
			return fmt.Errorf("%w: %w", errBundle, err)
		}
		out, err := b.session.StdoutPipe()
		if err == nil {
			b.in, err = b.session.StdinPipe()
		}
		if err == nil {
			err = b.session.Start(bundleCommand(f.dir))
		}
		if err != nil {
			return errors.Join(errBundle, err, b.session.Close())
		}
		b.stall = time.AfterFunc(f.place.o.Silence, func() { _ = b.session.Close() })
		b.stall.Stop()
		b.out = bufio.NewReaderSize(&stallReader{out, b.stall, f.place.o.Silence}, 256<<10)
		return nil
	})
	return b, err
}

// bundle asks for files, of which list are the names.
func (b *bundler) bundle(ctx context.Context, list []byte, wanted map[string]*surveyed) (map[string]Whole, error) {
	stop := context.AfterFunc(ctx, func() { _ = b.session.Close() })
	defer stop()
	defer b.stall.Stop()
	b.stall.Reset(b.silence)
	asked := make(chan error, 1)
	go func() {
		_, err := b.in.Write(slices.Concat([]byte(strconv.Itoa(len(list))+"\n"), list, list))
		asked <- err
	}()
	found, err := readBundle(b.out, wanted)
	if err != nil {
		_ = b.session.Close() // whoever writes to it is not to wait
	}
	return found, errors.Join(err, <-asked)
}

// BundleBytes implements BundleReader.
func (f *sshFolder) BundleBytes() int64 {
	if f.surveys.get() == nil || !f.place.mayRun() {
		return 0
	}
	return f.place.bundle.Load()
}

// ReadBundle implements BundleReader, with tar(1) and stat(1) of GNU's kind.
func (f *sshFolder) ReadBundle(names []string) map[string]Whole {
	most := f.BundleBytes()
	if most == 0 {
		return nil
	}
	s := f.surveys.get()
	wanted := map[string]*surveyed{}
	var list []byte
	for _, name := range names {
		if one := s.at(name); one != nil && one.mode.IsRegular() && wanted[name] == nil {
			wanted[name] = one
			list = append(append(append(list, "./"...), name...), 0)
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	select {
	case f.place.bundling <- struct{}{}:
		defer func() { <-f.place.bundling }()
	case <-f.ctx.Done():
		return nil
	}
	b, err := f.bundler()
	began := time.Now()
	var found map[string]Whole
	if err == nil {
		found, err = b.bundle(f.ctx, list, wanted)
	}
	if err != nil {
		f.place.bundle.Store(0) // it knows none, or the line breaks: file by file each goes on where it was
		return nil
	}
	if time.Since(began) < bundleTime {
		f.place.bundle.CompareAndSwap(most, min(2*most, largestBundle))
	}
	select {
	case f.place.bundlers <- b:
	default:
		_ = b.session.Close()
	}
	return found
}

// readBundle reads what bundleCommand writes of files, up to its end.
func readBundle(r *bufio.Reader, wanted map[string]*surveyed) (map[string]Whole, error) {
	most := int64(2 * bundleBlock)
	for _, one := range wanted {
		most += one.size + bundleEntry
	}
	counted := &countingReader{r: r, most: most}
	found := map[string]Whole{}
	for in := tar.NewReader(counted); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, bundleError(err)
		}
		name, ok := strings.CutPrefix(h.Name, "./")
		one := wanted[name]
		if _, twice := found[name]; !ok || one == nil || twice {
			return nil, fmt.Errorf("%w: it gives %.100q", errBundle, h.Name)
		}
		if h.Typeflag != tar.TypeReg || h.Size != one.size {
			continue // it has changed
		}
		data := make([]byte, one.size)
		if _, err := io.ReadFull(in, data); err != nil {
			return nil, bundleError(err)
		}
		found[name] = Whole{data, one}
	}
	if rest := counted.n % bundleBlock; rest > 0 {
		if _, err := io.CopyN(io.Discard, counted, bundleBlock-rest); err != nil {
			return nil, bundleError(err)
		}
	}
	return found, stillSame(r, wanted, found)
}

func bundleError(err error) error { return fmt.Errorf("%w: %w", errBundle, err) }

// stillSame drops files of a bundle that are not, once they were read, what the survey has
// found: nobody can set the time of the last change.
func stillSame(in *bufio.Reader, wanted map[string]*surveyed, found map[string]Whole) error {
	mark, err := in.ReadSlice(0)
	if err != nil || string(mark) != bundleMark {
		return errors.Join(errBundle, err, fmt.Errorf("%.20q stands after it", mark))
	}
	same := map[string]bool{}
	for said := 0; ; said++ {
		numbers, err := in.ReadSlice(0) // no longer than the buffer: a name is shorter by far
		if err == nil && string(numbers) == bundleEnd {
			break
		}
		if err != nil || said == len(wanted) {
			return errors.Join(errBundle, err, errors.New("it has no end"))
		}
		is := strings.TrimSuffix(string(numbers), "\x00")
		name, err := in.ReadSlice(0)
		if err != nil {
			return bundleError(err)
		}
		rel := strings.TrimSuffix(strings.TrimPrefix(string(name), "./"), "\x00")
		if one := wanted[rel]; one != nil && one.is(is) {
			same[rel] = true
		}
	}
	for name := range found {
		if !same[name] {
			delete(found, name)
		}
	}
	if len(same) == 0 {
		return fmt.Errorf("%w: of no file is told what it is", errBundle)
	}
	return nil
}

// is tells whether a path is now, as stat(1) says it in numbers, what the survey has found.
func (s *surveyed) is(numbers string) bool {
	fields := strings.Fields(numbers)
	if len(fields) != 6 {
		return false
	}
	mode, err := strconv.ParseUint(fields[0], 16, 32)
	size, err2 := strconv.ParseInt(fields[1], 10, 64)
	inode, err3 := strconv.ParseUint(fields[4], 10, 64)
	dev, err4 := strconv.ParseUint(fields[5], 10, 64)
	mtime, ok := findTime(fields[2])
	ctime, ok2 := findTime(fields[3])
	const regular, kind = 0o100000, 0o170000 // S_IFREG and S_IFMT (sys/stat.h)
	return errors.Join(err, err2, err3, err4) == nil && ok && ok2 && mode&kind == regular && permissions(mode&0o7777) == s.mode&^fs.ModeType &&
		size == s.size && inode == s.stat.Inode && dev == s.stat.Dev && mtime.Equal(s.mtime) && ctime.Equal(s.stat.CTime)
}

// countingReader counts what is read, most at most.
type countingReader struct {
	r       io.Reader
	n, most int64
}

// Read implements io.Reader.
func (c *countingReader) Read(p []byte) (int, error) {
	if c.n >= c.most {
		return 0, errBundle
	}
	n, err := c.r.Read(p[:min(int64(len(p)), c.most-c.n)])
	c.n += int64(n)
	return n, err
}

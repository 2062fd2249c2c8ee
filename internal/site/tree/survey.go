package tree

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"revlet/internal/platform/process"
	"revlet/internal/store/sshconn"
)

// Surveyor is a Folder far away that may be able to tell of everything in it at once, and
// more of each path than it tells of one.
type Surveyor interface {
	// Survey looks at everything in a folder of it, "." being itself. Until it is called again,
	// ReadFolder answers from what it has found, and what is said of a file that is still the
	// same has all that it has told. Where the place cannot do that, too much is there, or
	// nothing, it does nothing.
	Survey(name string) error
}

const (
	// mostSurveyed bounds how many paths are held of a survey: some 100 MB.
	mostSurveyed = 300_000
	// longestSurvey bounds what is read of one, in bytes.
	longestSurvey = 256 << 20
)

// survey is what GNU find has told of a folder and everything below.
type survey struct {
	// of is the folder's name in the one that was asked.
	of      string
	folders map[string][]surveyed
	owners  map[[2]int][2]string
}

// surveyed is a path of a survey. It implements fs.FileInfo.
type surveyed struct {
	name  string
	size  int64
	mode  fs.FileMode
	mtime time.Time
	stat  Stat
	link  string
}

// Name implements fs.FileInfo.
func (s *surveyed) Name() string { return s.name }

// Size implements fs.FileInfo.
func (s *surveyed) Size() int64 { return s.size }

// Mode implements fs.FileInfo.
func (s *surveyed) Mode() fs.FileMode { return s.mode }

// ModTime implements fs.FileInfo.
func (s *surveyed) ModTime() time.Time { return s.mtime }

// IsDir implements fs.FileInfo.
func (s *surveyed) IsDir() bool { return s.mode.IsDir() }

// Sys implements fs.FileInfo.
func (s *surveyed) Sys() any { return &s.stat }

// findFields is what is asked of GNU find for each path; the texts end with a NUL each.
const findFields = `%y %m %s %T@ %C@ %i %D %n %U %G %b\0%u\0%g\0%P\0%l\0`

// surveyEnd follows the last path, and that nothing went wrong: without it, something has
// broken off, or could not be read.
const surveyEnd = "end of survey 0"

// closed is find's letter, of ours, for a folder that the account may not look into.
const closed = "u"

// surveyCommand is for a POSIX shell: it fails, without a word on standard output, where
// there is no GNU find, or a link leads to the folder in dir.
func surveyCommand(dir, name string) string {
	shut := strings.Replace(findFields, "%y", closed, 1)
	enter := "cd -- " + process.ShellQuote(dir)
	if name != "." {
		enter += ` && at=$(pwd -P) && cd -- ` + process.ShellQuote(name) + ` && [ "$(pwd -P)" = "${at%/}"/` + process.ShellQuote(name) + " ]"
	}
	return "LC_ALL=C; export LC_ALL; " + enter + " 2>/dev/null && find . -maxdepth 0 -readable -printf '' 2>/dev/null && { " +
		"find . -ignore_readdir_race -type d ! '(' -readable -executable ')' -printf '" + shut + "' -prune -o -printf '" + findFields + "' 2>/dev/null; printf 'end of survey %d\\0' $?; }"
}

// errNoSurvey is wrapped when there is no survey to be had.
var errNoSurvey = errors.New("no survey can be made")

// readSurvey reads what surveyCommand writes of a folder.
func readSurvey(r io.Reader, name string) (*survey, error) {
	in := bufio.NewReaderSize(io.LimitReader(r, longestSurvey), 256<<10)
	s := &survey{of: name, folders: map[string][]surveyed{}, owners: map[[2]int][2]string{}}
	var texts [5]string
	for n := 0; ; n++ {
		for i := range texts {
			text, err := in.ReadBytes(0)
			if err == nil && i == 0 && string(text) == surveyEnd+"\x00" {
				return s, s.sort()
			}
			if err != nil {
				return nil, fmt.Errorf("%w: it broke off: %w", errNoSurvey, err)
			}
			texts[i] = string(bytes.TrimSuffix(text, []byte{0}))
		}
		if n == 0 && texts[3] != "" {
			return nil, fmt.Errorf("%w: the folder itself does not come first", errNoSurvey)
		}
		if n > mostSurveyed {
			return nil, fmt.Errorf("%w: more than %d paths", errNoSurvey, mostSurveyed)
		}
		if err := s.add(texts); err != nil {
			return nil, err
		}
	}
}

// kinds are find's letters for what a path is.
var kinds = map[string]fs.FileMode{"f": 0, "d": fs.ModeDir, closed: fs.ModeDir, "l": fs.ModeSymlink, "p": fs.ModeNamedPipe, "s": fs.ModeSocket, "b": fs.ModeDevice, "c": fs.ModeDevice | fs.ModeCharDevice}

// add takes the texts of one path in: numbers, owner, group, name and the link's target.
func (s *survey) add(texts [5]string) error {
	fields := strings.Fields(texts[0])
	bad := fmt.Errorf("%w: it says %.100q of a path", errNoSurvey, texts[0])
	if len(fields) != 11 {
		return bad
	}
	kind, known := kinds[fields[0]]
	mode, err := strconv.ParseUint(fields[1], 8, 16)
	if !known || err != nil {
		return bad
	}
	var numbers [7]int64 // size, inode, device, links, owner, group, blocks
	for i, at := range []int{2, 5, 6, 7, 8, 9, 10} {
		if numbers[i], err = strconv.ParseInt(fields[at], 10, 64); err != nil || numbers[i] < 0 {
			return bad
		}
	}
	mtime, ok1 := findTime(fields[3])
	ctime, ok2 := findTime(fields[4])
	rel := texts[3]
	if !ok1 || !ok2 || rel != "" && !validPath(rel) || kind&fs.ModeSymlink != 0 && !validTarget(texts[4]) || len(texts[1])+len(texts[2]) > longestName {
		return bad
	}
	one := surveyed{name: path.Base(rel), size: numbers[0], mode: kind | permissions(mode), mtime: mtime, link: texts[4],
		stat: Stat{UID: int(numbers[4]), GID: int(numbers[5]), Inode: uint64(numbers[1]), Dev: uint64(numbers[2]), Links: uint64(numbers[3]), CTime: ctime, Blocks: numbers[6], HasBlocks: true}}
	s.owners[[2]int{one.stat.UID, one.stat.GID}] = [2]string{ownerName(texts[1], one.stat.UID), ownerName(texts[2], one.stat.GID)}
	if rel == "" {
		if _, there := s.folders[s.of]; !there && one.IsDir() && fields[0] != closed {
			s.folders[s.of] = nil
		}
		return nil
	}
	rel = path.Join(s.of, rel)
	if one.IsDir() && fields[0] != closed {
		if _, there := s.folders[rel]; !there {
			s.folders[rel] = nil
		}
	}
	dir := path.Dir(rel)
	s.folders[dir] = append(s.folders[dir], one)
	return nil
}

// validPath tells whether a name is a path below a folder, in whatever bytes. fs.ValidPath
// takes "." for one, and no bytes that are not UTF-8.
func validPath(rel string) bool {
	return len(rel) <= longestPath && !slices.ContainsFunc(strings.Split(rel, "/"), func(part string) bool { return !validName(part) })
}

const (
	// longestName and longestPath are those of Linux (NAME_MAX, with room for systems that
	// have longer ones, and PATH_MAX). A far end may say anything: a folder that holds itself
	// has no end.
	longestName = 1024
	longestPath = 4096
)

// validTarget tells whether a link can lead to a path.
func validTarget(target string) bool {
	return target != "" && len(target) <= longestPath && !strings.Contains(target, "\x00")
}

// validName tells whether a folder can have a name.
func validName(name string) bool {
	return name != "" && name != "." && name != ".." && len(name) <= longestName && !strings.ContainsAny(name, "/\x00")
}

// ownerName is an account's name, or nothing where find has only its number.
func ownerName(name string, id int) string {
	if name == strconv.Itoa(id) {
		return ""
	}
	return name
}

func permissions(bits uint64) fs.FileMode {
	mode := fs.FileMode(bits & 0o777)
	for bit, is := range map[uint64]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if bits&bit != 0 {
			mode |= is
		}
	}
	return mode
}

// findTime reads seconds since 1970 with a fraction, as find writes them.
func findTime(text string) (time.Time, bool) {
	whole, fraction, _ := strings.Cut(text, ".")
	seconds, err := strconv.ParseInt(whole, 10, 64)
	if err != nil {
		return time.Time{}, false
	}
	fraction = (fraction + "000000000")[:9]
	nanos, err := strconv.ParseInt(fraction, 10, 64)
	return time.Unix(seconds, nanos).UTC(), err == nil && nanos >= 0
}

// sort puts every folder's names in order, and refuses what no folder has.
func (s *survey) sort() error {
	if _, there := s.folders[s.of]; !there {
		return fmt.Errorf("%w: the folder itself is not in it", errNoSurvey)
	}
	for dir, all := range s.folders {
		slices.SortFunc(all, func(a, b surveyed) int { return strings.Compare(a.name, b.name) })
		for i := 1; i < len(all); i++ {
			if all[i].name == all[i-1].name {
				return fmt.Errorf("%w in %s", errNames, dir)
			}
		}
	}
	return nil
}

// at is what a survey has told of a path; nil is nothing.
func (s *survey) at(rel string) *surveyed {
	all := s.folders[path.Dir(rel)]
	i, found := slices.BinarySearchFunc(all, path.Base(rel), func(one surveyed, name string) int { return strings.Compare(one.name, name) })
	if !found {
		return nil
	}
	return &all[i]
}

// surveys keeps the last survey of a folder.
type surveys struct {
	mu   sync.RWMutex
	last *survey
}

func (s *surveys) get() *survey {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.last
}

// Survey implements Surveyor.
func (f *sshFolder) Survey(name string) error {
	f.surveys.mu.Lock()
	f.surveys.last = nil
	f.surveys.mu.Unlock()
	if !f.place.mayRun() || f.dir == "" {
		return nil
	}
	// Both at a time: each takes some journeys.
	var names []string
	var infos []Info
	var listErr error
	var listed sync.WaitGroup
	listed.Go(func() { names, infos, listErr = f.ReadFolder(name, 0) })
	defer listed.Wait()
	var found *survey
	err := f.place.run(f.ctx, surveyCommand(f.dir, name), func(out io.Reader) (err error) {
		found, err = readSurvey(out, name)
		return err
	})
	if errors.Is(err, errNoCommands) || errors.Is(err, errNoSurvey) {
		if !errors.Is(err, errNames) {
			f.place.noCommands.Store(errors.Is(err, errNoCommands))
		}
		return nil
	}
	if err != nil {
		return err
	}
	listed.Wait()
	if listErr != nil || !found.alike(names, infos) {
		return nil
	}
	f.surveys.mu.Lock()
	f.surveys.last = found
	f.surveys.mu.Unlock()
	return nil
}

// alike tells whether a survey is of what SFTP shows: an account may see other folders under
// the same path when it runs commands.
func (s *survey) alike(names []string, infos []Info) bool {
	if len(names) != len(s.folders[s.of]) {
		return false
	}
	for i, one := range s.folders[s.of] {
		info := infos[i].FileInfo
		if one.name != names[i] || one.mode != info.Mode() || !one.IsDir() && one.mode&fs.ModeSymlink == 0 && one.size != info.Size() {
			return false
		}
	}
	return true
}

// enriched adds what a survey has told of a path to what SFTP says of it now, if that is
// the same as far as SFTP can say.
func (f *sshFolder) enriched(name string, now fs.FileInfo) fs.FileInfo {
	s := f.surveys.get()
	if s == nil {
		return now
	}
	was := s.at(name)
	if was == nil || was.size != now.Size() || was.mode != now.Mode() || was.mtime.Unix() != now.ModTime().Unix() {
		return now
	}
	return was
}

// errNoCommands is wrapped when the account may run no commands.
var errNoCommands = errors.New("the account may run no commands")

// mayRun tells whether commands are tried at all.
func (p *sshPlace) mayRun() bool { return !p.o.NoCommands && !p.noCommands.Load() }

// stallReader puts a timer off whenever something comes.
type stallReader struct {
	io.Reader
	timer *time.Timer
	d     time.Duration
}

// Read implements io.Reader.
func (r *stallReader) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	r.timer.Reset(r.d)
	return n, err
}

// run runs a command over there and has read take what it writes. What goes wrong with
// that is errNoCommands, unless the connection itself broke, or read says otherwise.
func (p *sshPlace) run(ctx context.Context, command string, read func(io.Reader) error) error {
	return p.runWith(ctx, command, nil, read)
}

// runWith is run with a standard input.
func (p *sshPlace) runWith(ctx context.Context, command string, in []byte, read func(io.Reader) error) error {
	return p.withRetry(ctx, p.pick, func(c *conn) error { return p.runIn(c, command, in, read) })
}

// runIn is runWith on one connection.
func (p *sshPlace) runIn(c *conn, command string, in []byte, read func(io.Reader) error) error {
	s, err := sshconn.NewSession(c.ssh)
	if err != nil {
		return fmt.Errorf("%w: %w", errNoCommands, err)
	}
	defer s.Close()
	s.Stdin = bytes.NewReader(in)
	out, err := s.StdoutPipe()
	if err == nil {
		err = s.Start(command)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", errNoCommands, err)
	}
	stall := time.AfterFunc(p.o.Silence, func() { _ = s.Close() })
	defer stall.Stop()
	return read(&stallReader{out, stall, p.o.Silence})
}

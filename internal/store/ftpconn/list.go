package ftpconn

import (
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"revlet/internal/platform/lazy"
	"revlet/internal/store"
)

// A line of a listing is like those of `ls -l` or of DIR: nothing says so, but nearly all
// servers write one of them (RFC 959 leaves it open).
var (
	lsLine   = lazy.Regexp(`^([-dlbcps])([-rwxsStT]{9})[.+@]?\s+\d+\s+\S+\s+\S+\s+(?:\d+,\s+)?(\d+)\s+([A-Z][a-z]{2}\s+\d{1,2}\s+(?:\d{1,2}:\d{2}|\d{4})) (.+)$`)
	lsShort  = lazy.Regexp(`^([-dlbcps])([-rwxsStT]{9})[.+@]?\s+\d+\s+\S+\s+(\d+)\s+([A-Z][a-z]{2}\s+\d{1,2}\s+(?:\d{1,2}:\d{2}|\d{4})) (.+)$`)
	dirLine  = lazy.Regexp(`^(\d{2}-\d{2}-\d{2,4})\s+(\d{2}:\d{2}[AP]M)\s+(<DIR>|\d+)\s(?:\s*)(.+)$`)
	sumLine  = lazy.Regexp(`^total \d+$`)
	lsKinds  = map[byte]fs.FileMode{'-': 0, 'd': fs.ModeDir, 'l': fs.ModeSymlink, 'b': fs.ModeDevice, 'c': fs.ModeDevice | fs.ModeCharDevice, 'p': fs.ModeNamedPipe, 's': fs.ModeSocket}
	dirTimes = []string{"01-02-06 03:04PM", "01-02-2006 03:04PM"}
)

// parseList reads a line of a listing; false is one that names nothing. A line that is not
// understood is an error: what it names would not be there.
func parseList(line string, now time.Time) (Entry, bool, error) {
	if sumLine().MatchString(line) {
		return Entry{}, false, nil
	}
	m := lsLine().FindStringSubmatch(line)
	if m == nil {
		m = lsShort().FindStringSubmatch(line)
	}
	if m != nil {
		e := Entry{Name: m[5], Mode: lsKinds[m[1][0]] | rights(m[2]), HasMode: true}
		var err error
		if e.Size, err = strconv.ParseInt(m[3], 10, 64); err != nil {
			return e, false, unread(line)
		}
		if e.ModTime, err = lsTime(m[4], now); err != nil {
			return e, false, unread(line)
		}
		if e.Mode&fs.ModeSymlink != 0 {
			e.Name, e.Target, _ = strings.Cut(e.Name, " -> ")
		}
		return e, true, nil
	}
	if m = dirLine().FindStringSubmatch(line); m != nil {
		e := Entry{Name: m[4]}
		var err error
		if m[3] == "<DIR>" {
			e.Mode = fs.ModeDir
		} else if e.Size, err = strconv.ParseInt(m[3], 10, 64); err != nil {
			return e, false, unread(line)
		}
		for _, layout := range dirTimes {
			if e.ModTime, err = time.Parse(layout, m[1]+" "+m[2]); err == nil {
				return e, true, nil
			}
		}
	}
	return Entry{}, false, unread(line)
}

func unread(line string) error {
	return store.Refuse("the server lists names in a form that is not understood: %.100q", line)
}

// rights reads nine letters such as rwxr-sr-x.
func rights(letters string) (mode fs.FileMode) {
	for i, bit := range []fs.FileMode{0o400, 0o200, 0o100, 0o040, 0o020, 0o010, 0o004, 0o002, 0o001} {
		switch letters[i] {
		case 'S', 'T', '-':
		default:
			mode |= bit
		}
	}
	for i, bit := range map[int]fs.FileMode{2: fs.ModeSetuid, 5: fs.ModeSetgid, 8: fs.ModeSticky} {
		if strings.IndexByte("sStT", letters[i]) >= 0 {
			mode |= bit
		}
	}
	return mode
}

// lsTime reads a time as ls writes it: of the last half year with hours, else with the year.
func lsTime(text string, now time.Time) (time.Time, error) {
	text = strings.Join(strings.Fields(text), " ")
	if t, err := time.Parse("Jan 2 2006", text); err == nil {
		return t, nil
	}
	t, err := time.Parse("Jan 2 15:04 2006", fmt.Sprintf("%s %d", text, now.Year()))
	if err != nil { // the 29th of February of another year
		if t, err = time.Parse("Jan 2 15:04 2006", fmt.Sprintf("%s %d", text, now.Year()-1)); err != nil {
			return t, err
		}
	}
	if t.After(now.AddDate(0, 0, 2)) {
		t = t.AddDate(-1, 0, 0)
	}
	return t, nil
}

// parseFacts reads a line of MLSD or MLST (RFC 3659, 7.2): facts, a space, the name. A type
// that is not known is fs.ModeIrregular.
func parseFacts(line string) (e Entry, ok bool) {
	facts, name, found := strings.Cut(line, " ")
	if !found || name == "" || !strings.Contains(facts, "=") {
		return e, false
	}
	e.Name, e.Mode = name, fs.ModeIrregular
	rights := fs.FileMode(0)
	for fact := range strings.SplitSeq(facts, ";") {
		key, value, _ := strings.Cut(fact, "=")
		var err error
		switch strings.ToLower(key) {
		case "type":
			switch strings.ToLower(value) {
			case "file":
				e.Mode = 0
			case "dir":
				e.Mode = fs.ModeDir
			case "cdir":
				e.Name = "."
			case "pdir":
				e.Name = ".."
			default:
				if kind, target, _ := strings.Cut(value, ":"); strings.EqualFold(kind, "OS.unix=slink") || strings.EqualFold(kind, "OS.unix=symlink") {
					e.Mode, e.Target = fs.ModeSymlink, target
				}
			}
		case "size":
			e.Size, err = strconv.ParseInt(value, 10, 64)
		case "modify":
			e.ModTime, err = parseTime(value)
			e.Exact = err == nil
		case "unix.mode":
			var bits uint64
			if bits, err = strconv.ParseUint(value, 8, 16); err == nil {
				rights, e.HasMode = unixMode(bits), true
			}
		}
		if err != nil || e.Size < 0 {
			return e, false
		}
	}
	e.Mode |= rights
	return e, true
}

func unixMode(bits uint64) fs.FileMode {
	mode := fs.FileMode(bits & 0o777)
	for bit, is := range map[uint64]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if bits&bit != 0 {
			mode |= is
		}
	}
	return mode
}

// parseTime reads a time as RFC 3659 has it: in UTC, with fractions of a second or without.
func parseTime(text string) (time.Time, error) {
	whole, _, _ := strings.Cut(text, ".")
	return time.Parse("20060102150405", whole)
}

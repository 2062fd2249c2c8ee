package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// ErrLedAway is wrapped when somebody's link leads to what is not his.
var ErrLedAway = errors.New("what a link leads to does not belong to the account that has made it")

// Way is a path without links on the way. What root reads and writes for an account, that one could not by itself: a link
// that an account has made is followed to what belongs to the same account, and to nothing else; links of root lead anywhere.
// What has changed a moment later is not seen by this. A path that is not there gives one, too.
func Way(path string) (string, error) {
	real, makers, err := follow(path, 0)
	if err != nil {
		return "", err
	}
	info, err := os.Lstat(real)
	for at := real; errors.Is(err, fs.ErrNotExist) && at != filepath.Dir(at); {
		at = filepath.Dir(at) // what will be made belongs to whom that belongs
		info, err = os.Lstat(at)
	}
	if err != nil {
		return "", err
	}
	return real, rightful(path, info, makers)
}

// follow follows the links on the way to a path. makers are the accounts that have made them, but for root and this one.
func follow(path string, links int) (real string, makers []int, err error) {
	if path, err = filepath.Abs(path); err != nil {
		return "", nil, err
	}
	if links > mostWay {
		return "", nil, &fs.PathError{Op: "open", Path: path, Err: errors.New("too many links")}
	}
	volume := filepath.VolumeName(path)
	separator := string(filepath.Separator)
	at := volume + separator
	parts := strings.Split(strings.TrimPrefix(path, at), separator)
	for i, part := range parts {
		at = filepath.Join(at, part)
		info, err := os.Lstat(at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return filepath.Join(append([]string{at}, parts[i+1:]...)...), makers, nil
		case err != nil:
			return "", nil, err
		case info.Mode()&fs.ModeSymlink == 0:
			continue
		}
		target, err := os.Readlink(at)
		if err != nil {
			return "", nil, err
		}
		if !filepath.IsAbs(target) {
			target = filepath.Join(filepath.Dir(at), target)
		}
		real, more, err := follow(filepath.Join(append([]string{target}, parts[i+1:]...)...), links+1)
		if a, ok := AttributesOf(info); ok && a.UID != 0 && a.UID != os.Geteuid() {
			more = append(more, a.UID)
		}
		return real, append(makers, more...), err
	}
	return at, makers, nil
}

// mostWay bounds how many links a way may have.
const mostWay = 40

// rightful refuses what root was led to by a link of an account that does not own it.
func rightful(path string, info fs.FileInfo, makers []int) error {
	a, ok := AttributesOf(info)
	i := slices.IndexFunc(makers, func(maker int) bool { return maker != a.UID })
	if os.Geteuid() != 0 || !ok || i < 0 {
		return nil
	}
	return fmt.Errorf("%s: %w: %s has made it, and it leads to what belongs to %s; if that is meant, name it itself in the configuration", path, ErrLedAway, AccountName(makers[i]), AccountName(a.UID))
}

// AccountName is an account's name, or its number where it has none.
func AccountName(uid int) string {
	number := strconv.Itoa(uid)
	if u, err := user.LookupId(number); err == nil {
		return u.Username
	}
	return number
}

package site

import (
	"io/fs"
	"os"
	"path/filepath"

	"revlet/internal/config"
	"revlet/internal/platform/disk"
)

// writer is the account that may write the site's settings on this machine, if this one is root and that is not: the one that
// they belong to, nobody where several may, and the one that the site's folder is in where there are none. Of several files any may
// be what counts.
func (s *Site) writer(c config.Site) *int {
	if os.Geteuid() != 0 {
		return nil
	}
	files := s.Recipe.Settings.Files
	if c.Settings != "" {
		files = []string{c.Settings}
	}
	there, as := false, (*int)(nil)
	for _, f := range files {
		at := filepath.Join(c.Root, filepath.FromSlash(f))
		if filepath.IsAbs(f) {
			at = f
		}
		info, err := os.Stat(at)
		if err != nil {
			continue
		}
		there = true
		if one := accountOf(at, info); one != nil && as != nil && *one != *as {
			as = new(int)
			*as = nobody
		} else if one != nil {
			as = one
		}
	}
	if there {
		return as
	}
	for at := filepath.Clean(c.Root); ; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		if err == nil {
			return accountOf(at, info)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// nobody is the account that has nothing (Linux: overflowuid).
const nobody = 65534

func accountOf(path string, info fs.FileInfo) *int {
	a, ok := disk.AttributesOf(info)
	uid := nobody
	switch {
	case ok && a.UID == 0 && disk.FileOnlyOf(path, info):
		return nil
	case ok && disk.FileOnlyOf(path, info, a.UID):
		uid = a.UID
	}
	return &uid
}

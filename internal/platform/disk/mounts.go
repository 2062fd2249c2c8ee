package disk

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
)

// Mounts are the folders and files at which something is mounted, as this process sees them: proc(5), mountinfo. It is
// empty on systems that do not tell.
func (d *Disk) Mounts() ([]string, error) {
	table := mountTable
	if d != nil && d.MountTable != "" {
		table = d.MountTable
	}
	if table == "" {
		return nil, nil
	}
	data, err := d.ReadFile(table)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var all []string
	for line := range strings.Lines(string(data)) {
		if fields := strings.Fields(line); len(fields) > 4 {
			all = append(all, unescaped(fields[4]))
		}
	}
	return all, err
}

// unescaped undoes the octal escapes of a mount table: a space is \040.
func unescaped(s string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`, `\043`, "#").Replace(s)
}

// MountsBelow are those below a folder, in order; the folder's own is not among them. Links in the folder's path are
// resolved; one that is not there has none.
func (d *Disk) MountsBelow(dir string) ([]string, error) {
	real, err := filepath.EvalSymlinks(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	all, failed := d.Mounts()
	if err = errors.Join(err, failed); err != nil {
		return nil, err
	}
	below := strings.TrimSuffix(real, "/") + "/"
	all = slices.DeleteFunc(all, func(at string) bool { return !strings.HasPrefix(at, below) })
	slices.Sort(all)
	return slices.Compact(all), nil
}

// IsMount tells whether something is mounted at a path that has no links in it.
func (d *Disk) IsMount(path string) (bool, error) {
	all, err := d.Mounts()
	return slices.Contains(all, path), err
}

package restore

import (
	"errors"
	"io/fs"
	"os/user"
	"path/filepath"
	"strconv"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/work/unpack"
)

// whose says to whom what is put back belongs on this machine. At another place than the archive was taken at, that is to
// whom the place belongs: an account there may have the number, and the name, of the site's by chance.
func (r *run) whose() (*unpack.Owners, error) {
	o := &unpack.Owners{Own: r.Own && r.Archive.Origin.Place == "", Was: r.Archive.Origin.Owner}
	if r.Site.Far() || o.Own && r.Moving == nil {
		return o, nil
	}
	var err error
	o.Heir, err = belongsTo(r.disk, r.Site.Root)
	return o, err
}

// belongsTo is to whom a folder belongs, or, where there is none, the nearest above it; nil for root.
func belongsTo(d *disk.Disk, dir string) (*archive.Owner, error) {
	info, err := d.Stat(dir)
	if errors.Is(err, fs.ErrNotExist) && dir != filepath.Dir(dir) {
		return belongsTo(d, filepath.Dir(dir))
	}
	if err != nil {
		return nil, err
	}
	a, ok := disk.AttributesOf(info)
	if !ok || a.UID == 0 {
		return nil, nil
	}
	o := &archive.Owner{UID: a.UID, GID: a.GID}
	if u, err := user.LookupId(strconv.Itoa(a.UID)); err == nil {
		o.User = u.Username
	}
	if g, err := user.LookupGroupId(strconv.Itoa(a.GID)); err == nil {
		o.Group = g.Name
	}
	return o, nil
}

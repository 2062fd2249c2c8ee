package backup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"path"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/portable"
	"revlet/internal/site"
)

// HostDump is a database's dump that a job of the site's host has left.
type HostDump struct {
	// File is its path there, Made when it was written last.
	File  string
	Made  time.Time
	Bytes int64
}

// Ahead is how far in the future a dump may seem to lie: not every server says in which zone
// its times are.
const Ahead = 26 * time.Hour

// Doubt says why a dump may not be the database of today: it is older than it may be, or its
// time says nothing. atMost 0 is any age.
func (d *HostDump) Doubt(now time.Time, atMost time.Duration) string {
	switch age := now.Sub(d.Made); {
	case age < -Ahead:
		return fmt.Sprintf("%s, the newest dump that the host has left, lies in the future by its time (%s): how old it is is not known, and newer ones may be passed over", d.File, d.Made.UTC().Format("2006-01-02 15:04 MST"))
	case atMost > 0 && age > atMost:
		return fmt.Sprintf("%s, the newest dump that the host has left, is %s old", d.File, strings.TrimSpace(humanize.RelTime(d.Made, now, "", "")))
	}
	return ""
}

// ErrNoDump is wrapped when no file is what `dump: {path: …}` says.
var ErrNoDump = errors.New("no dump of the host's is there")

// FindDump returns the newest dump that the host has left of a database, on the site's
// machine. The last element of the path may be a pattern, see path.Match.
func FindDump(ctx context.Context, s *site.Site, db site.Database) (*HostDump, error) {
	dir, pattern := s.DumpPath(db)
	in, err := s.At(nil).Folder(ctx, dir)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("%w: there is no folder %s", ErrNoDump, dir)
		}
		return nil, err
	}
	defer in.Close()
	names, infos, err := in.ReadFolder(".", math.MaxInt)
	if err != nil {
		return nil, err
	}
	var newest *HostDump
	for i, name := range names {
		if is, err := path.Match(pattern, name); err != nil || !is {
			continue
		}
		if infos[i].Err != nil {
			return nil, infos[i].Err
		}
		if info := infos[i].FileInfo; info.Mode().IsRegular() && (newest == nil || info.ModTime().After(newest.Made)) {
			newest = &HostDump{File: path.Join(dir, name), Made: info.ModTime(), Bytes: info.Size()}
		}
	}
	if newest == nil {
		return nil, fmt.Errorf("%w: nothing in %s is called %s", ErrNoDump, dir, pattern)
	}
	return newest, nil
}

// takeDump takes in what the host has left in place of reading the database.
func (r *run) takeDump(ctx context.Context, db site.Database) error {
	found, err := FindDump(ctx, r.Site, db)
	if err != nil {
		return fmt.Errorf("database %s: %w", db.Label, err)
	}
	in, err := r.Site.At(r.disk).Folder(ctx, path.Dir(found.File))
	if err != nil {
		return err
	}
	defer in.Close()
	name := path.Base(found.File)
	file, err := in.Open(name)
	if err != nil {
		return fmt.Errorf("database %s: read %s: %w", db.Label, found.File, err)
	}
	defer file.Close()
	content, done, err := portable.Decompressed(file)
	var text *portable.Text
	if err == nil {
		defer done()
		text, err = portable.NewText(content)
	}
	if err == nil {
		var part archive.Part
		part, err = r.packText(text, func(part *archive.Part, sum string) (archive.Entry, error) {
			part.Kind, part.Database = archive.KindDump, db.Label
			now, err := file.Stat()
			if err == nil && (now.Size() != found.Bytes || !now.ModTime().Equal(found.Made)) {
				err = errors.New("it was written to meanwhile; the host's job was at work")
			}
			return archive.Entry{Type: archive.KindDump, Path: "database/" + db.Label + "/" + archive.KindDump + ".sql", Size: part.ContentBytes, SHA256: sum, Database: db.Label}, err
		})
		r.texts = append(r.texts, part)
	}
	if err != nil {
		return fmt.Errorf("database %s: the host's dump %s: %w", db.Label, found.File, err)
	}
	r.record.Origin.Databases[db.Label] = archive.DBOrigin{Engine: db.Engine, Name: db.Name, Where: db.Where(), Prefix: db.Prefix,
		Consistency: "as the host's job has written it", Dumped: found.Made.UTC()}
	now, known := r.Site.At(r.disk).Now(ctx)
	if !known {
		now = r.Now()
	}
	if why := found.Doubt(now, db.AtMost); why != "" {
		r.addGap(archive.Gap{Path: "database/" + db.Label, Kind: archive.GapDatabase, Why: why})
	}
	r.record.Origin.Address = cmp.Or(r.record.Origin.Address, r.Site.AddressInSettings())
	return nil
}

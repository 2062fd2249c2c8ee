package catalog

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path"
	"path/filepath"
	"sync"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/store"
)

// Cache keeps records that were read: they are written once. One is taken from it while the store's listing says the
// same length and time as when it was read. Those of stores elsewhere are kept in a folder as well, as they are
// stored, for the next run of the program. The zero value is ready, without a folder; it is safe for concurrent use.
type Cache struct {
	// Dir is the folder; empty keeps nothing there.
	Dir  string
	Disk *disk.Disk

	mu   sync.Mutex
	read map[[2]string]cachedRecord
	// bytes are those of the records in read, as stores have them.
	bytes int64
	// anew has nothing taken from the folder.
	anew bool
}

type cachedRecord struct {
	bytes   int64
	changed time.Time
	record  archive.Record
}

// mostCached is how much of records is kept in memory, in bytes as stores have them.
const mostCached = 64 << 20

// settled is how old an object has to be before what was read of it is kept in the folder: what is changed twice in a
// moment may have the same time both times.
const settled = 2 * time.Minute

// file is where the record of a store elsewhere is kept, or nothing.
func (c *Cache) file(s store.Named, info store.Info) string {
	if c.Dir == "" || !s.Offsite() {
		return ""
	}
	where := sha256.Sum256([]byte(s.Name + "\x00" + s.Where() + "\x00" + path.Dir(info.Name)))
	return filepath.Join(c.Dir, hex.EncodeToString(where[:8]), path.Base(info.Name))
}

// get returns a copy of a record that was read, or nil.
func (c *Cache) get(s store.Named, info store.Info) *archive.Record {
	if c == nil || info.Changed.IsZero() {
		return nil
	}
	c.mu.Lock()
	kept, ok := c.read[[2]string{s.Name, info.Name}]
	anew := c.anew
	c.mu.Unlock()
	if ok && kept.bytes == info.Bytes && kept.changed.Equal(info.Changed) {
		r := kept.record
		return &r
	}
	file := c.file(s, info)
	if ok || anew || file == "" {
		return nil
	}
	// Its time is that of the object: of a file that was not written to its end it is another.
	if at, err := c.Disk.Stat(file); err != nil || at.Size() != info.Bytes || !at.ModTime().Equal(info.Changed) {
		return nil
	}
	data, err := c.Disk.ReadFile(file)
	if err != nil {
		return nil
	}
	r, err := archive.DecodeRecord(data)
	if err != nil || r.Name+".json" != path.Base(info.Name) {
		return nil
	}
	c.put(s, info, r, nil)
	return r
}

// put keeps a record, and its bytes in the folder; that these cannot be kept costs reading them again.
func (c *Cache) put(s store.Named, info store.Info, r *archive.Record, data []byte) {
	if c == nil || r == nil || info.Changed.IsZero() {
		return
	}
	c.mu.Lock()
	if c.read == nil {
		c.read = map[[2]string]cachedRecord{}
	}
	at := [2]string{s.Name, info.Name}
	if total := c.bytes - c.read[at].bytes + info.Bytes; total <= mostCached {
		c.bytes = total
		c.read[at] = cachedRecord{info.Bytes, info.Changed, *r}
	}
	c.mu.Unlock()
	file := c.file(s, info)
	if file == "" || int64(len(data)) != info.Bytes || time.Since(info.Changed) < settled {
		return
	}
	_ = c.Disk.MkdirAll(filepath.Dir(file), 0o700)
	if err := c.write(file, data, info.Changed); err != nil {
		_ = c.Disk.Remove(file)
	}
}

// spare is how many records of archives that are gone are left in a folder before it is cleared up.
const spare = 64

// tidy deletes from the folder what a listing has no more.
func (c *Cache) tidy(s store.Named, infos []store.Info) {
	if c == nil || len(infos) == 0 || c.file(s, infos[0]) == "" {
		return
	}
	dir := filepath.Dir(c.file(s, infos[0]))
	names, err := c.Disk.ReadNames(dir)
	if err != nil || len(names) <= len(infos)+spare {
		return
	}
	there := map[string]bool{}
	for _, info := range infos {
		there[path.Base(info.Name)] = true
	}
	for _, name := range names {
		if !there[name] {
			_ = c.Disk.Remove(filepath.Join(dir, name))
		}
	}
}

// write does without waiting for the disk: a file that a crash leaves half-written is none.
func (c *Cache) write(file string, data []byte, changed time.Time) error {
	f, err := c.Disk.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.SetTimes(changed), f.Close())
}

// Forget has all records read anew from now on: what is kept in a store may have changed in a way that its listing
// does not show, such as on a disk that rots.
func (c *Cache) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.read, c.bytes, c.anew = nil, 0, true
}

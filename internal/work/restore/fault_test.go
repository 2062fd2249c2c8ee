//go:build linux

package restore_test

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/engine"
	"revlet/internal/site/tree"
	"revlet/internal/store"
	"revlet/internal/store/folder"
	"revlet/internal/work/backup"
	"revlet/internal/work/restore"
	"revlet/internal/work/verify"
)

// bench is a small site with a database inside its webroot, a store and a
// state folder, on a file system that forgets quickly.
type bench struct {
	t    *testing.T
	dir  string
	disk *disk.Disk
	now  time.Time
	// share limits restores; the database stays then. rows limits them to it.
	share *restore.FileSelection
	rows  map[string]*database.RowSelection
	// door leaves the site without a switch, so that it is closed at its front door.
	door bool
	// skip are rules of a person's own; others folders of other sites; clean sets all aside.
	skip   []string
	others map[string]string
	// trusted are accounts whose state folder is believed.
	trusted []int
	clean   bool
	// trust takes files of the same length and time for the same.
	trust bool
	// onlyDatabase limits restores to the database.
	onlyDatabase bool
	// unlinked stands for a file system without hard links.
	unlinked bool
	// above is a file beside the webroot that archives hold as its settings.
	above string
	// last is what came of the last restore.
	last *restore.Result
	// far is the site's machine, if that is another one; computer names the folder that this
	// one keeps its state in.
	far      *flaky
	computer string
	// stride has only every so many calls fail, where each takes long; 0 is every one.
	stride int
}

func newBench(t *testing.T) *bench {
	dir := t.TempDir()
	if shm, err := os.MkdirTemp("/dev/shm", "revlet-"); err == nil {
		t.Cleanup(func() { _ = os.RemoveAll(shm) })
		dir = shm
	}
	b := &bench{t: t, dir: dir, disk: &disk.Disk{}, now: time.Date(2026, 11, 23, 3, 20, 0, 0, time.UTC)}
	for _, d := range []string{"store", "htdocs/sub/empty"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	b.write("htdocs/index.html", "old front page")
	b.write("htdocs/sub/.hidden", "old secret")
	require.NoError(t, os.Symlink("../index.html", filepath.Join(dir, "htdocs/sub/link")))
	b.sql("CREATE TABLE pages (id INTEGER PRIMARY KEY, body TEXT); INSERT INTO pages VALUES (1, 'old')")
	return b
}

func (b *bench) write(rel, text string) {
	require.NoError(b.t, os.WriteFile(filepath.Join(b.dir, rel), []byte(text), 0o644))
}

func (b *bench) sql(q string) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.dir, "htdocs/site.db"))
	require.NoError(b.t, err)
	defer db.Close()
	_, err = db.Exec(q)
	require.NoError(b.t, err)
}

func (b *bench) site() *site.Site {
	base, place := "", tree.Place(nil)
	if b.far != nil {
		base, place = b.far.Base(), b.far
	}
	s, err := site.OpenFromAt("kestrelpoint", config.Site{Root: base + filepath.Join(b.dir, "htdocs"), Recipe: "none", Skip: b.skip, Stores: []string{"here"},
		Databases: map[string]config.Database{"main": {SQLite: filepath.Join(b.dir, "htdocs/site.db")}}}, place, nil)
	require.NoError(b.t, err)
	if b.above != "" {
		s.Above = filepath.Join(b.dir, b.above)
		s.Recipe = &site.Recipe{Settings: site.SettingsSource{Files: []string{"settings.php", "../settings.php"}}}
		return s
	}
	// A switch makes a restore close the site, as recipes do.
	if b.door {
		return s
	}
	s.Recipe = &site.Recipe{Maintenance: site.Maintenance{File: "closed.flag", Content: "{unix}"}}
	return s
}

func (b *bench) stores() []store.Named {
	return []store.Named{{Name: "here", Store: folder.New(b.disk, filepath.Join(b.dir, "store"))}}
}

func (b *bench) state() (*state.State, error) {
	return state.Open(b.disk, filepath.Join(b.dir, "state"+b.computer), b.trusted...)
}

// backup takes an archive; each has a second of its own.
func (b *bench) backup() error {
	st, err := b.state()
	if err != nil {
		return err
	}
	b.now = b.now.Add(time.Second)
	_, err = backup.Run(b.t.Context(), backup.Job{Site: b.site(), Stores: b.stores(), State: st, Scope: archive.Full, Program: "test",
		Now: func() time.Time { return b.now },
		Open: func(ctx context.Context, db site.Database, scratch string) (database.Source, error) {
			return engine.Source(ctx, b.disk, db, scratch)
		}})
	return err
}

func (b *bench) open(ctx context.Context, db site.Database, mode sqlite.FileMode, beside string) (database.Target, error) {
	return engine.Target(ctx, b.disk, db, mode, beside)
}

func (b *bench) recoverer() (restore.Recoverer, error) {
	st, err := b.state()
	return restore.Recoverer{Site: b.site(), State: st, Open: b.open, Place: func(string) (tree.Place, error) { return b.far, nil }, Mirror: b.mirror()}, err
}

func (b *bench) restore() error {
	r, err := b.recoverer()
	if err != nil {
		return err
	}
	if _, err := r.Recover(b.t.Context()); err != nil {
		return err
	}
	l, err := catalog.List(b.t.Context(), b.stores(), "kestrelpoint", catalog.Options{})
	if err != nil {
		return err
	}
	h, err := l.Pick("kestrelpoint", "", time.Time{})
	if err != nil {
		return err
	}
	b.now = b.now.Add(time.Second)
	b.last, err = restore.Run(b.t.Context(), restore.Job{Site: b.site(), Archive: h, Files: !b.onlyDatabase && (b.rows == nil || b.share != nil), Database: b.share == nil || b.rows != nil, Selection: b.share, Rows: b.rows, Others: b.others, Clean: b.clean, TrustTimes: b.trust, State: r.State, Open: b.open, Mirror: b.mirror(), Now: func() time.Time { return b.now }})
	return err
}

func (b *bench) undo() error {
	r, err := b.recoverer()
	if err != nil {
		return err
	}
	_, err = r.Undo(b.t.Context())
	return err
}

// tree sums the webroot up, the database by what it says.
func (b *bench) tree() string {
	var all []string
	root := filepath.Join(b.dir, "htdocs")
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(root, p)
		if strings.HasPrefix(rel, site.LeftoverPrefix) {
			return fs.SkipDir // set aside inside a mount point
		}
		text := fmt.Sprintf("%s %v", rel, d.Type())
		if d.Type().IsRegular() && !strings.HasPrefix(rel, "site.db") {
			data, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			text += fmt.Sprintf(" %x", sha256.Sum256(data))
		}
		all = append(all, text)
		return nil
	})
	require.NoError(b.t, err)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(root, "site.db")+"?mode=ro")
	require.NoError(b.t, err)
	defer db.Close()
	var body string
	require.NoError(b.t, db.QueryRow("SELECT group_concat(body) FROM pages").Scan(&body))
	return strings.Join(append(all, body), "\n")
}

// sound verifies every archive that is listed and returns how many there are.
func (b *bench) sound() int {
	l, err := catalog.List(b.t.Context(), b.stores(), "kestrelpoint", catalog.Options{})
	require.NoError(b.t, err)
	require.Empty(b.t, l.Broken)
	v := &verify.Verifier{}
	for i := range l.Archives {
		r, err := v.Archive(b.t.Context(), &l.Archives[i], l.Archives[i].Stores[0], verify.Full)
		require.NoError(b.t, err)
		require.Empty(b.t, r.Damage)
	}
	return len(l.Archives)
}

// leftovers are names that neither an archive nor the site explains.
func (b *bench) leftovers() []string {
	var all []string
	for _, pattern := range []string{".revlet-*", "htdocs/closed.flag", "htdocs/.revlet-*", "state*/journals/*/*", "state*/spool/*/*", "store/.incoming/*/*"} {
		found, err := filepath.Glob(filepath.Join(b.dir, pattern))
		require.NoError(b.t, err)
		all = append(all, found...)
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.dir, "htdocs/site.db")+"?mode=ro")
	require.NoError(b.t, err)
	defer db.Close()
	var tables sql.NullString
	require.NoError(b.t, db.QueryRow("SELECT group_concat(name) FROM sqlite_schema WHERE name LIKE 'rv%'").Scan(&tables))
	if tables.Valid {
		all = append(all, tables.String)
	}
	named := map[string]bool{}
	l, err := catalog.List(b.t.Context(), b.stores(), "kestrelpoint", catalog.Options{})
	require.NoError(b.t, err)
	for _, h := range l.Archives {
		h.Objects(func(name string, _ int64, _ string) { named[name] = true })
	}
	for _, dir := range []string{"kestrelpoint/parts", "kestrelpoint/lists", "kestrelpoint/running"} {
		infos, err := b.stores()[0].List(b.t.Context(), dir)
		require.NoError(b.t, err)
		for _, info := range infos {
			if !named[info.Name] {
				all = append(all, info.Name)
			}
		}
	}
	return all
}

// faults makes the disk fail: call number at, and when crash is set every call
// after it too, as if the machine had died there.
func (b *bench) faults(at int, crash bool, err error) (calls func() int) {
	var mu sync.Mutex
	n := 0
	fault := &b.disk.Fault
	if b.far != nil {
		fault = &b.far.Fault
	}
	*fault = func(op, _ string) error {
		mu.Lock()
		defer mu.Unlock()
		if (crash && n < at || b.far != nil) && looks[op] {
			return b.linkFault(op) // of a machine elsewhere, a look that fails is a line that broke
		}
		n++
		if n == at || crash && n > at {
			return err
		}
		return b.linkFault(op)
	}
	return func() int { mu.Lock(); defer mu.Unlock(); return n }
}

// looks are calls that change nothing: to die before one of them leaves what dying before
// the next change leaves.
var looks = map[string]bool{"read": true, "stat": true, "lstat": true, "readdir": true, "readlink": true, "walk": true, "free": true, "close": true}

// linkFault is what a file system without hard links answers.
func (b *bench) linkFault(op string) error {
	if b.unlinked && op == "link" {
		return syscall.EPERM
	}
	return nil
}

// withoutLinks has the bench on a file system without hard links.
func (b *bench) withoutLinks() *bench {
	b.unlinked = true
	b.healthy()
	return b
}

// healthy ends faults.
func (b *bench) healthy() {
	b.disk.Fault = nil
	if b.far != nil {
		b.far.Fault = nil
	}
	if b.unlinked {
		b.disk.Fault = func(op, _ string) error { return b.linkFault(op) }
	}
}

var faults = []error{syscall.ENOSPC, syscall.EIO, syscall.EACCES}

// eachFault runs work with every single disk call failing in turn, and with the
// machine dying at every single disk call, and lets after look at what is left.
func eachFault(t *testing.T, b *bench, before func(), work func() error, after func(err error)) {
	for _, crash := range []bool{false, true} {
		for at := 1; ; at += max(b.stride, 1) {
			fault := faults[at%len(faults)]
			if crash {
				fault = faults[at%2] // what dies says nothing of rights
			}
			before()
			calls := b.faults(at, crash, fault)
			err := work()
			b.healthy()
			reached := calls() >= at
			if err != nil && !errors.Is(err, fault) {
				require.NoError(t, err, "call %d: the cause must be kept", at)
			}
			after(err)
			if !reached {
				t.Logf("%d disk calls, crash=%v", at-1, crash)
				break
			}
			if t.Failed() {
				t.Fatalf("at disk call %d, crash=%v: %v", at, crash, err)
			}
		}
	}
}

func TestEveryDiskFaultWhileBackingUp(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.backup())
	whole, n := b.tree(), b.sound()
	eachFault(t, b, func() {}, b.backup, func(err error) {
		require.Equal(t, whole, b.tree())
		now := b.sound()
		if err == nil {
			require.Equal(t, n+1, now, "done means there is an archive")
		}
		require.LessOrEqual(t, now, n+1)
		n = now
		if n > 12 { // keep the store small
			require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "store/kestrelpoint")))
			n = 0
		}
	})
	require.NoError(t, b.backup())
	require.Empty(t, b.leftovers(), "the next run clears up")
}

// share is what lies in a folder of the bench's site.
var share = &restore.FileSelection{Keep: func(_, rel string) bool { return strings.HasPrefix(rel, "sub/") }}

func TestEveryDiskFaultWhileRestoringAndUndoing(t *testing.T) {
	t.Run("beside the webroot", func(t *testing.T) { everyRestoreFault(t, withMail(newBench(t))) })
	rows := map[string]*database.RowSelection{"main": {Tables: []string{"pages"}, Archived: []string{"pages"}}}
	t.Run("a share", func(t *testing.T) {
		b := newBench(t)
		b.share = share
		everyRestoreFault(t, b)
	})
	t.Run("a table", func(t *testing.T) {
		b := newBench(t)
		b.rows = rows
		everyRestoreFault(t, b)
	})
	t.Run("a table and a share, closed at the door", func(t *testing.T) {
		b := newBench(t)
		b.share, b.rows, b.door = share, rows, true
		b.write("htdocs/index.php", "<?php // front")
		everyRestoreFault(t, b)
	})
	t.Run("closed at the door", func(t *testing.T) {
		b := newBench(t)
		b.door = true
		b.write("htdocs/index.php", "<?php // front")
		everyRestoreFault(t, b)
	})
	t.Run("a share, where a file has one name only", func(t *testing.T) {
		b := newBench(t).withoutLinks()
		b.share, b.door = share, true
		b.write("htdocs/index.php", "<?php // front")
		everyRestoreFault(t, b)
	})
	t.Run("with a front door that no archive holds", func(t *testing.T) {
		b := withMail(newBench(t))
		b.door, b.skip = true, append(b.skip, "index.php")
		b.write("htdocs/index.php", "<?php // front")
		everyRestoreFault(t, b)
	})
	t.Run("inside a mount point", func(t *testing.T) { everyRestoreFault(t, withMail(mounted(t))) })
	t.Run("a share inside a mount point", func(t *testing.T) {
		b := mounted(t)
		b.share = share
		everyRestoreFault(t, b)
	})
	t.Run("a share inside a mount point, where a file has one name only", func(t *testing.T) {
		b := mounted(t).withoutLinks()
		b.share = share
		everyRestoreFault(t, b)
	})
}

// mounted is a bench whose webroot is a mount point: nothing can be staged
// beside it.
func mounted(t *testing.T) *bench {
	b := newBench(t)
	root := filepath.Join(b.dir, "htdocs")
	if err := syscall.Mount(root, root, "", syscall.MS_BIND, ""); err != nil {
		t.Skip("no mount can be made here")
	}
	require.NoError(t, syscall.Unmount(root, 0))
	away := filepath.Join(b.dir, "away")
	require.NoError(t, os.Rename(root, away))
	require.NoError(t, os.Mkdir(root, 0o755))
	require.NoError(t, syscall.Mount("none", root, "tmpfs", 0, ""))
	t.Cleanup(func() { _ = syscall.Unmount(root, syscall.MNT_DETACH) })
	require.NoError(t, os.CopyFS(root, os.DirFS(away)))
	return b
}

// withMail leaves two mailboxes out of every archive.
func withMail(b *bench) *bench {
	b.skip = []string{"**/*.mbox"}
	b.write("htdocs/mail.mbox", "From: keeper")
	b.write("htdocs/sub/mail.mbox", "From: visitor")
	return b
}

func everyRestoreFault(t *testing.T, b *bench) {
	b.t = t
	require.NoError(t, b.backup())
	archived := b.tree()
	b.write("htdocs/index.html", "defaced")
	b.write("htdocs/planted.php", "<?php evil();")
	require.NoError(t, os.Remove(filepath.Join(b.dir, "htdocs/sub/.hidden")))
	b.sql("UPDATE pages SET body = 'defaced'")
	broken := b.tree()
	switch {
	case b.skip != nil:
		require.NoError(t, b.restore())
		archived = b.tree()
		require.NotContains(t, archived, "planted.php")
		require.Contains(t, archived, "sub/.hidden")
		require.Equal(t, 2, strings.Count(archived, "mail.mbox"), "they are carried over")
		require.NoError(t, b.undo())
	case b.share != nil || b.rows != nil:
		require.NoError(t, b.restore())
		shared := b.tree()
		require.NotEqual(t, broken, shared)
		require.Contains(t, shared, "planted.php", "it is not of the share")
		require.Equal(t, b.share != nil, strings.Contains(shared, "sub/.hidden"))
		require.Equal(t, b.rows != nil, strings.HasSuffix(shared, "\nold"), "the database stays, or its table comes back")
		archived = shared
		require.NoError(t, b.undo())
	}

	looked := 0
	settled := func(err error) string {
		r, openErr := b.recoverer()
		require.NoError(t, openErr)
		_, recoverErr := r.Recover(t.Context())
		require.NoError(t, recoverErr)
		now := b.tree()
		if now != archived && now != broken {
			require.Failf(t, "the site is a mixture", "%v\n%s", err, now)
		}
		if looked++; looked%10 == 0 { // nothing writes to the store
			b.sound()
		}
		return now
	}
	back := func() {
		for b.tree() != broken {
			require.NoError(t, b.undo())
		}
		if j, _ := filepath.Glob(filepath.Join(b.dir, "state/journals/*/*")); len(j) > 0 {
			r, err := b.recoverer()
			require.NoError(t, err)
			_, err = r.Settle(t.Context())
			require.NoError(t, err)
		}
		require.Empty(t, b.leftovers(), "nothing is left behind")
	}
	t.Run("restore", func(t *testing.T) {
		eachFault(t, b, back, b.restore, func(err error) {
			now := settled(err)
			if err == nil {
				require.Equal(t, archived, now, "done means restored")
			}
		})
	})
	t.Run("undo", func(t *testing.T) {
		eachFault(t, b, func() { back(); require.NoError(t, b.restore()) }, b.undo, func(err error) {
			if now := settled(err); err == nil {
				require.Equal(t, broken, now)
			}
		})
	})
}

// Whoever takes a restore back twice, because the first time was cut off, does not take
// what came back for what was restored, though the restored database was deleted since.
func TestUndoOfADatabaseThatWasDeletedSince(t *testing.T) {
	b := newBench(t)
	b.onlyDatabase = true
	require.NoError(t, b.backup())
	b.sql("UPDATE pages SET body = 'new'")
	broken := b.tree()
	for _, crash := range []bool{false, true} {
		for at := 1; ; at++ {
			require.NoError(t, b.restore())
			for _, suffix := range []string{"", "-wal", "-shm", "-journal"} {
				_ = os.Remove(filepath.Join(b.dir, "htdocs/site.db"+suffix))
			}
			calls := b.faults(at, crash, syscall.EIO)
			err := b.undo()
			b.healthy()
			r, openErr := b.recoverer()
			require.NoError(t, openErr)
			_, recoverErr := r.Recover(t.Context())
			require.NoError(t, recoverErr)
			if j, _ := filepath.Glob(filepath.Join(b.dir, "state/journals/*/*")); len(j) > 0 {
				require.NoError(t, b.undo(), "call %d: %v", at, err)
			}
			require.Equal(t, broken, b.tree(), "call %d, crash=%v: %v", at, crash, err)
			require.Empty(t, b.leftovers())
			if calls() < at {
				break
			}
		}
	}
}

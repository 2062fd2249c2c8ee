//go:build linux

package engine

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// somebody owns the folders in which these databases lie.
const somebody = 61871

// theirs is a folder of somebody's, below which root has a database of the log kind.
func theirs(t *testing.T, mode string) (dir string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root has to take care")
	}
	dir, db := museumFile(t, mode)
	require.NoError(t, db.Close())
	require.NoError(t, os.Lchown(dir, somebody, somebody))
	return dir
}

// logged counts what a source of a museum's database has in its log.
func logged(ctx context.Context, db site.Database, scratch string) (rows int64, err error) {
	s, err := Source(ctx, &disk.Disk{}, db, scratch)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	snapshot, err := s.Snapshot(ctx)
	if err != nil {
		return 0, err
	}
	defer snapshot.Close()
	for _, u := range snapshot.Units() {
		if u.Kind == database.Rows {
			n, err := snapshot.Dump(ctx, u, io.Discard)
			if err != nil {
				return 0, err
			}
			rows += n
		}
	}
	return rows, nil
}

// Whoever owns the folder puts a link in its place, again and again: root made files wherever it led, and read what was there.
func TestAFolderThatIsExchangedForALink(t *testing.T) {
	for _, mode := range []string{"WAL", "DELETE"} {
		t.Run(mode, func(t *testing.T) {
			dir, victim := theirs(t, mode), t.TempDir()
			_, other := museumFile(t, mode)
			_, err := other.Exec("INSERT INTO log VALUES ('of another site'), ('of another site')")
			require.NoError(t, err)
			_, err = other.Exec("VACUUM INTO '" + filepath.Join(victim, "museum.sqlite") + "'")
			require.NoError(t, err)
			data, link := filepath.Join(dir, "data"), filepath.Join(dir, "link")
			require.NoError(t, os.Mkdir(data, 0o755))
			for _, suffix := range []string{"", "-wal", "-shm"} {
				_ = os.Rename(filepath.Join(dir, "museum.sqlite"+suffix), filepath.Join(data, "museum.sqlite"+suffix))
			}
			require.NoError(t, os.Symlink(victim, link))
			ended := make(chan struct{})
			ctx, stop := context.WithTimeout(t.Context(), time.Second)
			defer stop()
			go func() {
				defer close(ended)
				for ctx.Err() == nil {
					_ = unix.Renameat2(unix.AT_FDCWD, data, unix.AT_FDCWD, link, unix.RENAME_EXCHANGE)
				}
			}()
			in, err := tree.Local(nil).Folder(t.Context(), dir)
			require.NoError(t, err)
			defer in.Close()
			chosen := site.Database{Label: "main", Engine: "sqlite", Path: filepath.Join(data, "museum.sqlite")}
			read, scratch := 0, t.TempDir()
			for ctx.Err() == nil {
				quick, enough := context.WithTimeout(t.Context(), 50*time.Millisecond)
				if rows, err := logged(quick, chosen.Within(dir), scratch); err == nil {
					read++
					require.EqualValues(t, 1, rows, "what it has read is the site's own")
				}
				if copied, err := CopyFile(quick, &disk.Disk{}, in, "data/museum.sqlite", scratch); err == nil {
					require.Equal(t, 1, entries(t, copied))
				}
				enough()
			}
			<-ended
			t.Log("read", read, "times")
			names, err := filepath.Glob(filepath.Join(victim, "*"))
			require.NoError(t, err)
			assert.Equal(t, []string{filepath.Join(victim, "museum.sqlite")}, names, "nothing was made there")
		})
	}
}

// A database in which others write all the while is read as of one moment. They are other programs: SQLite in this one loses
// its locks when a file is closed here.
func TestADatabaseInWhichOthersWrite(t *testing.T) {
	if _, err := exec.LookPath("sqlite3"); err != nil {
		t.Skip("sqlite3 is not installed")
	}
	for _, mode := range []string{"WAL", "DELETE", "TRUNCATE", "PERSIST"} {
		t.Run(mode, func(t *testing.T) {
			dir := theirs(t, mode)
			file := filepath.Join(dir, "museum.sqlite")
			// Each transaction writes two rows: an odd number of them, beside the first one, would be half of one.
			writer := exec.Command("sh", "-c", fmt.Sprintf(`while :; do echo "BEGIN IMMEDIATE; INSERT INTO log VALUES (hex(randomblob(3000))); INSERT INTO log VALUES (hex(randomblob(3000))); COMMIT;"; sleep 0.01; done | sqlite3 -cmd ".timeout 10000" -cmd "PRAGMA synchronous=OFF" -cmd "PRAGMA wal_autocheckpoint=20" %s >/dev/null`, file))
			writer.SysProcAttr = &unix.SysProcAttr{Setpgid: true}
			require.NoError(t, writer.Start())
			t.Cleanup(func() {
				_ = unix.Kill(-writer.Process.Pid, unix.SIGKILL)
				_ = writer.Wait()
			})
			scratch, last := t.TempDir(), int64(0)
			for reads := 0; reads < 5 || last < 9; reads++ {
				require.Less(t, reads, 5000, "nobody writes")
				rows, err := logged(t.Context(), site.Database{Label: "main", Engine: "sqlite", Path: file}, scratch)
				require.NoError(t, err)
				assert.EqualValues(t, 1, rows%2, "%d rows", rows)
				require.GreaterOrEqual(t, rows, last)
				last = rows
				time.Sleep(5 * time.Millisecond)
			}
			left, err := filepath.Glob(filepath.Join(scratch, "*"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

// Whoever opens the database while it is copied may carry pages over into it: what was copied may be of two moments.
func TestAnIndexThatCameSinceIsNotHeld(t *testing.T) {
	m := moment{bytes: 4096, counter: "1", wal: 32, walHead: "salt"}
	grown, opened := m, m
	grown.wal, opened.indexed = 64, true
	assert.True(t, m.lasts(grown, true), "what is behind the end was not copied")
	assert.False(t, m.lasts(grown, false))
	assert.False(t, m.lasts(opened, true))
	for _, change := range []func(*moment){func(m *moment) { m.walHead = "another" }, func(m *moment) { m.counter = "2" }, func(m *moment) { m.bytes++ }, func(m *moment) { m.wal = 0 }} {
		now := m
		change(&now)
		assert.False(t, m.lasts(now, true))
	}
}

// A writer that died in the middle has left what is half written.
func TestAJournalOfAWriterThatDied(t *testing.T) {
	dir := theirs(t, "DELETE")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "museum.sqlite-journal"), []byte(journalMagic+"and pages"), 0o600))
	ctx, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer stop()
	_, err := logged(ctx, site.Database{Label: "main", Engine: "sqlite", Path: filepath.Join(dir, "museum.sqlite")}, t.TempDir())
	assert.Error(t, err)
}

// What settings choose may lead elsewhere by now.
func TestAPathThatLeadsOutByNow(t *testing.T) {
	dir := theirs(t, "DELETE")
	elsewhere, db := museumFile(t, "DELETE")
	require.NoError(t, db.Close())
	link := filepath.Join(dir, "linked.sqlite")
	require.NoError(t, os.Symlink(filepath.Join(elsewhere, "museum.sqlite"), link))
	chosen := site.Database{Label: "main", Engine: "sqlite", Path: link}
	_, err := logged(t.Context(), chosen.Within(dir), t.TempDir())
	assert.ErrorContains(t, err, "none of the site's folders")
	rows, err := logged(t.Context(), chosen, t.TempDir())
	require.NoError(t, err, "a person may choose any")
	assert.EqualValues(t, 1, rows)
}

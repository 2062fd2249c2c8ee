package storelock

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/appendonly"
	"revlet/internal/store/folder"
)

const site = "museum"

func place(t *testing.T) (store.Named, string) {
	dir := t.TempDir()
	return store.Named{Name: "far", Store: folder.New(&disk.Disk{}, dir)}, dir
}

func locks(t *testing.T, s store.Named) []store.Info {
	all, err := s.List(t.Context(), archive.RunningDir(site))
	require.NoError(t, err)
	return all
}

func TestWhoClearsUpAndWhoWritesSeeEachOther(t *testing.T) {
	s, _ := place(t)
	written, err := Write(t.Context(), s, site, "museum-20261123-032000", "a")
	require.NoError(t, err)
	_, err = Clear(t.Context(), s, site, "b")
	assert.ErrorIs(t, err, ErrBusy)
	assert.Len(t, locks(t, s), 1, "whoever gives way takes its own lock away")
	require.NoError(t, written(t.Context()))
	cleared, err := Clear(t.Context(), s, site, "b")
	require.NoError(t, err)
	_, err = Clear(t.Context(), s, site, "c")
	assert.ErrorIs(t, err, ErrBusy, "two do not clear up at a time")
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = Write(ctx, s, site, "museum-20261123-032001", "a")
	assert.ErrorIs(t, err, context.DeadlineExceeded, "who writes waits")
	require.NoError(t, cleared(t.Context()))
	assert.Empty(t, locks(t, s), "and leaves nothing when it is given up")
}

func TestALockOfAMachineThatDiedStopsCounting(t *testing.T) {
	s, dir := place(t)
	_, err := Write(t.Context(), s, site, "museum-20261123-032000", "a")
	require.NoError(t, err)
	old := time.Now().Add(-Age - time.Hour)
	for _, l := range locks(t, s) {
		require.NoError(t, os.Chtimes(filepath.Join(dir, l.Name), old, old))
	}
	_, err = Clear(t.Context(), s, site, "b")
	assert.NoError(t, err)
}

func TestAMachineTakesAwayItsOwnOldLock(t *testing.T) {
	s, _ := place(t)
	_, err := Clear(t.Context(), s, site, "a") // and dies
	require.NoError(t, err)
	written, err := Write(t.Context(), s, site, "museum-20261123-032000", "a")
	require.NoError(t, err, "its own lock does not keep it waiting")
	require.NoError(t, written(t.Context()))
	assert.Empty(t, locks(t, s))
}

func TestRecentIsJudgedByTheNameWhereThereIsNoTime(t *testing.T) {
	now := time.Now().UTC()
	name := func(at time.Time) string {
		return archive.RunningDir(site) + "/" + archive.NewName(site, at) + ".token"
	}
	assert.True(t, Recent(store.Info{Name: name(now.Add(-time.Hour))}))
	assert.False(t, Recent(store.Info{Name: name(now.Add(-Age - time.Hour))}))
	assert.False(t, Recent(store.Info{Name: name(now), Changed: now.Add(-Age - time.Hour)}), "a time counts more")
}

func TestMachinesAreToldApartWithoutNamingThem(t *testing.T) {
	assert.Equal(t, Machine("/a"), Machine("/a"))
	assert.NotEqual(t, Machine("/a"), Machine("/b"))
	host, _ := os.Hostname()
	assert.NotContains(t, Machine("/a"), host)
}

// A run that takes longer than a mark counts keeps it young.
func TestAMarkIsRenewedWhileItsRunGoesOn(t *testing.T) {
	s, dir := place(t)
	done, err := Write(t.Context(), s, site, "museum-20261123-032000", "a")
	require.NoError(t, err)
	mark := locks(t, s)[0].Name
	old := time.Now().Add(-Age - time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(dir, mark), old, old))
	stop := Renew(t.Context(), s, mark, []byte("writing"), 10*time.Millisecond)
	require.Eventually(t, func() bool { return Recent(locks(t, s)[0]) }, 5*time.Second, 10*time.Millisecond)
	stop()
	_, err = Clear(t.Context(), s, site, "b")
	assert.ErrorIs(t, err, ErrBusy)
	require.NoError(t, done(t.Context()))
	time.Sleep(30 * time.Millisecond)
	assert.Empty(t, locks(t, s), "nothing is written after it was taken away")
}

// Where nothing can be deleted, what is over says so, and the keeper clears it away.
func TestLocksWhereNothingCanBeDeleted(t *testing.T) {
	s, _ := place(t)
	writer := store.Named{Name: "far", Store: appendonly.Wrap(s.Store)}
	for _, site := range []string{"museum", "kestrelpoint.example"} { // a site's name may have dots
		done, err := Write(t.Context(), writer, site, archive.NewName(site, time.Now()), "a")
		require.NoError(t, err)
		mine, err := s.List(t.Context(), archive.RunningDir(site))
		require.NoError(t, err)
		require.Len(t, mine, 1)
		require.NoError(t, writer.Put(t.Context(), mine[0].Name, strings.NewReader("writing\n"), 8), "renewed")
		_, err = Clear(t.Context(), s, site, "keeper")
		require.ErrorIs(t, err, ErrBusy)
		require.NoError(t, done(t.Context()))
		require.NoError(t, done(t.Context()), "twice is once")
		left, err := s.List(t.Context(), archive.RunningDir(site))
		require.NoError(t, err)
		assert.Len(t, left, 3, "the lock, a younger one, and that both are over")
		assert.Empty(t, Live(left))
		cleared, err := Clear(t.Context(), s, site, "keeper")
		require.NoError(t, err)
		require.NoError(t, cleared(t.Context()))
		left, err = s.List(t.Context(), archive.RunningDir(site))
		require.NoError(t, err)
		assert.Empty(t, left, "the keeper has cleared them away")
	}
}

func TestTheArchiveOfALock(t *testing.T) {
	for lock, want := range map[string]string{
		"kp/running/kp-20261123-032000.abc":                               "kp-20261123-032000",
		"kp.example/running/kp.example-20261123-032000.abc.over":          "kp.example-20261123-032000",
		"kp/running/clearing.0123456789ab":                                "",
		"kp-20260101-000000/running/kp-20260101-000000-20261123-032000.x": "kp-20260101-000000-20261123-032000",
	} {
		assert.Equal(t, want, Archive(lock))
	}
}

package jobs

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/reason"
	"revlet/internal/site"
)

// What was there is written down before anything changes, so that it can be taken back
// wherever a run died.
func TestAChangedAccountCanBeTakenBack(t *testing.T) {
	b := newBench(t, "", "")
	b.month(1)
	secret := func() string {
		s, err := site.Open(museum, b.Config.Sites[museum])
		require.NoError(t, err)
		v, _, err := b.lookUp(t.Context(), s.Databases[0], &ValueChange{Table: "users", Column: "secret", Row: map[string]string{"id": "1"}})
		require.NoError(t, err)
		return v
	}
	old := secret()
	b.Disk.Fault = func(op, path string) error {
		if strings.Contains(path, "/accounts/") {
			return errors.New("the disk is full")
		}
		return nil
	}
	_, err := b.SetAccount(t.Context(), museum, "keeper", PasswordOf, "the lamp of 1871")
	require.ErrorContains(t, err, "the disk is full")
	assert.Equal(t, old, secret(), "what cannot be taken back is not done")
	b.Disk.Fault = nil

	c, err := b.SetAccount(t.Context(), museum, "keeper", PasswordOf, "the lamp of 1871")
	require.NoError(t, err)
	assert.Equal(t, old, c.Before)
	assert.Equal(t, c.After, secret())
	info, err := os.Stat(b.changesPath(museum))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "hashes are nobody else's")

	// As if a run had died after it wrote down what it was about to do.
	all, err := b.valueChanges(museum)
	require.NoError(t, err)
	half := *c
	half.Before, half.After = c.After, "never written"
	require.NoError(t, b.State.WriteNote(b.changesPath(museum), append(all, &half), "x"))
	_, err = b.UndoAccount(t.Context(), museum)
	require.NoError(t, err)
	assert.Equal(t, c.After, secret(), "there was nothing to take back")
	_, err = b.UndoAccount(t.Context(), museum)
	require.NoError(t, err)
	assert.Equal(t, old, secret())

	elsewhere := *c
	elsewhere.Where = "/srv/other.db"
	require.NoError(t, b.State.WriteNote(b.changesPath(museum), []*ValueChange{&elsewhere}, "x"))
	_, err = b.UndoAccount(t.Context(), museum)
	assert.True(t, reason.Is(err, reason.ChangedSince), "%v", err)
	assert.Equal(t, old, secret())
}

func TestAChangeIsTakenBackThroughAnotherAccount(t *testing.T) {
	a := site.Database{Engine: "mysql", Host: "127.0.0.1", Port: 3306, Name: "museum", User: "keeper", Password: "x"}
	b := a
	b.User, b.Password = "other", "y"
	assert.Equal(t, placeOf(a), placeOf(b))
	b.Name = "bakery"
	assert.NotEqual(t, placeOf(a), placeOf(b))
}

// Root writes into no database file that somebody else could exchange for a link.
func TestRootDoesNotFollowOthersToADatabase(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root has anything to lose")
	}
	dir := filepath.Join(varTmp(t), "site")
	require.NoError(t, os.Mkdir(dir, 0o755))
	file := filepath.Join(dir, "x.db")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	db := site.Database{Engine: "sqlite", Path: file}
	require.NoError(t, asOwner(db))
	for name, change := range map[string]func() error{
		"the file is another's":   func() error { return os.Chown(file, 12345, 0) },
		"the folder is another's": func() error { return os.Chown(dir, 12345, 0) },
		"all may write to it":     func() error { return os.Chmod(dir, 0o777) },
		"its group may write":     func() error { return os.Chmod(dir, 0o775) },
		"it is another's link": func() error {
			require.NoError(t, os.Remove(file))
			require.NoError(t, os.Symlink("/etc/passwd", file))
			return os.Lchown(file, 12345, 0)
		},
	} {
		require.NoError(t, os.Chown(file, 0, 0))
		require.NoError(t, os.Chown(dir, 0, 0))
		require.NoError(t, os.Chmod(dir, 0o755))
		require.NoError(t, change(), name)
		assert.True(t, reason.Is(asOwner(db), reason.WorkAs), name)
		if name == "it is another's link" {
			require.NoError(t, os.Remove(file))
			require.NoError(t, os.WriteFile(file, nil, 0o644))
		}
	}
}

// A change that failed is forgotten only where the database says that it has the old value: a line that breaks in the last moment
// leaves that open, and the old password would be lost with it.
func TestAChangeOfWhichNothingIsKnownStaysWrittenDown(t *testing.T) {
	b := newBench(t, "", "")
	b.month(1)
	s, err := site.Open(museum, b.Config.Sites[museum])
	require.NoError(t, err)
	db := s.Databases[0]
	c := &ValueChange{What: MailOf, Label: db.Label, Table: "users", Column: "secret", Row: map[string]string{"id": "1"}}
	c.Before, _, err = b.lookUp(t.Context(), db, c)
	require.NoError(t, err)
	written := func() int {
		all, err := b.valueChanges(museum)
		require.NoError(t, err)
		return len(all)
	}
	try := func(change func(db *site.Database, c *ValueChange)) error {
		one, place := *c, db
		change(&place, &one)
		require.NoError(t, b.State.WriteNote(b.changesPath(museum), []*ValueChange{&one}, "x"))
		return b.notChanged(t.Context(), museum, place, &one, nil)
	}
	for name, change := range map[string]func(db *site.Database, c *ValueChange){
		"it does not answer":    func(db *site.Database, _ *ValueChange) { db.Path += ".gone" },
		"it has another value":  func(_ *site.Database, c *ValueChange) { c.Before = "another" },
		"it had none, now some": func(_ *site.Database, c *ValueChange) { c.Null = true },
		"the row is gone":       func(_ *site.Database, c *ValueChange) { c.Row = map[string]string{"id": "871"} },
	} {
		require.ErrorContains(t, try(change), "is not known", name)
		assert.Equal(t, 1, written(), name)
	}
	require.NoError(t, try(func(*site.Database, *ValueChange) {}))
	assert.Zero(t, written(), "it has the old value")
}

package jobs

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/portable"
	"revlet/internal/config"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/reason"
	"revlet/internal/store/marked"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/replicate"
	"revlet/internal/work/verify"
)

func TestStoresAreListedAndTested(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	require.NoError(t, os.Remove(b.path("far")))
	all, err := b.ListStores(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, StoreLine{Name: "here", Kind: "folder", Where: b.path("here"), Sites: []string{museum}}, all[1])
	here, err := b.TestStore(t.Context(), "here", false, false, false)
	require.NoError(t, err)
	assert.True(t, here.OK)
	assert.Positive(t, here.Write)
	assert.Positive(t, here.Read)
	left, err := os.ReadDir(b.path("here"))
	require.NoError(t, err)
	for _, l := range left {
		if l.Name() == marked.Name {
			continue
		}
		inner, err := os.ReadDir(filepath.Join(b.path("here"), l.Name()))
		require.NoError(t, err)
		assert.Empty(t, inner, "the test leaves nothing in %s", l.Name())
	}
	far, err := b.TestStore(t.Context(), "far", false, false, false)
	require.NoError(t, err, "that a store does not work is a result")
	assert.False(t, far.OK)
	assert.Error(t, far.Err)
	_, err = b.TestStore(t.Context(), "nowhere", false, false, false)
	assert.True(t, reason.Is(err, reason.Usage))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = b.TestStore(ctx, "far", false, false, false)
	assert.ErrorIs(t, err, context.Canceled)
}

func TestArchivesAreCopiedToAStoreThatLacksThem(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.month(2)
	require.NoError(t, os.RemoveAll(b.path("far/"+museum)))
	none, err := b.CopyArchives(t.Context(), museum, "", nil)
	require.NoError(t, err)
	assert.Empty(t, none, "nothing is pending")
	done, err := b.CopyArchives(t.Context(), museum, "far", nil)
	require.NoError(t, err)
	require.Len(t, done, 2)
	assert.Less(t, done[0].Archive, done[1].Archive, "the oldest first")
	assert.Positive(t, done[0].Bytes)
	assert.Less(t, done[1].Bytes, done[0].Bytes, "what they share is sent once")
	proof, err := b.Verify(t.Context(), VerifyOrder{Store: "far"})
	require.NoError(t, err)
	assert.True(t, proof.Sound())
	assert.Len(t, proof.Reports, 2)
	again, err := b.CopyArchives(t.Context(), museum, "far", nil)
	require.NoError(t, err)
	assert.Empty(t, again)
	defer b.away("far")()
	b.open()
	failed, err := b.CopyArchives(t.Context(), museum, "far", nil)
	require.NoError(t, err)
	require.Len(t, failed, 2)
	assert.NotEmpty(t, failed[0].Why)
}

func TestDamageIsFoundRememberedAndHealed(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	d := b.taken(Order{})
	b.damage("here")
	proof, err := b.Verify(t.Context(), VerifyOrder{Archives: []string{museum}})
	require.NoError(t, err)
	assert.False(t, proof.Sound())
	assert.Equal(t, []string{d.Record.Name + " in here"}, proof.Damaged())
	b.damage("far")
	proof, err = b.Verify(t.Context(), VerifyOrder{Archives: []string{museum}})
	require.NoError(t, err, "it is looked at though it is known to be damaged everywhere")
	assert.Len(t, proof.Damaged(), 2)
	_, err = b.Find(t.Context(), museum, time.Time{})
	assert.True(t, reason.Is(err, reason.NoneServes), "and is taken for nothing else")
	b.damage("far") // the same byte, back again
	damaged, err := b.History.DamagedIn(t.Context(), "here")
	require.NoError(t, err)
	assert.Len(t, damaged, 1)
	healed, err := b.Heal(t.Context(), "here", museum, true, nil)
	require.NoError(t, err)
	assert.Empty(t, healed.Objects, "lengths say nothing")
	_, err = b.Find(t.Context(), museum, time.Time{})
	assert.Error(t, err)
	healed, err = b.Heal(t.Context(), "here", museum, false, nil)
	require.NoError(t, err)
	require.Len(t, healed.Objects, 1)
	assert.Empty(t, healed.Objects[0].Left)
	damaged, err = b.History.DamagedIn(t.Context(), "here")
	require.NoError(t, err)
	assert.Empty(t, damaged)
	_, err = b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err, "what was healed, and compared, is known to be sound")
	proof, err = b.Verify(t.Context(), VerifyOrder{})
	require.NoError(t, err)
	assert.True(t, proof.Sound())
	healed, err = b.Heal(t.Context(), "here", museum, false, nil)
	require.NoError(t, err)
	assert.Empty(t, healed.Objects)
	b.damage("here")
	b.damage("far")
	healed, err = b.Heal(t.Context(), "here", museum, false, nil)
	require.NoError(t, err)
	require.Len(t, healed.Objects, 1)
	assert.NotEmpty(t, healed.Objects[0].Left, "no store has it sound")
	damaged, err = b.History.DamagedIn(t.Context(), "here")
	require.NoError(t, err)
	assert.Len(t, damaged, 1, "the next archive does not rely on it")
	_, err = b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err, "of the other store nothing is known")
	next := b.taken(Order{})
	proof, err = b.Verify(t.Context(), VerifyOrder{Archives: []string{next.Record.Name}, Store: "here"})
	require.NoError(t, err)
	assert.True(t, proof.Sound(), "%v", proof.Damaged())
	_, err = b.Heal(t.Context(), "here", "nowhere", false, nil)
	assert.True(t, reason.Is(err, reason.Usage))
}

// What is not there is not sound: archives that a store has lost come back, and of one that does not answer nothing is said.
func TestAStoreThatHasLostArchivesIsHealed(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	all := b.take(3)
	lose := func(store, name string) {
		require.NoError(t, os.Remove(filepath.Join(b.path(store), museum, "archives", name+".json")))
	}
	heal := func() *HealedSite {
		site, err := b.Heal(t.Context(), "far", museum, false, nil)
		require.NoError(t, err)
		return site
	}
	_, err := b.removes(RemoveOrder{Archive: all[0], Store: "far", Why: "too much"})
	require.NoError(t, err)
	lose("far", all[1])
	site := heal()
	assert.Equal(t, 2, site.Archives)
	require.Len(t, site.Objects, 1)
	assert.Contains(t, site.Objects[0].Object, all[1])
	assert.False(t, site.Left())
	assert.Equal(t, all[1:], slices.Sorted(slices.Values(b.listed("far"))), "what was removed on purpose stays so")
	assert.Equal(t, &HealedSite{Archives: 2, Objects: []replicate.Healed{}}, heal())

	require.NoError(t, os.RemoveAll(filepath.Join(b.path("far"), museum)))
	site = heal()
	assert.Equal(t, 2, site.Archives)
	assert.NotEmpty(t, site.Objects)
	assert.False(t, site.Left())
	assert.Empty(t, heal().Objects)

	lose("far", all[2])
	lose("here", all[2])
	site = heal()
	require.Len(t, site.Objects, 1)
	assert.True(t, site.Left(), "no store has it")
	require.NoError(t, b.Accept(t.Context(), museum, alarm.Vanished, "mine"))
	assert.Equal(t, &HealedSite{Archives: 1, Objects: []replicate.Healed{}}, heal(), "somebody has said that it may be so")

	back := b.away("far")
	_, err = b.Heal(t.Context(), "far", museum, false, nil)
	assert.ErrorContains(t, err, "nothing is known of kestrelpoint in store far")
	for _, o := range []VerifyOrder{{}, {Store: "far"}, {Archives: []string{museum}}, {Archives: []string{all[1]}, Store: "far"}} {
		proof, err := b.Verify(t.Context(), o)
		require.NoError(t, err)
		assert.Equal(t, catalog.NotReached, proof.Verdict(), "%v", o)
		assert.Len(t, proof.Trouble, 1, "%v", o)
	}
	proof, err := b.Verify(t.Context(), VerifyOrder{Store: "here"})
	require.NoError(t, err)
	assert.Equal(t, catalog.Sound, proof.Verdict())
	back()
}

func TestADamagedPartIsWrittenAgainByTheNextBackup(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	b.damage("here")
	_, err := b.Verify(t.Context(), VerifyOrder{Store: "here"})
	require.NoError(t, err)
	d := b.taken(Order{})
	assert.Len(t, d.Mended["here"], 1)
	assert.Empty(t, d.Mended["far"])
	proof, err := b.Verify(t.Context(), VerifyOrder{})
	require.NoError(t, err)
	assert.True(t, proof.Sound(), "%v", proof.Damaged())
}

// A store that loses parts, or cuts them, is told as soon as a backup sees it; one to which the last archive never came has lost
// nothing.
func TestPartsThatVanishAreTold(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	back := b.away("far")
	first := b.taken(Order{})
	back()
	b.open()
	d := b.taken(Order{})
	assert.Empty(t, d.Vanished, "the other store has got them only now")
	var parts []string // that all archives have in common
	for _, part := range d.Record.Parts {
		if slices.ContainsFunc(first.Record.Parts, func(p archive.Part) bool { return p.Name == part.Name }) {
			parts = append(parts, b.path("far/"+archive.PartPath(museum, part.Name)))
		}
	}
	require.Greater(t, len(parts), 2)
	require.NoError(t, os.Remove(parts[0]))
	require.NoError(t, os.Truncate(parts[1], 3))
	d = b.taken(Order{})
	assert.Len(t, d.Vanished["far"], 2)
	assert.Empty(t, d.Vanished["here"])
	runs, err := b.History.Runs(t.Context(), history.RunFilter{Site: museum, Most: 1})
	require.NoError(t, err)
	assert.Contains(t, runs[0].Detail, "store far had lost 2 parts")
	b.sound()
	assert.Empty(t, b.taken(Order{}).Vanished)
}

func TestVerifyIsOfWhatWasAskedFor(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	names := b.month(2)
	proof, err := b.Verify(t.Context(), VerifyOrder{Archives: []string{names[0]}, Level: verify.Quick})
	require.NoError(t, err)
	require.Len(t, proof.Reports, 2)
	assert.Equal(t, verify.Quick, proof.Reports[0].Level)
	_, err = b.Verify(t.Context(), VerifyOrder{Store: "nowhere"})
	assert.True(t, reason.Is(err, reason.Usage))
	_, err = b.Verify(t.Context(), VerifyOrder{Archives: []string{"nowhere"}})
	assert.True(t, reason.Is(err, reason.Usage))
	back := b.away("far")
	b.open()
	proof, err = b.Verify(t.Context(), VerifyOrder{})
	require.NoError(t, err)
	assert.Len(t, proof.Reports, 2, "what answers is read")
	require.Len(t, proof.Trouble, 1)
	assert.Equal(t, catalog.NotReached, proof.Verdict(), "what was not read is not called sound")
	assert.Empty(t, proof.Damaged(), "nor damaged")
	back()
}

func TestDiscoverDescribesASiteByItsArchives(t *testing.T) {
	t.Parallel()
	b := newBenchIn(t, varTmp(t), "", "") // no site lies in /dev, where memory may be
	b.month(2)
	require.NoError(t, os.WriteFile(b.path("far/museum.zip"), nil, 0o600))
	fresh := New()
	fresh.Now, fresh.Tell = b.Now, b.Tell
	require.NoError(t, fresh.ReadConfigIfAny(b.path("new/revlet.yaml"), false))
	require.NoError(t, fresh.OpenState(t.Context(), b.path("new-state")))
	t.Cleanup(fresh.Close)
	found, err := fresh.Discover(t.Context(), Discovery{Name: "found", Store: config.Store{Folder: b.path("far")}})
	require.NoError(t, err)
	require.Len(t, found.Sites, 1)
	assert.Equal(t, FoundSite{Site: museum, Archives: 2, Newest: found.Sites[0].Newest, Root: b.path("htdocs"), Address: b.site.URL, Entry: found.Sites[0].Entry, Signers: found.Sites[0].Signers}, found.Sites[0])
	key, err := b.signingKey()
	require.NoError(t, err)
	require.Len(t, found.Sites[0].Signers, 1)
	assert.Equal(t, 2, found.Sites[0].Signers[0].Archives)
	assert.Equal(t, key.Public().Fingerprint(), found.Sites[0].Signers[0].Fingerprint)
	assert.Equal(t, []string{string(key.Public())}, found.Sites[0].Entry.SignedBy, "pinned")
	assert.Equal(t, []string{b.path("far/museum.zip")}, found.Exports)
	assert.NoFileExists(t, b.path("new/revlet.yaml"), "only looked")
	assert.Equal(t, catalog.Sound, found.Verdict())

	// What cannot be read is not absent.
	harmed := filepath.Join(t.TempDir(), "harmed")
	require.NoError(t, os.CopyFS(harmed, os.DirFS(b.path("far"))))
	records, err := filepath.Glob(filepath.Join(harmed, museum, "archives", "*"))
	require.NoError(t, err)
	for left := 1; left >= 0; left-- {
		require.NoError(t, os.WriteFile(records[left], []byte("x"), 0o600))
		found, err := fresh.Discover(t.Context(), Discovery{Name: "harmed", Store: config.Store{Folder: harmed}})
		require.NoError(t, err)
		assert.Len(t, found.Sites, left)
		assert.Len(t, found.Trouble, 2-left)
		assert.Equal(t, catalog.Damaged, found.Verdict())
	}
	_, err = fresh.Discover(t.Context(), Discovery{Name: "found", Store: config.Store{Folder: b.path("far")}, Write: true})
	require.NoError(t, err)
	c, err := config.Load(b.path("new/revlet.yaml"))
	require.NoError(t, err)
	assert.Equal(t, b.path("htdocs"), c.Sites[museum].Root)
	assert.Equal(t, []string{"found"}, c.Sites[museum].Stores)
	_, err = fresh.Discover(t.Context(), Discovery{Name: "x", Store: config.Store{Folder: b.path("far/" + museum)}})
	assert.ErrorContains(t, err, "is the folder of one site")
	_, err = fresh.Discover(t.Context(), Discovery{Name: "x", Store: config.Store{Folder: b.dir}})
	assert.ErrorContains(t, err, "some are in its folder", "copies are often nested by one")
}

func TestKeysAreTriedOnWhatTheyOpen(t *testing.T) {
	t.Parallel()
	key, public, err := encryption.NewKey("a test")
	require.NoError(t, err)
	b := newBench(t, "", "encrypt: {to: ["+public+"]}\n")
	d := b.taken(Order{})
	assert.True(t, d.KeyUntried)
	require.NoError(t, os.WriteFile(b.path("right.key"), []byte(key), 0o600))
	other, _, err := encryption.NewKey("another")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(b.path("wrong.key"), []byte(other), 0o600))
	r, err := b.CheckKey(t.Context(), b.path("wrong.key"))
	require.NoError(t, err)
	assert.False(t, r.Opens)
	assert.False(t, r.Named)
	assert.True(t, b.taken(Order{}).KeyUntried, "a wrong key proves nothing")
	r, err = b.CheckKey(t.Context(), b.path("right.key"))
	require.NoError(t, err)
	assert.True(t, r.Opens)
	assert.True(t, r.Named)
	assert.False(t, b.taken(Order{}).KeyUntried)

	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(b.path("state/records")))
	b.open()
	h, err = b.Find(t.Context(), h.Name, time.Time{})
	require.NoError(t, err)
	assert.True(t, reason.Is(h.Unseal(h.Keys), reason.NoKey), "without the key the record stays closed")
	assert.Equal(t, verify.Digests, b.levelFor(h, ""))
	b.UseKey(b.path("right.key"))
	h, err = b.FindOpen(t.Context(), museum, time.Time{}, Need{})
	require.NoError(t, err)
	assert.Equal(t, b.path("htdocs"), h.Origin.Roots["webroot"])
	assert.Equal(t, verify.Full, b.levelFor(h, ""))
	assert.Equal(t, []string{public}, b.Publics())
}

func TestAPortableFileIsTakenIn(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	d := b.taken(Order{Note: "carried over"})
	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	file := b.path("museum.zip")
	_, err = portable.Export{Archive: h, File: file, Disk: b.Disk}.Run(t.Context())
	require.NoError(t, err)
	assert.True(t, IsFile(file))
	assert.False(t, IsFile(museum))

	passing, done, err := b.ArchiveInFile(t.Context(), file, nil)
	require.NoError(t, err)
	assert.Equal(t, d.Record.Totals.Files, passing.Totals.Files)
	done()
	left, err := filepath.Glob(b.path("state/spool/*"))
	require.NoError(t, err)
	for _, l := range left {
		assert.False(t, strings.Contains(l, "restore-file"), "nothing passing is left: %s", l)
	}

	require.NoError(t, os.RemoveAll(b.path("here/"+museum)))
	require.NoError(t, os.RemoveAll(b.path("far/"+museum)))
	b.open()
	in, err := b.Import(t.Context(), ImportOrder{Files: []string{file}})
	require.NoError(t, err)
	assert.Equal(t, "carried over", in.Record.Note)
	assert.Equal(t, []string{"here", "far"}, in.Stores)
	assert.Equal(t, history.Done, b.lastRun("import").Outcome)
	proof, err := b.Verify(t.Context(), VerifyOrder{})
	require.NoError(t, err)
	assert.True(t, proof.Sound())

	require.NoError(t, os.WriteFile(b.path("hand.zip"), []byte("PK no zip"), 0o600))
	_, err = b.Import(t.Context(), ImportOrder{Files: []string{b.path("hand.zip")}})
	assert.Error(t, err)
}

func TestNamesOfAdoptedSites(t *testing.T) {
	t.Parallel()
	for _, c := range [][3]string{
		{"https://www.kestrelpoint.example/visit", "/srv/x/htdocs", "kestrelpoint"},
		{"http://localhost:8080", "/srv/kestrelpoint/htdocs", "kestrelpoint"},
		{"http://127.0.0.1", "/srv/museum/public_html", "museum"},
		{"", "/home/Keeper Tull/www", "keeper-tull"},
		{"https://Harbour.example", "/x", "harbour"},
		{"https://münchen.example", "/x", "m-nchen"},
	} {
		assert.Equal(t, c[2], nameFrom(c[0], c[1]), c)
	}
}

func TestAdoptAsksWhatItCannotKnow(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	found, stores, err := b.Adopt(t.Context(), AdoptOrder{Root: b.path("htdocs"), Name: "second", Store: "here"})
	require.NoError(t, err)
	assert.Empty(t, stores)
	assert.Equal(t, "lampblack", found.Recipe)
	assert.Equal(t, b.site.URL, found.Databases[0].Address, "confirmed by looking inside")
	assert.False(t, found.Written)
	for name, c := range map[string]struct {
		order AdoptOrder
		why   reason.Reason
	}{
		"several stores":      {AdoptOrder{Root: b.path("htdocs"), Name: "second"}, reason.SeveralStores},
		"no such store":       {AdoptOrder{Root: b.path("htdocs"), Name: "second", Store: "nowhere"}, reason.StoreUnknown},
		"inside the webroot":  {AdoptOrder{Root: b.path("htdocs"), Name: "second", Store: b.path("htdocs/backups")}, reason.StoreInWebroot},
		"the name is taken":   {AdoptOrder{Root: b.path("htdocs"), Name: museum, Store: "here"}, reason.NameTaken},
		"the name is no name": {AdoptOrder{Root: b.path("htdocs"), Name: "Not A Name", Store: "here"}, reason.NameTaken},
		"one folder deeper":   {AdoptOrder{Root: b.dir, Name: "second", Store: "here"}, reason.CMSBelow},
		"no folder":           {AdoptOrder{Root: b.path("revlet.yaml"), Name: "second", Store: "here"}, reason.Usage},
		"no CMS":              {AdoptOrder{Root: b.path("here"), Name: "second", Store: "here"}, reason.Usage},
	} {
		_, _, err := b.Adopt(t.Context(), c.order)
		assert.True(t, reason.Is(err, c.why), "%s: %v", name, err)
	}
	_, stores, err = b.Adopt(t.Context(), AdoptOrder{Root: b.path("htdocs"), Name: "second", Store: b.path("new-store"), Write: true})
	require.NoError(t, err)
	assert.Len(t, stores, 1)
	assert.DirExists(t, b.path("new-store"))
	c, err := config.Load(b.path("revlet.yaml"))
	require.NoError(t, err)
	assert.Equal(t, 2, len(c.Sites))
}

// A key is not called wrong because what it should open could not be read.
func TestAKeyThatCouldNotBeTriedIsNotCalledWrong(t *testing.T) {
	t.Parallel()
	key, public, err := encryption.NewKey("a test")
	require.NoError(t, err)
	b := newBench(t, "", "encrypt: {to: ["+public+"]}\n")
	d := b.taken(Order{})
	require.NoError(t, os.WriteFile(b.path("right.key"), []byte(key), 0o600))
	for _, store := range []string{"here", "far"} {
		list := filepath.Join(b.path(store), filepath.FromSlash(d.Record.ListPath()))
		require.NoError(t, os.Remove(list))
		require.NoError(t, os.Mkdir(list, 0o700)) // it is there, and cannot be read
	}
	_, err = b.CheckKey(t.Context(), b.path("right.key"))
	require.ErrorContains(t, err, "the key could not be tried on "+d.Record.Name)
}

// Two machines, or two state folders, take archives of one site into one folder at the
// same time: both are whole.
func TestTwoStateFoldersShareAStore(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	other := New()
	other.Now, other.Drain = func() time.Time { return b.clock }, 0
	require.NoError(t, other.Open(t.Context(), b.path("revlet.yaml"), b.path("other-state")))
	defer other.Close()
	var keys []string
	for _, a := range []*Agent{b.Agent, other} {
		key, err := a.signingKey()
		require.NoError(t, err)
		keys = append(keys, string(key.Public()))
	}
	for _, a := range []*Agent{b.Agent, other} { // as `signed_by:` says
		cfg := a.Config.Sites[museum]
		cfg.SignedBy = keys
		a.Config.Sites[museum] = cfg
	}
	for range 4 {
		var g errgroup.Group
		for _, a := range []*Agent{b.Agent, other} {
			g.Go(func() error {
				d, err := a.Backup(t.Context(), museum, Order{Scope: archive.Full, Fresh: true})
				if err == nil && len(d.Pending) > 0 {
					err = d.Pending[0].Err
				}
				return err
			})
		}
		require.NoError(t, g.Wait())
		b.write("robots.txt", b.clock.String())
		b.later(time.Minute)
	}
	l, err := b.List(t.Context(), museum)
	require.NoError(t, err)
	assert.Len(t, l.Archives, 8)
	proof, err := b.Verify(t.Context(), VerifyOrder{})
	require.NoError(t, err)
	assert.True(t, proof.Sound())
}

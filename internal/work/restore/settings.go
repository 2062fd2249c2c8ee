package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"revlet/internal/archives/catalog"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// identified is a database that can say which one it is, wherever it is asked from.
type identified interface {
	Identity(ctx context.Context) (string, error)
}

// settingsLead refuses to put settings live that lead to another database than the
// site's: the site would write to whatever that is. Settings that cannot be read count
// as right only where the archive was made of this very place.
func (r *run) settingsLead(ctx context.Context) error {
	recipe, err := r.recipe()
	if !r.Files || r.Selection != nil || r.Unserved || err != nil || recipe == nil {
		return err
	}
	read := func(rel string) ([]byte, error) {
		if name, above := strings.CutPrefix(rel, "../"); above {
			return r.Archive.ReadFile(ctx, site.AboveLabel+"/"+name)
		}
		return r.Archive.ReadFileNear(ctx, site.RootLabel+"/"+rel, func() ([]byte, error) { return r.readLive(ctx)(rel) })
	}
	what := "the archive's settings"
	if r.KeepSettings {
		what, read = "the settings that are kept", r.readLive(ctx)
	}
	err = r.leadHere(ctx, recipe, what, read)
	if err == nil || r.KeepSettings {
		return err
	}
	names := reason.Names{"archive": r.Archive.Name}
	if r.leadHere(ctx, recipe, "", r.readLive(ctx)) == nil {
		return reason.Because(reason.SettingsElsewhereKeep, names, err)
	}
	return reason.Because(reason.SettingsElsewhere, names, err)
}

// recipe is what is known of the CMS whose files are put live: the site's, or, where
// its folder tells of none yet, the one that the archive names.
func (r *run) recipe() (*site.Recipe, error) {
	if r.Site.Recipe != nil || r.Archive.Origin.Recipe == "" {
		return r.Site.Recipe, nil
	}
	return site.RecipeNamed(r.Archive.Origin.Recipe)
}

func (r *run) readLive(ctx context.Context) site.ReadFunc {
	return func(rel string) ([]byte, error) { return r.Site.Read(ctx, rel) }
}

// leadHere tells whether settings lead to the site's databases. what is their name for
// people; without one, settings that cannot be read are never taken for right.
func (r *run) leadHere(ctx context.Context, recipe *site.Recipe, what string, read site.ReadFunc) error {
	leads, err := recipe.Leads(r.Site.PathAt(r.Site.Root), r.Site.SettingsFile, read)
	if err != nil {
		if what != "" && (r.samePlace() || r.Anyway) {
			return nil
		}
		return fmt.Errorf("it cannot be told where %s lead: %w", what, err)
	}
	for _, label := range slices.Sorted(maps.Keys(leads)) {
		there := r.Site.There(leads[label])
		here, ok := r.Site.Database(label)
		if !ok || there.Same(here) || tree.FilesOnly(r.Site.Place) && leads[label].Same(here) {
			continue
		}
		if what != "" && !r.KeepSettings {
			if led, err := BehindLinks(ctx, r.Archive, r.Site, there); err != nil || led.Same(here) {
				if err != nil {
					return err
				}
				continue
			}
		}
		if err := r.oneDatabase(ctx, there, here); err != nil {
			if r.samePlace() && there.Where() != here.Where() && !errors.Is(err, errAnother) {
				continue // the configuration leads by another way, as it did then
			}
			if there.Where() == here.Where() {
				return fmt.Errorf("%s do not reach the site's database %s any more: %w", what, here.Where(), err)
			}
			return fmt.Errorf("%s lead to another database than the site's: %s, not %s (%w)", what, there.Where(), here.Where(), err)
		}
	}
	return nil
}

// BehindLinks is a database of a site as the links of an archive lead to its file, if it is one: settings say a path, and
// where its folders are not there yet, only the archive knows what is a link on the way.
func BehindLinks(ctx context.Context, h *catalog.Held, s *site.Site, db site.Database) (site.Database, error) {
	label, rel, inside := s.LiesIn(db)
	if !inside {
		return db, nil
	}
	real, err := h.RealName(ctx, path.Join(label, rel))
	if errors.Is(err, catalog.ErrLedOut) {
		return db, nil
	}
	if err != nil {
		return db, err
	}
	in, rest, _ := strings.Cut(real, "/")
	if s.FolderOf(in) != "" {
		db.Path = s.PathIn(in, rest)
	}
	return db, nil
}

// samePlace tells whether an archive was made on this machine, of these folders and
// databases.
func (r *run) samePlace() bool {
	host, err := os.Hostname()
	if r.Site.Far() {
		host, err = r.Archive.Host, nil // whichever computer has taken it: Place is the machine
	}
	if err != nil || host != r.Archive.Host || r.Archive.Origin.Place != r.Site.At(r.disk).Base() || r.Archive.Origin.Roots[site.RootLabel] != r.Site.PathAt(r.Site.Root) {
		return false
	}
	for label, o := range r.Archive.Origin.Databases {
		if db, ok := r.Site.Database(label); !ok || r.Site.PathAt(db.Where()) != o.Where {
			return false
		}
	}
	return true
}

var errAnother = errors.New("it is another")

// oneDatabase asks two databases whether they are one. Nil means that they are.
func (r *run) oneDatabase(ctx context.Context, a, b site.Database) error {
	if a.Engine != b.Engine || a.Engine == "sqlite" {
		return errAnother
	}
	var ids [2]string
	for i, db := range []site.Database{a, b} {
		target, err := r.Open(ctx, db, sqlite.FileMode{}, "")
		if err != nil {
			return err
		}
		if of, ok := target.(identified); ok {
			ids[i], err = of.Identity(ctx)
		}
		if err := errors.Join(err, target.Close()); err != nil {
			return err
		}
	}
	if ids[0] == "" || ids[0] != ids[1] {
		return errAnother
	}
	return nil
}

// keepSettings puts the present settings file into the staged tree, in place of the
// archive's.
func (r *run) keepSettings(ctx context.Context) error {
	if !r.KeepSettings {
		return nil
	}
	files := r.Site.Recipe.Settings.Files
	if r.Site.SettingsFile != "" {
		files = []string{r.Site.SettingsFile}
	}
	for _, rel := range files {
		if strings.HasPrefix(rel, "../") {
			continue // beside the webroot, where it stays anyway
		}
		data, err := r.Site.Read(ctx, rel)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		f, at, err := r.settingsAt(ctx, rel)
		if err == nil && f != nil {
			err = r.keepFile(ctx, f, at, data)
		}
		if err != nil {
			return fmt.Errorf("keep %s: %w", rel, err)
		}
		r.observer.Note("note: " + rel + " stays as it is now; it is not the archive's")
		return nil
	}
	return nil
}

// settingsAt is where the live settings really lie, if that is restored: they can be a link, which then has to lead to the same
// place in the archive, or what is kept would not be what the site reads.
func (r *run) settingsAt(ctx context.Context, rel string) (f *FilesPlan, at string, err error) {
	info, err := r.lstatLive(ctx, r.journal.Files, rel)
	if err != nil {
		return nil, "", err
	}
	name := site.RootLabel + "/" + rel
	real := r.Site.RealName(name)
	linked := real != name || info.Mode()&fs.ModeSymlink != 0
	if !linked {
		return r.journal.Files, rel, nil
	}
	archived, err := r.Archive.RealName(ctx, name)
	if err != nil && !errors.Is(err, catalog.ErrLedOut) {
		return nil, "", err
	}
	if err != nil || archived != real || real == name {
		return nil, "", fmt.Errorf("it is a link now, and leads elsewhere than in the archive; restore without keeping it, or make it a file first")
	}
	label, rest, _ := strings.Cut(real, "/")
	return r.journal.plan(label), rest, nil
}

// keepFile puts what a live file holds into the tree that was staged for its folder.
func (r *run) keepFile(ctx context.Context, f *FilesPlan, rel string, data []byte) error {
	info, err := r.lstatLive(ctx, f, rel)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is no regular file", rel)
	}
	staged, err := openTree(r.disk, f.here())
	if err != nil {
		return err
	}
	return errors.Join(Put(staged, rel, data, info), staged.Close())
}

// addressNow is the public address that the site's own database keeps, where the
// configuration says none; empty if neither tells.
func (r *run) addressNow(ctx context.Context) string {
	if r.Site.Address != "" {
		return r.Site.Address
	}
	if said := r.Site.AddressInSettings(); said != "" {
		return said
	}
	for _, target := range r.targets {
		if asked, ok := target.(site.Asked); ok {
			if address := r.Site.StoredAddress(ctx, asked); address != "" {
				return address
			}
		}
	}
	return ""
}

// Put writes a file of a staged tree anew, with the rights, the owner and the time of another.
func Put(staged *disk.Root, rel string, data []byte, like fs.FileInfo) error {
	if err := staged.Remove(rel); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := staged.Create(rel, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Chmod(like.Mode().Perm())
	}
	if a, ok := disk.AttributesOf(like); ok && err == nil && os.Geteuid() == 0 {
		err = f.Chown(a.UID, a.GID)
	}
	if err == nil {
		err = f.SetTimes(like.ModTime())
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

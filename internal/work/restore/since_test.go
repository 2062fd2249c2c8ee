//go:build linux

package restore_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/site"
	"revlet/internal/work/restore"
)

// files are the webroot's files with their texts, and its folders.
func (b *bench) files() map[string]string {
	all, root := map[string]string{}, filepath.Join(b.dir, "htdocs")
	require.NoError(b.t, filepath.WalkDir(root, func(p string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(root, p)
		switch {
		case err != nil || strings.HasPrefix(rel, "site.db"):
			return err
		case strings.HasPrefix(rel, site.LeftoverPrefix):
			return fs.SkipDir
		case e.IsDir():
			all[rel] = "folder"
		case e.Type().IsRegular():
			data, err := os.ReadFile(p)
			all[rel] = string(data)
			return err
		default:
			all[rel] = e.Type().String()
		}
		return nil
	}))
	return all
}

// replace writes a file anew under its name, as most programs do.
func (b *bench) replace(rel, text string) {
	b.write(rel+".new", text)
	require.NoError(b.t, os.Rename(filepath.Join(b.dir, rel+".new"), filepath.Join(b.dir, rel)))
}

func (b *bench) remove(rel string) {
	require.NoError(b.t, os.RemoveAll(filepath.Join(b.dir, rel)))
}

func (b *bench) makeFolder(rel string) {
	require.NoError(b.t, os.MkdirAll(filepath.Join(b.dir, rel), 0o750))
}

// onShare makes a site of which sub/ was broken and restored, while the rest of it
// lives on.
func (b *bench) onShare(fill bool) {
	b.share = &restore.FileSelection{Fill: fill, Keep: func(_, rel string) bool { return rel == "sub" || strings.HasPrefix(rel, "sub/") }}
	b.makeFolder("htdocs/other/away")
	b.makeFolder("htdocs/sub/theme")
	for _, name := range []string{"htdocs/other/page.txt", "htdocs/other/old.txt", "htdocs/other/away/one.txt", "htdocs/sub/theme/style.css", "htdocs/sub/gone.css"} {
		b.write(name, "first")
	}
	require.NoError(b.t, b.backup())
	b.remove("htdocs/sub/theme")
	b.replace("htdocs/sub/gone.css", "broken")
	b.write("htdocs/sub/planted.php", "planted")
}

// lives is what happens to the site after the restore.
func (b *bench) lives() {
	b.write("htdocs/new.txt", "new")
	b.makeFolder("htdocs/other/made/empty")
	b.write("htdocs/other/made/deep.txt", "new")
	b.replace("htdocs/other/page.txt", "changed")
	b.remove("htdocs/other/old.txt")
	b.remove("htdocs/other/away")
	b.write("htdocs/sub/theme/mine.css", "mine")
	b.replace("htdocs/sub/gone.css", "mended by hand")
}

// lived are the files that must be there after undo.
func lived(before map[string]string) map[string]string {
	for rel, text := range map[string]string{"new.txt": "new", "other/made": "folder", "other/made/empty": "folder", "other/made/deep.txt": "new", "other/page.txt": "changed",
		"sub/theme": "folder", "sub/theme/mine.css": "mine"} {
		before[rel] = text
	}
	for _, rel := range []string{"other/old.txt", "other/away", "other/away/one.txt"} {
		delete(before, rel)
	}
	return before
}

var shareBenches = map[string]func(t *testing.T) *bench{
	"beside the webroot":                    newBench,
	"where a file has one name only":        func(t *testing.T) *bench { return newBench(t).withoutLinks() },
	"inside a mount point":                  mounted,
	"inside one, where a file has one name": func(t *testing.T) *bench { return mounted(t).withoutLinks() },
	"on another machine":                    func(t *testing.T) *bench { return behindSSH(t, newBench(t), true) },
	"inside a mount point elsewhere":        func(t *testing.T) *bench { return behindSSH(t, mounted(t), false) },
	"closed at the door": func(t *testing.T) *bench {
		b := newBench(t)
		b.door = true
		b.write("htdocs/index.php", "<?php // front")
		return b
	},
}

// Undo of a share brings the share back, and takes nothing away that was made elsewhere
// since.
func TestUndoOfAShareKeepsWhatWasMadeSince(t *testing.T) {
	for name, open := range shareBenches {
		for _, fill := range []bool{false, true} {
			t.Run(name+map[bool]string{true: ", filled"}[fill], func(t *testing.T) {
				b := open(t)
				b.onShare(fill)
				before := b.files()
				require.NoError(t, b.restore())
				require.Equal(t, "first", b.files()["sub/gone.css"])
				b.lives()
				r, err := b.recoverer()
				require.NoError(t, err)
				o, err := r.Undo(t.Context())
				require.NoError(t, err)
				assert.Equal(t, lived(before), b.files())
				assert.Len(t, o.Notes, 2)
				assert.Contains(t, strings.Join(o.Notes, "\n"), "changed in the share since the restore, and gone for what was there before: 1 (sub/gone.css)")
				info, err := os.Stat(filepath.Join(b.dir, "htdocs/other/made"))
				require.NoError(t, err)
				assert.Equal(t, fs.FileMode(0o750), info.Mode().Perm())
				assert.Empty(t, b.leftovers())
			})
		}
	}
}

// What is only called like what a restore sets aside is kept like everything else.
func TestUndoOfAShareKeepsWhatIsCalledLikeABox(t *testing.T) {
	for name, open := range shareBenches {
		t.Run(name, func(t *testing.T) {
			b := open(t)
			b.onShare(false)
			require.NoError(t, b.restore())
			b.write("htdocs/.revlet-mine", "mine")
			b.makeFolder("htdocs/.revlet-folder")
			b.write("htdocs/.revlet-folder/file", "mine")
			r, err := b.recoverer()
			require.NoError(t, err)
			_, err = r.Undo(t.Context())
			require.NoError(t, err)
			assert.FileExists(t, filepath.Join(b.dir, "htdocs/.revlet-mine"))
			assert.FileExists(t, filepath.Join(b.dir, "htdocs/.revlet-folder/file"))
		})
	}
}

// Whatever fails, and wherever the machine dies: the site is as it was before undo, or
// as it must be after.
func TestEveryDiskFaultWhileAShareIsUndone(t *testing.T) {
	for name, open := range shareBenches {
		t.Run(name, func(t *testing.T) {
			b := open(t)
			b.onShare(false)
			broken := b.files()
			var now map[string]string
			again := func() {
				for name := range b.files() {
					if name != "." {
						b.remove("htdocs/" + name)
					}
				}
				for _, kind := range []func(rel, text string){
					func(rel, text string) {
						if text == "folder" {
							b.makeFolder("htdocs/" + rel)
						}
					},
					func(rel, text string) {
						if text == "L---------" {
							require.NoError(t, os.Symlink("../index.html", filepath.Join(b.dir, "htdocs", rel)))
						} else if text != "folder" {
							b.write("htdocs/"+rel, text)
						}
					},
				} {
					for rel, text := range broken {
						kind(rel, text)
					}
				}
				require.Equal(t, broken, b.files())
				require.NoError(t, b.restore())
				b.lives()
				now = b.files()
			}
			eachFault(t, b, again, b.undo, func(err error) {
				r, openErr := b.recoverer()
				require.NoError(t, openErr)
				_, recoverErr := r.Recover(t.Context())
				require.NoError(t, recoverErr)
				after := lived(copyOf(broken))
				if found := b.files(); err == nil || !assert.ObjectsAreEqual(now, found) {
					require.Equal(t, after, found, "%v", err)
				} else {
					require.NoError(t, b.undo())
					require.Equal(t, after, b.files(), "undone at last: %v", err)
				}
				require.Empty(t, b.leftovers())
			})
		})
	}
}

func copyOf(m map[string]string) map[string]string {
	all := map[string]string{}
	for k, v := range m {
		all[k] = v
	}
	return all
}

// A list that is damaged, or a link in a place of the tree that is set aside, stops undo
// before anything changes.
func TestUndoOfAShareReadsItsListStrictly(t *testing.T) {
	b := newBench(t)
	b.onShare(false)
	require.NoError(t, b.restore())
	lists, err := filepath.Glob(filepath.Join(b.dir, "state/journals/kestrelpoint/*.share"))
	require.NoError(t, err)
	require.Len(t, lists, 1)
	good, err := os.ReadFile(lists[0])
	require.NoError(t, err)
	now := b.files()
	for _, bad := range []string{"put zz 1\n", "put 00 1\n", "gone\n", string(good[:len(good)-1]), "x\n"} {
		require.NoError(t, os.WriteFile(lists[0], []byte(bad), 0o600))
		require.Error(t, b.undo(), "%q", bad)
		assert.Equal(t, now, b.files())
	}
	require.NoError(t, os.WriteFile(lists[0], good, 0o600))
	require.NoError(t, b.undo())
	assert.Empty(t, b.leftovers())
}

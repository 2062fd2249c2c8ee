package move

import (
	"errors"
	"io/fs"
	"os"
	"path"

	"revlet/internal/platform/disk"
	"revlet/internal/work/restore"
)

// quietTexts are the files that a practice copy gets, whatever its CMS: search engines read
// robots.txt at the top of a name (RFC 9309).
var quietTexts = map[string]string{"robots.txt": "# A practice copy: search engines are to stay away.\nUser-agent: *\nDisallow: /\n"}

// quiet writes the files that keep a practice copy quiet into its webroot.
func (p *Plan) quiet(tree *disk.Root) error {
	for name, text := range quietTexts {
		if err := p.add(tree, name, text); err != nil {
			return err
		}
	}
	if p.recipe == nil {
		return nil
	}
	for _, step := range p.recipe.Move.Copy {
		if step.File == "" {
			continue
		}
		if err := p.add(tree, step.File, step.Content); err != nil {
			return err
		}
	}
	return nil
}

// add writes a file into the staged webroot, with folders above it where they are missing,
// as its owner.
func (p *Plan) add(tree *disk.Root, name, text string) error {
	like, err := ordinary(tree)
	if err != nil {
		return err
	}
	if dir := path.Dir(name); dir != "." {
		if _, err := tree.Lstat(dir); errors.Is(err, fs.ErrNotExist) {
			if err := p.addFolder(tree, dir); err != nil {
				return err
			}
		}
	}
	if err := restore.Put(tree, name, []byte(text), like); err != nil {
		return err
	}
	p.note(File{Path: name, Added: true})
	return nil
}

// addFolder makes a folder with the rights and the owner of the one above it.
func (p *Plan) addFolder(tree *disk.Root, dir string) error {
	above := path.Dir(dir)
	if _, err := tree.Lstat(above); errors.Is(err, fs.ErrNotExist) {
		if err := p.addFolder(tree, above); err != nil {
			return err
		}
	}
	info, err := tree.Stat(above)
	if err != nil {
		return err
	}
	if err := tree.Mkdir(dir, info.Mode().Perm()); err != nil {
		return err
	}
	return owned(tree, dir, info)
}

// owned gives a path the owner of another, as far as this account may.
func owned(tree *disk.Root, name string, like fs.FileInfo) error {
	if a, ok := disk.AttributesOf(like); ok && os.Geteuid() == 0 {
		return tree.Lchown(name, a.UID, a.GID)
	}
	return nil
}

// ordinary is a file of the webroot like which others are made.
func ordinary(tree *disk.Root) (fs.FileInfo, error) {
	for _, name := range []string{"index.php", "index.html"} {
		if info, err := tree.Lstat(name); err == nil && info.Mode().IsRegular() {
			return info, nil
		}
	}
	dir, err := tree.Stat(".")
	if err != nil {
		return nil, err
	}
	return readable{dir}, nil
}

// readable is a folder's owner and time, with the rights of a file that a web server reads.
type readable struct{ fs.FileInfo }

func (readable) Mode() fs.FileMode { return 0o644 }

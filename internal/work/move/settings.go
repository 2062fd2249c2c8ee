package move

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/restore"
)

// The staged webroot is changed before it is live: its settings, and the texts that the
// recipe names. Begin with staged.

// longestText bounds a text file that is changed.
const longestText = 4 << 20

// staged changes the staged folders: the settings, and the texts that the recipe names.
func (p *Plan) staged(ctx context.Context, trees map[string]*disk.Root) error {
	tree := trees[site.RootLabel]
	if err := p.leftovers(tree); err != nil {
		return fmt.Errorf("what was left in the webroot: %w", err)
	}
	if p.sub != nil {
		if err := p.sub.stage(p, tree); err != nil {
			return fmt.Errorf("the uploads of the site: %w", err)
		}
	}
	if p.copy {
		if err := p.quiet(tree); err != nil {
			return fmt.Errorf("keep the copy quiet: %w", err)
		}
	}
	if p.recipe == nil {
		return nil
	}
	for _, name := range p.recipe.Move.Texts {
		if err := p.text(ctx, trees, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	if err := p.bringDown(ctx, tree); err != nil {
		return fmt.Errorf("the settings from above the webroot: %w", err)
	}
	return p.settings(ctx, trees)
}

// settings changes the staged settings.
func (p *Plan) settings(ctx context.Context, trees map[string]*disk.Root) error {
	reading := p.reading(ctx, trees)
	found := func(name string) ([]byte, error) {
		data, err := reading(name)
		if slices.Contains(append(p.recipe.Settings.Files, p.to.SettingsFile), name) {
			data, _, _ = p.rewrite.Value(data)
		}
		return data, err
	}
	values, err := p.recipe.Values(p.to.PathAt(p.to.Root), p.to.SettingsFile, reading)
	if err != nil {
		return reason.Because(reason.SettingsByHand, nil, err)
	}
	if p.Dumped() {
		for _, name := range p.recipe.Settings.Network {
			if site.SaysYes(values, name) {
				return reason.New(reason.CannotMove, nil, "archive %s was made by hand, and is of a network of sites (%s), whose tables are not known", p.archive.Name, name)
			}
		}
	}
	to := site.Pointing{Root: p.to.PathAt(p.to.Root), File: p.to.SettingsFile, Databases: p.to.AsThere(), Address: p.to.Address, Moved: true,
		Network: len(p.recipe.Move.Network) > 0, Settings: p.placeIn(values)}
	if p.copy {
		p.quietSettings(&to, values)
	}
	if p.newKeys {
		p.freshKeys(&to, values)
	}
	if p.sub != nil {
		for _, name := range p.recipe.Move.SubSite.Off {
			if _, there := values.Text(name); there || values.Unknown(name) {
				to.Settings[name] = ""
			}
		}
	}
	out, err := p.recipe.Point(to, found)
	if err != nil {
		return reason.Because(reason.SettingsByHand, nil, err)
	}
	for _, name := range out.Unknown {
		p.notes = append(p.notes, Note{Text: name + " in the settings is no plain value, and stays as it is: look where it leads"})
	}
	was, err := reading(out.Rel)
	if err != nil || string(was) == string(out.Content) {
		return err
	}
	return p.write(ctx, trees, out.Rel, out.Content, 1)
}

// freshKeys adds new secret keys.
func (p *Plan) freshKeys(to *site.Pointing, values site.Values) {
	n := 0
	for _, name := range p.recipe.Move.Keys {
		if _, there := values.Text(name); there {
			to.Settings[name] = rand.Text() + rand.Text() + rand.Text()
			n++
		} else if values.Unknown(name) {
			p.notes = append(p.notes, Note{Text: "the secret key " + name + " is no plain value in the settings, and stays as it is"})
		}
	}
	if n == 0 {
		p.notes = append(p.notes, Note{Text: "no secret keys were found in the settings; those of the old place, if there are any, stay"})
	}
}

// placeIn are the settings with a host or a path of the old place, and what they become.
// values gives what they are.
func (p *Plan) placeIn(values site.Values) map[string]string {
	set := map[string]string{}
	for _, name := range p.recipe.Move.Hosts {
		was, ok := values.Text(name)
		bare := strings.TrimPrefix(was, ".")
		if now, known := p.hostNow(bare); ok && known {
			set[name] = strings.TrimSuffix(was, bare) + now
		}
	}
	for _, name := range p.recipe.Move.CookieHosts {
		was, ok := values.Text(name)
		bare := strings.TrimPrefix(was, ".")
		if now, known := p.hostNow(bare); ok && known {
			set[name] = strings.TrimSuffix(was, bare) + withoutPort(now)
		}
	}
	for _, name := range p.recipe.Move.Paths {
		if was, ok := values.Text(name); ok && strings.HasPrefix(was, "/") {
			set[name], _ = p.rebased(was)
		}
	}
	return set
}

// hostNow is what a host becomes, with a port if the old one has it.
func (p *Plan) hostNow(was string) (string, bool) {
	from, to := host(p.from), host(p.to.Address)
	if now, ok := p.domains[strings.ToLower(was)]; ok {
		return now, true
	}
	if was != "" && strings.EqualFold(was, from) {
		return to, true
	}
	return withoutPort(to), was != "" && strings.EqualFold(was, withoutPort(from))
}

func withoutPort(host string) string {
	name, _, _ := strings.Cut(host, ":")
	return name
}

// quietSettings adds what keeps a practice copy quiet.
func (p *Plan) quietSettings(to *site.Pointing, values site.Values) {
	if name := p.recipe.SiteTitle.Setting; name != "" {
		if was, ok := values.Text(name); ok && !strings.HasPrefix(was, copyTitle) {
			to.Settings[name] = copyTitle + was
		}
	}
	for _, step := range p.recipe.Move.Copy {
		_, there := values.Text(step.Setting)
		switch {
		case values.Unknown(step.Setting):
			p.notes = append(p.notes, Note{Text: fmt.Sprintf("%s: not done, for %s is no plain value in the settings", step.What, step.Setting)})
		case there:
			to.Settings[step.Setting] = step.To
		case step.Insert != "":
			to.Insert = append(to.Insert, step.Insert)
		case step.Setting != "":
			p.notes = append(p.notes, Note{Text: fmt.Sprintf("%s: not done, for the settings have no %s", step.What, step.Setting)})
		}
	}
}

// text changes one text file of the webroot.
func (p *Plan) text(ctx context.Context, trees map[string]*disk.Root, name string) error {
	label, rel, err := p.at(ctx, trees, name)
	if err != nil {
		return err
	}
	if info, err := trees[label].Lstat(rel); err == nil && !info.Mode().IsRegular() {
		p.note(File{Path: shown(label, rel), Link: true})
		return nil
	}
	data, err := read(trees[label], rel)
	if err != nil {
		return err
	}
	out, n, _ := p.rewrite.Value(data)
	if name == ".htaccess" {
		based, m := p.rebase(string(out))
		out, n = []byte(based), n+m
	}
	if n == 0 {
		return nil
	}
	return p.write(ctx, trees, name, out, n)
}

// read reads a file of a staged tree.
func read(tree *disk.Root, name string) ([]byte, error) {
	f, err := tree.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, longestText+1))
	if err == nil && len(data) > longestText {
		err = fmt.Errorf("%s is too long to be settings", name)
	}
	return data, err
}

// at is where a name of the staged webroot really lies, which can be behind a link to another of the site's folders: in the
// archive, for the staged links lead to the new places already.
func (p *Plan) at(ctx context.Context, trees map[string]*disk.Root, name string) (label, rel string, err error) {
	if _, _, linked := restore.LinkOnWay(trees[site.RootLabel], name); !linked {
		return site.RootLabel, name, nil
	}
	real, err := p.archive.RealName(ctx, site.RootLabel+"/"+name)
	if errors.Is(err, catalog.ErrLedOut) {
		return site.RootLabel, name, nil
	}
	if label, rel, _ = strings.Cut(real, "/"); err == nil && trees[label] != nil {
		return label, rel, nil
	}
	return site.RootLabel, name, err
}

// reading reads files of the staged webroot by their names in it.
func (p *Plan) reading(ctx context.Context, trees map[string]*disk.Root) site.ReadFunc {
	return func(name string) ([]byte, error) {
		label, rel, err := p.at(ctx, trees, name)
		if err != nil {
			return nil, err
		}
		return read(trees[label], rel)
	}
}

// write puts a changed file in the place of the staged one, with its rights and owner.
func (p *Plan) write(ctx context.Context, trees map[string]*disk.Root, name string, data []byte, places int) error {
	label, rel, err := p.at(ctx, trees, name)
	if err != nil {
		return err
	}
	info, err := trees[label].Stat(rel)
	if err != nil {
		return err
	}
	if err := restore.Put(trees[label], rel, data, info); err != nil {
		return err
	}
	p.note(File{Path: shown(label, rel), Places: places})
	return nil
}

// shown is how a path in one of the site's folders is named to people.
func shown(label, rel string) string {
	return strings.TrimPrefix(path.Join(label, filepath.ToSlash(rel)), site.RootLabel+"/")
}

func (p *Plan) note(f File) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.files = append(p.files, f)
}

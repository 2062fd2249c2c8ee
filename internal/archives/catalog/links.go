package catalog

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/site"
)

// This file knows where symbolic links that an archive holds lead to in it.

// ErrLedOut is wrapped by errors about links that lead to what an archive does not hold.
var ErrLedOut = errors.New("what is there is not in the archive")

// mostLinks bounds how many links a name may lead through.
const mostLinks = 16

// RealName is a name of the list without links on its way, whether there is something of that name or not. Links that lead
// out of what the archive holds give an error.
func (h *Held) RealName(ctx context.Context, name string) (string, error) {
	links, err := h.Links(ctx)
	if err != nil {
		return "", err
	}
	return links.Real(name)
}

// Links are the symbolic links that an archive holds.
type Links struct {
	origin *archive.Origin
	to     map[string]string
}

// Links reads them from the list.
func (h *Held) Links(ctx context.Context) (*Links, error) {
	l := &Links{&h.Origin, map[string]string{}}
	err := h.ReadList(ctx, func(e archive.Entry) error {
		if e.Type == archive.TypeSymlink {
			l.to[e.Path] = e.Target
		}
		return nil
	})
	return l, err
}

// Names are those of the links, in order.
func (l *Links) Names() []string { return slices.Sorted(maps.Keys(l.to)) }

// Through are names of other folders of the site than the one with a label, each with those of its links that lead there. An
// archive of one folder has none.
func (h *Held) Through(ctx context.Context, label string) (map[string][]string, error) {
	if len(h.Origin.Others(label)) == 0 {
		return nil, nil
	}
	links, err := h.Links(ctx)
	if err != nil {
		return nil, err
	}
	return links.Through(label), nil
}

// Through is Held's.
func (l *Links) Through(label string) map[string][]string {
	through := map[string][]string{}
	for _, name := range l.Names() {
		if !strings.HasPrefix(name, label+"/") {
			continue
		}
		if real, err := l.Real(name); err == nil && real != label && !strings.HasPrefix(real, label+"/") {
			through[real] = append(through[real], name)
		}
	}
	return through
}

// Real is RealName.
func (l *Links) Real(name string) (string, error) { return throughLinks(l.origin, l.to, name) }

// throughLinks is a name of the list without links on its way.
func throughLinks(o *archive.Origin, links map[string]string, name string) (string, error) {
	for range mostLinks {
		at, target := "", ""
		for i, r := range name + "/" {
			if r == '/' && links[name[:i]] != "" {
				at, target = name[:i], links[name[:i]]
				break
			}
		}
		if at == "" {
			return name, nil
		}
		to := o.LinkTo(at, target)
		if to == "" {
			return "", fmt.Errorf("%s is a link to %s, and %w", at, target, ErrLedOut)
		}
		name = to + strings.TrimPrefix(name, at)
	}
	return "", fmt.Errorf("it leads through more than %d links, and %w", mostLinks, ErrLedOut)
}

// Meaning is what a pattern means where links are on the way to it.
type Meaning struct {
	// Pattern is like the one that was typed, Name where all that it means lies, by its name in the list.
	Pattern, Name string
}

// Meant is what a pattern means besides, where links are on the way to it, or where it means a link to another of the site's
// folders. Patterns are those of paths relative to the webroot, or of such as begin with another folder's label.
func (l *Links) Meant(pattern string) (all []Meaning) {
	pattern = Trimmed(pattern)
	root := RootOf(pattern)
	if root == "." {
		return nil
	}
	rest := strings.TrimPrefix(pattern, root)
	for _, name := range []string{site.RootLabel + "/" + root, root} {
		way, err := l.Real(path.Dir(name))
		if err != nil || path.Dir(name) == "." {
			continue // a link that leads out is met where it is in the way; the name of a folder leads nowhere
		}
		itself := path.Join(way, path.Base(name))
		real, err := l.Real(itself)
		if err != nil || rest == "" && folderOf(real) == folderOf(itself) {
			real = itself // a link is meant itself, but for one to another folder
		}
		if real != name {
			all = append(all, Meaning{meant(real, rest), real})
		}
	}
	return all
}

// Meaning are patterns with what they mean besides, where links of the archive lead to another of the site's folders. An
// archive of one folder has none of those.
func (h *Held) Meaning(ctx context.Context, patterns []string) ([]string, error) {
	if len(patterns) == 0 || len(h.Origin.Others(site.RootLabel)) == 0 {
		return patterns, nil
	}
	links, err := h.Links(ctx)
	all := slices.Clone(patterns)
	for _, p := range patterns {
		for _, m := range links.Meant(p) {
			all = append(all, m.Pattern)
		}
	}
	return all, err
}

// folderOf is the label that a name of the list begins with.
func folderOf(name string) string {
	label, _, _ := strings.Cut(name, "/")
	return label
}

// meant is a pattern for what lies in a folder of the list, or for that itself.
func meant(real, rest string) string {
	switch rel, in := strings.CutPrefix(real, site.RootLabel+"/"); {
	case in:
		return Quoted(rel) + rest
	case real != site.RootLabel:
		return Quoted(real) + rest
	case rest == "":
		return "**"
	}
	return Trimmed(rest)
}

// Trimmed is a pattern as paths are written.
func Trimmed(pattern string) string { return strings.Trim(strings.TrimPrefix(pattern, "./"), "/") }

// metas are what stands for several names in a pattern, or takes that meaning away.
const metas = `*?[]{}\`

// Quoted is a path as a pattern that means it alone.
func Quoted(name string) string {
	var b strings.Builder
	for _, r := range name {
		if strings.ContainsRune(metas, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// RootOf is the outermost path that a pattern can mean anything below of, "." being anywhere.
func RootOf(pattern string) string {
	root := "."
	for _, part := range strings.Split(Trimmed(pattern), "/") {
		if strings.ContainsAny(part, metas) {
			break
		}
		root = path.Join(root, part)
	}
	if strings.HasPrefix(root, "..") {
		return "."
	}
	return root
}

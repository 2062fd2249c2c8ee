package move

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/compare"
	"revlet/internal/work/rewrite"
)

// subSite is one site of a network that becomes a site of its own: id is its number, prefix
// what stands in its tables' names after that of the network.
type subSite struct {
	id, prefix string
	recipe     site.SubSiteMove
	// extensions are those that the network loads on all of its sites.
	extensions []string
	pattern    *regexp.Regexp
}

// single finds the site of a network that somebody means, by its path or its name, and has
// it alone come up. It returns the pairs for its uploads.
func (p *Plan) single(ctx context.Context, o own, typed string) (pairs []rewrite.Pair, err error) {
	of := p.recipe.Move.SubSite
	switch {
	case of.Table == "":
		return nil, reason.New(reason.CannotMove, nil, "networks of %s sites are not known", p.recipe.Title)
	case !slices.Contains(o.tables, o.prefix+of.Table):
		return nil, reason.BadUsage("archive %s is of no network of sites: it has no table %s", p.archive.Name, o.prefix+of.Table)
	}
	if err := p.onlyTables(ctx, o.label); err != nil {
		return nil, err
	}
	s := &subSite{recipe: of}
	if s.pattern, err = regexp.Compile("^(?:" + p.recipe.SubSites.Prefix + ")"); err != nil {
		return nil, err
	}
	texts, err := compare.TextsOf(ctx, p.archive)
	if err != nil {
		return nil, err
	}
	address, names, err := s.find(ctx, p, o, typed, texts)
	if err != nil {
		return nil, err
	}
	s.prefix = s.id + "_"
	switch {
	case s.id != "" && !s.numbered():
		return nil, reason.New(reason.CannotMove, nil, "the network of archive %s calls a site by the number %q", p.archive.Name, s.id)
	case s.id == "":
		return nil, reason.BadUsage("the network of archive %s has no site %q; it has %s", p.archive.Name, typed, strings.Join(names, ", "))
	case !slices.ContainsFunc(o.tables, func(t string) bool { return strings.HasPrefix(t, o.prefix+s.prefix) }):
		return nil, reason.New(reason.CannotMove, nil, "%s is the first site of the network, whose tables are not apart from the network's", typed)
	}
	if err := s.readExtensions(ctx, p, o, texts); err != nil {
		return nil, err
	}
	p.sub = s
	p.subRules(o)
	uploads := strings.ReplaceAll(of.Uploads, "{id}", s.id)
	if p.to.Address != "" {
		to := p.to.Address + "/" + of.UploadsTo
		pairs = append(pairs, rewrite.Pair{Old: address + "/" + uploads, New: to}, rewrite.Pair{Old: p.from + "/" + uploads, New: to})
	}
	if root := p.archive.Origin.Roots[site.RootLabel]; root != "" {
		pairs = append(pairs, rewrite.Pair{Old: path.Join(root, uploads), New: path.Join(p.to.PathAt(p.to.Root), of.UploadsTo)})
	}
	p.from = address
	p.notes = append(p.notes, Note{Text: "of the network only this site comes, with all of its accounts; who has no rights on it has none at the new place, and rights on the whole network end"})
	return pairs, nil
}

// numbered tells whether the site's number is one: it becomes part of paths and names.
func (s *subSite) numbered() bool { return s.pattern.FindString(s.prefix) == s.prefix }

// find looks for the site in the network's table, and returns its address, and the names of
// some that there are.
func (s *subSite) find(ctx context.Context, p *Plan, o own, typed string, texts compare.Texts) (address string, names []string, err error) {
	base, scheme := basePath(p.from), "http"
	if before, _, ok := strings.Cut(p.from, "://"); ok {
		scheme = before
	}
	wanted := base
	if name := strings.Trim(typed, "/"); name != "" {
		wanted += name + "/"
	}
	err = compare.EachRow(ctx, texts, compare.TableName{Database: o.label, Table: o.prefix + s.recipe.Table}, o.engine, func(r compare.Row) error {
		domain, path := strings.ToLower(r[s.recipe.Domain]), r[s.recipe.Path]
		if len(names) < 50 {
			names = append(names, domain+path)
		}
		if strings.EqualFold(path, wanted) && domain == host(p.from) || path == base && strings.EqualFold(domain, typed) {
			s.id, address = strings.Clone(r[s.recipe.ID]), scheme+"://"+domain+strings.TrimRight(path, "/")
		}
		return nil
	})
	if err != nil {
		err = fmt.Errorf("the sites of the network: %w", err)
	}
	return address, names, err
}

// readExtensions reads which extensions the network loads on every site.
func (s *subSite) readExtensions(ctx context.Context, p *Plan, o own, texts compare.Texts) error {
	for _, list := range p.recipe.Move.Extensions {
		if !list.Keys || !slices.Contains(o.tables, o.prefix+list.Table) {
			continue
		}
		err := compare.EachRow(ctx, texts, compare.TableName{Database: o.label, Table: o.prefix + list.Table}, o.engine, func(r compare.Row) error {
			if r[list.Where] == list.Is {
				for _, m := range extensionKey.FindAllStringSubmatch(r[list.Column], -1) {
					s.extensions = append(s.extensions, strings.Clone(m[1]))
				}
			}
			return nil
		})
		if err != nil {
			return fmt.Errorf("the extensions of the network: %w", err)
		}
	}
	return nil
}

// firstSite takes the place of the prefix in the names of values that were the network's
// first site's.
const firstSite = "1_"

// subRules has values that begin with the site's prefix begin with that of the tables, and
// adds the extensions of the network to those of the site.
func (p *Plan) subRules(o own) {
	now := p.newPrefix(o)
	for _, of := range p.recipe.Move.Prefixed {
		table := p.recipe.TableOf(o.prefix, p.sub.prefix, of.Table)
		p.rule(o.label, table, of.Column, "begins with the prefix of the tables", func(v values) ([]byte, bool) {
			was, _ := v(of.Column)
			rest, ok := strings.CutPrefix(string(was), o.prefix)
			mine, of2 := strings.CutPrefix(rest, p.sub.prefix)
			switch {
			case !ok || of.Is != "" && rest != p.sub.prefix+of.Is:
				return nil, false
			case of2:
				return []byte(now + mine), true
			case p.sub.pattern.MatchString(rest):
				return nil, false // of a site that does not come
			}
			return []byte(now + firstSite + rest), true
		})
	}
	for _, list := range p.recipe.Move.Extensions {
		if list.Keys || len(p.sub.extensions) == 0 {
			continue
		}
		p.rule(o.label, p.recipe.TableOf(o.prefix, p.sub.prefix, list.Table), list.Column, "with the extensions that the network loads", func(v values) ([]byte, bool) {
			if !is(v, list.Where, list.Is) {
				return nil, false
			}
			was, _ := v(list.Column)
			return withExtensions(was, p.sub.extensions)
		})
	}
}

// newPrefix is what begins the names of the tables at the new place.
func (p *Plan) newPrefix(o own) string {
	if p.prefix != "" {
		return p.prefix
	}
	return o.prefix
}

// table is the name that a table of the archive gets, if it is this site's or one of those
// that it needs.
func (s *subSite) table(p *Plan, rest string) (string, bool) {
	if mine, ok := strings.CutPrefix(rest, s.prefix); ok {
		return p.newPrefix(p.own) + mine, true
	}
	return p.newPrefix(p.own) + rest, slices.Contains(s.recipe.Users, rest)
}

// stage leaves the site's own uploads where those of the network's first site were.
func (s *subSite) stage(p *Plan, tree *disk.Root) error {
	from, to := strings.ReplaceAll(s.recipe.Uploads, "{id}", s.id), s.recipe.UploadsTo
	if !strings.HasPrefix(from, to+"/") {
		return nil
	}
	above, err := tree.Lstat(to)
	if errors.Is(err, fs.ErrNotExist) || err == nil && !above.IsDir() {
		p.notes = append(p.notes, Note{Text: to + " is no folder of the webroot, and its uploads stay where they are: look whether pictures are shown"})
		return nil
	}
	if err != nil {
		return err
	}
	const aside = ".uploads-of-the-site"
	switch info, err := tree.Lstat(from); {
	case err == nil && info.IsDir():
		err = tree.Rename(from, aside)
		if err != nil {
			return err
		}
	case err == nil || errors.Is(err, fs.ErrNotExist): // it has none
		if err := tree.Mkdir(aside, above.Mode().Perm()); err != nil {
			return err
		}
		if err := owned(tree, aside, above); err != nil {
			return err
		}
	default:
		return err
	}
	if err := tree.RemoveAll(to); err != nil {
		return err
	}
	return tree.Rename(aside, to)
}

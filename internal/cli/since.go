package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/catalog"
	"revlet/internal/compare"
	"revlet/internal/database"
	"revlet/internal/site"
)

// errFound ends a search.
var errFound = errors.New("found")

// since walks back through the archives and tells in which a live file, or a row,
// first appeared.
func (a *app) since(ctx context.Context, c *cli.Command, h *catalog.Held) error {
	live, err := a.liveSide(h.Site)
	if err != nil {
		return err
	}
	what := c.String("since")
	subject, shown, err := a.liveSubject(ctx, live, h, what)
	if err != nil {
		return err
	}
	archives, err := a.openArchives(ctx, h.Site)
	if err != nil {
		return err
	}
	seen, err := compare.Trace(ctx, archives, []compare.Subject{subject})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(struct {
			What string `json:"what"`
			compare.Sighting
		}{what, seen[0]})
	}
	a.showSince(shown, seen[0])
	return nil
}

// openArchives are a site's archives, newest first, each of them open.
func (a *app) openArchives(ctx context.Context, name string) ([]*catalog.Held, error) {
	l, err := a.list(ctx, name)
	if err != nil {
		return nil, err
	}
	var all []*catalog.Held
	for i := range l.Archives {
		h := &l.Archives[i]
		if err := h.Unseal(h.Keys); err != nil {
			return nil, err
		}
		all = append(all, h)
	}
	return all, nil
}

// liveSubject finds what was typed on the live site: a file's path, or a row as
// TABLE:COLUMN=VALUE.
func (a *app) liveSubject(ctx context.Context, live *compare.Live, h *catalog.Held, what string) (s compare.Subject, shown string, err error) {
	if picks, err := rowPicks(what); err == nil && len(picks) == 1 {
		return rowSubject(h, picks[0]), what, nil
	}
	wanted := site.RootLabel + "/" + strings.TrimPrefix(what, "/")
	for e, err := range live.Files(ctx) {
		if err != nil {
			return s, "", err
		}
		if e.Path != wanted || e.Digest == nil {
			continue
		}
		digest, err := e.Digest()
		return compare.Subject{Path: wanted, Digest: digest}, shownPath(wanted), err
	}
	return s, "", usageError("the live site has no file %q; a row is named TABLE:COLUMN=VALUE", what)
}

// rowSubject is a row in whatever state.
func rowSubject(h *catalog.Held, pick database.RowPick) compare.Subject {
	of := &compare.RowSubject{Is: func(r compare.Row) bool { return r[pick.Column] == pick.Value }}
	for label, origin := range h.Origin.Databases {
		for _, table := range []string{pick.Table, origin.Prefix + pick.Table} {
			if _, there := rowsIn(h, compare.TableName{Database: label, Table: table}); there {
				of.Table, of.Engine = compare.TableName{Database: label, Table: table}, origin.Engine
			}
		}
	}
	return compare.Subject{Row: of}
}

func (a *app) showSince(what string, s compare.Sighting) {
	switch {
	case s.FirstSeen == "":
		fmt.Fprintf(a.out, "%s is newer than every archive: none has it.\n", what)
	case s.Clean == "":
		fmt.Fprintf(a.out, "%s is in every archive, back to %s (%s).\n", what, when(s.Seen), s.FirstSeen)
	default:
		fmt.Fprintf(a.out, "%s: clean until %s (%s), first seen %s (%s).\n", what, when(s.CleanAt), s.Clean, when(s.Seen), s.FirstSeen)
	}
	switch s.AsItIs {
	case s.FirstSeen:
	case "":
		fmt.Fprintln(a.out, "No archive has it as it is now: it was changed since.")
	default:
		fmt.Fprintf(a.out, "As it is now since %s.\n", s.AsItIs)
	}
}

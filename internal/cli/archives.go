package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/history"
	"revlet/internal/site"
)

func (a *app) archivesCommand() *cli.Command {
	return &cli.Command{
		Name: "archives", Usage: "list archives, newest first", ArgsUsage: "[SITE]",
		Flags: []cli.Flag{keyFlag, jsonFlag}, Action: a.archives,
	}
}

// listed is one archive in a listing, as JSON too.
type listed struct {
	Name   string        `json:"name"`
	Site   string        `json:"site"`
	Taken  time.Time     `json:"taken"`
	Scope  archive.Scope `json:"scope"`
	Note   string        `json:"note"`
	Stored int64         `json:"stored_bytes"`
	New    int64         `json:"new_bytes"`
	Gaps   int           `json:"gaps"`
	Stores []string      `json:"stores"`
	// Pending are the stores that the archive has yet to come to.
	Pending []string `json:"pending"`
	// Held archives are exempt from the keep rules, as far as this machine knows.
	Held bool `json:"held"`
	// Encrypted archives whose record cannot be opened here have neither note
	// nor gaps to show; Sealed says so.
	Encrypted bool            `json:"encrypted"`
	Sealed    bool            `json:"sealed"`
	Verified  *listedVerified `json:"verified"`
	// Rehearsed is the last rehearsal; null when there was none.
	Rehearsed *listedRehearsed `json:"rehearsed"`
}

// listedRehearsed is the last rehearsal of an archive.
type listedRehearsed struct {
	At     time.Time `json:"at"`
	Passed bool      `json:"passed"`
}

// listedVerified is the last proof of an archive, over all stores.
type listedVerified struct {
	Level string    `json:"level"`
	At    time.Time `json:"at"`
	Sound bool      `json:"sound"`
}

func (a *app) archives(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	proofs, err := a.history.Proofs(ctx)
	if err != nil {
		return err
	}
	holds, err := a.history.Holds(ctx)
	if err != nil {
		return err
	}
	rehearsals, err := a.history.Rehearsals(ctx)
	if err != nil {
		return err
	}
	var all []listed
	var broken []string
	waiting := false
	for _, name := range names {
		l, err := a.list(ctx, name)
		if err != nil {
			return err
		}
		pending, err := a.pending(ctx, name)
		if err != nil {
			return err
		}
		waiting = waiting || len(pending) > 0
		for _, h := range l.Archives {
			one := listing(h, proofs[h.Name], pending[h.Name])
			_, one.Held = holds[h.Name]
			if r, ok := rehearsals[h.Name]; ok {
				one.Rehearsed = &listedRehearsed{r.At, r.Passed}
			}
			all = append(all, one)
		}
		for _, b := range append(l.Broken, l.Silent...) {
			broken = append(broken, fmt.Sprintf("store %s: %v", b.Store, b.Err))
		}
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"archives": nonNil(all), "trouble": nonNil(broken)})
	} else {
		a.showListing(all, broken)
		for _, name := range names {
			if slices.ContainsFunc(all, func(l listed) bool { return l.Site == name }) {
				a.warnOnsite(name)
			}
		}
	}
	switch {
	case err != nil:
		return err
	case len(broken) > 0:
		return &exitError{code: exitDamage}
	case waiting:
		return &exitError{code: exitGaps}
	}
	return nil
}

// pending maps a site's archives to the stores that they have yet to come to.
func (a *app) pending(ctx context.Context, site string) (map[string][]string, error) {
	all, err := a.history.Pending(ctx, site)
	waiting := map[string][]string{}
	for _, p := range all {
		waiting[p.Archive] = append(waiting[p.Archive], p.Store)
	}
	return waiting, err
}

func listing(h catalog.Held, proofs []history.Proof, pending []string) listed {
	l := listed{Name: h.Name, Site: h.Site, Taken: h.Taken, Scope: h.Scope, Note: h.Note, Encrypted: h.Encrypted, Sealed: len(h.Sealed) > 0,
		Stored: h.Totals.StoredBytes, New: h.Totals.NewBytes, Gaps: len(h.Gaps), Stores: storeNames(h), Pending: nonNil(pending)}
	for i, p := range proofs {
		if i == 0 || l.Verified.Sound && !p.Sound {
			l.Verified = &listedVerified{Level: p.Level, At: p.At, Sound: p.Sound}
		}
	}
	return l
}

func storeNames(h catalog.Held) []string {
	var names []string
	for _, s := range h.Stores {
		names = append(names, s.Name)
	}
	return names
}

func (a *app) showListing(all []listed, broken []string) {
	if len(all) == 0 && len(broken) == 0 {
		fmt.Fprintln(a.out, "No archives yet. `revlet backup` takes one.")
		return
	}
	var rows [][]string
	for _, l := range all {
		note := l.Note
		if l.Gaps > 0 {
			note = strings.TrimSpace(a.bad(count(int64(l.Gaps), "gap", "gaps")) + "  " + note)
		}
		if l.Sealed {
			note = a.dim("(encrypted)")
		}
		if l.Held {
			note = strings.TrimSpace(a.good("held") + "  " + note)
		}
		rows = append(rows, []string{l.Name, when(l.Taken), string(l.Scope), size(l.Stored), size(l.New), a.held(l), a.verified(l.Verified) + a.rehearsed(l.Rehearsed), note})
	}
	if len(rows) > 0 {
		a.table([]string{"archive", "taken", "scope", "size", "new", "stores", "verified", "note"}, rows, 4, 5)
	}
	for _, b := range broken {
		fmt.Fprintf(a.out, "%s %s\n", a.bad("trouble:"), b)
	}
}

// held words where an archive is, and where it is not yet.
func (a *app) held(l listed) string {
	words := slices.Clone(l.Stores)
	for _, p := range l.Pending {
		words = append(words, a.bad(p+" PENDING"))
	}
	return strings.Join(words, ", ")
}

// rehearsed adds to how well an archive is verified whether it was put back.
func (a *app) rehearsed(r *listedRehearsed) string {
	switch {
	case r == nil:
		return ""
	case !r.Passed:
		return ", " + a.bad("DOES NOT RESTORE")
	}
	return ", rehearsed"
}

func (a *app) verified(v *listedVerified) string {
	switch {
	case v == nil:
		return "never"
	case !v.Sound:
		return a.bad("DAMAGED")
	default:
		return v.Level + ", " + a.age(v.At)
	}
}

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "show one archive: contents, tables, parts, gaps", ArgsUsage: "ARCHIVE",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "files", Usage: "list every path"},
			&cli.BoolFlag{Name: "parts", Usage: "list every part"},
			beforeFlag, keyFlag, jsonFlag,
		},
		Action: a.show,
	}
}

var beforeFlag = &cli.StringFlag{Name: "before", Usage: "with a site's name: the newest archive before `DATE` (2026-11-20 or 2026-11-20 14:00)"}

// before reads --before in local time.
func before(c *cli.Command) (time.Time, error) { return date("--before", c.String("before")) }

// date reads a moment as typed, in local time; nothing is the zero time.
func date(flag, typed string) (time.Time, error) {
	if typed == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, typed, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usageError("%s %q is not a date such as 2026-11-20 or \"2026-11-20 14:00\"", flag, typed)
}

// chosen opens everything and finds the archive that the arguments name; one
// that is sealed is opened, and whoever has its key is asked for that.
func (a *app) chosen(ctx context.Context, c *cli.Command, typed string) (*catalog.Held, error) {
	if err := a.open(ctx, c); err != nil {
		return nil, err
	}
	limit, err := before(c)
	if err != nil {
		return nil, err
	}
	return a.findOpen(ctx, typed, limit)
}

// findOpen finds an archive as typed, and opens it if it is sealed.
func (a *app) findOpen(ctx context.Context, typed string, before time.Time) (*catalog.Held, error) {
	h, err := a.find(ctx, typed, before)
	if err != nil {
		return nil, err
	}
	return h, h.Unseal(h.Keys)
}

// component sums up a share of an archive.
type component struct {
	Name  string `json:"name"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// tableRows sums up one table.
type tableRows struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	Rows     int64  `json:"rows"`
	Bytes    int64  `json:"bytes"`
}

func (a *app) show(ctx context.Context, c *cli.Command) error {
	typed, err := oneArg(c, "ARCHIVE")
	if err != nil {
		return err
	}
	h, err := a.chosen(ctx, c, typed)
	if err != nil {
		return err
	}
	if c.Bool("files") {
		return a.showFiles(ctx, h, c.Bool("json"))
	}
	components, tables, err := summarise(ctx, h)
	if err != nil {
		return err
	}
	proofs, err := a.history.Proofs(ctx)
	if err != nil {
		return err
	}
	pending, err := a.pending(ctx, h.Site)
	if err != nil {
		return err
	}
	l := listing(*h, proofs[h.Name], pending[h.Name])
	if c.Bool("json") {
		return a.printJSON(map[string]any{"record": h.Record, "components": nonNil(components), "tables": nonNil(tables), "stores": l.Stores, "pending": l.Pending, "verified": l.Verified})
	}
	a.showArchive(h, l, components, tables, c.Bool("parts"))
	return nil
}

// summarise reads the list into sums by component and by table.
func summarise(ctx context.Context, h *catalog.Held) ([]component, []tableRows, error) {
	var recipe *site.Recipe
	if h.Origin.Recipe != "" {
		recipe, _ = site.RecipeNamed(h.Origin.Recipe) // unknown: everything is "other"
	}
	sums := map[string]*component{}
	var order []string
	rows := map[string]*tableRows{}
	var tableOrder []string
	err := h.ReadList(ctx, func(e archive.Entry) error {
		switch e.Type {
		case archive.TypeFile:
			name := recipe.ComponentOf(strings.TrimPrefix(e.Path, site.RootLabel+"/"))
			if sums[name] == nil {
				sums[name] = &component{Name: name}
				order = append(order, name)
			}
			sums[name].Files++
			sums[name].Bytes += e.Size
		case archive.TypeRows:
			key := e.Database + "\x00" + e.Table
			if rows[key] == nil {
				rows[key] = &tableRows{Database: e.Database, Table: e.Table}
				tableOrder = append(tableOrder, key)
			}
			rows[key].Rows += e.Rows
			rows[key].Bytes += e.Size
		}
		return nil
	})
	var components []component
	slices.Sort(order)
	for _, name := range order {
		components = append(components, *sums[name])
	}
	var tables []tableRows
	for _, key := range tableOrder {
		tables = append(tables, *rows[key])
	}
	return components, tables, err
}

func (a *app) showArchive(h *catalog.Held, l listed, components []component, tables []tableRows, parts bool) {
	fmt.Fprintf(a.out, "%s\n\n", a.bold(h.Name))
	o := h.Origin
	lines := [][2]string{
		{"site", strings.TrimSpace(h.Site + "  " + o.Address)},
		{"taken", fmt.Sprintf("%s (%s) on %s, in %s", when(h.Taken), a.age(h.Taken), h.Host, took(h.Finished.Sub(h.Taken)))},
		{"scope", string(h.Scope)},
		{"note", h.Note},
		{"system", strings.TrimSpace(o.Recipe + " " + o.Version)},
		{"webroot", o.Roots[site.RootLabel]},
	}
	for _, label := range slices.Sorted(maps.Keys(o.Roots)) {
		if label != site.RootLabel {
			lines = append(lines, [2]string{"folder", label + ": " + o.Roots[label]})
		}
	}
	for _, label := range slices.Sorted(maps.Keys(o.Databases)) {
		db := o.Databases[label]
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s: %s, %s %s; %s", label, db.Where, db.Engine, db.Version, db.Consistency)})
	}
	lines = append(lines,
		[2]string{"stored", stored(h.Record)},
		[2]string{"stores", a.held(l)},
		[2]string{"verified", a.verified(l.Verified)})
	a.facts(lines)
	if len(components) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, c := range components {
			rows = append(rows, []string{c.Name, fmt.Sprint(c.Files), size(c.Bytes)})
		}
		a.table([]string{"component", "files", "size"}, rows, 2, 3)
	}
	if len(tables) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, t := range tables {
			rows = append(rows, []string{t.Database, printable(t.Table), fmt.Sprint(t.Rows), size(t.Bytes)})
		}
		a.table([]string{"database", "table", "rows", "as text"}, rows, 3, 4)
	}
	if parts {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, p := range h.Parts {
			rows = append(rows, []string{p.Name, p.Kind, printable(p.Table), fmt.Sprint(p.Entries), size(p.Bytes)})
		}
		a.table([]string{"part", "kind", "table", "entries", "size"}, rows, 4, 5)
	}
	a.showGaps(h.Record, len(h.Gaps))
}

func (a *app) showFiles(ctx context.Context, h *catalog.Held, asJSON bool) error {
	var entries []archive.Entry
	err := h.ReadList(ctx, func(e archive.Entry) error {
		if asJSON {
			entries = append(entries, e)
			return nil
		}
		if e.IsFileTree() {
			target := ""
			if e.Target != "" {
				target = " -> " + printable(e.Target)
			}
			fmt.Fprintf(a.out, "%s  %10d  %s  %s%s\n", e.Mode, e.Size, when(e.MTime), printable(strings.TrimPrefix(e.Path, site.RootLabel+"/")), target)
		}
		return nil
	})
	if err == nil && asJSON {
		err = a.printJSON(map[string]any{"entries": nonNil(entries)})
	}
	return err
}

package render

import (
	"fmt"
	"strconv"
	"strings"

	"revlet/internal/config"
	"revlet/internal/jobs"
	"revlet/internal/site"
)

// ShowAdopted says what `adopt` has found and written. stores are those that it has added.
func (a *Printer) ShowAdopted(f *jobs.Adopted, stores map[string]config.Store) {
	title := f.Recipe
	if r, err := site.RecipeNamed(f.Recipe); err == nil {
		title = r.Title
	}
	fmt.Fprintf(a.Out, "%s is %s %s at %s\n\n", a.Bold(f.Site), title, f.Version, f.Root)
	lines := [][2]string{{"address", f.Address}}
	for _, db := range f.Databases {
		confirmed := "its tables are this CMS's"
		if db.Address != "" {
			confirmed = "the database gives its address as " + db.Address
		}
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s: %s (%s)", db.Label, db.Where, Size(db.Bytes))},
			[2]string{"confirmed", confirmed})
	}
	for name, s := range stores {
		lines = append(lines, [2]string{"new store", fmt.Sprintf("%s: %s", name, s.Folder)})
	}
	if len(stores) == 0 {
		lines = append(lines, [2]string{"store", f.Store})
	}
	verb := "written to"
	if !f.Written {
		verb = "would be written to"
	}
	a.Facts(append(lines, [2]string{verb, f.Config}))
	a.showLinksOut(f.LeadsOut)
	fmt.Fprintf(a.Out, "\nNext: `revlet backup %s` takes the first archive; `revlet stores add NAME` adds a place elsewhere.\n", f.Site)
	fmt.Fprintln(a.Out, "To have it done for you, take the # away before `schedule:` and `keep:` in that file;\nthen `revlet schedule install --help`.")
}

// showLinksOut says what a new site would not be saved with.
func (a *Printer) showLinksOut(l *jobs.LinksOut) {
	if l == nil {
		return
	}
	fmt.Fprintf(a.Out, "\n%s links lead out of the webroot, and what is there is not saved:\n", a.Bad("Look at this:"))
	for _, link := range l.Links {
		fmt.Fprintf(a.Out, "  %s → %s\n", Printable(strings.TrimPrefix(link.Path, site.RootLabel+"/")), Printable(link.To))
	}
	if l.More > 0 {
		fmt.Fprintf(a.Out, "  and %s\n", Count(l.More, "more", "more"))
	}
	var roots []string
	for _, r := range l.Roots {
		roots = append(roots, fmt.Sprintf("%s: %s", r.Label, strconv.Quote(r.Path)))
	}
	if len(roots) > 0 {
		fmt.Fprintf(a.Out, "This in the site's entry takes along what is there: roots: {%s}\n", strings.Join(roots, ", "))
	} else {
		fmt.Fprintln(a.Out, "Folders that the site's entry names under `roots:` are taken along.")
	}
}

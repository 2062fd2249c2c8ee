package render

import (
	"fmt"

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
	fmt.Fprintf(a.Out, "\nNext: `revlet backup %s` takes the first archive; `revlet stores add NAME` adds a place elsewhere.\n", f.Site)
	fmt.Fprintln(a.Out, "To have it done for you, take the # away before `schedule:` and `keep:` in that file;\nthen `revlet schedule install --help`.")
}

package cli

import (
	"context"
	"fmt"
	"slices"

	"revlet/internal/catalog"
	"revlet/internal/compare"
	"revlet/internal/restore"
	"revlet/internal/site"
)

// strangers are the files that a whole restore has taken out of the webroot,
// because the archive does not have them, or not so. That they cannot be told is no reason
// to call the restore failed.
func (a *app) strangers(ctx context.Context, h *catalog.Held, r *restore.Result) []compare.File {
	aside := restore.Aside{Journal: r.Journal, Folders: r.Journal.AsideFolders()}
	if _, ok := aside.Folders[site.RootLabel]; !ok || r.Journal.Partial {
		return nil
	}
	report, err := a.compareAside(ctx, h, &aside)
	if err != nil {
		fmt.Fprintln(a.err, "warning: what was taken out of the webroot cannot be told: "+err.Error())
		return nil
	}
	return slices.DeleteFunc(report.Files, func(f compare.File) bool { return f.How == compare.Removed || f.How == compare.Rights || f.Folder() })
}

// strangersShown is how many files that were taken out are listed.
const strangersShown = 10

// showStrangers says what is gone from the webroot and, if it looks like a
// break-in, what only a person can do now.
func (a *app) showStrangers(h *catalog.Held, s *site.Site, gone []compare.File) {
	added := slices.DeleteFunc(slices.Clone(gone), func(f compare.File) bool { return f.How != compare.Added })
	suspects := slices.DeleteFunc(slices.Clone(gone), func(f compare.File) bool { return f.Suspect == "" })
	if len(added) > 0 {
		fmt.Fprintf(a.out, "\nThe webroot holds nothing that the archive does not: %s set aside.\n", count(int64(len(added)), "file that was added since is", "files that were added since are"))
	}
	if len(suspects) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bad("Among what was set aside:"))
	for _, f := range suspects[:min(len(suspects), strangersShown)] {
		fmt.Fprintf(a.out, "  %-8s %s  %s\n", f.How, shownPath(f.Path), a.dim(f.Suspect))
	}
	if len(suspects) > strangersShown {
		fmt.Fprintf(a.out, "  … and %d more: `revlet aside show %s`\n", len(suspects)-strangersShown, h.Site)
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bold("If somebody got in, only you can do the rest:"))
	for i, step := range afterBreakIn(h, s) {
		fmt.Fprintf(a.out, "  %d. %s\n", i+1, step)
	}
}

// afterBreakIn lists what no program can do after a break-in.
func afterBreakIn(h *catalog.Held, s *site.Site) []string {
	steps := []string{
		fmt.Sprintf("Keep the evidence: `revlet aside export %s FILE`, before `revlet settle %s` deletes it.", h.Site, h.Site),
		fmt.Sprintf("Make sure that the archive is from before the break-in: `revlet compare OLDER %s` tells what it has that an older one has not.", h.Name),
		"Change every password: of all administrators of the site, of the database, of the hosting account, SFTP and mail.",
	}
	if s.Recipe != nil {
		steps = append(steps, s.Recipe.AfterBreakIn...)
	}
	return append(steps,
		"Find the hole and close it: update the CMS, its themes and extensions, and read the web server's log of those days.",
		"Look at the other sites of the same account: who gets into one gets into all.")
}

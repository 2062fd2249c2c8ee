package render

import (
	"fmt"
	"slices"

	"revlet/internal/jobs"
	"revlet/internal/work/accounts"
)

// ShowAccounts lists accounts.
func (a *Printer) ShowAccounts(site string, list []accounts.Account, all bool) {
	if len(list) == 0 {
		what := "administrator"
		if all {
			what = "account"
		}
		fmt.Fprintf(a.Out, "%s has no %s.\n", site, what)
		return
	}
	var rows [][]string
	mail := slices.ContainsFunc(list, func(one accounts.Account) bool { return one.Mail != "" })
	for _, one := range list {
		what := "account"
		if one.Administrator {
			what = "administrator"
		}
		if one.Off {
			what += ", cannot log in"
		}
		row := []string{Printable(one.Name), Printable(one.Key), what}
		if mail {
			row = append(row, Printable(one.Mail))
		}
		rows = append(rows, row)
	}
	head := []string{"name", "number", "what"}
	if mail {
		head = append(head, "mail")
	}
	a.Table(head, rows, 2)
}

// changed words what was changed.
func changed(c *jobs.ValueChange) string {
	if c.What == jobs.TitleOf {
		return "the site's title"
	}
	return c.What + " of " + Printable(c.Name)
}

// ShowChange says what was changed of an account or a site.
func (a *Printer) ShowChange(site string, c *jobs.ValueChange) {
	fmt.Fprintf(a.Out, "%s %s\n\n", a.Good("Set:"), changed(c))
	lines := [][2]string{{"in", Printable(c.Table + "." + c.Column)}}
	if c.What != jobs.PasswordOf {
		lines = append(lines, [2]string{"was", valueBefore(c)}, [2]string{"is", Printable(c.After)})
	}
	switch {
	case c.Sessions:
		lines = append(lines, [2]string{"sessions", "ended: who was logged in as " + Printable(c.Name) + " has to log in anew"})
	case c.What != jobs.TitleOf:
		lines = append(lines, [2]string{"sessions", "none that Revlet knows of in its database; whoever is logged in may stay so"})
	}
	a.Facts(lines)
	fmt.Fprintf(a.Out, "\n`revlet accounts undo %s` takes this back. Archives of before still have the old one.\n", site)
}

// valueBefore is what there was before a change.
func valueBefore(c *jobs.ValueChange) string {
	if c.Before == "" {
		return "(none)"
	}
	return Printable(c.Before)
}

// ShowUndone says what was taken back.
func (a *Printer) ShowUndone(site string, c *jobs.ValueChange) {
	fmt.Fprintf(a.Out, "%s %s on %s is again what it was", a.Good("Taken back:"), changed(c), site)
	if c.What != jobs.PasswordOf {
		fmt.Fprintf(a.Out, ": %s", valueBefore(c))
	}
	fmt.Fprintln(a.Out)
}

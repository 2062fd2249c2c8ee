package render

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"revlet/internal/jobs"
	"revlet/internal/site/dnszone"
	"revlet/internal/work/cutover"
	"revlet/internal/work/pagematch"
	"revlet/internal/work/preview"
)

// Grave tells whether something has to be dealt with before names are changed.
func Grave(p *cutover.Plan) bool { return slices.ContainsFunc(p.Findings, cutover.Finding.Grave) }

// ShowCutoverPlan shows what has to be done so that a site's names lead to another machine.
func (a *Printer) ShowCutoverPlan(o jobs.CutoverOrder, p *cutover.Plan) {
	to := o.To
	fmt.Fprintf(a.Out, "%s to %s\n\n", a.Bold(shownNames(p.Names)), a.Bold(joinAddrs(to)))
	a.Facts([][2]string{{"zone", dnszone.Shown(p.Zone.Name)}, {"answered for by", foreign(strings.Join(serverNames(p.Zone), ", "))}, {"now at", joinAddrs(p.Old)}})
	var change, stay [][]string
	for _, r := range p.Rows {
		row := []string{a.change(r.Change), foreign(dnszone.Shown(r.Name)), r.Type, foreign(strings.Join(r.Now, " ")), foreign(strings.Join(r.ToBe, " ")), lifetime(r.Lifetime)}
		if r.Change == cutover.Stay {
			stay = append(stay, []string{row[1], row[2], clip(row[3], 60)})
		} else {
			change = append(change, row)
		}
	}
	fmt.Fprintln(a.Out)
	a.Table([]string{"what to do", "name", "type", "now", "to be", "kept for"}, change)
	if len(stay) > 0 {
		fmt.Fprintln(a.Out, "\nThese stay as they are:")
		a.Table([]string{"name", "type", "value"}, stay)
	}
	a.showHosts(p.Hosts)
	a.showCarried(p.Carry)
	a.showFindings(p)
	a.showWhen(o, p)
}

// shownNames are host names as people write them.
func shownNames(names []string) string {
	var all []string
	for _, n := range names {
		all = append(all, foreign(dnszone.Shown(n)))
	}
	return strings.Join(all, ", ")
}

// foreign makes a text of somebody else's printable, on one line.
func foreign(s string) string { return strings.ReplaceAll(PrintableText(s), "\n", " ") }

func joinAddrs(addrs []netip.Addr) string {
	var all []string
	for _, addr := range addrs {
		all = append(all, addr.String())
	}
	return strings.Join(all, ", ")
}

// clip cuts a text off at n letters.
func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

func serverNames(z *dnszone.Zone) (names []string) {
	for _, s := range z.Servers {
		if s.State == dnszone.Found && !slices.Contains(names, s.Name) {
			names = append(names, s.Name)
		}
	}
	return names
}

func (a *Printer) change(c cutover.Change) string {
	switch c {
	case cutover.Replace, cutover.Add, cutover.Remove, cutover.Elsewhere:
		return a.Bold(string(c))
	case cutover.Keep:
		return a.Good(string(c))
	}
	return a.Dim(string(c))
}

// lifetime words for how long a record is kept.
func lifetime(seconds uint32) string {
	d := time.Duration(seconds) * time.Second
	switch {
	case d >= 48*time.Hour:
		return Count(int64(d/(24*time.Hour)), "day", "days")
	case d >= 2*time.Hour:
		return Count(int64(d/time.Hour), "hour", "hours")
	case d >= 2*time.Minute:
		return Count(int64(d/time.Minute), "minute", "minutes")
	}
	return Count(int64(seconds), "second", "seconds")
}

// showHosts shows what the machines answer under the site's names.
func (a *Printer) showHosts(hosts []cutover.Host) {
	if len(hosts) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	var rows [][]string
	for _, h := range hosts {
		which := "old"
		if h.New {
			which = "new"
		}
		rows = append(rows, []string{which, h.At, dnszone.Shown(h.Name), a.hostAnswer(h), a.certificate(h.Certificate)})
	}
	a.Table([]string{"machine", "at", "asked for", "answers", "certificate"}, rows)
}

func (a *Printer) hostAnswer(h cutover.Host) string {
	switch {
	case h.Status == 0:
		return a.Bad("nothing: " + clip(foreign(h.Trouble), 60))
	case h.Redirect != "":
		return fmt.Sprintf("%d, leads to %s", h.Status, clip(foreign(h.Redirect), 50))
	case h.Status >= 400:
		return a.Bad(fmt.Sprint(h.Status)) + " " + clip(foreign(h.Title), 40)
	}
	return fmt.Sprintf("%d, %s, “%s”", h.Status, h.Protocol, clip(foreign(h.Title), 28))
}

func (a *Printer) certificate(c *cutover.Certificate) string {
	if c == nil {
		return "–"
	}
	if c.Trouble != "" {
		return a.Bad(c.Trouble)
	}
	return "by " + clip(foreign(c.Issuer), 30) + ", until " + c.Until.Local().Format("2006-01-02")
}

// showCarried shows what new name servers say.
func (a *Printer) showCarried(all []cutover.Carried) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(a.Out, "\nThe new name servers, beside the old ones (a zone cannot be listed from outside: names\nthat nobody has asked for here may be missing there):")
	var rows [][]string
	for _, c := range all {
		same := a.Good("the same")
		switch {
		case !c.Same && len(c.New) == 0:
			same = a.Bad("missing")
		case !c.Same:
			same = a.Bad("differs")
		}
		rows = append(rows, []string{same, foreign(c.Name), c.Type, clip(foreign(strings.Join(c.Old, " ")), 40), clip(foreign(strings.Join(c.New, " ")), 40)})
	}
	a.Table([]string{"there", "name", "type", "old", "new"}, rows)
}

// showFindings tells what stands in the way, then what is worth a word. The same thing of several
// names is said once.
func (a *Printer) showFindings(p *cutover.Plan) {
	var said []string
	for _, grave := range []bool{true, false} {
		for _, f := range p.Findings {
			line := foreign(findingText(f))
			if f.Grave() != grave || slices.Contains(said, line) {
				continue
			}
			if len(said) == 0 {
				fmt.Fprintln(a.Out)
			}
			said = append(said, line)
			mark := a.Dim("note") + "  "
			if grave {
				mark = a.Bad("!") + "     "
			}
			fmt.Fprintln(a.Out, mark+wrapped(line))
		}
	}
}

// wrapped breaks a long line, and moves what follows in below its beginning.
func wrapped(line string) string {
	var lines []string
	for part := range strings.SplitSeq(text.WrapSoft(line, 90), "\n") {
		lines = append(lines, strings.TrimRight(part, " "))
	}
	return strings.Join(lines, "\n      ")
}

// showWhen tells when it is a good moment, and what comes next.
func (a *Printer) showWhen(o jobs.CutoverOrder, p *cutover.Plan) {
	fmt.Fprintln(a.Out)
	next := func(format string, args ...any) { fmt.Fprintf(a.Out, "next: "+format+"\n", args...) }
	switch {
	case p.Lower:
		next("lower the lifetime of what has to change to %d seconds now. From %s on,\n      all the world sees a change within minutes.", cutover.LowerTo, When(p.NotBefore))
		return
	case !p.NotBefore.IsZero():
		next("lifetimes are low, but caches may have the long ones until %s; change the records after that.", When(p.NotBefore))
		return
	case Grave(p):
		next("deal with what is marked !, then ask again.")
		return
	case !slices.ContainsFunc(p.Rows, func(r cutover.Row) bool { return open[r.Change] }):
		fmt.Fprintln(a.Out, a.Good("Its own name servers lead to the new machine."))
	default:
		next("change these records where the domain is looked after, and nothing else there.")
	}
	command := "revlet cutover watch " + o.Site
	for _, addr := range o.To {
		command += " --to " + addr.String()
	}
	for _, list := range []struct {
		option string
		values []string
	}{{"name", o.Names}, {"resolver", o.Resolvers}, {"name-server", o.NameServers}} {
		for _, value := range list.values {
			command += " --" + list.option + " " + foreign(value)
		}
	}
	fmt.Fprintln(a.Out, "      "+command)
}

// open are changes that have yet to be made.
var open = map[cutover.Change]bool{cutover.Replace: true, cutover.Add: true, cutover.Remove: true, cutover.Elsewhere: true}

// findingText words a finding.
func findingText(f cutover.Finding) string {
	values, others := strings.Join(f.Values, ", "), strings.Join(f.Others, ", ")
	switch f.Kind {
	case cutover.ServerAmiss:
		return fmt.Sprintf("name server %s (%s) is named for this domain and does not answer for it: %s. Who asks there waits, or gets nothing.", f.Name, cmp.Or(f.At, "no address"), cmp.Or(f.Why, f.Value))
	case cutover.SerialsDiffer:
		return "the name servers have different versions of " + f.Name + "; that passes once the last change has reached all of them."
	case cutover.DelegationDiffers:
		return fmt.Sprintf("%s sends all the world to %s, the zone itself names %s.", f.Name, values, others)
	case cutover.ServersDiffer:
		return fmt.Sprintf("name server %s says %s of %s %s, the others %s.", f.At, cmp.Or(values, f.Why), f.Name, f.Value, cmp.Or(others, "nothing"))
	case cutover.NameUnknown:
		return fmt.Sprintf("what %s has as %s is not known: the name servers say “%s”.", f.Name, f.Value, f.Why)
	case cutover.OtherZone:
		return fmt.Sprintf("%s is not in the zone %s; make a plan for it by itself.", f.Name, f.Value)
	case cutover.LeftBehind:
		return fmt.Sprintf("%s has an %s record (%s) and the new machine was given no such address: remove the record, or visitors who use it go on to the old machine; or give the new one's address with a second --to.", f.Name, f.Value, values)
	case cutover.AliasInside:
		return fmt.Sprintf("%s is an alias of %s; that is what has to change.", f.Name, f.Value)
	case cutover.AliasOutside:
		return fmt.Sprintf("%s is an alias of %s, which somebody else looks after: that name cannot be changed here. Put address records of the new machine in the alias's place.", f.Name, f.Value)
	case cutover.AliasAtTop:
		return fmt.Sprintf("%s, the top of the domain, is an alias (of %s): its mail records count for nothing, and some servers refuse it. Put address records in its place.", f.Name, f.Value)
	case cutover.Wildcard:
		return fmt.Sprintf("%s leads to the old machine (%s): so does every name that has no record of its own.", f.Name, values)
	case cutover.MailOnOld, cutover.MailFollows, cutover.MailImplicit, cutover.SenderNamesOld, cutover.IssuersLimited:
		return mailText(f)
	}
	return hostText(f)
}

// mailText words findings about mail and certificates.
func mailText(f cutover.Finding) string {
	values := strings.Join(f.Values, ", ")
	switch f.Kind {
	case cutover.MailOnOld:
		return fmt.Sprintf("mail for the domain is brought to %s, on the old machine (%s): it stays there. Keep the account until the mail has moved, too.", f.Name, values)
	case cutover.MailFollows:
		return fmt.Sprintf("mail for the domain is brought to %s, which is about to change: it would go to the new machine. Give the mail server a name of its own that keeps the old address, and name that in MX, first.", f.Name)
	case cutover.MailImplicit:
		return fmt.Sprintf("%s has no MX record, so mail for it goes to the site's own address, and would go to the new machine. If there is mail, add an MX record that names where it is, first.", f.Name)
	case cutover.SenderNamesOld:
		return fmt.Sprintf("the TXT record that says who may send mail for %s has “%s”, which means the old machine by way of its address: let the new one in, or mail that the site sends is taken for spam.", f.Name, f.Value)
	}
	return fmt.Sprintf("only %s may issue certificates for %s (CAA): the new host has to get its certificate there.", values, f.Name)
}

// hostText words findings about resolvers, machines and new name servers.
func hostText(f cutover.Finding) string {
	values, others := strings.Join(f.Values, ", "), strings.Join(f.Others, ", ")
	switch f.Kind {
	case cutover.Captive:
		return fmt.Sprintf("resolver %s has an address (%s) for a name that cannot exist: it leads astray, as in a network that wants a log-in. What it says counts for nothing.", f.Name, values)
	case cutover.BadSignatures:
		return fmt.Sprintf("resolver %s refuses the domain, for its DNSSEC signatures do not hold: whoever checks them cannot reach the site now.", f.Name)
	case cutover.ResolverAmiss:
		return fmt.Sprintf("resolver %s does not answer: %s.", f.Name, cmp.Or(f.Why, f.Value))
	case cutover.SplitHorizon:
		return fmt.Sprintf("resolver %s says %s, an address of a network within; the domain's own name servers say %s. In that network the name is looked after by itself.", f.Name, values, others)
	case cutover.BehindProxy:
		return fmt.Sprintf("a proxy answers for %s now, not the host itself (%s). Its addresses stay in the DNS: change the host that it stands before, where the proxy is looked after.", f.Name, f.Value)
	case cutover.NewSilent:
		return fmt.Sprintf("the new machine, %s, does not answer for %s: %s.", f.At, f.Name, f.Why)
	case cutover.NewFails:
		return fmt.Sprintf("the new machine, %s, answers %s for %s.", f.At, f.Value, f.Name)
	case cutover.NewCertificate:
		return fmt.Sprintf("the certificate that %s shows for %s will not do: %s (it is for %s). Browsers will warn from the moment of the change until it has one.", f.At, f.Name, f.Why, cmp.Or(values, "no name"))
	case cutover.OtherSite:
		return fmt.Sprintf("the new machine sends visitors of %s on to %s.", f.Name, f.Value)
	case cutover.DefaultSite:
		return fmt.Sprintf("the new machine, %s, answers the same under a name that it cannot know: it may show this page to everybody, whatever it is asked for.", f.At)
	case cutover.OtherTitle:
		return fmt.Sprintf("the front page's title is “%s” on the new machine and “%s” on the old.", f.Value, others)
	case cutover.NotCarried:
		return fmt.Sprintf("the new name servers have %s for %s %s, the old ones %s.", cmp.Or(others, "nothing"), f.Name, f.Value, values)
	case cutover.KeysChange:
		return fmt.Sprintf("%s is signed, and %s vouches for its keys (DS): have that record removed, and wait for its lifetime, before the name servers change.", f.Name, f.Value)
	case cutover.NewServersFail:
		return fmt.Sprintf("the new name servers (%s) do not answer for %s. %s", f.Name, f.Value, f.Why)
	}
	return string(f.Kind)
}

// steer sends a terminal what it is to do. An output that lets nothing like that through has a way of its own for it.
func (a *Printer) steer(sequence string) {
	if to, ok := a.Out.(interface{ Steer(sequence string) }); ok {
		to.Steer(sequence)
		return
	}
	fmt.Fprint(a.Out, sequence)
}

// Redraw shows something in place of what it showed before, which took so many lines, and returns how
// many it takes now.
func (a *Printer) Redraw(above int, show func(*Printer)) int {
	var b strings.Builder
	show(&Printer{Out: &b, Colour: a.Colour, Columns: a.Columns, Now: a.Now})
	width := cmp.Or(a.Columns, 80)
	if above > 0 {
		a.steer(fmt.Sprintf("\x1b[%dA\x1b[J", above))
	}
	lines := 0
	for line := range strings.Lines(b.String()) {
		lines += 1 + max(text.RuneWidthWithoutEscSequences(strings.TrimRight(line, "\n"))-1, 0)/width
	}
	fmt.Fprint(a.Out, b.String())
	return lines
}

// ShowRound shows who leads where.
func (a *Printer) ShowRound(r cutover.Round, to []netip.Addr) {
	agree := 0
	for _, v := range r.Views {
		if v.Leads == cutover.ToNew {
			agree++
		}
	}
	fmt.Fprintf(a.Out, "%s  round %d: %d of %d lead to %s", r.At.Local().Format("15:04:05"), r.Number, agree, len(r.Views), joinAddrs(to))
	if r.Agreed > 0 {
		fmt.Fprintf(a.Out, "; all of them for the %s time", ordinal(r.Agreed))
	}
	fmt.Fprint(a.Out, "\n\n")
	var rows [][]string
	for _, v := range r.Views {
		until := ""
		if !v.Until.IsZero() {
			until = "by " + v.Until.Local().Format("15:04:05")
		}
		rows = append(rows, []string{viewName(v), a.leads(v), until})
	}
	a.Table([]string{"who", "leads to", "forgets"}, rows)
	a.showPages(r.Pages)
	a.showLost(r.Lost)
	fmt.Fprintln(a.Out, a.Dim(goneText(r)))
}

// showLost tells of records that had to stay.
func (a *Printer) showLost(lost []cutover.Row) {
	for _, row := range lost {
		fmt.Fprintf(a.Out, "%s the record %s of %s that had to stay: %s\n", a.Bad("Gone:"), row.Type, foreign(row.Name), clip(foreign(row.Now[0]), 90))
	}
	if len(lost) > 0 {
		fmt.Fprintln(a.Out, "Put it back at the registrar; if it is meant to be gone, run `revlet cutover plan` once more.")
	}
}

func ordinal(n int) string {
	switch n {
	case 1:
		return "first"
	case 2:
		return "second"
	case 3:
		return "third"
	}
	return fmt.Sprintf("%dth", n)
}

func viewName(v cutover.View) string {
	if v.Own {
		return foreign(v.Name) + " (its own)"
	}
	return v.Name
}

func (a *Printer) leads(v cutover.View) string {
	switch v.Leads {
	case cutover.ToNew:
		return a.Good("the new machine")
	case cutover.ToOld:
		return a.Bad("the old machine") + " " + viewValues(v)
	case cutover.ToOther:
		return a.Bad("another") + " " + cmp.Or(viewValues(v), "(no address)")
	case cutover.Beyond:
		return "an alias that it does not answer for"
	}
	return a.Bad("no answer") + viewWhy(v)
}

// viewValues are the addresses that a server says.
func viewValues(v cutover.View) string {
	var all []string
	for _, answer := range v.Answers {
		all = append(all, answer.Values()...)
	}
	slices.Sort(all)
	return foreign(strings.Join(slices.Compact(all), " "))
}

func viewWhy(v cutover.View) string {
	for _, answer := range v.Answers {
		if !answer.State.Known() {
			return ": " + foreign(cmp.Or(answer.Why, string(answer.State)))
		}
	}
	return ""
}

func (a *Printer) showPages(pages []cutover.Host) {
	for _, h := range pages {
		which := "old machine "
		if h.New {
			which = "new machine "
		}
		fmt.Fprintf(a.Out, "%s%s: %s\n", which, h.At, a.hostAnswer(h))
	}
}

// goneText says when the last old answer has to be gone.
func goneText(r cutover.Round) string {
	switch {
	case !r.OwnNew:
		return "Its own name servers do not all lead there yet: the record has not been changed everywhere."
	case r.Gone.After(r.At):
		return "The last old answer has to be gone by " + r.Gone.Local().Format("2006-01-02 15:04:05 MST") + "."
	}
	return "No old answer can be kept any more."
}

// ShowRoundChanges prints a line for each server that says something else than in the round before.
func (a *Printer) ShowRoundChanges(last, r cutover.Round) {
	at := r.At.Local().Format("15:04:05")
	for i, v := range r.Views {
		if i < len(last.Views) && last.Views[i].Leads == v.Leads && viewValues(last.Views[i]) == viewValues(v) {
			continue
		}
		fmt.Fprintf(a.Out, "%s  %s: %s\n", at, viewName(v), a.leads(v))
	}
	for i, h := range r.Pages {
		if i >= len(last.Pages) || last.Pages[i].Status != h.Status {
			fmt.Fprintf(a.Out, "%s  ", at)
			a.showPages([]cutover.Host{h})
		}
	}
	if len(last.Lost) != len(r.Lost) {
		a.showLost(r.Lost)
	}
	if last.OwnNew != r.OwnNew || last.Number == 0 || !last.Gone.Equal(r.Gone) && r.Gone.After(last.Gone.Add(time.Minute)) {
		fmt.Fprintf(a.Out, "%s  %s\n", at, goneText(r))
	}
	if r.Agreed > 0 {
		fmt.Fprintf(a.Out, "%s  all lead to the new machine, for the %s time\n", at, ordinal(r.Agreed))
	}
}

// ShowWatchEnd says how a watch ended.
func (a *Printer) ShowWatchEnd(site string, r cutover.Round) {
	if r.Done {
		fmt.Fprintln(a.Out, a.Good("All agree.")+" Raise the records' lifetimes again, and take lines for "+site+" out of hosts files (`revlet cutover look "+site+" --hosts --check`).")
		return
	}
	var who []string
	for _, v := range r.Views {
		if v.Leads != cutover.ToNew && v.Leads != cutover.Beyond {
			who = append(who, viewName(v))
		}
	}
	if len(r.Lost) > 0 {
		who = append(who, "records that had to stay are gone")
	}
	fmt.Fprintf(a.Out, "%s Not there yet: %s.\n", a.Bad("The limit is over."), cmp.Or(strings.Join(who, ", "), "they have not agreed often enough in a row"))
}

// ShowLook says how a preview is used.
func (a *Printer) ShowLook(l *jobs.Look, at netip.Addr, only bool) {
	fmt.Fprintf(a.Out, "%s leads %s to %s; %s. Ctrl-C ends it.\n\n", a.Bold("http://"+l.Proxy), a.Bold(shownNames(l.Names)), a.Bold(at.String()),
		map[bool]string{true: "all else is refused", false: "all else goes where it belongs"}[only])
	a.Facts([][2]string{
		{"browser", "set this as its proxy, for http and for https; better in a profile of its own, or with --browser"},
		{"page", foreign(l.Page)},
	})
	for _, h := range l.Hosts {
		fmt.Fprintf(a.Out, "\nnew machine %s: %s\n", h.At, a.hostAnswer(h))
		switch c := h.Certificate; {
		case c == nil:
		case c.Trouble != "":
			fmt.Fprintf(a.Out, "certificate: %s (it is for %s). The browser will warn; go on if you know why.\n", a.Bad(c.Trouble), foreign(cmp.Or(strings.Join(c.Names, ", "), "no name")))
		default:
			fmt.Fprintf(a.Out, "certificate: %s\n", a.certificate(c))
		}
	}
	fmt.Fprintln(a.Out)
}

// ShowPassed tells of one host that was asked for through a preview.
func (a *Printer) ShowPassed(r preview.Request) {
	switch {
	case r.Refused != "":
		fmt.Fprintf(a.Out, "%s %s: %s\n", a.Bad("refused"), clip(foreign(r.Host), 60), foreign(r.Refused))
	case r.New:
		fmt.Fprintf(a.Out, "%s  %s\n", a.Good("the new machine"), clip(foreign(r.Host), 60))
	default:
		fmt.Fprintf(a.Out, "%s  %s\n", a.Dim("as usual       "), clip(foreign(r.Host), 60))
	}
}

// ShowHostsLine prints what to put into a hosts file, and how to get it out again.
func (a *Printer) ShowHostsLine(site, line, file string) {
	fmt.Fprintf(a.Out, "%s\n\n", line)
	fmt.Fprintf(a.Out, "Put this line into %s, look at the site, and take it out again: a computer that keeps it goes on to\nthis machine for ever. This tells whether it is still there:\n      revlet cutover look %s --hosts --check\n", file, site)
}

// ShowHostsLeft tells which lines of a hosts file lead the site's names somewhere.
func (a *Printer) ShowHostsLeft(site, file string, left []preview.Leftover) {
	if len(left) == 0 {
		fmt.Fprintf(a.Out, "%s says nothing of the names of %s.\n", file, site)
		return
	}
	fmt.Fprintf(a.Out, "%s leads names of %s somewhere, whatever the DNS says:\n", file, site)
	for _, l := range left {
		fmt.Fprintf(a.Out, "  line %d: %s\n", l.Number, a.Bad(clip(foreign(l.Text), 100)))
	}
}

// ShowMatch shows in what the pages of two machines differ, the gravest first.
func (a *Printer) ShowMatch(m *jobs.Match) {
	var rows [][]string
	for _, p := range m.Pages {
		if p.Verdict == pagematch.Same {
			continue
		}
		name := clip(foreign("/"+p.Path), 40)
		if p.Verdict == pagematch.Unknown {
			rows = append(rows, []string{a.Bad("not compared"), name, notReached(p)})
			continue
		}
		for i, d := range p.Differences {
			if i > 0 {
				name = ""
			}
			rows = append(rows, []string{a.Bad(string(d.Kind)), name, difference(d)})
		}
	}
	if len(rows) > 0 {
		a.Table([]string{"what", "page", "old → new"}, rows)
		fmt.Fprintln(a.Out)
	}
	if m.OtherSite {
		fmt.Fprintln(a.Out, a.Bad("The new machine seems to answer with another site altogether."))
	}
	sum := fmt.Sprintf("%s the same, %d differ, %d not compared; %s asked for.", Count(int64(m.Same), "page", "pages"), m.Differ, m.Unknown, Count(int64(m.Files), "picture, style or script", "pictures, styles and scripts"))
	switch {
	case m.Differ > 0 || m.Unknown > 0:
		fmt.Fprintln(a.Out, a.Bad(sum))
	default:
		fmt.Fprintln(a.Out, a.Good(sum))
	}
	if m.Walled > 0 {
		fmt.Fprintf(a.Out, "note: %s for a log-in on both; what is behind it was not compared.\n", Count(int64(m.Walled), "page asks", "pages ask"))
	}
	if m.Left > 0 {
		fmt.Fprintf(a.Out, "note: %s known of and not asked for; --pages raises the number.\n", Count(int64(m.Left), "more page or file is", "more pages and files are"))
	}
}

func notReached(p pagematch.Page) string {
	if p.Old.Status == 0 {
		return "the old machine: " + clip(foreign(p.Old.Why), 60)
	}
	return "the new machine: " + clip(foreign(p.New.Why), 60)
}

// difference words what is there on each side, in one line.
func difference(d pagematch.Difference) string {
	few := func(all []string) string {
		if len(all) == 0 {
			return ""
		}
		text := clip(foreign(pagematch.Relative(all[0])), 70)
		if len(all) > 1 {
			text += fmt.Sprintf(" and %d more", len(all)-1)
		}
		return text
	}
	switch d.Kind {
	case pagematch.Status, pagematch.Redirects, pagematch.Title, pagematch.Canonical, pagematch.Type, pagematch.Shrunken, pagematch.Circle:
		side := func(all []string) string { return clip(foreign(pagematch.Relative(strings.Join(all, " "))), 40) }
		return side(d.Old) + " → " + side(d.New)
	case pagematch.Broken:
		return few(d.New)
	}
	return cmp.Or(few(d.New), few(d.Old))
}

// ShowFinishPlan says what the end of a cutover will do.
func (a *Printer) ShowFinishPlan(o jobs.FinishOrder, m *jobs.FinishPlan) {
	switch n := m.Names; {
	case len(n.To) == 0:
		fmt.Fprintln(a.Out, "Where the names lead was not asked: run `revlet cutover plan` first, and it is.")
	case n.New:
		fmt.Fprintln(a.Out, a.Bad("The names lead to the new machine already: what visitors have written there goes aside."))
	case n.Err != nil:
		fmt.Fprintf(a.Out, "%s\n", a.Bad("Not known whether the names lead to the new machine already: "+foreign(n.Err.Error())))
	}
	left := map[jobs.Leave]string{jobs.LeaveClosed: "stays closed", jobs.LeaveRedirect: "leads visitors to the new address", jobs.LeaveOpen: "is opened again"}[o.Leave]
	fmt.Fprintf(a.Out, "%s: %s. Then\n\n", map[bool]string{false: "An archive was taken", true: "An archive is taken, as the last one was"}[o.Look], m.Order.Archive.Name)
	for i, line := range []string{
		"that archive comes up at " + o.To + "; what is there goes aside: " + cmp.Or(strings.Join(m.Replaces, "; "), "nothing"),
		o.Site + " is closed: nobody writes there any more without being told to come back",
		"its last archive is taken, and is held; what has changed since the first one comes over, too",
		o.To + " takes visitors; " + o.Site + " " + left + ", and its duties stop",
	} {
		a.Item(fmt.Sprintf("%d.", i+1), foreign(line))
	}
	fmt.Fprintln(a.Out, "\nIf anything fails before the last step, the old place is opened again.")
}

// ShowFinished says what came of the end of a cutover, and what is left to do.
func (a *Printer) ShowFinished(name string, r *jobs.Finished) {
	fmt.Fprintf(a.Out, "%s %s has what %s had: archive %s. Neither took anything from visitors for %s.\n", a.Good("Finished:"), r.To, name, r.Archive, Took(r.Shut))
	for _, answer := range r.Move.Answers {
		fmt.Fprintln(a.Out, a.Checked(answer))
	}
	fmt.Fprint(a.Out, "\nNow, and in this order:\n")
	for _, line := range []string{
		"change the records (`revlet cutover plan` says which), and `revlet cutover watch` until all agree",
		"take lines out of hosts files (`revlet cutover look " + name + " --hosts --check`), and raise the records' lifetimes again",
		"see that the new host's certificate is renewed by itself, and that mail and scheduled tasks go from there",
		"give " + r.To + " a schedule, keep rules and an offsite store; the duties of " + name + " have stopped",
		"keep the old account until a backup of " + r.To + " was rehearsed; then end it, and remove the entry " + name,
	} {
		a.Item("–", line)
	}
	fmt.Fprintf(a.Out, "Until the records have changed, `revlet cutover finish %s --back` takes it back.\n", name)
}

// ShowBack says what taking the end of a cutover back does.
func (a *Printer) ShowBack(name string, b *jobs.Back, dry bool) {
	fmt.Fprintf(a.Out, "Take back the cutover of %s to %s of %s\n\n", name, b.To, When(b.Began))
	fmt.Fprintf(a.Out, "  %s  is opened again, and its duties go on\n", name)
	switch was := Printable(strings.Join(b.Takes, " and ")); {
	case b.Left:
		fmt.Fprintf(a.Out, "  %s  %s\n", b.To, a.Bad("stays as it is: no move of this cutover is there to be taken back"))
	case b.Saves:
		fmt.Fprintf(a.Out, "  %s  is saved as an archive, with what was written there since, and then becomes what it was before %s came up there\n", b.To, was)
	default:
		fmt.Fprintf(a.Out, "  %s  becomes what it was before %s came up there; what was written there since is deleted\n", b.To, was)
	}
	if dry {
		fmt.Fprintln(a.Out, "\nDry run: nothing was changed.")
	}
}

// ShowTakenBack says what came of it.
func (a *Printer) ShowTakenBack(name string, b *jobs.Back) {
	fmt.Fprintf(a.Out, "%s %s is open again, and has its duties.\n", a.Good("Taken back:"), name)
	if b.Saved != "" {
		fmt.Fprintf(a.Out, "What was written at %s meanwhile is in %s, which is held.\n", b.To, b.Saved)
	}
}

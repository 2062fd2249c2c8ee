package practice

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"revlet/internal/practice/inbox"
	"revlet/internal/practice/lampblack"
)

const (
	// monthDays is how many days of duties the demo carries out.
	monthDays = 31
	// awayFrom and awayTo are the days on which the harbour cannot be reached,
	// plantedOn the one on which somebody puts a file among the uploads.
	awayFrom, awayTo = 12, 14
	plantedOn        = 24
	// atRest is how long files must have been left alone to be known as unchanged.
	atRest = 2500 * time.Millisecond
)

// planted is where the intruder's file lies.
const planted = "uploads/2026/ornament.php"

// rules are what a person adds to the configuration for a month of duties.
const rules = `    schedule:
      - full, every day at 03:20
      - database, every day at 15:00
      - verify, every sunday at 05:00
    keep:
      - newest 4
      - one per day for 1 week
      - one per week for 1 month
`

// month carries out a month of duties, on a clock that is set.
func (d *demoRun) month(ctx context.Context) error {
	mails, err := d.mailServer()
	if err != nil {
		return err
	}
	d.mailbox = mails // until the next chapter's end
	if err := d.addDuties(mails.Address); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "duties"); err != nil {
		return err
	}
	d.say("A month of days, each in the wink of an eye: the harbour cannot be reached from day %d to\nday %d, and on day %d somebody gets in.", awayFrom, awayTo, plantedOn)
	time.Sleep(atRest)
	for day := 1; day <= monthDays; day++ {
		if err := d.passDay(ctx, day); err != nil {
			return err
		}
	}
	d.say("%d mails have come; this is the last one on trouble:\n", d.mails)
	fmt.Fprintln(d.Out, indent(d.trouble.Text))
	return d.run(ctx, exitDamage, "status")
}

// intruder is what is done after somebody got in, and what the month has left.
func (d *demoRun) intruder(ctx context.Context) error {
	defer d.mailbox.Close()
	if err := d.cleanUp(ctx); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "status", "--accept", "kestrelpoint/planted", "--why", "put back from before, passwords changed"); err != nil {
		return err
	}
	for _, args := range [][]string{
		{"--quiet", "backup", "kestrelpoint", "--hold", "--note", "after the clean-up"}, {"retention", "kestrelpoint", "--store", "here"}, {"history", "--most", "8"}, {"status"}, {"report", "--to", "report.html"},
	} {
		if err := d.run(ctx, 0, args...); err != nil {
			return err
		}
	}
	return nil
}

// asked reads a command's JSON.
func (d *demoRun) asked(ctx context.Context, into any, args ...string) error {
	var said strings.Builder
	if _, err := d.start(ctx, &said, io.Discard, append(args, "--json")); err != nil {
		return err
	}
	return json.Unmarshal([]byte(said.String()), into)
}

// cleanUp finds out what an intruder has left, and since when, and puts the site
// back as it was before.
func (d *demoRun) cleanUp(ctx context.Context) error {
	before := d.begun.AddDate(0, 0, plantedOn-3).Format("2006-01-02")
	compare := []string{"compare", "kestrelpoint", "--before", before, "--key", "kestrelpoint.key"}
	if err := d.run(ctx, exitDamage, compare...); err != nil {
		return err
	}
	var told struct {
		Clean string `json:"clean_archive"`
	}
	if err := d.asked(ctx, &told, compare...); err != nil {
		return err
	}
	if told.Clean == "" {
		return errors.New("the demo found no archive from before the break-in")
	}
	d.say("Everything goes back to that archive; what was there is kept as evidence:")
	if err := d.run(ctx, 0, "--quiet", "restore", told.Clean, "--yes", "--key", "kestrelpoint.key"); err != nil {
		return err
	}
	if err := d.run(ctx, 0, "aside", "export", "kestrelpoint", "evidence.tar.zst"); err != nil {
		return err
	}
	var taken struct {
		Archives []struct {
			Name string `json:"name"`
		} `json:"archives"`
	}
	if err := d.asked(ctx, &taken, "archives", "kestrelpoint"); err != nil {
		return err
	}
	if len(taken.Archives) == 0 {
		return errors.New("the demo found no archives")
	}
	d.say("The keepers' log of the days since is no intruder's work. It comes back from the newest archive:")
	if err := d.run(ctx, 0, "--quiet", "restore", taken.Archives[0].Name, "--table", "keepers_log", "--mode", "fill", "--yes", "--key", "kestrelpoint.key"); err != nil {
		return err
	}
	if err := d.ask(ctx, http.StatusOK); err != nil {
		return err
	}
	return d.run(ctx, 0, "settle", "kestrelpoint", "--key", "kestrelpoint.key", "--yes")
}

func indent(text string) string {
	return "  | " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n  | ")
}

// mailServer takes the museum's mail.
func (d *demoRun) mailServer() (*inbox.MailServer, error) {
	return inbox.StartMail(inbox.MailOptions{Security: inbox.Plain, Received: func(m inbox.Mail) {
		d.mails++
		if strings.Contains(m.Subject, "alarm") {
			d.trouble = m
		}
	}})
}

// addDuties writes duties, keep rules and a mail server into the configuration.
func (d *demoRun) addDuties(address string) error {
	data, err := os.ReadFile(d.config())
	if err != nil {
		return err
	}
	text := strings.Replace(string(data), "    stores: [here, harbour]\n", "    stores: [here, harbour]\n"+rules, 1)
	text = strings.Replace(text, "password_file: ./harbour.pw}", `password_file: ./harbour.pw, keep: [one per day for 2 weeks, one per month for 1 year]}`, 1)
	text += fmt.Sprintf("notify:\n  mail: {smtp: %q, from: revlet@kestrelpoint.example, to: [keeper@kestrelpoint.example], when: [on trouble, every monday at 07:00]}\n", address)
	d.say("(revlet.yaml now has this, and where mail goes:)\n\n%s", rules)
	return os.WriteFile(d.config(), []byte(text), 0o600)
}

// passDay lives through one day at the museum.
func (d *demoRun) passDay(ctx context.Context, day int) error {
	entry := fmt.Sprintf("INSERT INTO keepers_log (day, keeper, entry, wind) VALUES ('2026-day-%02d', 'volunteer', 'Lamp cleaned, %d visitors.', %d)", day, 20+day*7%31, day%9)
	if err := lampblack.Execute(ctx, filepath.Join(d.root(), lampblack.DatabaseFile), entry); err != nil {
		return err
	}
	name := filepath.Join(d.root(), "uploads/2026", fmt.Sprintf("day-%02d.txt", day))
	text := strings.Repeat(fmt.Sprintf("A visitor's note of day %d. ", day), 40*day)
	if day == plantedOn {
		name, text = filepath.Join(d.root(), planted), "<?php /* made up: it does nothing */\n"
		rogue := "INSERT INTO users (name, role, secret) VALUES ('helper', 'administrator', 'made-up-hash-3')"
		if err := lampblack.Execute(ctx, filepath.Join(d.root(), lampblack.DatabaseFile), rogue); err != nil {
			return err
		}
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		return err
	}
	d.faults.Away.Store(day >= awayFrom && day <= awayTo)
	morning := d.begun.AddDate(0, 0, day)
	for _, hour := range []int{5, 16} {
		d.set = time.Now()
		d.clock = time.Date(morning.Year(), morning.Month(), morning.Day(), hour, 30, 0, 0, morning.Location())
		if err := d.quietly(ctx, "due"); err != nil {
			return err
		}
	}
	return nil
}

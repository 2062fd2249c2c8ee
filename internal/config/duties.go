package config

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"revlet/internal/platform/schema"
	"revlet/internal/rules/retention"
	"revlet/internal/rules/schedule"
)

// Phrases are one phrase or a list of them.
type Phrases []string

// JSONSchema implements schema.Custom.
func (Phrases) JSONSchema() map[string]any { return schema.OneOrMany() }

// UnmarshalYAML reads either form.
func (p *Phrases) UnmarshalYAML(data []byte) error {
	var found any
	if err := yaml.Unmarshal(data, &found); err != nil {
		return err
	}
	list, ok := found.([]any)
	if !ok {
		list = []any{found}
	}
	for _, one := range list {
		phrase, ok := one.(string)
		if !ok {
			return fmt.Errorf("%v is no phrase", one)
		}
		*p = append(*p, phrase)
	}
	return nil
}

// Notify says who is told what came of runs.
type Notify struct {
	Mail    *Mail    `yaml:"mail"`
	Webhook *Webhook `yaml:"webhook"`
	Ping    *Ping    `yaml:"ping"`
}

// Mail is a mail server and who is written to.
type Mail struct {
	// SMTP is smtp://host:port, which begins in the clear and must go on inside
	// TLS, smtps://host:port, inside TLS from the start, or plain-smtp://host:port.
	SMTP string   `yaml:"smtp"`
	From string   `yaml:"from"`
	To   []string `yaml:"to"`
	When Phrases  `yaml:"when"`

	User         string `yaml:"user"`
	PasswordFile string `yaml:"password_file"`
	PasswordEnv  string `yaml:"password_env"`
	CAFile       string `yaml:"ca_file"`

	Rules []TellRule `yaml:"-"`
}

// Webhook is an address that JSON is posted to.
type Webhook struct {
	URL  string  `yaml:"url"`
	When Phrases `yaml:"when"`
	// SecretFile and SecretEnv say where the key of the signature is read from.
	SecretFile string `yaml:"secret_file"`
	SecretEnv  string `yaml:"secret_env"`
	CAFile     string `yaml:"ca_file"`

	Rules []TellRule `yaml:"-"`
}

// Ping are addresses that are called when duties begin and end, for a watchdog
// elsewhere. {site} in them stands for the site's name.
type Ping struct {
	Start   string `yaml:"start"`
	Success string `yaml:"success"`
	Failure string `yaml:"failure"`
	CAFile  string `yaml:"ca_file"`
}

// TellRule says on what occasion somebody is told.
type TellRule struct {
	// Always is after every run, Trouble after one that was not all right.
	Always, Trouble bool
	// Digest is the rhythm of one message for all sites.
	Digest *schedule.Duty
}

// tellRules reads `always`, `on trouble` and rhythms such as `every monday at 07:00`.
func tellRules(phrases Phrases) ([]TellRule, error) {
	if len(phrases) == 0 {
		return []TellRule{{Trouble: true}}, nil
	}
	var rules []TellRule
	for _, p := range phrases {
		switch text := strings.Join(strings.Fields(strings.ToLower(p)), " "); text {
		case "always":
			rules = append(rules, TellRule{Always: true})
		case "on trouble":
			rules = append(rules, TellRule{Trouble: true})
		default:
			d, err := schedule.ParseRhythm(text)
			if err != nil {
				return nil, fmt.Errorf("`when: %s`: it is always, on trouble, or the rhythm of a digest: %w", p, err)
			}
			rules = append(rules, TellRule{Digest: &d})
		}
	}
	has := func(is func(TellRule) bool) bool { return slices.ContainsFunc(rules, is) }
	if has(func(r TellRule) bool { return r.Always }) && has(func(r TellRule) bool { return r.Trouble }) {
		return nil, errors.New("`when:` says both always and on trouble; keep one")
	}
	return rules, nil
}

func (m *Mail) settle(base string) (err error) {
	switch {
	case m.SMTP == "":
		return errors.New("`mail:` has no `smtp:`, such as smtp://mail.example:587")
	case m.From == "":
		return errors.New("`mail:` has no `from:`")
	case len(m.To) == 0:
		return errors.New("`mail:` names nobody in `to:`")
	case m.PasswordFile != "" && m.PasswordEnv != "":
		return errors.New("`mail:` has both `password_file:` and `password_env:`; keep one")
	}
	u, err := url.Parse(m.SMTP)
	if err != nil || u.Host == "" || !slices.Contains([]string{"smtp", "smtps", "plain-smtp"}, u.Scheme) || u.User != nil {
		return fmt.Errorf("`smtp: %s`: it looks like smtp://mail.example:587, smtps://… or plain-smtp://…; a password goes into `password_file:`", m.SMTP)
	}
	m.PasswordFile, m.CAFile = absolute(base, m.PasswordFile), absolute(base, m.CAFile)
	m.Rules, err = tellRules(m.When)
	return err
}

// Password is the mail account's.
func (m *Mail) Password() (string, error) {
	return readSecret("the mail password", m.PasswordFile, m.PasswordEnv)
}

func (w *Webhook) settle(base string) (err error) {
	if err := webAddress("url", w.URL); err != nil {
		return fmt.Errorf("`webhook:` %w", err)
	}
	if w.SecretFile != "" && w.SecretEnv != "" {
		return errors.New("`webhook:` has both `secret_file:` and `secret_env:`; keep one")
	}
	w.SecretFile, w.CAFile = absolute(base, w.SecretFile), absolute(base, w.CAFile)
	w.Rules, err = tellRules(w.When)
	return err
}

// Secret is the key of the signature; without one it is empty.
func (w *Webhook) Secret() (string, error) {
	return readSecret("the webhook's secret", w.SecretFile, w.SecretEnv)
}

func (p *Ping) settle(base string) error {
	if count(p.Start, p.Success, p.Failure) == 0 {
		return errors.New("`ping:` needs an address in `start:`, `success:` or `failure:`")
	}
	for key, address := range map[string]string{"start": p.Start, "success": p.Success, "failure": p.Failure} {
		if address == "" {
			continue
		}
		if err := webAddress(key, address); err != nil {
			return fmt.Errorf("`ping:` %w", err)
		}
	}
	p.CAFile = absolute(base, p.CAFile)
	return nil
}

func webAddress(key, address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return fmt.Errorf("`%s: %s` is no address; it looks like https://hooks.example/revlet", key, address)
	}
	return nil
}

func (n *Notify) settle(base string) error {
	if n.Mail != nil {
		if err := n.Mail.settle(base); err != nil {
			return err
		}
	}
	if n.Webhook != nil {
		if err := n.Webhook.settle(base); err != nil {
			return err
		}
	}
	if n.Ping != nil {
		return n.Ping.settle(base)
	}
	return nil
}

// secrets are the files that hold some.
func (n *Notify) secrets() []string {
	var files []string
	if n.Mail != nil {
		files = append(files, n.Mail.PasswordFile)
	}
	if n.Webhook != nil {
		files = append(files, n.Webhook.SecretFile)
	}
	return files
}

// authorities are the files that say whose certificates are trusted.
func (n *Notify) authorities() []string {
	var files []string
	if n.Mail != nil {
		files = append(files, n.Mail.CAFile)
	}
	if n.Webhook != nil {
		files = append(files, n.Webhook.CAFile)
	}
	if n.Ping != nil {
		files = append(files, n.Ping.CAFile)
	}
	return files
}

// parseKeep reads keep rules. A list without any would keep nothing.
func parseKeep(phrases *[]string) ([]retention.Rule, error) {
	if phrases == nil {
		return nil, nil
	}
	if len(*phrases) == 0 {
		return nil, errors.New("`keep:` without rules would keep nothing; leave it out to keep everything")
	}
	return retention.ParseRules(*phrases)
}

// parseSchedule reads duties. Two of the same kind are refused only when they
// are the very same.
func parseSchedule(phrases []string) ([]schedule.Duty, error) {
	var duties []schedule.Duty
	for _, p := range phrases {
		d, err := schedule.Parse(p)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(duties, func(o schedule.Duty) bool { return o.String() == d.String() }) {
			return nil, fmt.Errorf("%q is there twice", p)
		}
		duties = append(duties, d)
	}
	schedule.Sort(duties)
	return duties, nil
}

// Zone is the time zone that a site's duties and keep rules are in.
func (c *Config) Zone(s Site) *time.Location {
	for _, z := range []*time.Location{s.zone, c.zone} {
		if z != nil {
			return z
		}
	}
	return time.Local
}

// KeepIn are the keep rules for a site's archives in a store: the store's own,
// or else the site's.
func (c *Config) KeepIn(site, store string) []retention.Rule {
	if rules := c.Stores[store].KeepRules; len(rules) > 0 {
		return rules
	}
	return c.Sites[site].KeepRules
}

func parseZone(name string) (*time.Location, error) {
	if name == "" {
		return nil, nil
	}
	z, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil, fmt.Errorf("`time_zone: %s`: it is a name such as Europe/Berlin or UTC", name)
	}
	return z, nil
}

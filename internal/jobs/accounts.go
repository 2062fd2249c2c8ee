package jobs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/engine"
	"revlet/internal/site/password"
	"revlet/internal/watch/history"
	"revlet/internal/work/accounts"
	"revlet/internal/work/compare"
)

// Accounts returns the administrators of a site, or all accounts, as they are in an
// archive if one is named.
func (a *Agent) Accounts(ctx context.Context, name, archive string, all bool) ([]accounts.Account, error) {
	want := func(one accounts.Account) bool { return all || one.Administrator }
	if archive == "" {
		s, err := a.siteWithAccounts(ctx, name)
		if err != nil {
			return nil, err
		}
		p, done, err := a.accountsOf(ctx, s)
		if err != nil {
			return nil, err
		}
		defer done()
		return accounts.List(ctx, p, want)
	}
	h, err := a.FindOpen(ctx, archive, time.Time{}, Need{Database: true})
	if err != nil {
		return nil, err
	}
	if h.Site != name {
		return nil, reason.BadUsage("%s is an archive of %s, not of %s", h.Name, h.Site, name)
	}
	recipe, err := a.recipeOf(h)
	if err != nil {
		return nil, err
	}
	p := &accounts.Place{Recipe: recipe}
	if p.Database, err = labelOfAccounts(recipe, name); err != nil {
		return nil, err
	}
	origin, held := h.Origin.Databases[p.Database]
	if !held || h.HasDump(p.Database) {
		return nil, reason.New(reason.NoAccounts, nil, "archive %s holds no rows that Revlet has written of database %q", h.Name, p.Database)
	}
	p.Engine, p.Prefix = origin.Engine, origin.Prefix
	for _, part := range h.Parts {
		if part.Database == p.Database && part.Table != "" && !slices.Contains(p.Tables, part.Table) {
			p.Tables = append(p.Tables, part.Table)
		}
	}
	if p.Rows, err = compare.TextsOf(ctx, h); err != nil {
		return nil, err
	}
	return accounts.List(ctx, p, want)
}

// labelOfAccounts is the database in which the CMS keeps its accounts.
func labelOfAccounts(r *site.Recipe, name string) (string, error) {
	if accounts.Keeps(r) && len(r.Databases) == 1 {
		for label := range r.Databases {
			return label, nil
		}
	}
	return "", reason.New(reason.NoAccounts, nil, "where site %s keeps its accounts is not known: no recipe says it", name)
}

// siteWithAccounts opens a site whose accounts are to be read or changed, where a person
// has confirmed that it lies, and has its database.
func (a *Agent) siteWithAccounts(ctx context.Context, name string) (*site.Site, error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	if err := a.confirmPlace(name, ""); err != nil {
		return nil, err
	}
	s, err := a.openSite(ctx, name, cfg)
	if err != nil {
		return nil, a.halfRestored(name, err)
	}
	return s, a.confirmDatabases(name, s, cfg)
}

// accountsOf opens the accounts of a site as they are, until done is called.
func (a *Agent) accountsOf(ctx context.Context, s *site.Site) (p *accounts.Place, done func(), err error) {
	label, err := labelOfAccounts(s.Recipe, s.Name)
	if err != nil {
		return nil, nil, err
	}
	db, ok := s.Database(label)
	if !ok {
		return nil, nil, reason.New(reason.DatabaseUnknown, reason.Names{"site": s.Name}, "site %s has no database %q", s.Name, label)
	}
	p = &accounts.Place{Recipe: s.Recipe, Database: label, Engine: db.Engine, Prefix: db.Prefix}
	if p.Tables, err = a.tableNames(ctx, db); err != nil {
		return nil, nil, err
	}
	p.Rows, done, err = a.databases().Live(s).Texts(ctx, label)
	return p, done, err
}

// The values of a site that can be changed.
const (
	PasswordOf = "password"
	MailOf     = "mail"
	TitleOf    = "title"
)

// ValueChange is a value in a site's database that was changed by this program. It says
// all that is needed to take that back.
type ValueChange struct {
	At time.Time `json:"at"`
	// What is PasswordOf, MailOf or TitleOf, Name the account.
	What string `json:"what"`
	Name string `json:"name,omitempty"`
	// Label and Where are the database, whatever account reads it; the rest is the row and
	// its column.
	Label  string            `json:"label"`
	Where  string            `json:"where"`
	Table  string            `json:"table"`
	Row    map[string]string `json:"row"`
	Column string            `json:"column"`
	Before string            `json:"before"`
	// Null tells that there was no value before: NULL.
	Null  bool   `json:"null,omitempty"`
	After string `json:"after"`
	Rows  int64  `json:"rows"`
	// Sessions tells that the account's sessions were ended.
	Sessions bool `json:"sessions"`
}

// SetAccount gives an account another password or mail address; to is that in plain text.
// Its sessions are ended. What was there is remembered for UndoAccount.
func (a *Agent) SetAccount(ctx context.Context, name, typed, what, to string) (c *ValueChange, err error) {
	run := history.Run{Site: name, Command: "accounts " + what}
	err = a.work(ctx, &run, func(ctx context.Context, run *history.Run) error {
		s, err := a.siteWithAccounts(ctx, name)
		if err != nil {
			return err
		}
		p, done, err := a.accountsOf(ctx, s)
		if err != nil {
			return err
		}
		defer done()
		found, err := accounts.List(ctx, p, func(one accounts.Account) bool { return accounts.Means(one, typed) })
		if err != nil {
			return err
		}
		one, err := accounts.Find(found, name, typed)
		if err != nil {
			return err
		}
		column, value, err := newValue(s, what, to)
		if err != nil {
			return err
		}
		edits := accounts.Reset(p, one, column, value)
		run.Detail = what + " of " + one.Name
		c = &ValueChange{What: what, Name: one.Name, Label: p.Database, Table: edits[0].Table, Row: edits[0].Where, Column: column, After: value, Rows: edits[0].Exactly,
			Sessions: len(edits) > 1 || s.Recipe.Accounts.Token != ""}
		return a.changeValue(ctx, s, c, edits)
	})
	return c, err
}

// newValue is the column of an account's row that is to change, and what it becomes.
func newValue(s *site.Site, what, to string) (column, value string, err error) {
	of := s.Recipe.Accounts
	if what == MailOf {
		if of.Mail == "" {
			return "", "", reason.New(reason.NoAccounts, nil, "%s keeps no mail addresses of accounts", s.Recipe.Title)
		}
		return of.Mail, to, nil
	}
	if err := password.Check(to); err != nil {
		return "", "", reason.BadUsage("%w", err)
	}
	scheme, err := of.SchemeFor(s.Version())
	if err != nil {
		return "", "", reason.Because(reason.NoAccounts, nil, err)
	}
	value, err = password.Hash(scheme, to)
	return of.Password, value, err
}

// SetTitle gives a site another title, where its CMS keeps that in its database.
func (a *Agent) SetTitle(ctx context.Context, name, to string) (c *ValueChange, err error) {
	run := history.Run{Site: name, Command: "accounts " + TitleOf}
	err = a.work(ctx, &run, func(ctx context.Context, _ *history.Run) error {
		s, err := a.siteWithAccounts(ctx, name)
		if err != nil {
			return err
		}
		if s.Recipe == nil || s.Recipe.SiteTitle.Table == "" {
			return reason.New(reason.NoAccounts, nil, "the title of site %s is not kept in its database, or no recipe says where", name)
		}
		label, err := labelOfAccounts(s.Recipe, name)
		if err != nil {
			return err
		}
		db, _ := s.Database(label)
		of := s.Recipe.SiteTitle
		edit := database.Edit{Table: db.Prefix + of.Table, Where: map[string]string{of.Where: of.Is}, Set: map[string]string{of.Column: to}, Exactly: 1}
		c = &ValueChange{What: TitleOf, Label: label, Table: edit.Table, Row: edit.Where, Column: of.Column, After: to, Rows: 1}
		return a.changeValue(ctx, s, c, []database.Edit{edit})
	})
	return c, err
}

func (a *Agent) changesPath(name string) string {
	return filepath.Join(a.State.Dir, "accounts", name+".json")
}

func (a *Agent) valueChanges(name string) (all []*ValueChange, err error) {
	_, err = a.State.ReadNote(a.changesPath(name), &all, "what was changed of accounts")
	return all, err
}

// mostChanges is how many changes are remembered for each site.
const mostChanges = 50

// changeValue makes a change, the first of the edits, with what goes along. What was there
// is written down before.
func (a *Agent) changeValue(ctx context.Context, s *site.Site, c *ValueChange, edits []database.Edit) error {
	db, _ := s.Database(c.Label)
	if err := asOwner(db); err != nil {
		return err
	}
	var err error
	if c.Before, c.Null, err = a.lookUp(ctx, db, c); err != nil {
		return err
	}
	if c.Before == c.After && !c.Null {
		return reason.BadUsage("it is %q already", c.After)
	}
	c.At, c.Where = a.Now().UTC().Truncate(time.Second), placeOf(db)
	before, err := a.valueChanges(s.Name)
	if err != nil {
		return err
	}
	all := append(slices.Clone(before), c)
	if err := a.State.WriteNote(a.changesPath(s.Name), all[max(0, len(all)-mostChanges):], "what is changed"); err != nil {
		return err
	}
	if err := a.edit(ctx, db, edits...); err != nil {
		return errors.Join(err, a.notChanged(ctx, s.Name, db, c, before))
	}
	return nil
}

// notChanged forgets a change that has failed, if the database has the old value still. A
// line that breaks off in the last moment leaves open what has become of it, and a server
// without transactions may have kept it: what was there stays written down then.
func (a *Agent) notChanged(ctx context.Context, name string, db site.Database, c *ValueChange, before []*ValueChange) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), longestLook)
	defer cancel()
	now, null, err := a.lookUp(ctx, db, c)
	if err != nil || now != c.Before || null != c.Null {
		return errors.New("whether it was changed is not known; what was there is written down, for it to be taken back")
	}
	return a.State.WriteNote(a.changesPath(name), before, "that nothing was changed")
}

// longestLook is how long a database is asked what has become of a change.
const longestLook = 30 * time.Second

// placeOf is where a database is, whatever account it is read by: that may be another one
// when a change is taken back.
func placeOf(db site.Database) string {
	db.User = ""
	where := strings.TrimPrefix(db.Where(), "@")
	if db.On != "" && db.Engine != "sqlite" {
		where = db.On + " " + where // the same address on another machine is another place
	}
	return where
}

// lookUp reads the value of a change as it is now; null tells that there is none.
func (a *Agent) lookUp(ctx context.Context, db site.Database, c *ValueChange) (value string, null bool, err error) {
	source, err := engine.Untouched(ctx, a.Disk, db, a.State.Dir)
	if err != nil {
		return "", false, err
	}
	defer source.Close()
	for column, is := range c.Row {
		value, err = source.Lookup(ctx, c.Table, c.Column, column, is)
		if errors.Is(err, database.ErrNull) {
			return "", true, nil
		}
		return value, false, err
	}
	return "", false, errors.New("the row is not named")
}

func (a *Agent) edit(ctx context.Context, db site.Database, edits ...database.Edit) error {
	target, err := a.openTarget(ctx, db, sqlite.FileMode{}, filepath.Dir(db.Path))
	if err != nil {
		return err
	}
	return errors.Join(target.Edit(ctx, edits...), target.Close())
}

// asOwner refuses to write as root, by its path, into a database file in a folder that
// somebody else can exchange for a link at any time.
func asOwner(db site.Database) error {
	if db.Engine == "sqlite" && db.Place != nil {
		return fmt.Errorf("database %s: %w", db.Label, engine.ErrFarFile)
	}
	if db.Engine != "sqlite" || os.Geteuid() != 0 {
		return nil
	}
	real, err := filepath.EvalSymlinks(db.Path)
	if err != nil {
		return err
	}
	if err := ownersAbove(real); err != nil || real == filepath.Clean(db.Path) {
		return err
	}
	return ownersAbove(db.Path)
}

// ownersAbove refuses a path if an account other than root could exchange what lies on the
// way to it.
func ownersAbove(path string) error {
	for at := filepath.Clean(path); at != "/"; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		if err != nil {
			return err
		}
		a, ok := disk.AttributesOf(info)
		if ok && a.UID == 0 && (info.Mode().Perm()&0o022 == 0 || info.Mode()&(fs.ModeSticky|fs.ModeSymlink) != 0) {
			continue
		}
		name, account := "somebody else", "ACCOUNT"
		if ok {
			name, account = strconv.Itoa(a.UID), "#"+strconv.Itoa(a.UID) // as sudo(8) has it
			if u, err := user.LookupId(strconv.Itoa(a.UID)); err == nil {
				name, account = u.Username, u.Username
			}
		}
		return reason.New(reason.WorkAs, reason.Names{"account": account}, "%s belongs to %s, or others may write to it: as root, nothing is written there by its path", at, name)
	}
	return nil
}

// UndoAccount takes the last change of a site's account, mail address or title back.
func (a *Agent) UndoAccount(ctx context.Context, name string) (c *ValueChange, err error) {
	run := history.Run{Site: name, Command: "accounts undo"}
	err = a.work(ctx, &run, func(ctx context.Context, run *history.Run) error {
		s, err := a.siteWithAccounts(ctx, name)
		if err != nil {
			return err
		}
		all, err := a.valueChanges(name)
		if err != nil {
			return err
		}
		if len(all) == 0 {
			return reason.BadUsage("no account of %s was changed by this program", name)
		}
		c = all[len(all)-1]
		db, _ := s.Database(c.Label)
		if placeOf(db) != c.Where {
			return reason.New(reason.ChangedSince, nil, "the change was made in %s, and the site uses %s now", c.Where, placeOf(db))
		}
		if err := asOwner(db); err != nil {
			return err
		}
		now, null, err := a.lookUp(ctx, db, c)
		if err != nil {
			return fmt.Errorf("the row that was changed in %s: %w", c.Table, err)
		}
		changed := now == c.After && !null
		if !changed && (now != c.Before || null != c.Null) {
			return reason.New(reason.ChangedSince, nil, "the %s was changed again since, by somebody else; it stays as it is", c.What)
		}
		run.Detail = c.What + " of " + c.Name
		if changed {
			back := database.Edit{Table: c.Table, Where: c.Row, Set: map[string]string{c.Column: c.Before}, Exactly: c.Rows}
			if c.Null {
				back.Set, back.Null = map[string]string{}, []string{c.Column}
			}
			if err := a.edit(ctx, db, back); err != nil {
				return err
			}
		}
		return a.State.WriteNote(a.changesPath(name), all[:len(all)-1], "what was taken back")
	})
	return c, err
}

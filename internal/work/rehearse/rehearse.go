// Package rehearse restores an archive into scratch space and a scratch
// database, proves that it came back as it was saved, and throws it away. The
// live site and its databases are never touched.
package rehearse

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/process"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/scratchserver"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/work/compare"
	"revlet/internal/work/restore"
)

// Job is one rehearsal. The caller holds a lock on Scratch.
type Job struct {
	Site    *site.Site
	Archive *catalog.Held
	// Scratch is a folder for the copy. Temporary is one with a short path, in which others may have folders of
	// their own, for a private database server: the path of its socket must be short.
	Scratch, Temporary string
	Disk               *disk.Disk
	Open               restore.Opener
	// Live is a site to compare with, as it is on this machine.
	Live func(s *site.Site) *compare.Live
	// Serve finds the place where the copy is to answer. Nil asks nothing. Settings is its settings file, where that is
	// not the recipe's own.
	Serve    func() (Place, error)
	Settings string
	// Guest is the account that the copy is given to before it is served, for what is in it may be hostile. It can pass
	// what lies above Scratch, or Temporary. Nil is this one.
	Guest *process.Guest
	// Databases, by label, are empty ones to restore into instead of a server of
	// the rehearsal's own. Tables lists what is in one.
	Databases map[string]site.Database
	Tables    func(ctx context.Context, db site.Database) ([]string, error)
	// Version tells which version a database's server is of.
	Version  func(ctx context.Context, db site.Database) (string, error)
	Observer progress.Observer
	Now      func() time.Time

	// server is the folder for database servers, room the one that the copy lies in.
	server, room string
}

// Place is where a copy is served, kept from others until it is.
type Place interface {
	// Address is how the copy is reached there.
	Address() string
	// Try serves the copy and asks it whether it works; it returns what was answered. An error that wraps ErrUnserved
	// says nothing about the copy.
	Try(ctx context.Context, copied *site.Site) (answer string, err error)
	Close() error
}

// ErrUnserved is wrapped by errors about copies that did not come so far as to answer.
var ErrUnserved = errors.New("the copy is as it was saved, and could not be served, so that nothing is known about whether it works")

// Result is what came of a rehearsal.
type Result struct {
	// Files, Database and Total are how long recovery takes on this machine.
	Files, Database, Total time.Duration
	Paths, Rows            int64
	Tables                 int
	// Servers names the database servers that were started.
	Servers []string
	// Tried says what the copy answered when it was served; empty when it was not.
	Tried string
	// NotCompared are databases that could be loaded, and not compared row by row.
	NotCompared []string
	// Counted are tables, with their database, that have as many rows as they had, written otherwise by a server of
	// another version: that they are the same rows is not proved.
	Counted []string
	// Unlinked are symbolic links that this system does not let this account make.
	Unlinked []string
	// Cut are links that led out of the copy, and were taken off before it was served: with what they lead to.
	Cut []string
	// Trouble is what is wrong; nothing when the archive restores.
	Trouble []string
}

// Passed tells whether the archive restores.
func (r *Result) Passed() bool { return len(r.Trouble) == 0 }

// Run rehearses. What is wrong with the archive is in the result; an error tells
// that it could not be tried. Nothing is left behind.
func Run(ctx context.Context, j Job) (r *Result, err error) {
	clean := func() error {
		return errors.Join(j.emptyAgain(context.WithoutCancel(ctx)), Clean(j.Disk, j.Scratch))
	}
	if err := clean(); err != nil {
		return nil, fmt.Errorf("clear the scratch space: %w", err)
	}
	defer func() { err = errors.Join(err, clean()) }()
	if err := j.makeScratch(); err != nil {
		return nil, fmt.Errorf("make the scratch space: %w; the variable TMPDIR names another folder for it", err)
	}
	r = &Result{}
	start := j.Now()
	copied, stop, err := j.scratchSite(ctx, r)
	defer stop()
	if err != nil {
		return nil, err
	}
	if err := j.putBack(ctx, copied, r); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if why := j.untried(ctx, err); why != nil {
			return nil, why
		}
		r.Trouble = append(r.Trouble, err.Error())
		return r, nil
	}
	r.Total = j.Now().Sub(start)
	if err := j.prove(ctx, copied, r); err != nil {
		return nil, err
	}
	if j.Serve != nil && r.Passed() {
		if err := j.try(ctx, copied, r); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// try has the copy served. The place is chosen as late as can be: while the copy was made, somebody else would take it.
func (j Job) try(ctx context.Context, copied *site.Site, r *Result) error {
	place, err := j.Serve()
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnserved, err)
	}
	defer place.Close()
	copied.Address = place.Address()
	if err := errors.Join(j.ownLinks(copied), j.point(ctx, copied)); err != nil {
		return err
	}
	if r.Cut, err = j.cutLinks(copied); err != nil {
		return err
	}
	if err := j.give(copied); err != nil {
		return err
	}
	if r.Tried, err = place.Try(ctx, copied); err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.Is(err, ErrUnserved) {
		return err
	}
	r.Trouble = append(r.Trouble, "the copy does not work: "+err.Error())
	return nil
}

// untried tells what kept a copy from being made that says nothing about the archive: a
// store of it that cannot be asked, a connection that broke, this machine's disk. It is
// nil if the archive itself does not restore.
func (j Job) untried(ctx context.Context, err error) error {
	for _, s := range j.Archive.Stores {
		if _, away := s.List(ctx, archive.RecordsDir(j.Archive.Site)); away != nil {
			return fmt.Errorf("%w; store %s cannot be asked: %w", err, s.Name, away)
		}
	}
	if catalog.VerdictOf(err) == catalog.Damaged {
		return nil
	}
	var broken net.Error
	if errors.As(err, &broken) || slices.ContainsFunc(ownTrouble, func(e error) bool { return errors.Is(err, e) }) {
		return err
	}
	return nil
}

// ownTrouble is trouble of this machine, or a key that was not given.
var ownTrouble = []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EROFS, syscall.EIO, syscall.ENOMEM, syscall.EMFILE, syscall.ENFILE,
	encryption.ErrNoKey, encryption.ErrWrongKey}

// emptyAgain takes back what this rehearsal, or one that died, has put into
// databases that are not its own.
func (j Job) emptyAgain(ctx context.Context) error {
	if there, err := j.Disk.Exists(j.stateDir()); err != nil || !there || len(j.Databases) == 0 {
		return err
	}
	st, err := state.Open(j.Disk, j.stateDir())
	if err != nil {
		return err
	}
	s := j.copy()
	for _, db := range j.Site.Databases {
		if own, ok := j.Databases[db.Label]; ok {
			s.Databases = append(s.Databases, inScratch(db, own))
		}
	}
	r := restore.Recoverer{Site: s, State: st, Open: j.Open}
	for {
		if _, err := r.Undo(ctx); errors.Is(err, restore.ErrNothingAside) {
			return nil
		} else if err != nil {
			return fmt.Errorf("empty the scratch database again: %w", err)
		}
	}
}

func (j Job) stateDir() string { return filepath.Join(j.Scratch, "state") }

// inScratch is a database of the site as it is in a configured place.
func inScratch(db, own site.Database) site.Database {
	own.Label, own.Prefix, own.OwnTables = db.Label, db.Prefix, nil
	return own
}

// point tells the copy where its databases are, and where it answers.
func (j Job) point(ctx context.Context, copied *site.Site) error {
	for _, db := range copied.Databases {
		known := false
		if copied.Recipe != nil {
			_, known = copied.Recipe.Databases[db.Label]
		}
		if _, inside := copied.Inside(db); !inside && !known {
			return fmt.Errorf("%w: nothing is known of how to lead it to the copy of its database %s, which a link leads out to", ErrUnserved, db.Label)
		}
	}
	if copied.Recipe == nil {
		return nil
	}
	pointed, err := copied.Recipe.Point(site.Pointing{Root: copied.Root, File: j.Settings, Databases: copied.Databases, Address: copied.Address}, site.InFolder(copied.Root))
	if err != nil {
		return err
	}
	if err := j.writeSettings(copied, pointed); err != nil {
		return err
	}
	address := copied.Recipe.Address
	if address.Table == "" {
		return nil
	}
	for _, db := range copied.Databases {
		if _, own := copied.Recipe.Databases[db.Label]; own {
			return j.readdress(ctx, db, address, copied.Address)
		}
	}
	return nil
}

// readdress changes the address that the CMS keeps in its database.
func (j Job) readdress(ctx context.Context, db site.Database, address site.AddressSource, to string) error {
	target, err := j.Open(ctx, db, sqlite.FileMode{}, filepath.Dir(db.Path))
	if err != nil {
		return err
	}
	defer target.Close()
	for _, is := range append([]string{address.Is}, address.Also...) {
		if err := target.Edit(ctx, database.Edit{Table: db.Prefix + address.Table, Where: map[string]string{address.Where: is}, Set: map[string]string{address.Column: to}}); err != nil {
			return fmt.Errorf("tell the copy its address: %w", err)
		}
	}
	return nil
}

// scratchSite is the site with everything that it is made of in scratch space.
// stop ends the servers that were started for it.
func (j Job) scratchSite(ctx context.Context, r *Result) (copied *site.Site, stop func(), err error) {
	s := j.copy()
	servers := &servers{job: j, result: r, passwords: map[string]string{}, roles: map[string]bool{}}
	for _, db := range j.Site.Databases {
		moved, err := servers.move(ctx, db, s)
		if err != nil {
			return nil, servers.stop, err
		}
		moved.Place, moved.On, moved.Dump = nil, "", ""
		s.Databases = append(s.Databases, moved)
	}
	return s, servers.stop, nil
}

// copy is the site in scratch space, its databases still to be found.
func (j Job) copy() *site.Site {
	s := *j.Site
	s.Root, s.Place = filepath.Join(j.room, "webroot"), nil
	s.Above, s.Databases = "", nil
	s.Roots = map[string]string{}
	for label := range j.Site.Roots {
		if j.Archive.Origin.Roots[label] == "" {
			continue // it was named later
		}
		s.Roots[label] = filepath.Join(j.room, "roots", label)
	}
	return &s
}

// servers are the private database servers of a rehearsal.
type servers struct {
	job    Job
	result *Result
	maria  *scratchserver.MariaDB
	pg     *scratchserver.Postgres
	// passwords are those of accounts, by engine and name; roles were made in pg.
	passwords map[string]string
	roles     map[string]bool
}

func (s *servers) stop() {
	if s.maria != nil {
		_ = s.maria.Stop()
	}
	if s.pg != nil {
		_ = s.pg.Stop()
	}
}

// move describes a database as it will be in scratch space.
func (s *servers) move(ctx context.Context, db site.Database, copied *site.Site) (site.Database, error) {
	if own, ok := s.job.Databases[db.Label]; ok {
		return s.job.configured(ctx, db, own)
	}
	switch db.Engine {
	case "sqlite":
		db = db.Within() // the copy lies where nobody else can put anything
		if label, rel, inside := s.job.Site.LiesIn(db); inside {
			db.Path = filepath.Join(copied.FolderOf(label), filepath.FromSlash(rel))
		} else {
			db.Path = filepath.Join(s.job.room, databases, db.Label+".sqlite")
			return db, s.job.Disk.MkdirAll(filepath.Dir(db.Path), 0o700)
		}
		return db, nil
	case "mysql":
		return s.mysql(ctx, db)
	default:
		return s.postgres(ctx, db)
	}
}

// configured makes sure that a database which is to be restored into is of the
// right make, and empty: so that it is not the live one, or anybody else's.
func (j Job) configured(ctx context.Context, db, own site.Database) (site.Database, error) {
	own = inScratch(db, own)
	if own.Engine != db.Engine {
		return db, fmt.Errorf("the scratch database %s is a %s one, the site's is %s", own.Where(), own.Engine, db.Engine)
	}
	if own.Where() == db.Where() {
		return db, fmt.Errorf("the scratch database %s is the site's live one; a rehearsal needs another, an empty one", own.Where())
	}
	tables, err := j.Tables(ctx, own)
	if err != nil {
		return db, err
	}
	if len(tables) > 0 {
		return db, fmt.Errorf("the scratch database %s is not empty: it has %d tables (%s …); a rehearsal needs an empty one of its own", own.Where(), len(tables), tables[0])
	}
	return own, nil
}

func (s *servers) mysql(ctx context.Context, db site.Database) (site.Database, error) {
	if s.maria == nil {
		dir := filepath.Join(s.job.server, "m")
		if err := s.job.Disk.Mkdir(dir, 0o700); err != nil {
			return db, err
		}
		m, err := scratchserver.StartMariaDB(ctx, dir, scratchserver.Options{Listen: s.job.Serve != nil, Flags: []string{"--innodb-flush-log-at-trx-commit=0", "--event-scheduler=OFF"}})
		if err != nil {
			return db, fmt.Errorf("%w; a rehearsal needs the programs of a MariaDB server on this machine, to have a database of its own, or an empty one under `rehearse: {databases: …}`; the live one is never used", err)
		}
		s.maria = m
		s.result.Servers = append(s.result.Servers, "MariaDB")
	}
	root, err := s.maria.Root()
	if err != nil {
		return db, err
	}
	defer root.Close()
	origin := s.job.Archive.Origin.Databases[db.Label]
	statement := "CREATE DATABASE `" + strings.ReplaceAll(db.Name, "`", "``") + "`"
	if word(origin.Charset) && word(origin.Collation) {
		statement += " CHARACTER SET " + origin.Charset + " COLLATE " + origin.Collation
	}
	if _, err := root.ExecContext(ctx, statement); err != nil {
		return db, fmt.Errorf("make a scratch database: %w", err)
	}
	db = s.reached(db, s.maria.Port, s.maria.Socket)
	if err := s.maria.Account(ctx, db.User, db.Password, db.Name); err != nil {
		return db, fmt.Errorf("make an account for the copy: %w", err)
	}
	return db, nil
}

// reached is a database as the copy reaches it in a scratch server: with an account like
// the site's, whose password nobody knows, through the socket unless the copy is served.
func (s *servers) reached(db site.Database, port int, socket string) site.Database {
	if db.User == "root" || db.User == "postgres" {
		db.User = "rv_copy" // those are the server's own
	}
	key := db.Engine + " " + db.User
	if s.passwords[key] == "" {
		s.passwords[key] = rand.Text()
	}
	db.Password, db.TLS, db.As = s.passwords[key], database.TLS{}, nil
	db.Host, db.Port, db.Socket = "127.0.0.1", port, ""
	if s.job.Serve == nil {
		db.Host, db.Socket = "", socket
	}
	return db
}

// word tells whether a text is safe to stand in a statement as it is.
func word(s string) bool {
	return s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") == ""
}

func (s *servers) postgres(ctx context.Context, db site.Database) (site.Database, error) {
	if s.pg == nil {
		dir := filepath.Join(s.job.server, "p")
		if err := s.job.Disk.Mkdir(dir, 0o700); err != nil {
			return db, err
		}
		p, err := scratchserver.StartPostgres(ctx, dir, scratchserver.Options{Listen: s.job.Serve != nil})
		if err != nil {
			return db, fmt.Errorf("%w; a rehearsal needs the programs of a PostgreSQL server on this machine, to have a database of its own, or an empty one under `rehearse: {databases: …}`; the live one is never used", err)
		}
		s.pg = p
		s.result.Servers = append(s.result.Servers, "PostgreSQL")
	}
	root, err := s.pg.Root(ctx, "postgres")
	if err != nil {
		return db, err
	}
	defer root.Close(ctx)
	db = s.reached(db, s.pg.Port, s.pg.Socket)
	// An account like the site's, so that everything gets the same owner.
	quote := func(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
	make := "CREATE DATABASE " + quote(db.Name) + " OWNER " + quote(db.User)
	if charset := s.job.Archive.Origin.Databases[db.Label].Charset; word(charset) && charset != "UTF8" {
		make += " ENCODING '" + charset + "' LC_COLLATE 'C' LC_CTYPE 'C' TEMPLATE template0"
	}
	statements := []string{make}
	if !s.roles[db.User] {
		statements = slices.Insert(statements, 0, "CREATE ROLE "+quote(db.User)+" LOGIN PASSWORD '"+db.Password+"'")
	}
	for _, statement := range statements {
		if _, err := root.Exec(ctx, statement); err != nil {
			return db, fmt.Errorf("make a scratch database: %w", err)
		}
	}
	s.roles[db.User] = true
	return db, nil
}

// putBack restores files, then databases, and times both.
func (j Job) putBack(ctx context.Context, copied *site.Site, r *Result) error {
	st, err := state.Open(j.Disk, j.stateDir())
	if err != nil {
		return err
	}
	part := func(files, database bool) (time.Duration, error) {
		began := j.Now()
		done, err := restore.Run(ctx, restore.Job{Site: copied, Archive: j.Archive, Files: files, Database: database, State: st, Open: j.Open, Now: j.Now, Observer: j.Observer, Anyway: true, Unserved: true})
		if err != nil {
			return 0, err
		}
		for _, link := range done.Unlinked {
			name, _, _ := strings.Cut(link, " → ")
			r.Unlinked = append(r.Unlinked, name)
		}
		r.Paths, r.Rows, r.Tables = r.Paths+done.Paths, r.Rows+done.Rows, r.Tables+done.Tables
		return j.Now().Sub(began), nil
	}
	if j.Archive.Scope.HasFiles() {
		if r.Files, err = part(true, false); err != nil {
			return err
		}
	}
	if err = j.keepApart(copied); err != nil {
		return err
	}
	if j.Archive.Scope.HasDatabase() && len(j.Archive.Origin.Databases) > 0 {
		r.Database, err = part(false, true)
	}
	return err
}

// mostTrouble is how many differences are named.
const mostTrouble = 10

// prove compares the copy with the archive, every byte and every row.
func (j Job) prove(ctx context.Context, copied *site.Site, r *Result) error {
	progress.Or(j.Observer).Phase("comparing the copy with "+j.Archive.Name, 0)
	report, err := compare.Job{A: compare.Archive{Held: j.Archive}, B: j.Live(copied), Read: true, Recipe: copied.Recipe,
		Files: j.Archive.Scope.HasFiles(), Tables: j.Archive.Scope.HasDatabase()}.Run(ctx)
	if err != nil {
		return err
	}
	r.NotCompared = report.NotCompared
	for _, f := range report.Files {
		if j.differs(f) && !slices.Contains(r.Unlinked, f.Path) {
			r.Trouble = append(r.Trouble, f.Path+" is "+f.How+" in the copy")
		}
	}
	for _, t := range report.Tables {
		if err := j.judge(ctx, copied, t, r); err != nil {
			return err
		}
	}
	for _, d := range report.Definitions {
		if err := j.judgeDefinition(ctx, copied, d, r); err != nil {
			return err
		}
	}
	for _, g := range report.Gaps {
		if slices.ContainsFunc(j.Archive.Gaps, func(known archive.Gap) bool { return known.Path == g.Path }) {
			continue // closed to this account, there as here
		}
		r.Trouble = append(r.Trouble, fmt.Sprintf("%s cannot be read in the copy: %s", g.Path, g.Why))
	}
	if more := len(r.Trouble) - mostTrouble; more > 0 {
		r.Trouble = append(r.Trouble[:mostTrouble], fmt.Sprintf("and %d more", more))
	}
	return nil
}

// judge says what a table that differs means. Another version of the server may write the same rows otherwise.
func (j Job) judge(ctx context.Context, copied *site.Site, t compare.Table, r *Result) error {
	if t.How != compare.Changed || t.Before != t.After {
		r.Trouble = append(r.Trouble, fmt.Sprintf("table %s of database %s is %s in the copy: %d rows, not %d", t.Table, t.Database, t.How, t.After, t.Before))
		return nil
	}
	versions, err := j.otherVersion(ctx, copied, t.Database)
	if versions != "" {
		r.Counted = append(r.Counted, fmt.Sprintf("%s of %s (%s)", t.Table, t.Database, versions))
	} else if err == nil {
		r.Trouble = append(r.Trouble, fmt.Sprintf("table %s of database %s has as many rows in the copy, and not the same", t.Table, t.Database))
	}
	return err
}

// judgeDefinition says what it means that something is defined otherwise. Another version may word it otherwise;
// what is there in the copy alone comes with its server.
func (j Job) judgeDefinition(ctx context.Context, copied *site.Site, d compare.Definition, r *Result) error {
	if d.How == compare.Added {
		return nil
	}
	if d.How == compare.Changed {
		if versions, err := j.otherVersion(ctx, copied, d.Database); versions != "" || err != nil {
			return err
		}
	}
	r.Trouble = append(r.Trouble, fmt.Sprintf("the %s of database %s is %s in the copy", d.Object, d.Database, d.How))
	return nil
}

// otherVersion tells which version an archived database was of, and which the copy is, if that is another one.
func (j Job) otherVersion(ctx context.Context, copied *site.Site, label string) (string, error) {
	db, _ := copied.Database(label)
	is, err := j.Version(ctx, db)
	if err != nil {
		return "", fmt.Errorf("ask which version the copy's database is of: %w", err)
	}
	if was := j.Archive.Origin.Databases[label].Version; was != is {
		return fmt.Sprintf("it was %s, the copy is in %s", was, is), nil
	}
	return "", nil
}

// differs tells whether a difference counts: an ordinary account cannot give
// files away, and the settings file above the webroot is not restored.
func (j Job) differs(f compare.File) bool {
	return f.How != compare.Rights && !strings.HasPrefix(f.Path, site.AboveLabel+"/") && f.Path != site.AboveLabel
}

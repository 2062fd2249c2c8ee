package archive

import (
	"fmt"
	"net/url"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// This file is the gate for what a record says of the site that it is of. A store may be
// in anybody's hands, and what a record says becomes paths to write to, lines of a
// configuration and names in messages: only what a backup writes may pass.

// label is what databases and folders of a site are called, and what a recipe is.
var label = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,60}$`)

// ValidLabel tells whether a name may be one of a database or a folder of a site: small
// letters, digits, dots, dashes and underscores.
func ValidLabel(name string) bool { return label.MatchString(name) }

// mostSlices bounds how many slices a table may have: of 64 MiB each, 64 TiB.
const mostSlices = 1 << 20

// longestText bounds a path, a rule, an address.
const longestText = 4096

// plainText tells whether a text is UTF-8 of one line, without characters that steer a
// terminal.
func plainText(s string) bool {
	return len(s) <= longestText && utf8.ValidString(s) && strings.IndexFunc(s, func(c rune) bool { return !unicode.IsPrint(c) }) < 0
}

// folderPath tells whether a path may be that of a folder: absolute, without detours.
func folderPath(s string) bool { return plainText(s) && path.IsAbs(s) && path.Clean(s) == s }

var sqlKinds = map[string]bool{KindFiles: false, KindTree: false, KindSchema: true, KindRows: true, KindObjects: true, KindDump: true}

// checkPart refuses a part that no backup describes so.
func (r *Record) checkPart(p *Part) error {
	if len(r.Sealed) > 0 {
		if !reflect.DeepEqual(*p, p.public()) {
			return fmt.Errorf("part %.80q says in the clear what belongs to the key", p.Name)
		}
		return nil
	}
	if err := p.checkPieces(r.Encrypted); err != nil {
		return fmt.Errorf("part %.80q: %w", p.Name, err)
	}
	isSQL, known := sqlKinds[p.Kind]
	switch {
	case !known || isSQL != p.IsSQL():
		return fmt.Errorf("part %.80q cannot be of kind %.20q", p.Name, p.Kind)
	case p.ContentBytes < 0 || p.Entries < 0 || p.Slice < 0 || p.Slice > mostSlices || p.Kind != KindRows && p.Slice != 0:
		return fmt.Errorf("part %.80q counts wrongly", p.Name)
	case len(p.Pieces) > 0 && (p.Kind != KindFiles || p.Entries != 1):
		return fmt.Errorf("part %.80q cannot have pieces", p.Name)
	case p.Kind == KindRows && (p.Slice == 0 || p.Table == ""):
		return fmt.Errorf("part %.80q is of no table", p.Name)
	case isSQL:
		if _, ok := r.Origin.Databases[p.Database]; !ok {
			return fmt.Errorf("part %.80q is of a database %.80q that the record does not describe", p.Name, p.Database)
		}
	}
	return nil
}

// checkTotals refuses sums that cannot be: below nothing, or not those of the objects
// that the record names.
func (r *Record) checkTotals() error {
	t := r.Totals
	for _, n := range []int64{t.Files, t.Folders, t.Links, t.FileBytes, t.Tables, t.Rows, t.DatabaseBytes, t.NewBytes, t.Skipped} {
		if n < 0 {
			return fmt.Errorf("it counts %d of something", n)
		}
	}
	stored := int64(0)
	r.Objects(func(_ string, bytes int64, _ string) { stored += bytes })
	if t.StoredBytes != stored || t.NewBytes > stored {
		return fmt.Errorf("it counts %d stored bytes, its parts and list have %d", t.StoredBytes, stored)
	}
	return nil
}

// Tidy makes what a site says of itself fit to stand in a record: what is not plain text
// becomes so, and an address that is none is left out.
func (o *Origin) Tidy() {
	if !siteAddress(o.Address) {
		o.Address = ""
	}
	o.Version = tidied(o.Version)
	for name, db := range o.Databases {
		for _, text := range []*string{&db.Version, &db.Prefix, &db.Charset, &db.Collation, &db.Consistency} {
			*text = tidied(*text)
		}
		o.Databases[name] = db
	}
}

func tidied(s string) string {
	s = strings.Map(func(c rune) rune {
		if !unicode.IsPrint(c) {
			return '?'
		}
		return c
	}, strings.ToValidUTF8(s, "?"))
	return strings.ToValidUTF8(s[:min(len(s), longestText)], "")
}

// plainLines is a note of a person's, without what steers a terminal.
func plainLines(s string) string {
	lines := strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n")
	for i, line := range lines {
		lines[i] = tidied(strings.ReplaceAll(line, "\t", " "))
	}
	return strings.Join(lines, "\n")
}

// tidyText makes what a record says in words fit to be shown.
func (r *Record) tidyText() {
	r.Note, r.Program, r.Host = plainLines(r.Note), tidied(r.Program), tidied(r.Host)
	for i := range r.Gaps {
		r.Gaps[i].Why = tidied(r.Gaps[i].Why)
	}
}

func siteAddress(s string) bool {
	u, err := url.Parse(s)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil && plainText(s)
}

// farPlace tells whether an address is that of a machine, without a password or a path.
func farPlace(s string) bool {
	u, err := url.Parse(s)
	if err != nil || !slices.Contains([]string{"sftp", "ftp", "plain-ftp"}, u.Scheme) || u.Host == "" || u.Path+u.RawQuery+u.Fragment != "" || !plainText(s) || strings.ContainsAny(s, " \"'`\\") {
		return false
	}
	_, secret := u.User.Password()
	return !secret
}

// Check refuses a description of a site that no backup writes.
func (o *Origin) Check() error {
	if o.Place != "" && !farPlace(o.Place) {
		return fmt.Errorf("%.200q is no machine of a site", o.Place)
	}
	for name, dir := range o.Roots {
		if !ValidLabel(name) || !folderPath(dir) {
			return fmt.Errorf("a folder %.80q at %.200q is none that a site can have", name, dir)
		}
	}
	for name, dir := range o.Real {
		if o.Roots[name] == "" || !folderPath(dir) {
			return fmt.Errorf("a folder %.80q really at %.200q is none that a site can have", name, dir)
		}
	}
	for name, db := range o.Databases {
		engine := db.Engine == "mysql" || db.Engine == "postgres" || db.Engine == "sqlite"
		if !ValidLabel(name) || !engine || db.Engine == "sqlite" && !folderPath(db.Where) {
			return fmt.Errorf("a database %.80q of kind %.20q at %.200q is none that a site can have", name, db.Engine, db.Where)
		}
		for _, text := range []string{db.Version, db.Name, db.Where, db.Prefix, db.Charset, db.Collation, db.Consistency, db.Mode} {
			if !plainText(text) {
				return fmt.Errorf("database %q is described by %.80q, which is no plain text", name, text)
			}
		}
		if err := db.Owner.check(); err != nil {
			return fmt.Errorf("database %q: %w", name, err)
		}
	}
	if o.Recipe != "" && !ValidLabel(o.Recipe) || !plainText(o.Version) {
		return fmt.Errorf("%.80q %.80q is no CMS", o.Recipe, o.Version)
	}
	for _, rule := range o.Skipped {
		if rule == "" || !plainText(rule) {
			return fmt.Errorf("%.80q is no rule that leaves paths out", rule)
		}
	}
	if o.Address != "" && !siteAddress(o.Address) {
		return fmt.Errorf("%.200q is no address of a site", o.Address)
	}
	for _, l := range o.Outside {
		if l.Path == "" || !plainText(l.Path) || !plainText(l.To) {
			return fmt.Errorf("%.80q, which leads to %.80q, is no link of a site", l.Path, l.To)
		}
	}
	if err := o.Owner.check(); err != nil {
		return err
	}
	if o.OutsideMore < 0 {
		return fmt.Errorf("it counts %d links", o.OutsideMore)
	}
	return nil
}

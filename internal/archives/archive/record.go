// Package archive is the archive format, version 1, as docs/FORMAT.md lays it
// down: records, lists and parts, and how to read and write them.
package archive

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"revlet/internal/platform/encryption"
	"revlet/internal/platform/signing"
)

// Format is the version of the format that this program writes.
const Format = 1

// Scope is what an archive holds.
type Scope string

// The scopes. What somebody has packed by hand and had taken in has one of its own: of when it is, and whether its halves
// belong together, nobody can tell. It does no duty, and is not taken by itself where there is anything else.
const (
	Full        Scope = "full"
	Files       Scope = "files"
	Database    Scope = "database"
	FullByHand  Scope = "full by hand"
	FilesByHand Scope = "files by hand"
)

// ByHand tells whether somebody has packed it.
func (s Scope) ByHand() bool { return s == FullByHand || s == FilesByHand }

// HasFiles tells whether archives of this scope hold files.
func (s Scope) HasFiles() bool { return s == Full || s == Files || s.ByHand() }

// HasDatabase tells whether archives of this scope hold databases.
func (s Scope) HasDatabase() bool { return s == Full || s == Database || s == FullByHand }

// ParseScope reads a scope as typed.
func ParseScope(s string) (Scope, error) {
	switch Scope(s) {
	case Full, Files, Database:
		return Scope(s), nil
	}
	return "", fmt.Errorf("scope %q: it is full, files or database", s)
}

// Record is the small file that makes an archive exist. It is written last.
type Record struct {
	Format int    `json:"format"`
	Name   string `json:"name"`
	Site   string `json:"site"`
	// Taken is when the archive was begun; its databases are as of then.
	Taken    time.Time `json:"taken"`
	Finished time.Time `json:"finished"`
	Scope    Scope     `json:"scope"`
	Note     string    `json:"note,omitempty"`
	Program  string    `json:"program"`
	Host     string    `json:"host"`
	Origin   Origin    `json:"origin"`
	// Parts stand in the order in which they are put back by hand.
	Parts  []Part  `json:"parts"`
	List   ListRef `json:"list"`
	Totals Totals  `json:"totals"`
	Gaps   []Gap   `json:"gaps"`
	// Encrypted tells that parts and list are encrypted with age.
	Encrypted bool `json:"encrypted,omitempty"`
	// Sealed holds what of an encrypted archive's record only its key opens: all but
	// what is needed to count, check and remove its objects. It is empty once opened.
	Sealed []byte `json:"sealed,omitempty"`
	// Number counts the archives of the site that the signer has taken, from 1; Before is the
	// one before, nil for the first.
	Number int64 `json:"number,omitempty"`
	Before *Link `json:"before,omitempty"`
	// Checksum is the SHA-256 of the encoded record with this field and the next empty.
	// It tells what a disk or a line has changed.
	Checksum string `json:"checksum"`
	// Signature is that of the same bytes, by the machine that took the archive; empty in
	// one that nobody has signed. See Signer.
	Signature string `json:"signature"`

	signer signing.Public
}

// Link names a record by its name and its checksum.
type Link struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
}

// Signer is the key that has signed the record's stored bytes; empty when nobody has. That
// a key has signed it does not mean that the key is to be trusted.
func (r *Record) Signer() signing.Public { return r.signer }

// Origin tells where an archive came from, without secrets.
type Origin struct {
	// Roots maps the first path element in lists and tar entries to the folder
	// it was on the site's machine.
	Roots map[string]string `json:"roots,omitempty"`
	// Real is where a folder lay with links on the way to it resolved, where that is another path.
	Real map[string]string `json:"real,omitempty"`
	// Place is the machine itself where that is not the one that took the archive, such as
	// sftp://keeper@host.example.
	Place     string              `json:"place,omitempty"`
	Address   string              `json:"address,omitempty"`
	Recipe    string              `json:"recipe,omitempty"`
	Version   string              `json:"version,omitempty"`
	Databases map[string]DBOrigin `json:"databases,omitempty"`
	Skipped   []string            `json:"skip,omitempty"`
	// Owner is whose the webroot was.
	Owner *Owner `json:"owner,omitempty"`
	// Outside are symbolic links that lead out of the site's folders: what is behind them is not in the archive.
	// OutsideMore is how many there are beyond.
	Outside     []Outside `json:"outside,omitempty"`
	OutsideMore int64     `json:"outside_more,omitempty"`
}

// Outside is a symbolic link, by its path in the list, and the absolute path that it leads to, both as text.
type Outside struct {
	Path string `json:"path"`
	To   string `json:"to"`
}

// NewOutside makes the names fit to stand in a record.
func NewOutside(path, to string) Outside { return Outside{tidied(path), tidied(to)} }

// DBOrigin describes one database's server and how its dump was made.
type DBOrigin struct {
	Engine  string `json:"engine"`
	Version string `json:"version"`
	Name    string `json:"name"`
	Where   string `json:"where"`
	Prefix  string `json:"prefix,omitempty"`
	// Charset and Collation are the database's defaults.
	Charset   string `json:"charset,omitempty"`
	Collation string `json:"collation,omitempty"`
	// Consistency says how the dump was kept to one moment.
	Consistency string `json:"consistency,omitempty"`
	// Dumped is when the host's own job wrote the dump that was taken in, if one was.
	Dumped    time.Time `json:"dumped,omitzero"`
	Sequences []string  `json:"sequences,omitempty"`
	// NotRead counts the tables whose rows were not read: the server vouches that nothing in them has changed since the archive
	// NotReadSince, whose parts they have.
	NotRead      int    `json:"not_read,omitempty"`
	NotReadSince string `json:"not_read_since,omitempty"`
	// Neighbours counts tables of other sites in the same database, left out.
	Neighbours int `json:"neighbours,omitempty"`
	// Mode and Owner are those of a database that is a file.
	Mode  string `json:"mode,omitempty"`
	Owner *Owner `json:"owner,omitempty"`
}

// Owner is whose something was on the site's machine: numbers, and the names where that machine tells them.
type Owner struct {
	UID   int    `json:"uid"`
	GID   int    `json:"gid"`
	User  string `json:"user,omitempty"`
	Group string `json:"group,omitempty"`
}

// NewOwner makes the names fit to stand in a record.
func NewOwner(uid, gid int, user, group string) *Owner {
	return &Owner{uid, gid, tidied(user), tidied(group)}
}

// check refuses what no machine says.
func (o *Owner) check() error {
	if o != nil && (o.UID < 0 || o.GID < 0 || !plainText(o.User) || !plainText(o.Group)) {
		return fmt.Errorf("%.80q (%d) and %.80q (%d) are no account and group", o.User, o.UID, o.Group, o.GID)
	}
	return nil
}

// The kinds of parts, in the order of Record.Parts.
const (
	KindFiles   = "files"   // regular files
	KindTree    = "tree"    // folders, links: unpacked after the files
	KindSchema  = "schema"  // tables without rows
	KindRows    = "rows"    // rows of one table or of a slice of it
	KindObjects = "objects" // views, triggers, routines, events
	KindDump    = "dump"    // all of a database, as another program has written it
)

// Part is one object that holds a share of an archive's content.
type Part struct {
	// Name is the SHA-256 of the stored bytes and an ending: .tar, .tar.zst
	// or .sql.zst, and .age after it when it is encrypted.
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
	Kind   string `json:"kind"`
	// Database is the label of the database, for parts of one.
	Database string `json:"database,omitempty"`
	// Table is the table that a part of kind rows belongs to.
	Table string `json:"table,omitempty"`
	// Slice counts the slices of a table from 1.
	Slice int `json:"slice,omitempty"`
	// ContentBytes is the length after decompression.
	ContentBytes int64 `json:"content_bytes"`
	// ContentSHA256 is of the content, for parts that are not of kind files.
	ContentSHA256 string `json:"content_sha256,omitempty"`
	// Entries counts the files or rows inside.
	Entries int64 `json:"entries"`
	// Pieces are what follows where the content is too long for one object: that of the part itself ends
	// behind the header of its one file.
	Pieces []Piece `json:"pieces,omitempty"`
}

// ListRef names the list's bytes.
type ListRef struct {
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
	Lines  int64  `json:"lines"`
}

// Totals sums an archive up; sizes are bytes.
type Totals struct {
	Files         int64 `json:"files"`
	Folders       int64 `json:"folders"`
	Links         int64 `json:"links"`
	FileBytes     int64 `json:"file_bytes"`
	Tables        int64 `json:"tables"`
	Rows          int64 `json:"rows"`
	DatabaseBytes int64 `json:"database_bytes"`
	// StoredBytes is what all parts and the list take in a store.
	StoredBytes int64 `json:"stored_bytes"`
	// NewBytes is the share of StoredBytes that no earlier archive held.
	NewBytes int64 `json:"new_bytes"`
	// Skipped counts paths left out by rule.
	Skipped int64 `json:"skipped"`
}

// Gap is a file or table that an archive could not hold.
type Gap struct {
	Path string `json:"path"`
	// Kind is unreadable, moving, special or database.
	Kind string `json:"kind"`
	Why  string `json:"why"`
}

// The kinds of gaps.
const (
	GapUnreadable = "unreadable"
	GapMoving     = "moving"
	GapSpecial    = "special"
	GapDatabase   = "database"
)

// mostBytes bounds the length of an object: sums of as many as a record can name do not
// run over.
const mostBytes = 1 << 44

const nameTime = "20060102-150405"

// NewName names the archive of a site taken at a moment.
func NewName(site string, taken time.Time) string {
	return site + "-" + taken.UTC().Format(nameTime)
}

var archiveName = regexp.MustCompile(`^([a-z0-9][a-z0-9._-]*)-(\d{8}-\d{6})$`)

// SplitName takes an archive's whole name apart; false when it is not one.
func SplitName(name string) (site string, taken time.Time, ok bool) {
	m := archiveName.FindStringSubmatch(name)
	if m == nil {
		return "", time.Time{}, false
	}
	t, err := time.Parse(nameTime, m[2])
	return m[1], t, err == nil
}

// RecordPath is where a record lies in a store.
func RecordPath(site, name string) string { return path.Join(site, "archives", name+".json") }

// Path is where the record lies in a store.
func (r *Record) Path() string { return RecordPath(r.Site, r.Name) }

// ListPath is where the archive's list lies in a store.
func (r *Record) ListPath() string {
	name := r.Name + ".jsonl.zst"
	if r.Encrypted {
		name += encryption.Ending
	}
	return path.Join(ListsDir(r.Site), name)
}

// Objects visits the name and length of everything that the archive consists
// of in a store, its record apart, each once.
func (r *Record) Objects(visit func(name string, bytes int64, sha256 string)) {
	visit(r.ListPath(), r.List.Bytes, r.List.SHA256)
	seen := map[string]bool{}
	for _, p := range r.Parts {
		for o := range p.Objects() {
			if !seen[o.Name] {
				seen[o.Name] = true
				visit(PartPath(r.Site, o.Name), o.Bytes, o.SHA256)
			}
		}
	}
}

// TurnsDir is the folder of a site in a store in which machines that share the site say whose turn of a duty it is.
func TurnsDir(site string) string { return path.Join(site, "turns") }

// RunningDir is the folder of a site in a store in which runs leave a mark
// while they write there.
func RunningDir(site string) string { return path.Join(site, "running") }

// PartPath is where a part lies in a store.
func PartPath(site, part string) string { return path.Join(PartsDir(site), part[:2], part) }

// PartsDir is the folder of a site's parts in a store.
func PartsDir(site string) string { return path.Join(site, "parts") }

// ListsDir is the folder of a site's lists in a store.
func ListsDir(site string) string { return path.Join(site, "lists") }

// RecordsDir is the folder of a site's records in a store.
func RecordsDir(site string) string { return path.Join(site, "archives") }

var partName = regexp.MustCompile(`^[0-9a-f]{64}\.(tar|tar\.zst|sql\.zst)(\.age)?$`)

// IsPartName tells whether an object is called like a part or a piece of one.
func IsPartName(name string) bool { return partName.MatchString(name) || pieceName.MatchString(name) }

// ErrRecord is wrapped by errors about a record that cannot be used.
var ErrRecord = errors.New("the record is not usable")

// ErrSigner is wrapped by errors about a record that nobody known has signed.
var ErrSigner = errors.New("nobody known here has signed it")

// DecodeRecord reads and checks a record. A record of a newer format, or one
// that is damaged, gives an error that wraps ErrRecord.
func DecodeRecord(data []byte) (*Record, error) {
	if err := affordable(data); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRecord, err)
	}
	var version struct {
		Format int `json:"format"`
	}
	if err := json.Unmarshal(data, &version); err != nil {
		return nil, fmt.Errorf("%w: not JSON: %w", ErrRecord, err)
	}
	if version.Format > Format {
		return nil, fmt.Errorf("%w: format %d is newer than this Revlet knows (%d); use a newer Revlet", ErrRecord, version.Format, Format)
	}
	r := &Record{}
	if err := json.Unmarshal(data, r); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRecord, err)
	}
	if err := r.check(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRecord, err)
	}
	r.tidyText()
	if err := r.checkSums(data); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRecord, err)
	}
	return r, nil
}

// SignatureNamespace is what records are signed for.
const SignatureNamespace = "revlet-record"

// trailer is how an encoded record ends: with what is of the bytes before it.
var trailer = regexp.MustCompile(`\n  "checksum": "([0-9a-f]{64})",\n  "signature": "([A-Za-z0-9+/=]*)"\n}\n$`)

// longestTrailer bounds its length: a signature has some 400 bytes in base64.
const longestTrailer = 2048

const (
	emptyTrailer  = "\n  \"checksum\": \"\",\n  \"signature\": \"\"\n}\n"
	filledTrailer = "\n  \"checksum\": \"%s\",\n  \"signature\": \"%s\"\n}\n"
)

// checkSums compares an encoded record with its checksum and its signature. Only these
// bytes are looked at, never what they decode to: there is one way to read them.
func (r *Record) checkSums(data []byte) error {
	from := max(len(data)-longestTrailer, 0)
	found := trailer.FindSubmatchIndex(data[from:])
	for i := range found {
		found[i] += from
	}
	if found == nil {
		return errors.New("it does not end as a record does: it was changed since it was written")
	}
	r.Checksum, r.Signature = string(data[found[2]:found[3]]), string(data[found[4]:found[5]])
	signed := append(bytes.Clone(data[:found[0]]), emptyTrailer...)
	if sum := sha256.Sum256(signed); hex.EncodeToString(sum[:]) != r.Checksum {
		return errors.New("its checksum does not fit: it was changed since it was written")
	}
	if r.Signature == "" {
		return nil
	}
	var err error
	r.signer, err = signing.Verify(SignatureNamespace, signed, r.Signature)
	return err
}

func (r *Record) check() error {
	site, _, ok := SplitName(r.Name)
	if r.Format != Format || !ok || site != r.Site {
		return fmt.Errorf("format %d, name %q and site %q do not make sense together", r.Format, r.Name, r.Site)
	}
	if _, err := ParseScope(string(r.Scope)); err != nil && !r.Scope.ByHand() {
		return err
	}
	if r.Number < 0 || r.Before != nil && !r.Before.sound(r.Site) {
		return fmt.Errorf("number %d and the archive before it do not make sense", r.Number)
	}
	for i, p := range r.Parts {
		if strings.HasSuffix(p.Name, encryption.Ending) != r.Encrypted {
			return fmt.Errorf("part %d (%q) and `encrypted` do not make sense together", i+1, p.Name)
		}
		if !partName.MatchString(p.Name) || !strings.HasPrefix(p.Name, p.SHA256) || p.Bytes < 0 || p.Bytes > mostBytes {
			return fmt.Errorf("part %d (%q) is not described soundly", i+1, p.Name)
		}
		if err := p.checkPieces(r.Encrypted); err != nil {
			return fmt.Errorf("part %d: %w", i+1, err)
		}
	}
	if r.List.Bytes < 0 || r.List.Bytes > mostBytes || r.List.Lines < 0 || !sum256.MatchString(r.List.SHA256) {
		return errors.New("the list is not described soundly")
	}
	return r.checkContent()
}

var sum256 = regexp.MustCompile(`^[0-9a-f]{64}$`)

// sound tells whether a link can be one to an archive of a site.
func (l *Link) sound(site string) bool {
	of, _, ok := SplitName(l.Name)
	return ok && of == site && sum256.MatchString(l.SHA256)
}

// checkContent checks what is sealed in an encrypted record, once it is open.
func (r *Record) checkContent() error {
	for i := range r.Parts {
		if err := r.checkPart(&r.Parts[i]); err != nil {
			return err
		}
	}
	if err := r.checkTotals(); err != nil {
		return err
	}
	return r.Origin.Check()
}

// Encode writes the record as it is stored, signed with a key; nil leaves it unsigned.
func (r *Record) Encode(key *signing.Key) ([]byte, error) {
	if r.Gaps == nil {
		r.Gaps = []Gap{}
	}
	r.Checksum, r.Signature, r.signer = "", "", ""
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return nil, err
	}
	data = append(data, '\n')
	before, ok := bytes.CutSuffix(data, []byte(emptyTrailer))
	if !ok {
		return nil, errors.New("a record ends with its checksum and its signature")
	}
	sum := sha256.Sum256(data)
	r.Checksum = hex.EncodeToString(sum[:])
	if key != nil {
		if r.Signature, err = key.Sign(SignatureNamespace, data); err != nil {
			return nil, err
		}
		r.signer = key.Public()
	}
	return fmt.Appendf(before, filledTrailer, r.Checksum, r.Signature), nil
}

// IsSQL tells whether a part is SQL text, not tar.
func (p *Part) IsSQL() bool { return strings.Contains(p.Name, SQLZstd) }

// HasDump tells whether a database is held as text that another program has written.
func (r *Record) HasDump(database string) bool {
	return slices.ContainsFunc(r.Parts, func(p Part) bool { return p.Kind == KindDump && p.Database == database })
}

// Knows tells whether an archive has something to say of a table: its rows, that it is
// a sequence, or that it could not be saved.
func (r *Record) Knows(database, table string) bool {
	return slices.Contains(r.Origin.Databases[database].Sequences, table) ||
		slices.ContainsFunc(r.Parts, func(p Part) bool { return p.Kind == KindRows && p.Database == database && p.Table == table }) ||
		slices.ContainsFunc(r.Gaps, func(g Gap) bool {
			return g.Kind == GapDatabase && strings.HasPrefix(g.Path, "database/"+database+"/") && strings.HasSuffix(g.Path, " "+table)
		})
}

// PartNamed returns the part with a name, or nil.
func (r *Record) PartNamed(name string) *Part {
	for i := range r.Parts {
		if r.Parts[i].Name == name {
			return &r.Parts[i]
		}
	}
	return nil
}

// Package reason gives errors a reason that programs decide by, beside the
// sentence that people read.
//
// The packages below the command line say what went wrong and with what: they
// know nothing of commands and options. Whoever talks to a person looks up what
// can be done about a reason, and words it. Nothing is decided by the text of a
// message.
//
//	return reason.New(reason.NoArchives, reason.Names{"site": name}, "site %s has none yet", name)
//
// Begin with New, and with All for the other side. Reasons survive wrapping with
// %w and errors.Join. All functions are safe for concurrent use.
package reason

import "fmt"

// Reason names one thing that can go wrong. The names are stable.
type Reason string

// The reasons there are.
const (
	// Usage is a request that makes no sense as it stands.
	Usage Reason = "usage"
	// NoConfig: there is no configuration file; NoSites: it names no site.
	NoConfig Reason = "no-config"
	NoSites  Reason = "no-sites"
	// ProgramOfOthers: what is to be run as root, "path", is "account"'s, or others may change it.
	ProgramOfOthers Reason = "program-of-others"
	// ConfigOfOthers: the configuration that was found belongs to somebody else. ConfigWritable: others may
	// change it, "path". ConfigFolder: it lies where somebody else
	// could put another one in its place.
	// IncludeOfOthers is a file that the configuration includes and others may change.
	IncludeOfOthers Reason = "include-of-others"
	ConfigOfOthers  Reason = "config-of-others"
	ConfigWritable  Reason = "config-writable"
	ConfigFolder    Reason = "config-folder"
	// TablesInUse: others hold tables of "database" that are to change places.
	TablesInUse Reason = "tables-in-use"
	// PartsVanished: parts of archives of "site" are gone from "store", and nobody here has removed them.
	PartsVanished Reason = "parts-vanished"
	// StateFolder: the state folder cannot be used. StateOfOthers: others could put something into it, "path".
	StateFolder   Reason = "state-folder"
	StateOfOthers Reason = "state-of-others"
	// StateDamaged: the file "path" of the state folder is damaged. KeyDamaged: the signing key is. JournalDamaged:
	// what a restore of "site" has noted of itself is.
	StateDamaged   Reason = "state-damaged"
	KeyDamaged     Reason = "key-damaged"
	JournalDamaged Reason = "journal-damaged"
	// WebrootMissing: a site's webroot is not there.
	WebrootMissing Reason = "webroot-missing"
	// PlaceUnconfirmed: where "site" lies, at "path", is known from an archive only.
	PlaceUnconfirmed Reason = "place-unconfirmed"
	// CMSBelow: the CMS is one folder deeper, at "path".
	CMSBelow Reason = "cms-below"
	// NoArchives: "site" has no archive; UnknownArchive: it has none of that name.
	NoArchives     Reason = "no-archives"
	UnknownArchive Reason = "unknown-archive"
	// NoneServes: no archive of "site" is good for what is wanted; "archive" is the
	// newest.
	NoneServes Reason = "none-serves"
	// ArchiveDamaged: "archive" cannot be restored whole.
	ArchiveDamaged Reason = "archive-damaged"
	// SignerUnknown: "archive" was signed by "key", whom this machine does not know;
	// Unsigned: it was signed by nobody.
	SignerUnknown Reason = "signer-unknown"
	Unsigned      Reason = "unsigned"
	// ArchiveHeld: "archive" is exempt from removal. LastArchive: no other good full archive would be left.
	// NotThere: there is no store that something can be removed from.
	ArchiveHeld Reason = "archive-held"
	LastArchive Reason = "last-archive"
	NotThere    Reason = "not-there"
	// SomeDamaged: something that was wanted of "archive" is damaged in every store.
	SomeDamaged Reason = "some-damaged"
	// NoKey: it is encrypted and no key was given. NobodyToEncryptFor: the
	// configuration wants encryption and names no recipient.
	NoKey              Reason = "no-key"
	KeyUntried         Reason = "key-untried"
	NoPassphrase       Reason = "no-passphrase"
	NobodyToEncryptFor Reason = "nobody-to-encrypt-for"
	// HostUnknown and HostChanged: an SSH host key that nobody has accepted.
	HostUnknown Reason = "host-unknown"
	// SiteHostUnknown and SiteHostChanged are the same of the machine of a site.
	SiteHostUnknown    Reason = "site-host-unknown"
	NewSiteHostUnknown Reason = "new-site-host-unknown"
	SiteHostChanged    Reason = "site-host-changed"
	HostChanged        Reason = "host-changed"
	// NoSwitch: "site" cannot be closed for a while. NamesChanged: a domain's name servers lead to the
	// new machine already.
	NoSwitch     Reason = "no-switch"
	NamesChanged Reason = "names-changed"
	// NamesUnknown: nobody could be asked where a domain's names lead.
	NamesUnknown Reason = "names-unknown"
	// CannotMove: an archive cannot come up at another place. SettingsByHand: its settings
	// cannot be changed as they are written. PlaceTaken: something is at the new place.
	CannotMove     Reason = "cannot-move"
	SettingsByHand Reason = "settings-by-hand"
	PlaceTaken     Reason = "place-taken"
	// SystemFolder: a folder of the site, "path", is one of the machine's system.
	SystemFolder Reason = "system-folder"
	// MoveGone: the last move of the cutover of "site" to "to" is not there to be taken back.
	MoveGone Reason = "move-gone"
	// NotSavedBefore: what is to be taken back from "to", where the cutover of "site" led, could not be saved.
	NotSavedBefore Reason = "not-saved-before"
	// RootUnnamed: an archive has a further folder, "label", which lay at "path", and the entry of "site" has none of that name.
	RootUnnamed Reason = "root-unnamed"
	// FolderUnnamed: an archive has a further folder, "label", of which the new place says nothing.
	FolderUnnamed Reason = "folder-unnamed"
	// NoSuchAccount: "site" has no account of that name. NoAccounts: what accounts there
	// are is not known of its CMS. OtherRows: another number of rows than was
	// expected would change. ChangedSince: what is to be taken back was changed again. WorkAs: root is
	// not to work in the folders of "account".
	NoSuchAccount Reason = "no-such-account"
	NoAccounts    Reason = "no-accounts"
	OtherRows     Reason = "other-rows"
	ChangedSince  Reason = "changed-since"
	WorkAs        Reason = "work-as"
	// OlderServer: the archive is of a newer database server.
	OlderServer Reason = "older-server"
	// OtherSite: the archive looks like one of another site. OtherCMS: of another
	// CMS.
	OtherSite Reason = "other-site"
	OtherCMS  Reason = "other-cms"
	// NoTLS: a database server elsewhere speaks no TLS; Untrusted: its certificate is not
	// trusted.
	NoTLS     Reason = "no-tls"
	Untrusted Reason = "untrusted"
	// ServerOfOthers: what answers in the place of this machine's database server is another account's program.
	// WantsPassword: a server wants the password itself over a line that is not protected.
	ServerOfOthers Reason = "server-of-others"
	WantsPassword  Reason = "wants-password"
	// DatabaseElsewhere: a site's settings choose a database file, "path" for "label",
	// outside the site's folders.
	DatabaseElsewhere Reason = "database-elsewhere"
	// LinkedDatabase: a database file is to lie behind the link "path", which leads out of the webroot.
	LinkedDatabase Reason = "linked-database"
	// LinkedShare: "path", below which a share of "archive" is to be put, is a link on the site that leads out of it.
	LinkedShare Reason = "linked-share"
	// DatabaseMoved: the settings of "site" lead to another database than they did.
	DatabaseMoved Reason = "database-moved"
	// DatabaseUnknown: the site has no database of that label now.
	DatabaseUnknown Reason = "database-unknown"
	// ServerSetup: a database server lacks database, account or rights; "sql" makes them.
	ServerSetup Reason = "server-setup"
	// ServerRights: it lacks the database or the account's rights, and lets the account in; "sql" makes them.
	ServerRights Reason = "server-rights"
	// NotCarried: what an archive never held belongs to another account, and cannot be carried over.
	NotCarried Reason = "not-carried"
	// PacketLimit: a database server takes no row as large as one that is to be put back.
	PacketLimit Reason = "packet-limit"
	// Locked: "path" cannot be changed, not even by root.
	Locked Reason = "locked"
	// ObjectsDenied: the account may not make "what", such as triggers, on its server.
	ObjectsDenied Reason = "objects-denied"
	// OwnedByOthers: what would be exchanged does not belong to "account".
	OwnedByOthers Reason = "owned-by-others"
	// DumpAlone: the database of an "archive" is known by the dump that the host leaves, and
	// cannot be reached.
	DumpAlone Reason = "dump-alone"
	// NeedsNotMet: the new place lacks what a CMS needs.
	NeedsNotMet Reason = "needs-not-met"
	// AccountTaken: an account that is to be made is there, with another password.
	AccountTaken Reason = "account-taken"
	// ComesWhole: a database can only be restored as a whole.
	ComesWhole Reason = "comes-whole"
	// PathNotHeld and TableNotHeld: "archive" does not hold what is wanted.
	PathNotHeld  Reason = "path-not-held"
	TableNotHeld Reason = "table-not-held"
	// TableGone: "table" is not there any more, and cannot be made again alone.
	TableGone Reason = "table-gone"
	// ColumnGone: "table" has changed since.
	ColumnGone Reason = "column-gone"
	// NoPrimaryKey: rows of "table" cannot be told apart.
	NoPrimaryKey Reason = "no-primary-key"
	// KeysTaken: the keys of rows of "table" belong to others now.
	KeysTaken Reason = "keys-taken"
	// ParentsGone: rows refer to rows of "table" whose "column" is "value".
	ParentsGone Reason = "parents-gone"
	// ParentsRequired: the same, and the database insists on them.
	ParentsRequired Reason = "parents-required"
	// StillReferred: rows that would go are still referred to.
	StillReferred Reason = "still-referred"
	// OnlySQL: SQL was given where a file archive is needed.
	OnlySQL Reason = "only-sql"
	// SettingsElsewhere: the settings in "archive" lead to other databases than the
	// site's; SettingsElsewhereKeep: and the present ones lead to these.
	SettingsElsewhere     Reason = "settings-elsewhere"
	SettingsElsewhereKeep Reason = "settings-elsewhere-keep"
	// OnlyRows: SQL gives rows of a table and not its definition. WhichDatabase: SQL
	// holds several databases, and it must be said which is meant.
	OnlyRows      Reason = "only-rows"
	WhichDatabase Reason = "which-database"
	// DoesNotFit: a value of SQL, or one that was to be set, does not fit its column. Of SQL
	// it can be taken all the same: DoesNotFitSQL.
	DoesNotFit    Reason = "does-not-fit"
	DoesNotFitSQL Reason = "does-not-fit-sql"
	// RowsDoNotFit: rows of "table" do not fit the columns that it has now.
	RowsDoNotFit Reason = "rows-do-not-fit"
	// RowsVanished: a server has taken rows and does not hold them.
	RowsVanished Reason = "rows-vanished"
	// MountedInside: something is mounted inside a folder that is to be exchanged.
	MountedInside Reason = "mounted-inside"
	// MountedAside: something, "mount", is mounted inside what is to be deleted.
	MountedAside Reason = "mounted-aside"
	// AsideGone: what a restore has set aside on another machine is not there any more.
	AsideGone Reason = "aside-gone"
	// HalfRestored: a restore of "site" from "archive" has stopped half-way.
	HalfRestored Reason = "half-restored"
	// NotSaved: of what "site" has set aside, something is in no archive.
	NotSaved Reason = "not-saved"
	// NotRun: the command that was to be guarded was not run.
	NotRun Reason = "not-run"
	// SiteNotConfigured: "site" is not in the configuration.
	SiteNotConfigured Reason = "site-not-configured"
	// StoreUnknown: a new store needs its folder, such as "path".
	StoreUnknown Reason = "store-unknown"
	// OtherStore: what is there is not "store", which was there; StoreGone: nothing is there.
	OtherStore Reason = "other-store"
	StoreGone  Reason = "store-gone"
	// SeveralStores: it must be said which store is meant.
	SeveralStores Reason = "several-stores"
	// StoreInWebroot: the store would lie inside a folder of a site.
	StoreInWebroot Reason = "store-in-webroot"
	// FileInWebroot: a file that is not meant for everybody, "path", would lie inside a folder of a site.
	FileInWebroot Reason = "file-in-webroot"
	// NameTaken: the name of a site or store is taken or not allowed.
	NameTaken Reason = "name-taken"
	// NotPortable: the file is no portable file of this program's.
	NotPortable Reason = "not-portable"
	// SiteUnnamed: a copy made by hand does not say which site it is of.
	SiteUnnamed Reason = "site-unnamed"
	// NoDeletion: a store's account may not delete, and nobody has said that this is meant.
	NoDeletion Reason = "no-deletion"
	// NotLinked: nobody has said that "store" may be used, or not any more.
	NotLinked Reason = "not-linked"
	// ListingLags: a store does not list what was just written.
	ListingLags Reason = "listing-lags"
)

// Names are what a reason is about, by role: site, archive, store, table, path …
type Names map[string]string

// Error is an error with a reason. Its text is that of Err.
type Error struct {
	Reason Reason
	Names  Names
	Err    error
}

// New makes an error with a reason; format and args are those of fmt.Errorf.
func New(r Reason, names Names, format string, args ...any) error {
	return &Error{Reason: r, Names: names, Err: fmt.Errorf(format, args...)}
}

// Because gives an error a reason, and keeps its text; nil stays nil.
func Because(r Reason, names Names, err error) error {
	if err == nil {
		return nil
	}
	return &Error{Reason: r, Names: names, Err: err}
}

// BadUsage is an error about a request that makes no sense.
func BadUsage(format string, args ...any) error { return New(Usage, nil, format, args...) }

// Error implements error.
func (e *Error) Error() string { return e.Err.Error() }

// Unwrap lets errors.Is and errors.As look inside.
func (e *Error) Unwrap() error { return e.Err }

// Why returns the reason and what it is about.
func (e *Error) Why() (Reason, Names) { return e.Reason, e.Names }

// Reasoned is what errors with a reason have in common. Typed errors of other
// packages implement it too.
type Reasoned interface {
	error
	Why() (Reason, Names)
}

// All finds every reason in an error and in what it wraps, outermost first.
func All(err error) []Reasoned {
	if err == nil {
		return nil
	}
	var all []Reasoned
	if r, ok := err.(Reasoned); ok {
		all = append(all, r)
	}
	switch inner := err.(type) {
	case interface{ Unwrap() error }:
		all = append(all, All(inner.Unwrap())...)
	case interface{ Unwrap() []error }:
		for _, one := range inner.Unwrap() {
			all = append(all, All(one)...)
		}
	}
	return all
}

// Is tells whether an error has a reason.
func Is(err error, r Reason) bool {
	for _, one := range All(err) {
		if why, _ := one.Why(); why == r {
			return true
		}
	}
	return false
}

package render

import (
	"slices"
	"strings"

	"revlet/internal/platform/process"
	"revlet/internal/platform/reason"
	"revlet/internal/watch/alarm"
)

// advice says what a person can do about a reason. {site} and the like stand for
// what the reason is about.
var Advice = map[reason.Reason]string{
	reason.NoConfig:              "`revlet adopt PATH` writes one",
	reason.NoSites:               "`revlet adopt PATH` adds one",
	reason.StateFolder:           "name another folder in `state:`, or with --state",
	reason.TablesInUse:           "try again when that has ended; the server's administrator sees and ends it (MariaDB, MySQL: SHOW PROCESSLIST, KILL; PostgreSQL: pg_stat_activity, pg_terminate_backend)",
	reason.PartsVanished:         "find out who removed them, or whether its disk fails; `revlet verify --quick --store {store}` says which archives lack some, `revlet stores heal {store}` mends them from another store",
	reason.StateOfOthers:         "name a folder that is yours alone in `state:` (root's is /var/lib/revlet); if you know that nobody else has written into this one: chown it, chmod go-w, and the same for the folders above it",
	reason.WebrootMissing:        "`revlet restore {site}` puts it back from an archive",
	reason.CMSBelow:              "`revlet adopt {path}`",
	reason.NoArchives:            "`revlet backup {site}` takes one",
	reason.UnknownArchive:        "`revlet archives {site}` lists what there is",
	reason.NoneServes:            "`revlet archives {site}` lists what there is; name the one to take, such as {archive}",
	reason.ArchiveDamaged:        "`revlet verify {archive}` lists all damage; --salvage takes what it has left and names the rest",
	reason.NoDeletion:            "if that is meant, say `keeper: elsewhere` in the store's entry: another machine, or the far end, then removes what goes",
	reason.NotLinked:             "link it: `revlet stores link {store}`",
	reason.SignerUnknown:         "if you know the machine, put its key into `signed_by:` of {site}: \"{public}\"; for this archive alone, --signed-by {key}",
	reason.Unsigned:              "only if you know where it is from: --signed-by nobody takes it",
	reason.NoKey:                 "name the key file with --key FILE or $REVLET_KEY_FILE",
	reason.NoPassphrase:          "nobody can be asked here; name a file that holds it in $REVLET_PASSPHRASE_FILE",
	reason.NobodyToEncryptFor:    "`revlet keys new FILE` makes a key",
	reason.HostUnknown:           "if it is the right one, accept it once with `revlet stores test NAME --trust`",
	reason.SiteHostUnknown:       "if it is the right one, accept it once: `revlet preflight {site} --trust`",
	reason.NewSiteHostUnknown:    "if it is the right one, accept it with --trust",
	reason.SiteHostChanged:       "if its owner confirms the new key: `revlet preflight {site} --forget-host` drops the old one",
	reason.HostChanged:           "if its owner confirms the new key, `revlet stores test NAME --forget-host` drops the old one",
	reason.OlderServer:           "restore on a newer one, or add --anyway",
	reason.OtherSite:             "check the configuration, or add --anyway",
	reason.PlaceUnconfirmed:      "if it belongs there, say so with --root {path}; if not, correct `root:` of {site} in the configuration",
	reason.NoSwitch:              "give it a file that your web server closes it by (`maintenance:`, docs/BAD-DAY.md), or take away the one that is there",
	reason.NamesUnknown:          "try again where the domain's name servers can be asked; --anyway goes on all the same (what was written at the new machine is in what is set aside, or, with --back, in the archive that is taken first)",
	reason.NamesChanged:          "set the records back and wait until that is known; --anyway goes on all the same (what was written there is in what is set aside, or, with --back, in the archive that is taken first)",
	reason.CannotMove:            "docs/MOVING.md says what can be moved, and where to",
	reason.SettingsByHand:        "give the site's settings plain values there, take another archive, and move that",
	reason.NotSavedBefore:        "mend that (`revlet preflight {to}`); or, if what was written at {to} may be lost, add --anyway",
	reason.SystemFolder:          "name the folder in it that is the site's, in `root:` or `roots:`; `revlet extract` takes files out of an archive",
	reason.MoveGone:              "`revlet cutover finish {site} --back --anyway` opens {site} again, and leaves {to} as it is",
	reason.RootUnnamed:           "name it under `roots:` of {site}'s entry: `roots: {{label}: {path}}`, or where it lies now",
	reason.FolderUnnamed:         "add `--folder {label}=FOLDER`; a site that the configuration has names it under `roots:` of its entry",
	reason.PlaceTaken:            "choose another place; or, if what is there may go, add --anyway; it is set aside",
	reason.NoSuchAccount:         "`revlet accounts {site} --all` lists what accounts there are",
	reason.NoAccounts:            "set it in the CMS itself, or with the tools of its database",
	reason.OtherRows:             "somebody else may be changing accounts just now: look once more, and try again",
	reason.ChangedSince:          "`revlet accounts` shows what is there now",
	reason.WorkAs:                "run it as that account, for example: sudo -u {account} revlet …",
	reason.OtherCMS:              "check `root:`, or add --anyway",
	reason.NoTLS:                 "have it speak TLS; or, if the line between is your own, say so in the site's entry, `databases: {main: {tls: off}}`, or to adopt with --tls off",
	reason.Untrusted:             "name the authority in the site's entry, `databases: {main: {ca_file: /path/ca.pem}}`; `tls: unverified` takes any certificate",
	reason.ServerOfOthers:        "see whether the database server is running; if that program is the site's own server, say so in its entry: `databases: {main: {tls: off}}`",
	reason.WantsPassword:         "if it is MySQL, open the site once and try again: the server then knows the account; otherwise have it speak TLS (`tls: verify`), or, if nobody else can listen there, say so in the site's entry: `databases: {main: {tls: off}}`",
	reason.IncludeOfOthers:       "make it yours alone: chown and chmod go-w, and the folder that it lies in",
	reason.ConfigFolder:          "keep it in a folder of root's, such as /etc/revlet, and name it with --config",
	reason.ProgramOfOthers:       "read it, for others may have changed it; then give it and its folder to root, or have it run as its own account: sudo -u {account} {path}",
	reason.ConfigWritable:        "read it, for others may have changed it; then: chmod go-w {path}",
	reason.ConfigOfOthers:        "make it yours alone (chown, chmod go-w); root runs the program as that account instead, such as: sudo -u '#{account}' revlet …",
	reason.LinkedDatabase:        "what the site shares by {path} is a place of its own: say with --database where its copy is to be, such as `--database 'sqlite: /srv/PLACE/FILE'`",
	reason.LinkedShare:           "`revlet extract {archive} {path} --to FOLDER` takes it out; restoring the whole site sets the link aside",
	reason.DatabaseElsewhere:     "if it is the site's, say so in its entry: `databases: {{label}: {sqlite: {path}}}`",
	reason.DatabaseMoved:         "if it was moved on purpose: `revlet status --accept {site}/database-moved --why TEXT`; if not, somebody has changed the settings: put their file back alone (`revlet restore {site} --path FILE`), and then the rest",
	reason.DatabaseUnknown:       "describe it under `databases:`, or restore with --only files",
	reason.DumpAlone:             "`revlet restore {archive} --only files` puts the files back; `revlet export {archive} FILE` holds the SQL, which the host's panel takes",
	reason.ServerRights:          "the account itself is good; run this as the server's administrator:\n{sql}",
	reason.ServerSetup:           "run this as the server's administrator, with the account's password in it:\n{sql}",
	reason.ObjectsDenied:         "the server's administrator can allow {what}: with GRANT, or, where the server writes a binary log, with SET GLOBAL log_bin_trust_function_creators = 1",
	reason.OwnedByOthers:         "the server's administrator can change that: ALTER TABLE … OWNER TO {account}, or GRANT CREATE ON SCHEMA … TO {account}; or name an account under `databases:` that they belong to",
	reason.StateDamaged:          "`mv {path} {path}.damaged` puts it out of the way; what it remembered is then taken as it is found, as on a new machine",
	reason.KeyDamaged:            "put it back from a copy of the state folder; or `mv {path} {path}.damaged`: a new one is made, and archives of the old one are restored with --signed-by, or once its public key stands in `signed_by:`",
	reason.JournalDamaged:        "look at the site: if it is as it should be, `mv {path} {path}.damaged` ends the matter; what the restore set aside lies beside the webroot, in a folder whose name begins with .revlet-{site}",
	reason.NotCarried:            "run it as root; or add --clean, which sets it aside with all else",
	reason.PacketLimit:           "the server's administrator can raise that: SET GLOBAL max_allowed_packet = 1073741824, and max_allowed_packet=1G below [mysqld] in its settings",
	reason.Locked:                "find out who has locked it, and why: hosts do, and intruders; `chattr -i -a {path}`, as root, unlocks it",
	reason.NeedsNotMet:           "choose another place, or name the PHP that its web server uses with --php; --anyway goes on",
	reason.AccountTaken:          "name another account, or give this one's password",
	reason.ComesWhole:            "restore the whole database with --only database",
	reason.PathNotHeld:           "`revlet show {archive} --files` lists what it holds; `revlet extract` takes files of any of its folders out",
	reason.TableNotHeld:          "`revlet show {archive}` lists them",
	reason.TableGone:             "restore the whole database, or load what `revlet extract ARCHIVE --table` writes",
	reason.ColumnGone:            "restore the whole database, or take the rows out with `revlet extract ARCHIVE --table {table}`",
	reason.NoPrimaryKey:          "put the whole table back with --table {table}",
	reason.KeysTaken:             "`revlet compare ARCHIVE --table {table}` shows them",
	reason.ParentsGone:           "add --rows {table}:{column}={value}, or --anyway to put them back without",
	reason.ParentsRequired:       "add --rows {table}:{column}={value}",
	reason.StillReferred:         "put both tables back, or use --mode fill",
	reason.OnlySQL:               "`revlet restore SITE --sql FILE` restores a database alone",
	reason.SettingsElsewhere:     "restore the database alone with --only database, and take the settings out with `revlet extract {archive}` to correct them; or let `databases:` say what they say",
	reason.SettingsElsewhereKeep: "add --keep-settings to keep the present settings file instead of the archive's",
	reason.OnlyRows:              "export definitions and rows together",
	reason.DoesNotFit:            "choose a shorter one, or one without signs that the site's database cannot hold",
	reason.DoesNotFitSQL:         "look at the file: it may be in another encoding than it says, or not from this site; with --anyway the server takes what fits of such values, and it is said how many there were",
	reason.RowsDoNotFit:          "restore the whole database, or take the rows out with `revlet extract ARCHIVE --table {table}`",
	reason.RowsVanished:          "load it with the database's own client into an empty database, and look whether it is whole there; if the file says INSERT IGNORE, export it again without",
	reason.WhichDatabase:         "say which one with --sql-database NAME",
	reason.MountedInside:         "mount it outside of the site, with a link in its place, and name it under `roots:`; until then `revlet extract` puts files anywhere, to be copied by hand",
	reason.MountedAside:          "unmount it, and try again: `umount {mount}`; what it holds is not deleted then",
	reason.AsideGone:             "look at the site; `revlet settle {site}` forgets that restore",
	reason.HalfRestored:          "when the cause is mended, `revlet undo {site}` or `revlet restore {archive}` brings it to an end",
	reason.SomeDamaged:           "`revlet stores heal STORE` mends it from another store; --salvage takes what the damage has left and names the rest",
	reason.NotSaved:              "`revlet aside export {site} FILE` keeps it; --unsaved deletes it too",
	reason.NotRun:                "the command was not run; mend this first",
	reason.SiteNotConfigured:     "`revlet import FILE --store FOLDER` describes it there",
	reason.StoreUnknown:          "for a new one give its folder, such as --store {path}",
	reason.OtherStore:            "bring the right one back; if it was changed on purpose, accept it once with `revlet stores test {store} --accept`",
	reason.StoreGone:             "mount it; until then nothing is written there, nor looked for",
	reason.SeveralStores:         "say which store with --store NAME, or give a folder",
	reason.FileInWebroot:         "choose a place outside of it, such as your home folder",
	reason.StoreInWebroot:        "choose another folder with --store",
	reason.NameTaken:             "choose another name with --name",
	reason.ArchiveHeld:           "`revlet release {archive}` lifts the hold",
	reason.LastArchive:           "take another one first (`revlet backup`), or add --anyway",
	reason.NotThere:              "`revlet archives` tells where it is",
	reason.NotPortable:           "`revlet import` takes in copies made by hand",
	reason.SiteUnnamed:           "say which site the copy is of, with --site NAME",
	reason.KeyUntried:            "`revlet keys check FILE`",
	reason.ListingLags:           "give it time before you judge by `revlet archives`",
}

// Advised is an error's text, followed by what can be done about it. A part of it is often somebody else's: a
// server's, a helper's, a file's name. Nothing of it speaks to the terminal.
func Advised(err error) string {
	text := reason.Text(err)
	for _, n := range Next(err) {
		text += "\nnext: " + n
	}
	return PrintableLines(text)
}

// inWords are roles of names that stand in a sentence. All others stand in commands, which
// somebody copies at night: what a site, a store or a database is called runs nothing.
var inWords = []string{"what", "sql", "public", "label"}

// Next is what can be done about an error.
func Next(err error) (next []string) {
	for _, r := range reason.All(err) {
		why, names := r.Why()
		text, known := Advice[why]
		if !known {
			continue
		}
		var fill []string
		for role, name := range names {
			if !slices.Contains(inWords, role) {
				name = process.ShellQuote(strings.ReplaceAll(name, "\n", `\n`))
			}
			fill = append(fill, "{"+role+"}", name)
		}
		text = strings.NewReplacer(fill...).Replace(text)
		if !slices.Contains(next, text) {
			next = append(next, text)
		}
	}
	return next
}

// Inline is advised on one line.
func Inline(err error) string {
	return strings.NewReplacer("\nnext: ", "; ", "\n", "; ").Replace(Advised(err))
}

// adviceFor is what can be done about a reason that stands alone, to be added to a
// sentence.
func adviceFor(r reason.Reason) string {
	if text, ok := Advice[r]; ok {
		return "; " + text
	}
	return ""
}

// remedies say what to do about each kind of alarm.
var Remedies = map[string]string{
	alarm.Overdue:       "see `revlet duties` and `revlet history`; is `revlet due` or `revlet serve` running?",
	alarm.Failed:        "see `revlet history show`; mend the cause and run `revlet backup`",
	alarm.Shrunken:      "look at the site; `revlet show` both archives",
	alarm.Grown:         "see the components in `revlet show`; `skip:` leaves out what is no part of the site",
	alarm.MassChange:    "look at the site before anything else; the archive before is still there",
	alarm.Scrambled:     "take the site off the net, keep the archive before, restore from it",
	alarm.CoreChanged:   "compare them with the archive before",
	alarm.Planted:       "look into it; if it is not yours the site is broken into",
	alarm.Damaged:       "`revlet stores heal STORE` mends it from another store; if there is none, take a new one with `revlet backup --fresh`",
	alarm.Onsite:        "add a store elsewhere to `stores:` and run `revlet stores copy`",
	alarm.NotLinked:     "`revlet stores link STORE` shows the page on which somebody is to say yes",
	alarm.Behind:        "`revlet stores test STORE` tells what is wrong there; the next backup makes up for it",
	alarm.NeverVerified: "`revlet verify`, and a duty such as `verify, every sunday at 05:00`",
	alarm.NeverTried:    "`revlet rehearse`, and a duty such as `rehearse, on day 1 of every month at 05:30`",
	alarm.DiskFilling:   "make room, or shorten `keep:`; `revlet retention` shows what would go",
	alarm.WrongClock:    "set the clock; `revlet archives` shows what is dated in the future",
	alarm.NotRestorable: "`revlet history show` tells what went wrong; take another with `revlet backup --fresh` and rehearse that",
	alarm.StoreLost:     "mount its disk; if it was changed on purpose, accept it once with `revlet stores test NAME --accept`",
	alarm.DatabaseMoved: "if it was moved on purpose, accept it, and backups go on; if not, somebody has changed the site's settings",
	alarm.Forged:        "they are not taken; if the machine that signed them is yours, put its key into `signed_by:`; if not, somebody else can write there: change the store's password",
	alarm.LeadsOut:      "have the folders saved along (`roots: {NAME: FOLDER}` in the site's entry), or accept it if they are saved otherwise",
	alarm.DumpOld:       "look at the host's own job, in its panel or crontab; `revlet preflight SITE` shows what it has left",
	alarm.Backdated:     "if it was brought there late on purpose, accept it; if not, look at the machine that has signed it (`revlet show`)",
	alarm.Vanished:      "find out who did it before anything else; change the store's password; `revlet stores heal STORE` puts back what other stores still have",
	alarm.UntriedKey:    "`revlet keys check FILE`",
}

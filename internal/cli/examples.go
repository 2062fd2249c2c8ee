package cli

import "revlet/internal/cli/manual"

// examples are ways to call each command, by what follows the program's name.
var examples = map[string][]manual.Example{
	"": {
		{"demo", "walk through the whole job on a small made-up site"},
		{"adopt /srv/www/kestrelpoint", "begin with a site of your own"},
	},
	"demo": {
		{"demo", "everything, in the folder kestrelpoint-demo"},
		{"demo /tmp/practice --pause", "in a folder of your choice, a chapter at a time"},
		{"demo --chapter 14", "only how a break-in is dealt with"},
	},
	"adopt": {
		{"adopt /srv/www/kestrelpoint --store /mnt/backup", "a site on this machine, its archives on another disk"},
		{"adopt sftp://keeper@host.example/~/public_html --ssh-key ~/.ssh/id_ed25519 --store ~/archives --trust", "a site on a web host, from your own computer"},
	},
	"preflight": {
		{"preflight", "all sites"},
		{"preflight kestrelpoint --trust", "one that is elsewhere, whose machine's key is accepted by this"},
	},
	"config check": {
		{"config check", "the configuration that would be used"},
		{"--config /etc/revlet/agency.yaml config check", "another one, after a change"},
	},
	"backup": {
		{"backup", "all sites, now"},
		{"backup kestrelpoint --note 'before the update' --hold", "one site; the archive stays until it is released"},
	},
	"archives": {
		{"archives", "what there is of all sites"},
		{"archives kestrelpoint --json", "of one site, for a script"},
	},
	"show": {
		{"show kestrelpoint", "the newest archive of a site"},
		{"show kestrelpoint-20261120-031500 --files", "with every path"},
		{"show kestrelpoint --files 'wp-content/themes/**'", "or only some"},
	},
	"versions": {
		{"versions kestrelpoint wp-config.php", "how a file changed, and in which archives it is"},
		{"versions kestrelpoint 'wp-content/uploads/**/*.pdf'", "a file of which one knows only about where it was"},
	},
	"browse": {
		{"browse kestrelpoint --open", "the newest archive, in a browser"},
		{"browse kestrelpoint --before 2026-11-20 --listen 127.0.0.1:8199", "an older one, at a port of your choice"},
	},
	"space": {
		{"space", "of all sites"},
		{"space kestrelpoint --json", "of one, for a script"},
	},
	"verify": {
		{"verify", "read every archive of every site"},
		{"verify kestrelpoint --store harbour --quick", "only whether all is there, in one store"},
	},
	"restore": {
		{"restore kestrelpoint --dry-run", "what the newest good archive would change"},
		{"restore kestrelpoint --before 2026-11-20", "the site as it was before a day"},
		{"restore kestrelpoint --only themes", "a component alone"},
		{"restore kestrelpoint --rows wp_posts:ID=12", "a page that was deleted"},
	},
	"undo": {
		{"undo kestrelpoint", "as it was before the last restore"},
		{"undo kestrelpoint --dry-run", "what would change places"},
	},
	"settle": {
		{"settle kestrelpoint --dry-run", "what would be deleted, and what no archive holds of it"},
		{"settle kestrelpoint", "delete it, and keep what the restores have put back"},
	},
	"aside list": {
		{"aside list", "of all sites"},
		{"aside list kestrelpoint --json", "of one, for a script"},
	},
	"aside show": {
		{"aside show kestrelpoint", "what was replaced, with what deserves a look first"},
		{"aside show kestrelpoint --json", "the same for a script"},
	},
	"aside export": {
		{"aside export kestrelpoint broken-state.tar.zst", "keep the broken state, to study it"},
		{"aside export kestrelpoint /mnt/evidence/november.zip", "in a form that opens everywhere"},
	},
	"extract": {
		{"extract kestrelpoint wp-config.php --to /tmp/look", "one file of the newest archive"},
		{"extract kestrelpoint --before 2026-11-20 'wp-content/uploads/**/*.pdf' --table wp_posts", "files by a pattern, and a table as SQL"},
	},
	"export": {
		{"export kestrelpoint kestrelpoint.zip", "the newest archive as one file"},
		{"export kestrelpoint kestrelpoint.tar.zst --split 500MB", "in pieces, for a place with an upload limit"},
	},
	"import": {
		{"import kestrelpoint.zip", "what `revlet export` wrote"},
		{"import webroot.zip shop_db.sql.gz --site kestrelpoint", "a copy that was made by hand"},
	},
	"stores add": {
		{"stores add harbour sftp://keeper@harbour.example/revlet --for kestrelpoint", "a machine with SSH: the password is asked for, and its key shown"},
		{"stores add cloud https://cloud.example/dav/revlet --issuer https://cloud.example --client revlet", "a cloud drive: somebody says yes on its page"},
	},
	"stores link": {
		{"stores link cloud", "show the page on which somebody is to say yes, and wait"},
		{"stores link cloud --end", "take it back"},
	},
	"stores list": {
		{"stores list", "which there are, and which sites use them"},
		{"stores list --json", "the same for a script"},
	},
	"stores test": {
		{"stores test", "all of them"},
		{"stores test harbour --trust", "one over SFTP, whose machine's key is accepted by this"},
		{"stores test attic --contract", "one behind a helper program, point by point"},
	},
	"stores copy": {
		{"stores copy", "send what is pending"},
		{"stores copy kestrelpoint --to harbour", "every archive of a site that a new store lacks"},
	},
	"stores discover": {
		{"stores discover /mnt/backup", "archives on a disk from another machine"},
		{"stores discover sftp://keeper@harbour.example/revlet --ssh-key ~/.ssh/id_ed25519 --trust", "on a machine elsewhere"},
	},
	"stores heal": {
		{"stores heal harbour", "all that is damaged or missing there"},
		{"stores heal harbour kestrelpoint", "of one site"},
	},
	"keys new": {
		{"keys new revlet.key", "a key; what to put into the configuration is shown"},
		{"keys new revlet.key --passphrase", "locked with words of yours"},
	},
	"keys check": {
		{"keys check revlet.key", "which archives it opens"},
		{"keys check /media/usb/revlet.key --json", "the copy on the stick, for a script"},
	},
	"keys signers": {
		{"keys signers", "who signs archives here, and whose are taken"},
		{"keys signers --json", "the same for a script"},
	},
	"retention": {
		{"retention kestrelpoint", "which archives stay, why, and which would go"},
		{"retention --apply", "remove what goes, of all sites"},
	},
	"hold": {
		{"hold kestrelpoint --why 'before the relaunch'", "the newest archive stays"},
		{"hold kestrelpoint-20261120-031500", "this one does"},
	},
	"release": {
		{"release kestrelpoint-20261120-031500", "retention may have it again"},
		{"release kestrelpoint", "the newest archive"},
	},
	"remove": {
		{"remove kestrelpoint-20261120-031500 --dry-run", "which stores it would go from"},
		{"remove kestrelpoint-20261120-031500 --store here --why 'it holds a private letter'", "from one store"},
	},
	"move": {
		{"move kestrelpoint --to lighthouse --root /srv/www/new --address https://lighthouse.example --database 'mysql: new@localhost/new' --password-file new.pw --dry-run", "what would change on the way"},
		{"move kestrelpoint --to practice --copy", "a practice copy, where the configuration says that it is"},
	},
	"cutover plan": {
		{"cutover plan kestrelpoint --to 203.0.113.9", "which records change, and what stands in the way"},
		{"cutover plan kestrelpoint --to 203.0.113.9 --new-name-server 192.0.2.53", "when the whole domain changes its name servers"},
	},
	"cutover look": {
		{"cutover look kestrelpoint --at 203.0.113.9 --browser", "in a browser that is started for it"},
		{"cutover look kestrelpoint --hosts --check", "whether a line was forgotten in the hosts file"},
	},
	"cutover match": {
		{"cutover match kestrelpoint --at 203.0.113.9", "the first 200 pages"},
		{"cutover match kestrelpoint --with lighthouse --pages 1000 --page match.html", "a site that has another address there, both sides beside each other"},
	},
	"cutover finish": {
		{"cutover finish kestrelpoint --to lighthouse --dry-run", "what would be done"},
		{"cutover finish kestrelpoint --to lighthouse --leave redirect", "the old place leads to the new one afterwards"},
	},
	"cutover watch": {
		{"cutover watch kestrelpoint --to 203.0.113.9", "until all the world agrees"},
		{"cutover watch kestrelpoint --to 203.0.113.9 --every '1 minute' --limit '6 hours'", "more often, and not for ever"},
	},
	"accounts": {
		{"accounts kestrelpoint", "the administrators, as the site's database has them"},
		{"accounts kestrelpoint --archive kestrelpoint-20261120-031500", "as an archive has them"},
	},
	"accounts password": {
		{"accounts password kestrelpoint keeper", "asked for, and not shown"},
		{"accounts password kestrelpoint keeper@kestrelpoint.example --password-file new.pw --yes", "for a script"},
	},
	"accounts mail": {
		{"accounts mail kestrelpoint keeper keeper@kestrelpoint.example", "where the site's own mails for it go"},
		{"accounts mail kestrelpoint 3 keeper@kestrelpoint.example --yes", "of the account of this number, for a script"},
	},
	"accounts title": {
		{"accounts title practice 'PRACTICE Kestrel Point'", "so that nobody takes the copy for the site"},
		{"accounts title practice 'Kestrel Point' --yes", "for a script"},
	},
	"accounts undo": {
		{"accounts undo kestrelpoint", "the last of these changes"},
		{"accounts undo kestrelpoint --yes", "for a script"},
	},
	"rehearse": {
		{"rehearse", "the newest good archive of each site"},
		{"rehearse kestrelpoint --before 2026-11-20", "an older one"},
	},
	"compare": {
		{"compare kestrelpoint", "the live site with its newest archive"},
		{"compare kestrelpoint --before 2026-11-20 --read", "with an older one, every byte, as after a break-in"},
		{"compare kestrelpoint --text wp-config.php", "how a file differs"},
	},
	"guard": {
		{"guard kestrelpoint -- wp plugin update --all", "an update that is taken back if it breaks the site"},
		{"guard kestrelpoint --patience '2 minutes' --limit '10 minutes' -- sh update.sh", "one that takes its time"},
	},
	"check": {
		{"check", "all sites"},
		{"check kestrelpoint --accept", "its pages are right as they are now"},
	},
	"duties": {
		{"duties", "of all sites"},
		{"duties kestrelpoint --ahead 5", "the next five times of each"},
	},
	"duties run": {
		{"duties run", "the same as `revlet due`"},
		{"duties run --dry-run", "what waits"},
	},
	"due": {
		{"due --dry-run", "what waits"},
		{"--quiet due", "for cron: nothing is said unless something is wrong"},
	},
	"serve": {
		{"serve", "until Ctrl-C"},
		{"--config /etc/revlet/agency.yaml serve", "with another configuration"},
	},
	"schedule install": {
		{"schedule install --systemd", "show what would be installed"},
		{"schedule install --cron --apply", "install it, on shared hosting"},
	},
	"schedule remove": {
		{"schedule remove --systemd", "stop the service and delete its file"},
		{"schedule remove --cron --name revlet-agency", "the line of another configuration"},
	},
	"status": {
		{"status", "a line for each site; the exit code is for monitoring"},
		{"status --store bucket", "all sites of all machines that keep their archives there"},
		{"status --accept kestrelpoint/copies --why 'the second disk comes on Monday'", "an alarm that is known"},
	},
	"history": {
		{"history kestrelpoint", "the last runs of a site"},
		{"history --trouble --since 2026-11-01", "what went wrong this month"},
	},
	"history show": {
		{"history show", "the last run, with its log"},
		{"history show 214", "the one of this number"},
	},
	"report": {
		{"report", "as a page, revlet-report.html"},
		{"report --metrics --to -", "for a collector of metrics"},
		{"report --store bucket", "of all machines that keep their archives there"},
		{"report 'client-*' --each /srv/reports", "a page for each client, with its own title and logo"},
	},
	"notify test": {
		{"notify test", "a mail and a call, as `notify:` says"},
		{"--config /etc/revlet/agency.yaml notify test", "of another configuration"},
	},
	"standin lampblack": {
		{"standin lampblack htdocs --new", "build the museum's site, and serve it"},
		{"standin lampblack htdocs --listen 127.0.0.1:8080", "serve one that is there"},
	},
	"standin sftp": {
		{"standin sftp far", "a place for archives, in the folder far"},
		{"standin sftp far --drop-after 3MB", "whose line breaks"},
	},
	"standin webdav": {
		{"standin webdav far", "a place for archives, in the folder far"},
		{"standin webdav far --room 10MB", "that is soon full"},
	},
	"standin s3": {
		{"standin s3 far", "a place for archives, in the folder far"},
		{"standin s3 far --lag '2 seconds'", "whose listings come late"},
	},
	"standin ftp": {
		{"standin ftp far", "a place for archives, in the folder far"},
		{"standin ftp far --slow 100KB", "on a slow line"},
	},
	"standin dns": {
		{"standin dns zones --listen 127.0.0.1:5300 --resolver 127.0.0.1:5301", "a name server and a resolver"},
		{"standin dns zones --lagging '127.0.0.1:5302=1 hour'", "a resolver that does not forget in time"},
	},
	"standin mail": {
		{"standin mail inbox", "keep what comes in the folder inbox"},
		{"standin mail --user keeper --security tls", "one that wants a login"},
	},
	"standin hook": {
		{"standin hook", "take calls, and show them"},
		{"standin hook --answer 500", "one that always fails"},
	},
}

package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFoldersOfTheSystemHoldNoSite(t *testing.T) {
	for _, bad := range []string{"", "/", "//", "/.", "htdocs", "../etc", "/srv/../etc", "/etc", "/etc/", "/etc/cron.d", "/usr/bin", "/usr/lib/systemd/system", "/root", "/root/.ssh", "/home", "/home/keeper/.ssh",
		"/home/keeper/.config/systemd/user", "/var", "/var/spool/cron/crontabs", "/lib/systemd", "/boot/grub", "/proc/1", "/run/user/0", "/srv", "/tmp", "/var/lib/mysql/museum", "/srv/x/../../etc/cron.d"} {
		assert.True(t, SystemFolder(bad), bad)
	}
	for _, good := range []string{"/srv/kestrelpoint/htdocs", "/var/www", "/var/www/html", "/home/keeper/public_html", "/usr/share/wordpress", "/opt/museum", "/root/site", "/tmp/demo/htdocs", "/kunden/1871/webseiten", "/etcetera", "/data/a.b"} {
		assert.False(t, SystemFolder(good), good)
	}
}

// What the machine needs is not replaced, whatever the configuration says; a container's whole disk for its site may be.
func TestFoldersThatAreNeverExchanged(t *testing.T) {
	for _, never := range []string{"/", "/etc", "/etc/", "/var/../etc", "/usr", "/usr/lib", "/var", "/var/log", "/home", "/root", "/tmp", "/bin", "/var/lib/mysql"} {
		assert.True(t, NeverExchanged(never), never)
	}
	for _, may := range []string{"/srv", "/opt", "/var/www", "/etc/nginx", "/home/museum", "/var/www/html", "/app", "/usr/local/www", "/tmp/x"} {
		assert.False(t, NeverExchanged(may), may)
	}
}

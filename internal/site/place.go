package site

import (
	"revlet/internal/site/sitepath"
	"slices"
	"strings"
)

// systemTrees are folders of the system (Filesystem Hierarchy Standard 3.0): no site lies
// in one of them. systemFolders themselves hold sites, or folders of people, and are none.
var (
	systemTrees = []string{"/etc", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/boot", "/dev", "/proc", "/sys", "/run", "/usr/bin", "/usr/sbin", "/usr/lib",
		"/usr/lib32", "/usr/lib64", "/usr/libexec", "/usr/include", "/usr/src", "/var/run", "/var/lock", "/var/log", "/var/spool", "/var/cache", "/var/backups", "/var/mail",
		"/var/lib/dpkg", "/var/lib/apt", "/var/lib/systemd", "/var/lib/mysql", "/var/lib/postgresql", "/var/lib/docker", "/snap", "/lost+found"}
	systemFolders = []string{"/", "/home", "/root", "/usr", "/usr/local", "/usr/share", "/var", "/var/lib", "/srv", "/opt", "/mnt", "/media", "/tmp", "/var/tmp"}
)

// neverExchanged are folders that no restore puts another in the place of, whoever says so: without what else lies there the
// machine is none. Others of systemFolders can be all of a site, as in a container.
var neverExchanged = append([]string{"/", "/home", "/root", "/usr", "/usr/local", "/usr/share", "/var", "/var/lib", "/tmp", "/var/tmp"}, systemTrees...)

// NeverExchanged tells whether a folder is one of its machine's system, which no restore may replace.
func NeverExchanged(path string) bool { return slices.Contains(neverExchanged, sitepath.Clean(path)) }

// SystemFolder tells whether a path is one that a description of a site which comes from
// somewhere else must not lead to: a folder of the system, or a hidden one, such as where
// keys for logging in are kept.
func SystemFolder(path string) bool {
	path = sitepath.Clean(path)
	if !sitepath.IsAbs(path) || slices.Contains(systemFolders, path) || strings.Contains(path, "/.") {
		return true
	}
	return slices.ContainsFunc(systemTrees, func(tree string) bool { return path == tree || strings.HasPrefix(path, tree+"/") })
}

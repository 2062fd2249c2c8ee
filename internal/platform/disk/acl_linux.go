package disk

import "golang.org/x/sys/unix"

// hasACL tells whether a path has an access control list: what stands for its group in its permissions is the most that
// anybody named there may do (acl(5)).
func hasACL(name string) bool {
	n, err := unix.Lgetxattr(name, "system.posix_acl_access", nil)
	return err == nil && n > 0
}

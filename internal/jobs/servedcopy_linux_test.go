package jobs

import "syscall"

// listensAs has what this thread makes belong to another account (setfsuid(2)).
func listensAs(uid int) error { return syscall.Setfsuid(uid) }

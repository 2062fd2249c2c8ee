package e2e

import "syscall"

func makePipe(path string) error { return syscall.Mkfifo(path, 0o644) }

package disk

import "syscall"

func changed(st *syscall.Stat_t) *syscall.Timespec { return &st.Ctim }

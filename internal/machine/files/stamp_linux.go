package files

import "syscall"

func times(st *syscall.Stat_t) (mtime, ctime int64) { return st.Mtim.Nano(), st.Ctim.Nano() }

package stamp

import "syscall"

func changeTime(s *syscall.Stat_t) int64 { return s.Ctim.Nano() }

//go:build unix && !linux

package spawn

import "syscall"

// alive reports whether the group has a member.
func (g group) alive() bool { return syscall.Kill(-int(g), 0) != syscall.ESRCH }

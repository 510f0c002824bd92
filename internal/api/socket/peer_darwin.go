package socket

import (
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// isOurs reports whether the process at the other end belongs to this user; see LOCAL_PEERCRED in unix(4).
func isOurs(c net.Conn) bool {
	raw, err := c.(*net.UnixConn).SyscallConn()
	if err != nil {
		return false
	}
	var who *unix.Xucred
	var failed error
	err = raw.Control(func(fd uintptr) {
		who, failed = unix.GetsockoptXucred(int(fd), unix.SOL_LOCAL, unix.LOCAL_PEERCRED)
	})
	return err == nil && failed == nil && int(who.Uid) == os.Getuid()
}

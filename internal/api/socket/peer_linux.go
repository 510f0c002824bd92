package socket

import (
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// isOurs reports whether the process at the other end belongs to this user; see SO_PEERCRED in unix(7).
func isOurs(c net.Conn) bool {
	raw, err := c.(*net.UnixConn).SyscallConn()
	if err != nil {
		return false
	}
	var who *unix.Ucred
	var failed error
	err = raw.Control(func(fd uintptr) {
		who, failed = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	})
	return err == nil && failed == nil && int(who.Uid) == os.Getuid()
}

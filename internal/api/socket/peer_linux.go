package socket

import (
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// isOurs reports whether a process of this user is at the other end; see SO_PEERCRED in
// unix(7).
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

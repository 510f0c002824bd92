package process

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// The kernel's socket diagnostics (see sock_diag(7)) list only listening sockets, while /proc/net/tcp walks through
// all possible connections: a hundred times the work, several times a second. These are the sizes and numbers of its
// messages, which x/sys does not have.
const (
	sockDiagByFamily = 20
	requestSize      = 56 // struct inet_diag_req_v2
	answerSize       = 72 // struct inet_diag_msg
	tcpListening     = 10 // TCP_LISTEN, of enum in net/tcp_states.h
)

// askForListeners requests the system's listening TCP sockets of one address family.
func askForListeners(family uint8) ([]listener, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, fmt.Errorf("open the socket diagnostics: %w", err)
	}
	defer unix.Close(fd)
	limit := unix.NsecToTimeval(time.Second.Nanoseconds())
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &limit); err != nil {
		return nil, err
	}
	request := make([]byte, unix.NLMSG_HDRLEN+requestSize)
	binary.NativeEndian.PutUint32(request[0:], uint32(len(request)))
	binary.NativeEndian.PutUint16(request[4:], sockDiagByFamily)
	binary.NativeEndian.PutUint16(request[6:], unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
	body := request[unix.NLMSG_HDRLEN:]
	body[0], body[1] = family, unix.IPPROTO_TCP
	binary.NativeEndian.PutUint32(body[4:], 1<<tcpListening)
	if err := unix.Sendto(fd, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return nil, fmt.Errorf("ask the socket diagnostics: %w", err)
	}
	var all []listener
	buffer := make([]byte, 64<<10)
	for {
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if err != nil {
			return nil, fmt.Errorf("read the socket diagnostics: %w", err)
		}
		more, err := readAnswers(buffer[:n], &all)
		if err != nil || !more {
			return all, err
		}
	}
}

// readAnswers adds the sockets of one datagram. It returns false after the last one.
func readAnswers(data []byte, all *[]listener) (more bool, err error) {
	for len(data) >= unix.NLMSG_HDRLEN {
		size := int(binary.NativeEndian.Uint32(data))
		if size < unix.NLMSG_HDRLEN || size > len(data) {
			return false, fmt.Errorf("read the socket diagnostics: a message of %d bytes in %d", size, len(data))
		}
		switch kind := binary.NativeEndian.Uint16(data[4:]); {
		case kind == unix.NLMSG_DONE:
			return false, nil
		case kind == unix.NLMSG_ERROR:
			return false, fmt.Errorf("the socket diagnostics are refused")
		case kind == sockDiagByFamily && size >= unix.NLMSG_HDRLEN+answerSize:
			*all = append(*all, readAnswer(data[unix.NLMSG_HDRLEN:]))
		}
		data = data[min((size+3)&^3, len(data)):]
	}
	return true, nil
}

func readAnswer(m []byte) listener {
	address := netip.AddrFrom4([4]byte(m[8:12]))
	if m[0] == unix.AF_INET6 {
		address = netip.AddrFrom16([16]byte(m[8:24])).Unmap()
	}
	return listener{
		address: netip.AddrPortFrom(address, binary.BigEndian.Uint16(m[4:])),
		inode:   strconv.FormatUint(uint64(binary.NativeEndian.Uint32(m[68:])), 10),
	}
}

// listeners returns all listening TCP sockets of the system, in any order.
func listeners() []listener {
	four, err := askForListeners(unix.AF_INET)
	if err != nil {
		return listenersFromProc()
	}
	six, err := askForListeners(unix.AF_INET6)
	if err != nil && !os.IsTimeout(err) {
		return four
	}
	return append(four, six...)
}

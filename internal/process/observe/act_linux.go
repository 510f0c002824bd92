//go:build amd64 || arm64

package observe

import (
	"encoding/binary"
	"net/netip"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// action is one call of a thread that is about to be made.
type action struct {
	*reporter
	*call
	thread  int
	given   [6]uint64 // the arguments
	pointer int       // the size of a pointer in its ABI
}

// arg returns an argument, counted from 1; 0 if the call has none at that position.
func (a *action) arg(position int) uint64 {
	if position == 0 {
		return 0
	}
	return a.given[position-1]
}

// hear adds what the call will do. An error of the system tells that the memory of the thread cannot be read.
func (a *action) hear() error {
	switch a.kind {
	case opens, creates:
		return a.open()
	case executes:
		return a.execute()
	case lists:
		a.list()
		return nil
	case binds, connects, listens, socketcalls:
		return a.socket()
	}
	return a.name()
}

// target finds what one of the call's paths refers to.
func (a *action) target(dir, path int, follow bool) (found, bool, error) {
	text, err := a.memory.text(a.thread, a.arg(path))
	if err != nil {
		return found{}, false, err
	}
	from := int32(unix.AT_FDCWD)
	if dir > 0 {
		from = int32(a.arg(dir))
	}
	at, below := a.finder.find(a.thread, from, text, follow)
	return at, below, nil
}

// open adds what opening a file does.
func (a *action) open() error {
	flags := int(a.arg(a.args.flags))
	if a.args.how > 0 {
		n, err := number(a.thread, a.arg(a.args.how), 8)
		if err != nil {
			return err
		}
		flags = int(n)
	}
	if a.kind == creates {
		flags = unix.O_WRONLY | unix.O_CREAT | unix.O_TRUNC
	}
	exclusive := flags&unix.O_CREAT != 0 && flags&unix.O_EXCL != 0
	at, below, err := a.target(a.args.dir, a.args.path, flags&unix.O_NOFOLLOW == 0 && !exclusive)
	if err != nil || !below {
		return err
	}
	const unnamed = unix.O_TMPFILE &^ unix.O_DIRECTORY
	mode := flags & unix.O_ACCMODE
	switch {
	case flags&unnamed != 0:
	case !at.exists() && flags&unix.O_CREAT != 0:
		if !at.orphan {
			a.add(at, Created|Written)
		}
	case !at.exists():
		a.add(at, Missing)
	case exclusive || !at.isFile() || flags&(unix.O_PATH|unix.O_DIRECTORY) != 0:
		a.add(at, Looked)
	case flags&unix.O_TRUNC != 0 || mode == unix.O_WRONLY:
		a.add(at, Written)
	case mode == unix.O_RDWR:
		a.add(at, Read|Written)
	default:
		a.add(at, Read)
	}
	return nil
}

// name adds what a call does with the names of files.
func (a *action) name() error {
	follow := a.kind == looks && a.arg(a.args.at)&unix.AT_SYMLINK_NOFOLLOW == 0 || a.kind == truncates ||
		a.kind == watches
	at, below, err := a.target(a.args.dir, a.args.path, follow)
	if err != nil {
		return err
	}
	if a.args.path2 > 0 {
		return a.second(at, below)
	}
	switch {
	case !below:
		if a.kind == makes || a.kind == removes {
			a.finder.forget() // it may be a link to something below
		}
	case a.kind == makes:
		a.finder.forget()
		if !at.exists() && !at.orphan {
			a.add(at, Created)
		}
	case !at.exists():
		if a.kind == looks || a.kind == looksAtLink || a.kind == watches {
			a.add(at, Missing)
		}
	case a.kind == watches:
		a.add(at, Looked|Watched)
	case a.kind == truncates:
		a.add(at, Written)
	case a.kind == looks || a.kind == looksAtLink:
		a.add(at, Looked)
	default:
		a.remove(at)
	}
	return nil
}

// remove adds that something is removed, if that can succeed.
func (a *action) remove(at found) {
	dir := a.kind == removesDir || a.arg(a.args.flags)&unix.AT_REMOVEDIR != 0
	if dir != at.isDir() || dir && !isEmpty(at.path) {
		return
	}
	if dir || at.isLink() {
		a.finder.forget()
	}
	a.add(at, Removed)
}

func isEmpty(dir string) bool {
	f, err := os.Open(dir)
	if err != nil {
		return false
	}
	defer f.Close()
	names, _ := f.Readdirnames(1)
	return len(names) == 0
}

// second adds what a call does that has two names: a link or a renaming. From is the first.
func (a *action) second(from found, fromBelow bool) error {
	to, toBelow, err := a.target(a.args.dir2, a.args.path2, false)
	if err != nil {
		return err
	}
	source := from.exists() || !fromBelow // of what is elsewhere, nothing is known: it is taken to exist
	if !source {
		if a.kind == links {
			a.add(from, Missing)
		}
		return nil
	}
	a.finder.forget()
	if a.kind == links {
		if fromBelow {
			a.add(from, Looked)
		}
		if toBelow && !to.exists() && !to.orphan {
			a.add(to, Created|Written)
		}
		return nil
	}
	flags := a.arg(a.args.flags)
	exchange := flags&unix.RENAME_EXCHANGE != 0
	switch {
	case toBelow && (to.orphan || to.exists() && flags&unix.RENAME_NOREPLACE != 0 || !to.exists() && exchange):
		return nil // it fails
	case exchange && fromBelow:
		a.add(from, Written)
	case fromBelow:
		a.add(from, Removed)
	}
	if toBelow {
		access := Written
		if !to.exists() {
			access |= Created
		}
		a.add(to, access)
		if !fromBelow || from.isDir() {
			a.after = func() { a.moved(to) }
		}
	}
	return nil
}

// list adds that the entries of an open directory are read.
func (a *action) list() {
	if path, ok := openDir(a.thread, int32(a.arg(a.args.fd))); ok {
		if name, below := a.finder.below(path); below {
			a.add(found{name: name}, Listed)
		}
	}
}

// execute adds the execution of a program.
func (a *action) execute() error {
	text, err := a.memory.text(a.thread, a.arg(a.args.path))
	if err != nil {
		return err
	}
	path := string(text)
	from := int32(unix.AT_FDCWD)
	if a.args.dir > 0 {
		from = int32(a.arg(a.args.dir))
	}
	if path == "" && a.arg(a.args.at)&unix.AT_EMPTY_PATH == 0 {
		return nil
	}
	if !strings.HasPrefix(path, "/") {
		base, ok := openDir(a.thread, from)
		if !ok {
			return nil
		}
		path = strings.TrimSuffix(base+"/"+path, "/")
	}
	at, below := a.finder.find(a.thread, from, []byte(path), true)
	if below {
		at.path, _ = a.finder.resolve(path, true)
	} else {
		at.path = path
	}
	info, err := os.Stat(at.path)
	switch {
	case err != nil:
		if below {
			a.add(at, Missing)
		}
		return nil
	case !info.Mode().IsRegular() || info.Mode()&0o111 == 0:
		return nil
	}
	if below {
		a.add(at, Read|Executed)
	}
	a.program(at.path, a.memory.argv(a.thread, a.arg(a.args.argv), a.pointer))
	return nil
}

// Numbers of socketcall(2).
const (
	socketcallBind    = 2
	socketcallConnect = 3
	socketcallListen  = 4
	socketcallSendto  = 11
)

// socket adds an address.
func (a *action) socket() error {
	kind, fd, addr := a.kind, a.arg(a.args.fd), a.arg(a.args.addr)
	size := uint64(0)
	if a.args.addr > 0 {
		size = a.arg(a.args.addr + 1)
	}
	if kind == socketcalls {
		at := map[uint64]kindAt{
			socketcallBind: {binds, 1}, socketcallConnect: {connects, 1}, socketcallListen: {listens, 0},
			socketcallSendto: {connects, 4},
		}
		one, is := at[a.given[0]]
		if !is {
			return nil
		}
		kind = one.kind
		var err error
		if fd, err = number(a.thread, a.given[1], 4); err != nil {
			return err
		}
		if one.addr > 0 {
			addr, _ = number(a.thread, a.given[1]+uint64(one.addr*4), 4)
			size, _ = number(a.thread, a.given[1]+uint64(one.addr*4+4), 4)
		}
	}
	if kind == listens {
		if s, ok := socketOf(a.thread, int(fd)); ok {
			a.after = func() { a.address(s.address, s.path, true) }
		}
		return nil
	}
	if addr == 0 || size < 2 || size > 200 {
		return nil
	}
	raw := make([]byte, size)
	if _, err := read(a.thread, addr, raw); err != nil {
		return err
	}
	address, path := a.sockaddr(raw)
	if kind == connects {
		a.after = func() { a.address(address, path, false) }
		return nil
	}
	a.bind(int(fd), address, path)
	return nil
}

type kindAt struct {
	kind kind
	addr int // the position of the address, counted from 0; 0: it has none
}

// bind adds the file of a Unix socket, and a port at which datagrams are received.
func (a *action) bind(fd int, address netip.AddrPort, path string) {
	if path != "" {
		if at, below := a.finder.find(a.thread, unix.AT_FDCWD, []byte(path), false); below && !at.exists() {
			a.add(at, Created)
		}
		return
	}
	if address.Port() == 0 {
		return
	}
	if s, ok := socketOf(a.thread, fd); ok && s.kind == unix.SOCK_DGRAM {
		a.after = func() { a.address(address, "", true) }
	}
}

// nameService is where the C library asks for users and hosts (nscd(8)), in nearly every program.
const nameService = "/var/run/nscd/socket"

// address records an address or the path of a Unix socket.
func (a *action) address(address netip.AddrPort, path string, listens bool) {
	if address.Port() == 0 && path == "" || path == nameService {
		return
	}
	to := a.log.connects
	if listens {
		to = a.log.listens
	}
	a.log.address(to, Address{IP: address, Path: path})
}

// sockaddr reads an address of IP (ip(7), ipv6(7)) or the path of a Unix socket (unix(7)), which is made absolute.
func (a *action) sockaddr(raw []byte) (netip.AddrPort, string) {
	switch family := binary.LittleEndian.Uint16(raw); {
	case family == unix.AF_INET && len(raw) >= 8:
		return netip.AddrPortFrom(netip.AddrFrom4([4]byte(raw[4:8])), binary.BigEndian.Uint16(raw[2:])), ""
	case family == unix.AF_INET6 && len(raw) >= 24:
		address := netip.AddrFrom16([16]byte(raw[8:24])).Unmap()
		return netip.AddrPortFrom(address, binary.BigEndian.Uint16(raw[2:])), ""
	case family == unix.AF_UNIX && len(raw) > 3 && raw[2] != 0: // others have no name in the file system
		path, _, _ := strings.Cut(string(raw[2:]), "\x00")
		return netip.AddrPort{}, inWorkingDir(a.thread, path)
	}
	return netip.AddrPort{}, ""
}

// inWorkingDir returns the absolute path of a file that a thread names; empty: unknown.
func inWorkingDir(thread int, path string) string {
	if strings.HasPrefix(path, "/") {
		return path
	}
	base, ok := openDir(thread, unix.AT_FDCWD)
	if !ok {
		return ""
	}
	return base + "/" + path
}

// socket is a socket of another process.
type socket struct {
	kind    int // unix.SOCK_STREAM, ...
	address netip.AddrPort
	path    string
}

// socketOf looks at a socket of a thread's process. It needs Linux 5.6 (pidfd_getfd(2)).
func socketOf(thread, fd int) (s socket, ok bool) {
	process, err := unix.PidfdOpen(processOf(thread), 0)
	if err != nil {
		return s, false
	}
	defer unix.Close(process)
	ours, err := unix.PidfdGetfd(process, fd, 0)
	if err != nil {
		return s, false
	}
	defer unix.Close(ours)
	if s.kind, err = unix.GetsockoptInt(ours, unix.SOL_SOCKET, unix.SO_TYPE); err != nil {
		return s, false
	}
	at, err := unix.Getsockname(ours)
	if err != nil {
		return s, false
	}
	switch at := at.(type) {
	case *unix.SockaddrInet4:
		s.address = netip.AddrPortFrom(netip.AddrFrom4(at.Addr), uint16(at.Port))
	case *unix.SockaddrInet6:
		s.address = netip.AddrPortFrom(netip.AddrFrom16(at.Addr).Unmap(), uint16(at.Port))
	case *unix.SockaddrUnix:
		if at.Name != "" && at.Name[0] != '@' {
			s.path = inWorkingDir(thread, at.Name)
		}
	}
	return s, true
}

// processOf returns the process that a thread belongs to.
func processOf(thread int) int {
	status, _ := os.ReadFile("/proc/" + strconv.Itoa(thread) + "/status")
	for line := range strings.Lines(string(status)) {
		if number, is := strings.CutPrefix(line, "Tgid:"); is {
			if n, err := strconv.Atoi(strings.TrimSpace(number)); err == nil {
				return n
			}
		}
	}
	return thread
}

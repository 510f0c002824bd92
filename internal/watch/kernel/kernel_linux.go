package kernel

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"omnivigil/internal/pace"
)

// inotify is the kernel interface of inotify(7).
type inotify struct {
	file *os.File
	fd   int
	out  chan []Notice
	done chan struct{}

	// The lock makes reading bytes from the system and counting them one step.
	mu   sync.Mutex
	busy bool  // the reader has notices that it has not delivered
	read int   // bytes read from the system
	told int   // those of them that were delivered to out
	err  error // why nothing more will be read
}

// Open returns the system's source. The error is ErrLimit if this user has too many open.
func Open() (Source, error) {
	k, err := openInotify()
	if err != nil {
		return nil, err
	}
	go k.follow()
	return k, nil
}

func openInotify() (*inotify, error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		if errors.Is(err, unix.EMFILE) {
			return nil, ErrLimit
		}
		return nil, fmt.Errorf("ask the system for file events: %w", err)
	}
	return &inotify{
		file: os.NewFile(uintptr(fd), "inotify"),
		fd:   fd,
		out:  make(chan []Notice, 256),
		done: make(chan struct{}),
	}, nil
}

const inotifyMask = unix.IN_MODIFY | unix.IN_CLOSE_WRITE | unix.IN_ATTRIB | unix.IN_CREATE | unix.IN_DELETE |
	unix.IN_MOVED_FROM | unix.IN_MOVED_TO | unix.IN_DELETE_SELF | unix.IN_MOVE_SELF | unix.IN_EXCL_UNLINK

func (k *inotify) Add(path string) (ID, error) {
	wd, err := unix.InotifyAddWatch(k.fd, path, inotifyMask)
	if errors.Is(err, unix.ENOSPC) {
		return 0, ErrLimit
	}
	return ID(wd), err
}

func (k *inotify) Remove(id ID) { unix.InotifyRmWatch(k.fd, uint32(id)) }

func (k *inotify) Batches() <-chan []Notice { return k.out }

func (k *inotify) Close() {
	close(k.done)
	k.file.Close()
}

// bufferSize is the size of one read.
const bufferSize = 256 << 10

// follow reads notices as fast as it can, so that few are lost.
func (k *inotify) follow() {
	defer close(k.out)
	buffer := make([]byte, bufferSize)
	// A file may be written a thousand times a second. The queue, which is limited, holds what comes in a pause.
	pace := pace.Pace{Slow: 5 * time.Millisecond, Pause: 30 * time.Millisecond, Few: 4096, Burst: 64}
	for {
		asked := time.Now()
		n, err := k.wait(buffer)
		if err != nil {
			k.mu.Lock()
			k.err = err
			k.mu.Unlock()
			return
		}
		select {
		case k.out <- parseNotices(buffer[:n]):
			k.mu.Lock()
			k.busy = false
			k.told += n
			k.mu.Unlock()
		case <-k.done:
			return
		}
		time.Sleep(pace.After(time.Since(asked), n))
	}
}

// wait waits until there is something to read, and reads it.
func (k *inotify) wait(buffer []byte) (n int, err error) {
	conn, err := k.file.SyscallConn()
	if err != nil {
		return 0, err
	}
	waited := conn.Read(func(fd uintptr) bool {
		k.mu.Lock()
		defer k.mu.Unlock()
		for {
			n, err = unix.Read(int(fd), buffer)
			k.busy = n > 0
			k.read += max(n, 0)
			if err != unix.EINTR {
				return err != unix.EAGAIN
			}
		}
	})
	return max(n, 0), errors.Join(waited, err)
}

func (k *inotify) Failure() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.err
}

// queued is how many bytes of the system have not been read. The caller holds the lock.
func (k *inotify) queued() int {
	n, err := unix.IoctlGetInt(k.fd, unix.TIOCINQ)
	if err != nil {
		return 0
	}
	return n
}

// CatchUp: the system queues a notice before the system call that it is about returns, and delivers notices in that
// order.
func (k *inotify) CatchUp() func() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	upTo := k.read + k.queued()
	return func() bool {
		k.mu.Lock()
		defer k.mu.Unlock()
		return k.told >= upTo || !k.busy && k.queued() == 0 || k.err != nil
	}
}

func (k *inotify) Quiet() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return !k.busy && k.queued() == 0
}

// parseNotices parses records as described in inotify(7).
func parseNotices(b []byte) []Notice {
	var batch []Notice
	for len(b) >= unix.SizeofInotifyEvent {
		wd := int32(binary.NativeEndian.Uint32(b))
		mask := binary.NativeEndian.Uint32(b[4:])
		end := unix.SizeofInotifyEvent + int(binary.NativeEndian.Uint32(b[12:]))
		if end > len(b) {
			break
		}
		name, _, _ := bytes.Cut(b[unix.SizeofInotifyEvent:end], []byte{0})
		n := Notice{ID(wd), string(name), signsOf(mask)}
		b = b[end:]
		if last := len(batch) - 1; last >= 0 && batch[last] == n {
			continue
		}
		batch = append(batch, n)
	}
	return batch
}

var inotifySigns = []struct {
	mask uint32
	sign Signs
}{
	{unix.IN_MODIFY, Wrote},
	{unix.IN_CLOSE_WRITE, Closed},
	{unix.IN_ATTRIB, Altered},
	{unix.IN_CREATE | unix.IN_MOVED_TO, Appeared},
	{unix.IN_DELETE_SELF | unix.IN_MOVE_SELF | unix.IN_UNMOUNT, SelfMoved},
	{unix.IN_IGNORED, Unwatched},
	{unix.IN_Q_OVERFLOW, Overflowed},
}

func signsOf(mask uint32) Signs {
	var s Signs
	for _, m := range inotifySigns {
		if mask&m.mask != 0 {
			s |= m.sign
		}
	}
	return s
}

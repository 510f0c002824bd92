package yield

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"
)

const name = "omnivigil-yield"

// Create returns a page that faces find with Of. It stays as long as the process lives.
func Create() (*Page, error) {
	fd, err := unix.MemfdCreate(name, unix.MFD_CLOEXEC|unix.MFD_ALLOW_SEALING)
	if err != nil {
		return nil, fmt.Errorf("share memory with faces: %w", err)
	}
	// A page that is cut off would end whoever uses it.
	err = unix.Ftruncate(fd, int64(os.Getpagesize()))
	if err == nil {
		_, err = unix.FcntlInt(uintptr(fd), unix.F_ADD_SEALS, unix.F_SEAL_SHRINK|unix.F_SEAL_GROW|unix.F_SEAL_SEAL)
	}
	if err != nil {
		unix.Close(fd)
		return nil, fmt.Errorf("share memory with faces: %w", err)
	}
	return mapped(fd)
}

// Of returns the page of a process of this user.
func Of(pid int) (*Page, error) {
	folder := fmt.Sprintf("/proc/%d/fd/", pid)
	files, err := os.ReadDir(folder)
	if err != nil {
		return nil, fmt.Errorf("share memory with process %d: %w", pid, err)
	}
	for _, file := range files {
		if to, _ := os.Readlink(folder + file.Name()); !strings.HasPrefix(to, "/memfd:"+name) {
			continue
		}
		fd, err := unix.Open(folder+file.Name(), unix.O_RDWR|unix.O_CLOEXEC, 0)
		if err != nil {
			return nil, fmt.Errorf("share memory with process %d: %w", pid, err)
		}
		defer unix.Close(fd)
		return mapped(fd)
	}
	return nil, errors.New("the process shares no memory")
}

func mapped(fd int) (*Page, error) {
	memory, err := unix.Mmap(fd, 0, os.Getpagesize(), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return nil, fmt.Errorf("share memory: %w", err)
	}
	return &Page{(*atomic.Int64)(unsafe.Pointer(&memory[0]))}, nil
}

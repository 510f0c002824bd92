//go:build amd64 || arm64

package observe

import (
	"bytes"
	"encoding/binary"
	"os"
	"strconv"
	"unsafe"

	"golang.org/x/sys/unix"
)

// memory reads the memory of threads. It is used by one goroutine.
type memory struct {
	buf []byte
}

const pageSize = 4096 // at least: no read crosses a border that a larger page does not have

// read reads as many bytes as there are at an address, up to the length of p.
func read(thread int, address uint64, p []byte) (int, error) {
	local := []unix.Iovec{{Base: unsafe.SliceData(p), Len: uint64(len(p))}}
	remote := []unix.RemoteIovec{{Base: uintptr(address), Len: len(p)}}
	return unix.ProcessVMReadv(thread, local, remote, 0)
}

// text reads a string that ends with a zero byte. It is valid until the next call.
func (m *memory) text(thread int, address uint64) ([]byte, error) {
	if m.buf == nil {
		m.buf = make([]byte, unix.PathMax)
	}
	const usual = 256 // a path is seldom longer
	for n := 0; n < len(m.buf); {
		size := min(usual, pageSize-int((address+uint64(n))%pageSize), len(m.buf)-n)
		got, err := read(thread, address+uint64(n), m.buf[n:n+size])
		if err != nil {
			return nil, err
		}
		if end := bytes.IndexByte(m.buf[n:n+got], 0); end >= 0 {
			return m.buf[:n+end], nil
		}
		n += got
	}
	return nil, unix.ENAMETOOLONG
}

// number reads an unsigned number of 4 or 8 bytes.
func number(thread int, address uint64, size int) (uint64, error) {
	var p [8]byte
	if n, err := read(thread, address, p[:size]); err != nil || n < size {
		return 0, unix.EFAULT
	}
	return binary.LittleEndian.Uint64(p[:]), nil
}

const (
	maxArgs   = 50
	maxArgLen = 300
)

// argv reads the arguments of a program, shortened. Pointers have size bytes.
func (m *memory) argv(thread int, address uint64, size int) []string {
	var all []string
	for i := range uint64(maxArgs) {
		at, err := number(thread, address+i*uint64(size), size)
		if err != nil || at == 0 {
			break
		}
		text, err := m.text(thread, at)
		if err != nil {
			break
		}
		all = append(all, string(text[:min(len(text), maxArgLen)]))
	}
	return all
}

// nameOf is the name that a thread has for the system.
func nameOf(thread int) string {
	name, _ := os.ReadFile("/proc/" + strconv.Itoa(thread) + "/comm")
	return string(bytes.TrimSpace(name))
}

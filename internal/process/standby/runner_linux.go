//go:build amd64 || arm64

package standby

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"

	"golang.org/x/sys/unix"
)

// The addresses of the runner's code and of the memory that it reads into. The latter, and its size, are those in
// runner_*.s; pages that are not written take no memory.
const (
	base       = 0x400000
	memory     = 0x10000000
	memorySize = 0x100000
)

// code is where the instructions of the runner begin in this program. They do not depend on where they are, and mark
// follows them.
var code *[maxCode]byte

const maxCode = 1024

var mark = []byte("the end\x00")

// runner returns the path of a memory file with the program that waits.
var runner = sync.OnceValues(func() (string, error) {
	program, err := runnerFile()
	if err != nil {
		return "", err
	}
	// Kernels before 6.3 do not have the flag, later ones may warn without it.
	fd, err := unix.MemfdCreate("omnivigil-standby", unix.MFD_CLOEXEC|unix.MFD_EXEC)
	if err == unix.EINVAL {
		fd, err = unix.MemfdCreate("omnivigil-standby", unix.MFD_CLOEXEC)
	}
	if err != nil {
		return "", fmt.Errorf("make a memory file: %w", err)
	}
	if _, err := unix.Write(fd, program); err != nil {
		unix.Close(fd)
		return "", fmt.Errorf("write a memory file: %w", err)
	}
	return fmt.Sprintf("/proc/self/fd/%d", fd), nil // it stays open as long as this process
})

// runnerFile returns the runner as an executable file in the format of elf(5), without sections.
func runnerFile() ([]byte, error) {
	end := bytes.Index(code[:], mark)
	if end < 0 {
		return nil, errors.New("the end of the runner is missing")
	}
	const headers, programs = 64, 3 * 56
	size := uint64(headers + programs + end)
	var file bytes.Buffer
	for _, part := range []any{
		elf.Header64{
			Ident: [elf.EI_NIDENT]byte{
				0x7f, 'E', 'L', 'F', byte(elf.ELFCLASS64), byte(elf.ELFDATA2LSB), byte(elf.EV_CURRENT),
			},
			Type: uint16(elf.ET_EXEC), Machine: uint16(machine), Version: uint32(elf.EV_CURRENT),
			Entry: base + headers + programs, Phoff: headers, Ehsize: headers, Phentsize: programs / 3, Phnum: 3,
		},
		elf.Prog64{
			Type: uint32(elf.PT_LOAD), Flags: uint32(elf.PF_R | elf.PF_X), Vaddr: base, Paddr: base,
			Filesz: size, Memsz: size, Align: 0x10000,
		},
		elf.Prog64{
			Type: uint32(elf.PT_LOAD), Flags: uint32(elf.PF_R | elf.PF_W), Vaddr: memory, Paddr: memory,
			Memsz: memorySize, Align: 0x10000,
		},
		elf.Prog64{Type: uint32(elf.PT_GNU_STACK), Flags: uint32(elf.PF_R | elf.PF_W), Align: 16},
		code[:end],
	} {
		if err := binary.Write(&file, binary.LittleEndian, part); err != nil {
			return nil, err
		}
	}
	return file.Bytes(), nil
}

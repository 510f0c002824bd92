//go:build amd64 || arm64

package observe

import (
	"fmt"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// Offsets in the kernel's struct seccomp_data (linux/seccomp.h).
const (
	offNumber = 0
	offArch   = 4
	offArgs   = 16
)

// low and high return the offsets of the halves of an argument, counted from 1. Both architectures are little-endian.
func low(arg int) uint32  { return offArgs + uint32(arg-1)*8 }
func high(arg int) uint32 { return low(arg) + 4 }

var (
	allow  = bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW}
	notify = bpf.RetConstant{Val: unix.SECCOMP_RET_USER_NOTIF}
	refuse = bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | uint32(unix.ENOSYS)}
)

// filter returns the program by which the kernel decides which calls it reports. Calls that tell nothing are let
// through there, because each report costs some microseconds: fstat(3) is a call with an empty path, and send(2) is
// sendto without an address.
func filter() ([]unix.SockFilter, error) {
	of := func(abi int) (code []bpf.Instruction) {
		code = append(code, bpf.LoadAbsolute{Off: offNumber, Size: 4})
		for _, c := range calls {
			if c.numbers[abi] == none {
				continue
			}
			then := []bpf.Instruction{notify}
			switch {
			case c.kind == refuses:
				then = []bpf.Instruction{refuse}
			case c.kind == looks && c.args.at > 0:
				then = []bpf.Instruction{
					bpf.LoadAbsolute{Off: low(c.args.at), Size: 4},
					bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: unix.AT_EMPTY_PATH, SkipFalse: 1},
					allow, notify,
				}
			case c.kind == connects:
				then = []bpf.Instruction{
					bpf.LoadAbsolute{Off: low(c.args.addr), Size: 4},
					bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 0, SkipTrue: 3},
					bpf.LoadAbsolute{Off: high(c.args.addr), Size: 4},
					bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 0, SkipTrue: 1},
					allow, notify,
				}
			}
			number := uint32(c.numbers[abi])
			code = append(code, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: number, SkipTrue: uint8(len(then))})
			code = append(code, then...)
		}
		return append(code, allow)
	}
	native, compat := of(nativeABI), of(compatABI)
	program := []bpf.Instruction{
		bpf.LoadAbsolute{Off: offArch, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: nativeArch, SkipTrue: 3},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: compatArch, SkipTrue: 1},
		allow,
		bpf.Jump{Skip: uint32(len(native))},
	}
	raw, err := bpf.Assemble(append(append(program, native...), compat...))
	if err != nil {
		return nil, fmt.Errorf("assemble the filter: %w", err)
	}
	out := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		out[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	return out, nil
}

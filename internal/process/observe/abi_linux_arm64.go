package observe

import "golang.org/x/sys/unix"

// The ABIs of programs that this machine can run: their names to the kernel (AUDIT_ARCH_*), and their columns in abis.
const (
	nativeArch, nativeABI = unix.AUDIT_ARCH_AARCH64, 2
	compatArch, compatABI = unix.AUDIT_ARCH_ARM, 3
)

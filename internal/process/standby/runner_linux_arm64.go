package standby

import "debug/elf"

const machine = elf.EM_AARCH64

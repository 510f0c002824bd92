package standby

import "debug/elf"

const machine = elf.EM_X86_64

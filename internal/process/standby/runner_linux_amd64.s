#include "textflag.h"

// The program that waits. It is never called here; its instructions are copied into a memory file. System calls are
// those of syscall(2): the number in AX, the arguments in DI, SI and DX, the result or the negative error in AX.

#define FD 3
#define MEMORY $0x10000000
#define LIMIT $0x10100000

#define READ $0
#define WRITE $1
#define EXECVE $59
#define FCNTL $72
#define EXIT_GROUP $231

TEXT run<>(SB), NOSPLIT|NOFRAME, $0
	// fcntl(FD, F_SETFD, FD_CLOEXEC): the program that is executed does not get the socket.
	MOVL	FCNTL, AX
	MOVL	$FD, DI
	MOVL	$2, SI
	MOVL	$1, DX
	SYSCALL
	MOVL	MEMORY, BX // the first address in memory
	MOVL	MEMORY, R12 // where the next bytes go

read:
	MOVL	READ, AX
	MOVL	$FD, DI
	MOVQ	R12, SI
	MOVL	LIMIT, DX
	SUBQ	R12, DX
	SYSCALL
	CMPQ	AX, $-4 // EINTR
	JEQ	read
	TESTQ	AX, AX
	JLE	exit // the parent is gone
	ADDQ	AX, R12
	MOVQ	(BX), R8 // the end of the message; 0 before it begins
	TESTQ	R8, R8
	JEQ	read
	CMPQ	R12, R8
	JLO	read

	// execve(path, argv, envp)
	MOVL	EXECVE, AX
	MOVQ	8(BX), DI
	MOVQ	16(BX), SI
	MOVQ	24(BX), DX
	SYSCALL

	// It has failed: the parent gets the error.
	MOVQ	AX, (BX)
	MOVL	WRITE, AX
	MOVL	$FD, DI
	MOVQ	BX, SI
	MOVL	$8, DX
	SYSCALL

exit:
	MOVL	EXIT_GROUP, AX
	MOVL	$127, DI
	SYSCALL
	// "the end" and 0
	LONG	$0x20656874
	LONG	$0x00646e65

DATA ·code(SB)/8, $run<>(SB)
GLOBL ·code(SB), RODATA, $8

//go:build amd64 || arm64

package observe

// kind is what a system call does.
type kind uint8

const (
	opens       kind = iota // a file, by its flags
	creates                 // opens for writing, with creation
	truncates               // a file by its name
	looks                   // at a path
	looksAtLink             // at a path, without following a link
	lists                   // the entries of an open directory
	links                   // a second name
	makes                   // a directory, symbolic link or node
	renames
	removes
	removesDir
	watches // a path for changes
	executes
	binds
	connects // or sends to an address
	listens
	socketcalls // one of the last three, by a number
	refuses     // the kernel refuses it: it would pass over the filter
)

// abis are the numbers of a call in the ABIs amd64, 386, arm64 and arm.
type abis [4]int

const none = -1

// args are the positions of a call's arguments, counted from 1; 0: it has none. A path is relative to the directory
// that is open as dir, or to the working directory.
type args struct {
	dir, path, dir2, path2 int
	flags                  int // of open, rename or unlink
	at                     int // flags of the calls whose names end in "at"
	how                    int // a struct open_how, see openat2(2)
	argv                   int
	fd                     int
	addr                   int // a socket address; its length is the next argument
}

// call is a system call that is observed. Its arguments are as in its manual page.
type call struct {
	name    string
	kind    kind
	numbers abis
	args    args
}

// calls are all calls that are observed. Their numbers are those of the kernel's system call tables, which the test
// compares with golang.org/x/sys/unix.
var calls = []call{
	{"open", opens, abis{2, 5, none, 5}, args{path: 1, flags: 2}},
	{"openat", opens, abis{257, 295, 56, 322}, args{dir: 1, path: 2, flags: 3}},
	{"openat2", opens, abis{437, 437, 437, 437}, args{dir: 1, path: 2, how: 3}},
	{"creat", creates, abis{85, 8, none, 8}, args{path: 1}},
	{"truncate", truncates, abis{76, 92, 45, 92}, args{path: 1}},
	{"truncate64", truncates, abis{none, 193, none, 193}, args{path: 1}},
	{"stat", looks, abis{4, 106, none, 106}, args{path: 1}},
	{"stat64", looks, abis{none, 195, none, 195}, args{path: 1}},
	{"lstat", looksAtLink, abis{6, 107, none, 107}, args{path: 1}},
	{"lstat64", looksAtLink, abis{none, 196, none, 196}, args{path: 1}},
	{"newfstatat", looks, abis{262, none, 79, none}, args{dir: 1, path: 2, at: 4}},
	{"fstatat64", looks, abis{none, 300, none, 327}, args{dir: 1, path: 2, at: 4}},
	{"statx", looks, abis{332, 383, 291, 397}, args{dir: 1, path: 2, at: 3}},
	{"access", looks, abis{21, 33, none, 33}, args{path: 1}},
	{"faccessat", looks, abis{269, 307, 48, 334}, args{dir: 1, path: 2}},
	{"faccessat2", looks, abis{439, 439, 439, 439}, args{dir: 1, path: 2, at: 4}},
	{"readlink", looksAtLink, abis{89, 85, none, 85}, args{path: 1}},
	{"readlinkat", looksAtLink, abis{267, 305, 78, 332}, args{dir: 1, path: 2}},
	{"getdents", lists, abis{78, 141, none, 141}, args{fd: 1}},
	{"getdents64", lists, abis{217, 220, 61, 217}, args{fd: 1}},
	{"link", links, abis{86, 9, none, 9}, args{path: 1, path2: 2}},
	{"linkat", links, abis{265, 303, 37, 330}, args{dir: 1, path: 2, dir2: 3, path2: 4}},
	{"symlink", makes, abis{88, 83, none, 83}, args{path: 2}},
	{"symlinkat", makes, abis{266, 304, 36, 331}, args{dir: 2, path: 3}},
	{"mkdir", makes, abis{83, 39, none, 39}, args{path: 1}},
	{"mkdirat", makes, abis{258, 296, 34, 323}, args{dir: 1, path: 2}},
	{"mknod", makes, abis{133, 14, none, 14}, args{path: 1}},
	{"mknodat", makes, abis{259, 297, 33, 324}, args{dir: 1, path: 2}},
	{"rename", renames, abis{82, 38, none, 38}, args{path: 1, path2: 2}},
	{"renameat", renames, abis{264, 302, 38, 329}, args{dir: 1, path: 2, dir2: 3, path2: 4}},
	{"renameat2", renames, abis{316, 353, 276, 382}, args{dir: 1, path: 2, dir2: 3, path2: 4, flags: 5}},
	{"unlink", removes, abis{87, 10, none, 10}, args{path: 1}},
	{"unlinkat", removes, abis{263, 301, 35, 328}, args{dir: 1, path: 2, flags: 3}},
	{"rmdir", removesDir, abis{84, 40, none, 40}, args{path: 1}},
	{"inotify_add_watch", watches, abis{254, 292, 27, 317}, args{path: 2}},
	{"execve", executes, abis{59, 11, 221, 11}, args{path: 1, argv: 2}},
	{"execveat", executes, abis{322, 358, 281, 387}, args{dir: 1, path: 2, argv: 3, at: 5}},
	{"bind", binds, abis{49, 361, 200, 282}, args{fd: 1, addr: 2}},
	{"connect", connects, abis{42, 362, 203, 283}, args{fd: 1, addr: 2}},
	{"sendto", connects, abis{44, 369, 206, 290}, args{fd: 1, addr: 5}},
	{"listen", listens, abis{50, 363, 201, 284}, args{fd: 1}},
	{"socketcall", socketcalls, abis{none, 102, none, none}, args{}},
	{"io_uring_setup", refuses, abis{425, 425, 425, 425}, args{}},
}

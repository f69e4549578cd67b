package sandbox

import (
	"errors"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// calls are the numbers of add_key, request_key and keyctl by the kernel's name of an architecture
// (seccomp(2), linux/audit.h): a process may use those of the other one that its processor knows.
var calls = map[string][]struct{ arch, add, request, keyctl uint32 }{
	"amd64": {{0xc000003e, 248, 249, 250}, {0x40000003, 286, 287, 288}},
	"arm64": {{0xc00000b7, 217, 218, 219}, {0x40000028, 309, 310, 311}},
}

// x32 is the bit by which programs on amd64 select an interface of its own.
const x32 = 0x40000000

// hideKeys takes the person's keys (keyrings(7)) from this process and what it starts: neither
// Landlock nor namespaces do, and a task of root or of the same user would have them.
func hideKeys() error {
	known, ok := calls[runtime.GOARCH]
	if !ok {
		return nil
	}
	stmt := func(code uint16, k uint32) unix.SockFilter { return unix.SockFilter{Code: code, K: k} }
	jump := func(code uint16, k uint32, yes, no uint8) unix.SockFilter {
		return unix.SockFilter{Code: code, Jt: yes, Jf: no, K: k}
	}
	const (
		load    = unix.BPF_LD | unix.BPF_W | unix.BPF_ABS
		equal   = unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K
		return_ = unix.BPF_RET | unix.BPF_K
	)
	refuse := stmt(return_, unix.SECCOMP_RET_ERRNO|uint32(unix.EPERM))
	var filter []unix.SockFilter
	for _, a := range known {
		filter = append(filter,
			stmt(load, 4), // the architecture
			jump(equal, a.arch, 0, 7),
			stmt(load, 0), // the number of the call
			stmt(unix.BPF_ALU|unix.BPF_AND|unix.BPF_K, ^uint32(x32)),
			jump(equal, a.add, 2, 0), jump(equal, a.request, 1, 0), jump(equal, a.keyctl, 0, 1),
			refuse,
			stmt(return_, unix.SECCOMP_RET_ALLOW),
		)
	}
	filter = append(filter, stmt(return_, unix.SECCOMP_RET_ALLOW))
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	program := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	_, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, 0, uintptr(unsafe.Pointer(&program)))
	if errno != 0 && !errors.Is(errno, unix.ENOSYS) && !errors.Is(errno, unix.EINVAL) { // a kernel without filters
		return errno
	}
	return nil
}

package apart

import (
	"slices"
	"unsafe"

	"golang.org/x/sys/unix"
)

// refused are the system calls that functions and builds do not need: mounts, namespaces, other processes'
// memory, keys, kernel programs, the machine's clock and names, and calls with recent vulnerabilities.
func refused() []uint32 {
	return append([]uint32{
		unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_PIVOT_ROOT, unix.SYS_CHROOT, unix.SYS_UNSHARE, unix.SYS_SETNS,
		unix.SYS_OPEN_TREE, unix.SYS_MOVE_MOUNT, unix.SYS_FSOPEN, unix.SYS_FSCONFIG, unix.SYS_FSMOUNT,
		unix.SYS_FSPICK, unix.SYS_MOUNT_SETATTR,
		unix.SYS_PTRACE, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV, unix.SYS_KCMP, unix.SYS_PIDFD_GETFD,
		unix.SYS_KEYCTL, unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY,
		unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_USERFAULTFD, unix.SYS_IO_URING_SETUP, unix.SYS_IO_URING_ENTER,
		unix.SYS_IO_URING_REGISTER,
		unix.SYS_NAME_TO_HANDLE_AT, unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_FANOTIFY_INIT, unix.SYS_LOOKUP_DCOOKIE,
		unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE, unix.SYS_KEXEC_LOAD,
		unix.SYS_KEXEC_FILE_LOAD, unix.SYS_REBOOT,
		unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_ACCT, unix.SYS_QUOTACTL, unix.SYS_SYSLOG,
		unix.SYS_SETTIMEOFDAY, unix.SYS_CLOCK_SETTIME, unix.SYS_CLOCK_ADJTIME, unix.SYS_ADJTIMEX,
		unix.SYS_SETHOSTNAME, unix.SYS_SETDOMAINNAME,
		unix.SYS_VHANGUP, unix.SYS_MIGRATE_PAGES, unix.SYS_MOVE_PAGES,
	}, refusedHere()...)
}

// usual are the most frequent calls: they are allowed first, because the kernel runs the filter for each call.
func usual() []uint32 {
	return append([]uint32{unix.SYS_READ, unix.SYS_WRITE, unix.SYS_FUTEX, unix.SYS_OPENAT, unix.SYS_CLOSE,
		unix.SYS_FSTAT, unix.SYS_EPOLL_PWAIT, unix.SYS_LSEEK, unix.SYS_MMAP, unix.SYS_MUNMAP,
		unix.SYS_GETDENTS64, unix.SYS_GETRANDOM, unix.SYS_STATX, unix.SYS_CLOCK_GETTIME, unix.SYS_FCNTL,
		unix.SYS_READLINKAT, unix.SYS_RECVMSG, unix.SYS_SENDMSG}, usualHere()...)
}

// newSpaces are the flags of clone that create namespaces.
const newSpaces = unix.CLONE_NEWNS | unix.CLONE_NEWCGROUP | unix.CLONE_NEWUTS | unix.CLONE_NEWIPC |
	unix.CLONE_NEWUSER | unix.CLONE_NEWPID | unix.CLONE_NEWNET

// Offsets in struct seccomp_data, in bytes.
const (
	numberAt       = 0
	architectureAt = 4
	firstArgAt     = 16
)

// filter is the program that the kernel runs for each system call (seccomp, classic BPF): calls of another
// architecture end the process, refused calls fail with EPERM, and clone3, whose flags a filter cannot read,
// fails with ENOSYS, so programs use clone.
func filter() []unix.SockFilter {
	load := func(at uint32) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: at}
	}
	jump := func(how uint16, k uint32, yes, no uint8) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_JMP | how | unix.BPF_K, K: k, Jt: yes, Jf: no}
	}
	answer := func(k uint32) unix.SockFilter { return unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: k} }
	fails := func(e unix.Errno) uint32 { return unix.SECCOMP_RET_ERRNO | uint32(e) }

	out := []unix.SockFilter{load(architectureAt), jump(unix.BPF_JEQ, architecture, 1, 0),
		answer(unix.SECCOMP_RET_KILL_PROCESS), load(numberAt)}
	if otherABI != 0 {
		out = append(out, jump(unix.BPF_JGE, otherABI, 0, 1), answer(fails(unix.EPERM)))
	}
	// System calls below the first rejected one pass at once, as do the usual ones.
	first := slices.Min(append(refused(), unix.SYS_CLONE, unix.SYS_CLONE3))
	out = append(out, jump(unix.BPF_JGE, first, 1, 0), answer(unix.SECCOMP_RET_ALLOW))
	for _, number := range usual() {
		if number > first {
			out = append(out, jump(unix.BPF_JEQ, number, 0, 1), answer(unix.SECCOMP_RET_ALLOW))
		}
	}
	out = append(out, jump(unix.BPF_JEQ, unix.SYS_CLONE3, 0, 1), answer(fails(unix.ENOSYS)))
	for _, number := range refused() {
		out = append(out, jump(unix.BPF_JEQ, number, 0, 1), answer(fails(unix.EPERM)))
	}
	return append(out,
		jump(unix.BPF_JEQ, unix.SYS_CLONE, 0, 3), load(firstArgAt), jump(unix.BPF_JSET, newSpaces, 0, 1),
		answer(fails(unix.EPERM)),
		answer(unix.SECCOMP_RET_ALLOW))
}

// refuseCalls installs the filter for this thread and everything that it starts.
func refuseCalls() error {
	program := filter()
	p := unix.SockFprog{Len: uint16(len(program)), Filter: &program[0]}
	return unix.Prctl(unix.PR_SET_SECCOMP, unix.SECCOMP_MODE_FILTER, uintptr(unsafe.Pointer(&p)), 0, 0)
}

package apart

import "golang.org/x/sys/unix"

const (
	architecture = unix.AUDIT_ARCH_X86_64
	otherABI     = 0x4000_0000 // system calls of the x32 ABI start here
)

func usualHere() []uint32 {
	return []uint32{unix.SYS_NEWFSTATAT, unix.SYS_EPOLL_WAIT, unix.SYS_READLINK, unix.SYS_GETCWD}
}

func refusedHere() []uint32 {
	return []uint32{unix.SYS_IOPL, unix.SYS_IOPERM, unix.SYS_MODIFY_LDT, unix.SYS__SYSCTL, unix.SYS_USELIB,
		unix.SYS_USTAT, unix.SYS_SYSFS, unix.SYS_CREATE_MODULE, unix.SYS_GET_KERNEL_SYMS,
		unix.SYS_QUERY_MODULE, unix.SYS_NFSSERVCTL}
}

package apart

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Name is the program name that makes the process isolate itself and run a command.
const Name = "rudmar-cage"

// once is the program name that starts one command of a session.
const once = "rudmar-cage-once"

// File descriptors of a process in a cage.
const (
	inFD = iota + 3
	outFD
	controlFD
)

// init isolates the process and runs a command, if the program was started for that; then it does not return.
// Otherwise it does nothing.
func init() {
	if len(os.Args) == 0 || os.Args[0] != Name && os.Args[0] != once {
		return
	}
	runtime.LockOSThread() // privileges and filters belong to a thread
	control := os.NewFile(controlFD, "control")
	unix.CloseOnExec(controlFD)
	var err error
	if os.Args[0] == once {
		err = beginOne(control)
	} else {
		err = enter(control)
	}
	// Reaching this point means that the command was not started.
	fmt.Fprintln(control, err)
	os.Exit(125)
}

func enter(control *os.File) error {
	var p Plan
	if len(os.Args) != 3 || json.Unmarshal([]byte(os.Args[2]), &p) != nil {
		return fmt.Errorf("%s can only be started by Rudmar", Name)
	}
	root := os.Args[1]
	unix.CloseOnExec(inFD)
	unix.CloseOnExec(outFD)
	unix.Umask(0o022)
	if p.Spaces {
		if err := isolate(root, p); err != nil {
			return err
		}
	}
	var s Spec
	if err := ReceiveFrame(control, &s); err != nil {
		if err == io.EOF { //nolint:errorlint // nothing was wanted after all
			os.Exit(0)
		}
		return fmt.Errorf("reading what to run: %w", err)
	}
	if p.Spaces {
		if err := populate(root, s); err != nil {
			return err
		}
		if s.Network {
			if err := egress(control); err != nil {
				return err
			}
		}
		if err := seal(root); err != nil {
			return err
		}
	}
	if s.Session {
		return serve(s)
	}
	return begin(s)
}

// begin drops privileges and executes the command.
func begin(s Spec) error {
	if !s.Session {
		for _, fd := range []int{inFD, outFD} {
			if _, err := unix.FcntlInt(uintptr(fd), unix.F_SETFD, 0); err != nil {
				return fmt.Errorf("keeping the pipes: %w", err)
			}
		}
	}
	dir := s.Dir
	if dir == "" {
		dir = Scratch
	}
	if err := limit(s); err != nil {
		return err
	}
	if err := dropPrivileges(s); err != nil {
		return err
	}
	if err := os.Chdir(dir); err != nil {
		return fmt.Errorf("entering its folder: %w", err)
	}
	path := s.Command[0]
	if !strings.Contains(path, "/") {
		for _, v := range s.Env {
			if list, ok := strings.CutPrefix(v, "PATH="); ok {
				os.Setenv("PATH", list)
			}
		}
		found, err := exec.LookPath(path)
		if err != nil {
			return fmt.Errorf("finding %s: %w", path, err)
		}
		path = found
	}
	if s.Plan.Filter {
		if err := refuseCalls(); err != nil {
			return fmt.Errorf("refusing system calls: %w", err)
		}
	}
	return fmt.Errorf("starting %s: %w", filepath.Base(path), syscall.Exec(path, s.Command, s.Env))
}

// limit sets the limits that each process has for itself.
func limit(s Spec) error {
	set := func(resource int, value uint64) error {
		return unix.Setrlimit(resource, &unix.Rlimit{Cur: value, Max: value})
	}
	files := uint64(1024)
	if s.Limits.OpenFiles > 0 {
		files = uint64(s.Limits.OpenFiles)
	}
	for _, l := range []struct {
		resource int
		value    uint64
		wanted   bool
	}{
		{unix.RLIMIT_CORE, 0, true},
		{unix.RLIMIT_NOFILE, files, true},
		{unix.RLIMIT_NPROC, uint64(s.Limits.Processes), s.Limits.Processes > 0 && (s.Plan.Switch || s.Plan.Own)},
		{unix.RLIMIT_FSIZE, uint64(s.Limits.Scratch), s.Limits.Scratch > 0},
		{unix.RLIMIT_MEMLOCK, 64 << 10, true},
		{unix.RLIMIT_MSGQUEUE, 0, true},
	} {
		if !l.wanted {
			continue
		}
		if err := set(l.resource, l.value); err != nil {
			return fmt.Errorf("setting a limit: %w", err)
		}
	}
	return nil
}

// dropPrivileges drops privileges permanently: another user, no capabilities, no way to gain new ones, and an
// end together with the parent.
func dropPrivileges(s Spec) error {
	for c := 0; c <= unix.CAP_LAST_CAP; c++ {
		_ = unix.Prctl(unix.PR_CAPBSET_DROP, uintptr(c), 0, 0, 0) // a capability that cannot be dropped does not exist
	}
	_ = unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
	if s.Plan.Switch {
		// Applies to this thread only, which becomes the command.
		if _, _, e := unix.RawSyscall(unix.SYS_SETGROUPS, 0, 0, 0); e != 0 {
			return fmt.Errorf("leaving groups: %w", e)
		}
		id := uintptr(s.Plan.User)
		if _, _, e := unix.RawSyscall(unix.SYS_SETRESGID, id, id, id); e != 0 {
			return fmt.Errorf("becoming another group: %w", e)
		}
		if _, _, e := unix.RawSyscall(unix.SYS_SETRESUID, id, id, id); e != 0 {
			return fmt.Errorf("becoming another user: %w", e)
		}
	}
	if s.Plan.Own {
		// The user that is root inside gains no capabilities when it starts a program.
		const noRoot = 1<<0 | 1<<1 | 1<<2 | 1<<3 | 1<<5 // NOROOT, NO_SETUID_FIXUP and their locks; KEEP_CAPS locked
		if err := unix.Prctl(unix.PR_SET_SECUREBITS, noRoot, 0, 0, 0); err != nil {
			return fmt.Errorf("locking privileges: %w", err)
		}
	}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	if _, _, e := unix.RawSyscall(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&header)),
		uintptr(unsafe.Pointer(&none[0])), 0); e != 0 {
		return fmt.Errorf("giving up capabilities: %w", e)
	}
	// Changing the user resets it.
	if err := unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGKILL), 0, 0, 0); err != nil {
		return fmt.Errorf("ending with the keeper: %w", err)
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("taking away the way to new privileges: %w", err)
	}
	return nil
}

// loopback brings the cage's own loopback up, which reaches nothing outside.
func loopback() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	lo, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	lo.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, lo)
}

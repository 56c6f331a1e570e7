package local

import (
	"os"
	"os/exec"
	"syscall"
)

// The users that functions run as where the platform may choose: one for each
// instance, so that none can look into the folder of another. Nobody is for
// machines that have no such users to give.
const (
	nobody    = 65534
	firstUser = 58_000
	users     = 2_000
)

// isolation is how functions' processes are kept apart on this machine. What
// the machine allows is tried once, with a harmless command.
type isolation struct {
	root    bool // the platform may choose another user
	users   bool // and each instance has one of its own
	spaces  bool // processes have namespaces of their own
	starter *starter
}

// namespaces are a process tree of its own, which ends as a whole whatever its
// parts do, no devices for messages, and another name of the machine.
const namespaces = syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS

func findIsolation() isolation {
	root, starter := os.Geteuid() == 0, newStarter()
	for _, i := range []isolation{
		{root: root, users: root, spaces: true, starter: starter},
		{root: root, spaces: true, starter: starter},
		{root: root, users: root, starter: starter},
	} {
		if i.works() {
			return i
		}
	}
	return isolation{root: root, starter: starter}
}

func (i isolation) works() bool {
	cmd := exec.Command("/bin/true")
	cmd.SysProcAttr = i.attributes(false, i.user(0))
	return i.starter.start(cmd) == nil && cmd.Wait() == nil
}

// user gives the user of the n-th instance.
func (i isolation) user(n int) int {
	switch {
	case i.users:
		return firstUser + n%users
	case i.root:
		return nobody
	}
	return os.Geteuid()
}

// attributes gives how a process is started: in a group of its own that ends
// with the platform, as a user without rights and with namespaces of its own
// where that is possible, and with a network only where it is asked for.
func (i isolation) attributes(network bool, user int) *syscall.SysProcAttr {
	a := &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if i.root {
		a.Credential = &syscall.Credential{Uid: uint32(user), Gid: uint32(user)}
	}
	if !i.spaces {
		return a
	}
	a.Cloneflags = namespaces
	if !network {
		a.Cloneflags |= syscall.CLONE_NEWNET
	}
	if !i.root {
		a.Cloneflags |= syscall.CLONE_NEWUSER
		a.UidMappings = []syscall.SysProcIDMap{{ContainerID: os.Geteuid(), HostID: os.Geteuid(), Size: 1}}
		a.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getegid(), HostID: os.Getegid(), Size: 1}}
	}
	return a
}

// notes says in words what is missing.
func (i isolation) notes() []string {
	var out []string
	if !i.root {
		out = append(out, "functions run as the user that runs the platform, and can read that user's files")
	}
	if i.root && !i.users {
		out = append(out, "functions run as one user, and can read each other's working folders: this system has no users to give them")
	}
	if !i.spaces {
		out = append(out, "functions can reach the network of this machine, whatever their manifests say, and processes that they start can outlive them: this system gives no namespaces")
	}
	if i.starter.refused != nil {
		out = append(out, "functions can gain privileges through programs that grant them: "+i.starter.refused.Error())
	}
	return append(out, "functions can read what everybody on this machine can read")
}

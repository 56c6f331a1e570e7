package local

import (
	"os"
	"syscall"
)

// nobody is the user that functions run as where the platform may choose.
const nobody = 65534

// isolation is how a function's process is kept apart: a process group of its
// own that ends with the platform and, where the platform runs as root, a user
// without rights.
func isolation() *syscall.SysProcAttr {
	attributes := &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if os.Geteuid() == 0 {
		attributes.Credential = &syscall.Credential{Uid: nobody, Gid: nobody}
	}
	return attributes
}

// isolationNotes says in words what is missing.
func isolationNotes() []string {
	notes := []string{"functions can reach the network of this machine"}
	if os.Geteuid() != 0 {
		notes = append(notes, "functions run as the user that runs the platform, and can read that user's files")
	}
	return notes
}

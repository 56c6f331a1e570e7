package cage

import (
	"fmt"
	"os/exec"
	"runtime"

	"golang.org/x/sys/unix"
)

// starter starts processes from a thread of its own, which has permanently given up new privileges
// (PR_SET_NO_NEW_PRIVS, inherited by its children), and which lives as long as the keeper: a process with a
// parent-death signal ends with the thread that started it.
type starter struct {
	work chan func()
	gone chan struct{}
	// refused is why a command could gain privileges; nil if it cannot.
	refused error
}

func newStarter() *starter {
	s := &starter{work: make(chan func()), gone: make(chan struct{})}
	ready := make(chan struct{})
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with this goroutine
		if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
			s.refused = fmt.Errorf("taking away the way to new privileges: %w", err)
		}
		close(ready)
		for {
			select {
			case do := <-s.work:
				do()
			case <-s.gone:
				return
			}
		}
	}()
	<-ready
	return s
}

// start starts a command.
func (s *starter) start(cmd *exec.Cmd) error {
	done := make(chan error, 1)
	select {
	case s.work <- func() { done <- cmd.Start() }:
		return <-done
	case <-s.gone:
		return ErrClosed
	}
}

// close ends the thread, and with it its processes. Nothing is started afterwards.
func (s *starter) close() { close(s.gone) }

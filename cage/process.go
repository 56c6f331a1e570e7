package cage

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"time"

	"apart"
)

// Process is a cage with its processes.
type Process struct {
	// In and Out are two pipes besides the standard streams: the command reads file descriptor 3 and writes 4.
	In, Out *os.File
	// Stdout and Stderr receive its standard streams.
	Stdout, Stderr *os.File

	keeper  *Keeper
	cmd     *exec.Cmd
	control *net.UnixConn
	group   *group
	plan    plan
	base    int      // number of tasks when idle
	births  *os.File // reports the last process created in the cage; nil if that is not visible
	newest  int      // the last known one
	release func()
	done    chan struct{}
	freed   sync.Once
}

// Start puts up a cage and runs a command in it. The process has to be waited
// for (Done) and released.
func (k *Keeper) Start(s Spec) (*Process, error) {
	p, err := k.empty()
	if err != nil {
		return nil, err
	}
	if err := p.enter(s); err != nil {
		p.Kill()
		<-p.done
		p.Release()
		return nil, err
	}
	return p, nil
}

// empty returns an empty cage from the reserve, or creates one.
func (k *Keeper) empty() (*Process, error) {
	k.mu.Lock()
	if k.closed {
		k.mu.Unlock()
		return nil, ErrClosed
	}
	var p *Process
	for p == nil && len(k.ready) > 0 {
		p, k.ready = k.ready[0], k.ready[1:]
		select {
		case <-p.done: // it ended without an observer
			go p.Release()
			p = nil
		default:
		}
	}
	k.mu.Unlock()
	if p == nil {
		return k.start()
	}
	time.AfterFunc(refillAfter, k.refill)
	return p, nil
}

// refillAfter is the delay before an empty cage is replaced, so its replacement does not compete with the
// process that was just started.
const refillAfter = 40 * time.Millisecond

// refill creates empty cages up to the configured number, one after another.
func (k *Keeper) refill() {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.closed || k.making || len(k.ready) >= k.config.Ready {
		return
	}
	k.making = true
	k.work.Go(func() {
		p, err := k.start()
		if err == nil {
			p.setUrgent(false)
		}
		k.mu.Lock()
		k.making = false
		late := k.closed
		if err == nil && !late {
			k.ready = append(k.ready, p)
		}
		k.mu.Unlock()
		switch {
		case err != nil:
			k.config.Log.Warn("starting a cage", "error", err) // the next start tries again
		case late:
			p.Kill()
			<-p.done
			p.Release()
		default:
			k.refill()
		}
	})
}

// setUrgent sets whether the work of a cage has normal priority or yields to others, as the creation of
// reserves does. Only root can restore normal priority.
func (p *Process) setUrgent(urgent bool) {
	if !p.keeper.plan.Switch {
		return
	}
	nice := 19
	if urgent {
		nice = 0
	}
	pid := strconv.Itoa(p.Pid())
	_ = syscall.Setpriority(syscall.PRIO_PROCESS, p.Pid(), nice)               // it may have ended
	_ = os.WriteFile("/proc/"+pid+"/autogroup", []byte(strconv.Itoa(nice)), 0) // if sessions share processors
}

// start creates an empty cage, which waits for its command.
func (k *Keeper) start() (*Process, error) {
	p := &Process{keeper: k, plan: k.plan, release: func() {}, done: make(chan struct{})}
	var theirs []*os.File
	defer func() {
		for _, f := range theirs {
			f.Close()
		}
	}()
	fail := func(err error) (*Process, error) {
		p.closeFiles()
		p.free()
		return nil, fmt.Errorf("starting a cage: %w", err)
	}
	for _, pipe := range []struct {
		mine  **os.File
		reads bool // the readers
	}{{&p.In, true}, {&p.Out, false}, {&p.Stdout, false}, {&p.Stderr, false}} {
		r, w, err := os.Pipe()
		if err != nil {
			return fail(err)
		}
		if pipe.reads {
			r, w = w, r
		}
		*pipe.mine = r
		theirs = append(theirs, w)
	}
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return fail(err)
	}
	mine, control := os.NewFile(uintptr(pair[0]), "control"), os.NewFile(uintptr(pair[1]), "control")
	theirs = append(theirs, control)
	conn, err := net.FileConn(mine)
	mine.Close()
	if err != nil {
		return fail(err)
	}
	p.control = conn.(*net.UnixConn)
	if k.plan.Switch {
		if p.plan.User, p.release, err = acquireUser(); err != nil {
			return fail(err)
		}
	}
	setup, err := json.Marshal(p.plan)
	if err != nil {
		return fail(err)
	}
	p.cmd = exec.Command(k.config.Self)
	p.cmd.Args = []string{apart.Name, filepath.Join(k.config.Dir, "root"), string(setup)}
	p.cmd.Env = []string{}
	p.cmd.Dir = "/"
	p.cmd.Stdout, p.cmd.Stderr = theirs[2], theirs[3]
	p.cmd.ExtraFiles = []*os.File{theirs[0], theirs[1], control}
	p.cmd.SysProcAttr = k.attributes()
	if k.groups != nil {
		if p.group, err = k.groups.make(strconv.FormatInt(time.Now().UnixNano(), 36)+strconv.Itoa(p.plan.User),
			Limits{}); err != nil {
			return fail(err)
		}
	}
	if err := k.starter.start(p.cmd); err != nil {
		return fail(err)
	}
	if p.group != nil {
		err = p.group.add(p.cmd.Process.Pid)
	}
	go func() {
		_ = p.cmd.Wait() // State reports how it ended
		p.Kill()         // without namespaces some processes may be left, and the group keeps its ID until they end
		close(p.done)
	}()
	if err != nil {
		p.Kill()
		<-p.done
		return fail(err)
	}
	return p, nil
}

// attributes returns how the program is started inside of its new namespaces.
func (k *Keeper) attributes() *syscall.SysProcAttr {
	a := &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
	if !k.plan.Spaces {
		return a
	}
	a.Cloneflags = syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC |
		syscall.CLONE_NEWUTS | syscall.CLONE_NEWNET
	if k.plan.Own {
		a.Cloneflags |= syscall.CLONE_NEWUSER
		a.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Geteuid(), Size: 1}}
		a.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getegid(), Size: 1}}
	}
	return a
}

// enter starts a command in an empty cage.
func (p *Process) enter(s Spec) error {
	s.Plan = p.plan
	p.setUrgent(true)
	if p.group != nil {
		if err := p.group.limit(s.Limits); err != nil {
			return fmt.Errorf("limiting a cage: %w", err)
		}
	}
	err := errors.Join(p.control.SetWriteDeadline(time.Now().Add(tryTime)), apart.SendFrame(p.control, s))
	if err != nil {
		return errors.Join(fmt.Errorf("sending a command to a cage: %w", err), p.Failure())
	}
	if s.Network && s.Plan.Spaces {
		if err := p.openEgress(s.Destinations); err != nil {
			return fmt.Errorf("opening network access for a cage: %w", err)
		}
	}
	return nil
}

// Done is closed once the command and all its processes have ended.
func (p *Process) Done() <-chan struct{} { return p.done }

// State returns how it ended; nil before that.
func (p *Process) State() *os.ProcessState { return p.cmd.ProcessState }

// Pid is the first process of the cage, as the machine numbers it.
func (p *Process) Pid() int { return p.cmd.Process.Pid }

// User is the user that it runs as; 0 for the keeper's user.
func (p *Process) User() int { return p.plan.User }

// Failure returns why the cage could not be created or the command not be started; nil if it was started. It is
// returned once, after the command has ended.
func (p *Process) Failure() error {
	_ = p.control.SetReadDeadline(time.Now().Add(time.Second))
	text, _ := io.ReadAll(io.LimitReader(p.control, 4096)) // the other end is closed once a command has started
	if len(bytes.TrimSpace(text)) == 0 {
		return nil
	}
	return errors.New(string(bytes.TrimSpace(text)))
}

// Signal sends a signal to the command and its group. After the command has ended it does nothing, because the
// process ID can belong to another process.
func (p *Process) Signal(s syscall.Signal) {
	select {
	case <-p.done:
	default:
		_ = syscall.Kill(-p.cmd.Process.Pid, s) // it may be ending
	}
}

// Kill ends all processes of the cage.
func (p *Process) Kill() {
	p.Signal(syscall.SIGKILL)
	if p.group != nil {
		for _, pid := range p.group.processes() {
			_ = syscall.Kill(pid, syscall.SIGKILL) // it may be gone already
		}
	}
}

// Rest declares that the command is initialized and idle: the present processes may stay.
func (p *Process) Rest() {
	if p.group != nil {
		p.base = p.group.tasks()
	}
	if p.plan.Spaces && p.births == nil {
		// without it the cage is searched each time
		p.births, _ = os.Open("/proc/" + strconv.Itoa(p.Pid()) + "/root/proc/loadavg")
	}
	p.newest = p.lastBorn()
}

// lastBorn is the ID of the newest process or thread of the cage (the last field of proc's loadavg); 0 if
// unknown. If it is unchanged, nothing was started, which is cheap to check.
func (p *Process) lastBorn() int {
	if p.births == nil {
		return 0
	}
	var text [96]byte
	n, _ := p.births.ReadAt(text[:], 0)
	line := bytes.TrimSpace(text[:n])
	last, err := strconv.Atoi(string(line[bytes.LastIndexByte(line, ' ')+1:]))
	if err != nil {
		return 0
	}
	return last
}

// EndOthers ends all processes of the cage except the command, and reports whether there were any.
func (p *Process) EndOthers() bool {
	last := p.lastBorn()
	if last != 0 && last == p.newest {
		return false
	}
	p.newest = last
	if p.group == nil {
		others := descendants(p.Pid())
		for _, pid := range others {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		return len(others) > 0
	}
	if p.base > 0 && p.group.tasks() == p.base {
		return false
	}
	ended := false
	for _, pid := range p.group.processes() {
		if pid != p.Pid() {
			ended = true
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	return ended
}

// Starved reports whether the system ended a process for exceeding the cage's memory.
func (p *Process) Starved() bool { return p.group != nil && p.group.starved() }

// Limited reports whether the system enforces the cage's limits.
func (p *Process) Limited() bool { return p.group != nil }

// Processes lists the processes of the cage, the command first.
func (p *Process) Processes() []int {
	return append([]int{p.Pid()}, descendants(p.Pid())...)
}

// Release frees the resources of the cage. The command has ended.
func (p *Process) Release() {
	p.freed.Do(func() {
		p.closeFiles()
		p.free()
	})
}

func (p *Process) free() {
	p.release()
	if p.group != nil && !p.keeper.whileOpen(p.group.remove) {
		p.group.remove()
	}
}

func (p *Process) closeFiles() {
	for _, f := range []*os.File{p.In, p.Out, p.Stdout, p.Stderr, p.births} {
		if f != nil {
			f.Close()
		}
	}
	if p.control != nil {
		p.control.Close()
	}
}

// drain discards output.
func (p *Process) drain() {
	go func() { _, _ = io.Copy(io.Discard, p.Stdout) }()
	_, _ = io.Copy(io.Discard, p.Stderr)
}

// descendants lists the processes that a process started, at any remove, as
// far as they are still its own.
func descendants(pid int) []int {
	var out []int
	tasks, _ := os.ReadDir("/proc/" + strconv.Itoa(pid) + "/task") // an ended process has none
	for _, task := range tasks {
		text, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/task/" + task.Name() + "/children")
		for _, word := range bytes.Fields(text) {
			if child, err := strconv.Atoi(string(word)); err == nil {
				out = append(append(out, child), descendants(child)...)
			}
		}
	}
	return out
}

// Package cage runs untrusted commands, functions and builds, in isolation from the machine.
//
// A cage has its own file tree (read-only mounts and a private directory of limited size), process
// tree, network, message queues and host name; its own user if one is available; no way to gain
// privileges; a filter for system calls; and limits for the memory, processes and disk of
// everything that it starts.
//
// Open tests once, with a harmless command, what the machine allows; Keeper.Missing describes the
// rest. The program isolates itself: it starts again inside the new namespaces as package apart.
package cage

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"time"

	"apart"
)

// Users that commands run as, if the keeper can choose: each command has a user of its own on the whole
// machine.
const (
	firstUser = 58_000
	userCount = 2_000
)

// ErrClosed reports that the keeper has been closed.
var ErrClosed = errors.New("the cage's keeper is closed")

// The description of a command in a cage is in package apart, which isolates it.
type (
	Spec   = apart.Spec
	Mount  = apart.Mount
	Limits = apart.Limits
	Step   = apart.Step
	plan   = apart.Plan
)

// Scratch is the private folder of a caged command: HOME and TMPDIR.
const Scratch = apart.Scratch

// ProxyAddress is the address of a command's HTTP proxy.
const ProxyAddress = apart.ProxyAddress

// Config configures a keeper.
type Config struct {
	// Dir is the keeper's own folder, created with mode 0700.
	Dir string
	// Self is a program that imports this package; default this program.
	Self string
	// Ready is the number of empty cages kept in reserve, so a start does not wait for one.
	Ready int
	// Reach reports which addresses commands with network access can reach; default Outside.
	Reach func(netip.Addr) bool
	// Dial opens their connections; default net.Dialer's.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	Log  *slog.Logger
}

// Keeper puts up cages.
type Keeper struct {
	config  Config
	plan    plan
	groups  *groups // nil without control groups
	starter *starter
	why     error // why namespaces are unavailable; nil if they are available
	noWay   error // why network access is unavailable; nil if it is available

	mu     sync.Mutex
	ready  []*Process
	making bool
	closed bool
	work   sync.WaitGroup
}

// Open tests the machine's means of isolation. Close ends the keeper.
func Open(c Config) (*Keeper, error) {
	if c.Log == nil {
		c.Log = slog.Default()
	}
	if c.Reach == nil {
		c.Reach = Outside
	}
	if c.Dial == nil {
		c.Dial = (&net.Dialer{}).DialContext
	}
	if c.Self == "" {
		self, err := os.Executable()
		if err != nil {
			return nil, fmt.Errorf("finding this program: %w", err)
		}
		c.Self = self
	}
	for _, path := range []*string{&c.Self, &c.Dir} { // a command in a cage is started elsewhere
		whole, err := filepath.Abs(*path)
		if err != nil {
			return nil, fmt.Errorf("finding the cage's folder: %w", err)
		}
		*path = whole
	}
	if err := os.MkdirAll(filepath.Join(c.Dir, "root"), 0o700); err != nil {
		return nil, fmt.Errorf("making the cage's folder: %w", err)
	}
	k := &Keeper{config: c, starter: newStarter()}
	root := os.Geteuid() == 0
	k.groups = findGroups()
	err := error(nil)
	for _, p := range plans(root) {
		k.plan = p
		if err = k.try(); err == nil {
			break
		}
		if p.Spaces && k.why == nil {
			k.why = err
		}
	}
	if err != nil {
		k.starter.close()
		return nil, fmt.Errorf("starting a harmless command: %w", err)
	}
	if device, err := os.OpenFile("/dev/net/tun", os.O_RDWR, 0); err != nil {
		k.noWay = err
	} else {
		device.Close()
	}
	k.refill()
	return k, nil
}

// plans lists the combinations of isolation to try, best first. A process that is root only in a namespace has
// no other users to assign.
func plans(root bool) []plan {
	own := plan{Spaces: true, Own: true}
	out := []plan{own, {}}
	if root {
		out = []plan{{Spaces: true, Switch: true}, own, {Switch: true}, {}}
	}
	for i, p := range out { // without a system call filter only if the machine has none
		out[i].Filter = true
		out = append(out, p)
	}
	return out
}

// tryTime is the time limit of the test command, on a machine under load.
const tryTime = 20 * time.Second

// try runs a harmless command behind the walls.
func (k *Keeper) try() error {
	p, err := k.Start(Spec{Command: []string{"/bin/true"}, Limits: Limits{Scratch: 1 << 20}})
	if err != nil {
		return err
	}
	defer p.Release()
	go p.drain()
	select {
	case <-p.Done():
	case <-time.After(tryTime):
		p.Kill()
		<-p.Done()
		return fmt.Errorf("it did not exit within %s", tryTime)
	}
	if why := p.Failure(); why != nil {
		return why
	}
	if !p.State().Success() {
		return fmt.Errorf("it exited with %s", p.State())
	}
	return nil
}

// Closed reports whether commands are isolated: they see only what is mounted. If they are not, Missing
// describes what they can reach.
func (k *Keeper) Closed() bool { return k.plan.Spaces }

// Limited reports whether the system enforces limits for all processes of a cage together; otherwise the keeper
// watches them.
func (k *Keeper) Limited() bool { return k.groups != nil }

// Missing returns in words which walls this machine does not allow.
func (k *Keeper) Missing() []string {
	out := []string{}
	if !k.plan.Spaces {
		out = append(out, fmt.Sprintf(
			"this system provides no namespaces (%v): a function or build can read the files that its user can read, reaches this machine's network, and can outlive its invocation", k.why))
		if !k.plan.Switch {
			out = append(out, "functions and builds run as the user that runs Rudmar, and can read that user's files")
		}
	}
	if k.groups == nil {
		out = append(out, "this system provides no control groups: memory and processes are sampled every few milliseconds, so a limit can be exceeded for that long")
	}
	if k.plan.Spaces && k.noWay != nil {
		out = append(out, "functions and builds that need a network are refused: network access needs /dev/net/tun, which cannot be opened on this machine")
	}
	if !k.plan.Filter {
		out = append(out, "this system does not filter system calls: a function or build can make every call that its user can make")
	}
	if k.starter.refused != nil {
		out = append(out, "these programs still grant privileges: "+k.starter.refused.Error())
	}
	return out
}

// whileOpen runs a function that Close waits for; after Close it runs nothing and returns false.
func (k *Keeper) whileOpen(do func()) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if !k.closed {
		k.work.Go(do)
	}
	return !k.closed
}

// Close ends the empty cages. Running commands continue.
func (k *Keeper) Close() {
	k.mu.Lock()
	if k.closed {
		k.mu.Unlock()
		return
	}
	k.closed = true
	ready := k.ready
	k.ready = nil
	k.mu.Unlock()
	for _, p := range ready {
		p.Kill()
		<-p.Done()
		p.Release()
	}
	k.work.Wait()
	k.starter.close()
	if k.groups != nil {
		k.groups.close()
	}
}

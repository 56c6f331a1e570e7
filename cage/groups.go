package cage

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/containerd/cgroups/v3"
	"github.com/containerd/cgroups/v3/cgroup1"
	"github.com/containerd/cgroups/v3/cgroup2"
	"github.com/opencontainers/runtime-spec/specs-go"
)

// groups creates control groups, of version 1 or 2.
type groups struct {
	name   string // the folder of the keeper's groups
	second bool
	within string // version 2: the parent group
	// Version 1: the folders of the keeper's groups, known after the first was created.
	memory, pids string
}

// findGroups tests whether control groups are available; nil if they are not.
func findGroups() *groups {
	b := make([]byte, 4)
	_, _ = rand.Read(b) // documented never to fail
	g := &groups{name: "rudmar-" + strconv.Itoa(os.Getpid()) + "-" + hex.EncodeToString(b),
		second: cgroups.Mode() == cgroups.Unified}
	if g.second {
		within, err := cgroup2.NestedGroupPath("")
		if err != nil {
			return nil
		}
		g.within = within
	}
	one, err := g.make("try", Limits{Memory: 64 << 20, Processes: 10})
	if err != nil {
		g.close()
		return nil
	}
	if !g.second {
		g.memory, g.pids = filepath.Dir(one.memory), filepath.Dir(one.pids)
	}
	one.remove()
	for _, dir := range []string{one.memory, one.pids} {
		sweep(filepath.Dir(filepath.Dir(dir)))
	}
	return g
}

// sweep removes the groups of keepers that were killed.
func sweep(dir string) {
	all, _ := filepath.Glob(filepath.Join(dir, "rudmar-*-*")) // the pattern is valid
	for _, name := range all {
		pid, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(name), "rudmar-"), "-")
		if _, err := os.Stat("/proc/" + pid); err == nil {
			continue
		}
		inner, _ := filepath.Glob(filepath.Join(name, "*", "cgroup.procs"))
		for _, one := range inner {
			_ = os.Remove(filepath.Dir(one)) // processes in it end with their keeper; the next start removes it
		}
		_ = os.Remove(name)
	}
}

// group contains all processes of one cage.
type group struct {
	second  *cgroup2.Manager
	memory  string // the folder of the memory controller
	pids    string // the folder of the pids controller
	current *os.File
}

// used are the controllers of version 1 that are needed.
func used() ([]cgroup1.Subsystem, error) {
	all, err := cgroup1.Default()
	var out []cgroup1.Subsystem
	for _, s := range all {
		if s.Name() == cgroup1.Memory || s.Name() == cgroup1.Pids {
			out = append(out, s)
		}
	}
	if err == nil && len(out) < 2 {
		err = errors.New("memory and process limits are not available")
	}
	return out, err
}

func (g *groups) make(id string, l Limits) (*group, error) {
	out := &group{}
	switch {
	case g.memory != "":
		out.memory, out.pids = filepath.Join(g.memory, id), filepath.Join(g.pids, id)
		if err := errors.Join(os.Mkdir(out.memory, 0o700), os.Mkdir(out.pids, 0o700)); err != nil {
			return nil, fmt.Errorf("making a control group: %w", err)
		}
	case g.second:
		m, err := cgroup2.NewManager("/sys/fs/cgroup", filepath.Join(g.within, g.name, id),
			&cgroup2.Resources{Memory: &cgroup2.Memory{}, Pids: &cgroup2.Pids{}})
		if err != nil {
			return nil, fmt.Errorf("making a control group: %w", err)
		}
		out.second = m
		out.memory = filepath.Join("/sys/fs/cgroup", g.within, g.name, id)
		out.pids = out.memory
	default:
		path := cgroup1.NestedPath(filepath.Join("/", g.name, id))
		c, err := cgroup1.New(path, &specs.LinuxResources{}, cgroup1.WithHierarchy(used))
		if err != nil {
			return nil, fmt.Errorf("making a control group: %w", err)
		}
		for _, s := range c.Subsystems() {
			own, err := path(s.Name())
			if p, ok := s.(interface{ Path(string) string }); ok && err == nil {
				switch s.Name() {
				case cgroup1.Memory:
					out.memory = p.Path(own)
				case cgroup1.Pids:
					out.pids = p.Path(own)
				}
			}
		}
	}
	var err error
	if out.current, err = os.Open(filepath.Join(out.pids, "pids.current")); err == nil {
		err = out.limit(l)
	}
	if err != nil {
		out.remove()
		return nil, fmt.Errorf("making a control group: %w", err)
	}
	return out, nil
}

func (g *group) add(pid int) error {
	if g.second != nil {
		return g.second.AddProc(uint64(pid))
	}
	id := []byte(strconv.Itoa(pid))
	return errors.Join(os.WriteFile(filepath.Join(g.memory, "cgroup.procs"), id, 0),
		os.WriteFile(filepath.Join(g.pids, "cgroup.procs"), id, 0))
}

func (g *group) limit(l Limits) error {
	write := func(dir, name string, value int64) error {
		if value == 0 {
			return nil
		}
		return os.WriteFile(filepath.Join(dir, name), []byte(strconv.FormatInt(value, 10)), 0o600)
	}
	memory := "memory.limit_in_bytes"
	if g.second != nil {
		memory = "memory.max"
		_ = write(g.memory, "memory.swap.max", 0) // swap accounting may be off
	}
	return errors.Join(write(g.memory, memory, l.Memory), write(g.pids, "pids.max", int64(l.Processes)))
}

// tasks counts processes and threads; -1 if unknown.
func (g *group) tasks() int {
	var text [24]byte
	n, _ := g.current.ReadAt(text[:], 0)
	count, err := strconv.Atoi(strings.TrimSpace(string(text[:n])))
	if err != nil {
		return -1
	}
	return count
}

// processes lists the group's processes.
func (g *group) processes() []int {
	text, _ := os.ReadFile(filepath.Join(g.pids, "cgroup.procs")) // a removed group has none
	var out []int
	for _, line := range strings.Fields(string(text)) {
		if pid, err := strconv.Atoi(line); err == nil && pid > 0 {
			out = append(out, pid)
		}
	}
	return out
}

// starved reports whether the system ended one of its processes for exceeding the memory limit.
func (g *group) starved() bool {
	name := "memory.oom_control"
	if g.second != nil {
		name = "memory.events"
	}
	text, _ := os.ReadFile(filepath.Join(g.memory, name))
	for line := range strings.Lines(string(text)) {
		if count, ok := strings.CutPrefix(line, "oom_kill "); ok {
			return strings.TrimSpace(count) != "0"
		}
	}
	return false
}

// remove deletes the group once its processes have ended.
func (g *group) remove() {
	if g.current != nil {
		g.current.Close()
	}
	for range 50 {
		var err error
		if g.second != nil {
			err = g.second.Delete()
		} else {
			err = errors.Join(gone(os.Remove(g.memory)), gone(os.Remove(g.pids)))
		}
		if err == nil {
			return
		}
		time.Sleep(10 * time.Millisecond) // ended processes may still be leaving
	}
}

// gone ignores that something no longer exists.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// close deletes the folders that contained the groups.
func (g *groups) close() {
	if g.second {
		// another start removes it: an empty folder costs nothing
		_ = os.Remove(filepath.Join("/sys/fs/cgroup", g.within, g.name))
		return
	}
	subsystems, err := used()
	if err != nil {
		return
	}
	for _, s := range subsystems {
		own, err := cgroup1.NestedPath(filepath.Join("/", g.name))(s.Name())
		if p, ok := s.(interface{ Path(string) string }); ok && err == nil {
			_ = os.Remove(p.Path(own))
		}
	}
}

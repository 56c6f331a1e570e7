package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/tools/cover"
)

// suite has the tests of one package, with the coverage of each.
type suite struct {
	pkg   string // its import path in the module, such as ./engine
	dir   string // the folder in which its tests run
	tests []test
}

type test struct {
	name  string
	took  time.Duration
	lines map[string]map[int]bool // of the changed package, by the file's base name
}

// outcome is the outcome of a change.
type outcome string

const (
	noticedIt outcome = "noticed"
	notBuilt  outcome = "not built" // the change does not compile
	survived  outcome = "tests pass"
	untouched outcome = "no test comes by"
)

// suitesOf runs each test on its own and records which lines of the package it covers. A test that fails
// without a change is reported and left out.
func suitesOf(ctx context.Context, o order, work string) ([]suite, error) {
	var out []suite
	for i, pkg := range o.tests {
		s := suite{pkg: pkg, dir: filepath.Join(o.dir, pkg)}
		binary := filepath.Join(work, fmt.Sprintf("whole%d.test", i))
		build := exec.CommandContext(ctx, "go", "test", "-c", "-cover", "-covermode=set",
			"-coverpkg="+o.pkg, "-vet=off", "-o", binary, pkg)
		build.Dir = o.dir
		if said, err := build.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("building the tests of %s: %w\n%s", pkg, err, said)
		}
		list := exec.CommandContext(ctx, binary, "-test.list", "^(Test|Example|Fuzz)")
		list.Dir = s.dir
		names, err := list.Output()
		if err != nil {
			return nil, fmt.Errorf("listing the tests of %s: %w", pkg, err)
		}
		for name := range strings.FieldsSeq(string(names)) {
			if o.without != nil && o.without.MatchString(name) {
				continue
			}
			t, err := measure(ctx, s.dir, binary, name, filepath.Join(work, "profile"))
			if err != nil {
				return nil, err
			}
			if t == nil {
				fmt.Printf("%s: %s fails without a change, or is left out: not asked\n", pkg, name)
				continue
			}
			s.tests = append(s.tests, *t)
		}
		slices.SortStableFunc(s.tests, func(a, b test) int { return int(a.took - b.took) })
		out = append(out, s)
	}
	return out, nil
}

// measure runs one test and returns its coverage; nil if it fails.
func measure(ctx context.Context, dir, binary, name, profile string) (*test, error) {
	os.Remove(profile)
	begun := time.Now()
	if ok, err := pass(ctx, dir, binary, "^"+name+"$", 5*time.Minute, "-test.coverprofile="+profile); !ok || err != nil {
		return nil, err
	}
	t := &test{name: name, took: time.Since(begun), lines: map[string]map[int]bool{}}
	files, err := cover.ParseProfiles(profile)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil // a test program without tests writes none
	}
	if err != nil {
		return nil, fmt.Errorf("reading what %s comes by: %w", name, err)
	}
	for _, file := range files {
		t.lines[filepath.Base(file.FileName)] = linesOf(file.Blocks)
	}
	return t, nil
}

// linesOf lists the covered lines of blocks. The rest of a statement after a closure is in no block: it counts
// as covered with the line on which the closure starts.
func linesOf(blocks []cover.ProfileBlock) map[int]bool {
	lines, begins, last := map[int]bool{}, map[int]int{}, 0
	for _, block := range blocks {
		for line := block.StartLine; line <= block.EndLine; line++ {
			lines[line] = lines[line] || block.Count > 0
			begins[line] = max(begins[line], block.StartLine)
			last = max(last, line)
		}
	}
	before := 0 // the last line within a block
	for line := 1; line <= last+100; line++ {
		if begins[line] > 0 {
			before = line
		} else if before > 0 {
			lines[line] = lines[begins[before]]
		}
	}
	return lines
}

// try builds each suite with a change and runs the tests that cover it.
func try(ctx context.Context, dir, work string, m mutant, text []byte, suites []suite) (outcome, error) {
	if err := os.MkdirAll(work, 0o700); err != nil {
		return "", err
	}
	defer os.RemoveAll(work)
	changed, overlay := filepath.Join(work, "changed.go"), filepath.Join(work, "overlay.json")
	listing, err := json.Marshal(map[string]any{"Replace": map[string]string{m.file: changed}})
	if err != nil {
		return "", err
	}
	if err := errors.Join(os.WriteFile(changed, text, 0o600), os.WriteFile(overlay, listing, 0o600)); err != nil {
		return "", err
	}
	got := untouched
	for _, s := range suites {
		chosen := s.comeBy(m)
		if len(chosen) == 0 {
			continue
		}
		binary := filepath.Join(work, "changed.test")
		build := exec.CommandContext(ctx, "go", "test", "-c", "-overlay", overlay, "-vet=off", "-o", binary, s.pkg)
		build.Dir = dir
		if err := build.Run(); err != nil {
			return notBuilt, ctx.Err()
		}
		for _, part := range inParts(chosen) {
			ok, err := pass(ctx, s.dir, binary, part.pattern, 20*time.Second+6*part.took)
			if err != nil {
				return "", err
			}
			if !ok {
				return noticedIt, nil
			}
		}
		got = survived
	}
	return got, nil
}

// comeBy returns the tests that cover the line of a change, quickest first; all of them if none is known to, as
// for declarations outside functions.
func (s suite) comeBy(m mutant) []test {
	var out []test
	for _, t := range s.tests {
		if t.lines[filepath.Base(m.file)][m.asked] {
			out = append(out, t)
		}
	}
	if len(out) == 0 && !m.inside() {
		return s.tests
	}
	return out
}

// part is a group of tests that run in one process.
type part struct {
	pattern string
	took    time.Duration
}

// inParts groups tests of ten seconds in total, so a change is detected early, and parallel tests overlap.
func inParts(tests []test) []part {
	var out []part
	var names []string
	var took time.Duration
	for i, t := range tests {
		names, took = append(names, t.name), took+t.took
		if took > 10*time.Second || i == len(tests)-1 {
			out = append(out, part{"^(" + strings.Join(names, "|") + ")$", took})
			names, took = nil, 0
		}
	}
	return out
}

// pass runs tests, and reports whether they pass within the limit: a change may make them run forever, and they
// end with all their processes.
func pass(ctx context.Context, dir, binary, pattern string, limit time.Duration, more ...string) (bool, error) {
	within, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := exec.CommandContext(within, binary, append([]string{"-test.run", pattern, "-test.failfast"}, more...)...)
	cmd.Dir, cmd.WaitDelay = dir, time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	err := cmd.Run()
	return err == nil, ctx.Err()
}

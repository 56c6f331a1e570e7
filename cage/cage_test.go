package cage_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"rudmar/cage"
)

func keeper(t *testing.T, ready int) *cage.Keeper {
	t.Helper()
	k, err := cage.Open(cage.Config{Dir: filepath.Join(t.TempDir(), "cage"), Ready: ready,
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(k.Close)
	if !k.Closed() {
		t.Skip("this machine gives no namespaces: ", k.Missing())
	}
	return k
}

// ran is a command's output and exit status.
func ran(t *testing.T, k *cage.Keeper, s cage.Spec) (out, how string) {
	t.Helper()
	p, err := k.Start(s)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Release()
	var text bytes.Buffer
	var mu sync.Mutex
	var all sync.WaitGroup
	for _, f := range []*os.File{p.Stdout, p.Stderr} {
		all.Go(func() {
			b, _ := io.ReadAll(f)
			mu.Lock()
			defer mu.Unlock()
			text.Write(b)
		})
	}
	select {
	case <-p.Done():
	case <-time.After(2 * time.Minute):
		p.Kill()
		t.Error("it did not end")
		<-p.Done()
	}
	all.Wait()
	if why := p.Failure(); why != nil {
		t.Fatal(why)
	}
	if p.Starved() {
		return text.String(), "starved"
	}
	return text.String(), p.State().String()
}

// shell is a small command in a cage with usual limits.
func shell(script string) cage.Spec {
	return cage.Spec{Command: []string{"/bin/sh", "-c", script}, Env: []string{"PATH=/usr/bin:/bin"},
		Limits: cage.Limits{Memory: 128 << 20, Processes: 32, Scratch: 8 << 20}}
}

func TestCommandRuns(t *testing.T) {
	for _, ready := range []int{0, 1} {
		k := keeper(t, ready)
		out, how := ran(t, k, shell("pwd; id -u; echo $$; ls /; exit 3"))
		lines := strings.Fields(out)
		if how != "exit status 3" || len(lines) < 4 || lines[0] != "/tmp" || lines[1] == "0" &&
			os.Geteuid() == 0 || lines[2] != "1" {
			t.Errorf("%s: %q", how, out)
		}
	}
}

// A signal to a command that has ended reaches nobody else, even if its process ID was reused.
func TestReusedProcessIDs(t *testing.T) {
	k := keeper(t, 0)
	p, err := k.Start(shell("exit 0"))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Release()
	<-p.Done()
	for range 1000 { // other processes can get it before
		last := []byte(strconv.Itoa(p.Pid() - 1))
		if err := os.WriteFile("/proc/sys/kernel/ns_last_pid", last, 0); err != nil {
			t.Skip("the system does not let its next number be chosen: ", err)
		}
		other := exec.Command("/bin/sleep", "60")
		other.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := other.Start(); err != nil {
			t.Fatal(err)
		}
		same := other.Process.Pid == p.Pid()
		if same {
			p.Signal(syscall.SIGTERM)
			p.Kill()
		}
		if err := other.Process.Signal(syscall.SIGQUIT); err != nil {
			t.Fatal(err)
		}
		_ = other.Wait() // by what it ended is checked
		if how := other.ProcessState.String(); !strings.HasPrefix(how, "signal: quit") {
			t.Fatalf("another one's end: %s", how)
		}
		if same {
			return
		}
	}
	t.Error("the number did not come again")
}

// A relative data folder is isolated in the same way.
func TestRelativeFolder(t *testing.T) {
	keeper(t, 0)
	t.Chdir(t.TempDir())
	k, err := cage.Open(cage.Config{Dir: "cage", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	defer k.Close()
	if !k.Closed() {
		t.Fatalf("it is open: %v", k.Missing())
	}
}

func TestSessions(t *testing.T) {
	k := keeper(t, 0)
	var out bytes.Buffer
	var mu sync.Mutex
	s, err := k.Session(cage.Spec{Limits: cage.Limits{Memory: 256 << 20, Processes: 64, Scratch: 64 << 20}},
		writer(func(b []byte) (int, error) {
			mu.Lock()
			defer mu.Unlock()
			return out.Write(b)
		}), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx := t.Context()
	if err := s.Put(ctx, cage.File{Path: "/tmp/code/a/b.txt", Content: []byte("text")}); err != nil {
		t.Fatal(err)
	}
	if err := s.Put(ctx, cage.File{Path: "/tmp/code/a/b.txt", Content: []byte("again")}); err == nil {
		t.Error("a file was written twice")
	}
	env := []string{"PATH=/usr/bin:/bin"}
	exit, err := s.Run(ctx,
		cage.Step{Command: []string{"sh", "-c",
			"cp a/b.txt c.txt; chmod +x c.txt; ln -s /etc/passwd link; sleep 1000 & echo done; exit 4"},
			Env: env, Dir: "/tmp/code"})
	if err != nil || exit != 4 {
		t.Fatal(exit, err)
	}
	if exit, err := s.Run(ctx,
		cage.Step{Command: []string{"sh", "-c", "ps -e | grep -c sleep"}, Env: env, Dir: "/tmp"}); exit != 1 || err != nil {
		t.Errorf("what a command left running runs on: %d %v", exit, err)
	}
	if _, err := s.Run(ctx, cage.Step{Command: []string{"nothing-of-this-name"}, Env: env, Dir: "/tmp"}); err == nil {
		t.Error("a command that does not exist ran")
	}
	files, err := s.Collect(ctx, "/tmp/code", func(string) bool { return true }, 1<<20)
	if err != nil || len(files) != 2 || files[1].Path != "c.txt" || !files[1].Executable ||
		string(files[0].Content) != "text" {
		t.Errorf("%+v %v", files, err)
	}
	if _, err := s.Collect(ctx, "/tmp/code", func(string) bool { return true }, 3); err == nil {
		t.Error("more than the limit came out")
	}
	ended, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	s2, err := k.Session(cage.Spec{Limits: cage.Limits{Scratch: 1 << 20}}, io.Discard, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s2.Close()
	if _, err := s2.Run(ended, cage.Step{Command: []string{"sleep", "1000"}, Env: env, Dir: "/tmp"}); err == nil ||
		ended.Err() == nil {
		t.Errorf("it ran on: %v", err)
	}
	mu.Lock()
	defer mu.Unlock()
	if !strings.Contains(out.String(), "done") {
		t.Errorf("output %q", fmt.Sprint(out.String()))
	}
}

type writer func([]byte) (int, error)

func (w writer) Write(b []byte) (int, error) { return w(b) }

// Two keepers on one machine share neither users nor folders.
func TestKeepersAreSeparate(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("an ordinary user has no users to give")
	}
	users := map[string]bool{}
	var all []*cage.Process
	for range 2 {
		k := keeper(t, 0)
		for range 4 {
			p, err := k.Start(shell("id -u; sleep 600"))
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, p)
			if users[fmt.Sprint(p.User())] || p.User() < 1000 {
				t.Errorf("the user %d runs two commands, or is somebody", p.User())
			}
			users[fmt.Sprint(p.User())] = true
		}
	}
	for _, p := range all {
		p.Kill()
		<-p.Done()
		p.Release()
	}
}

// A limit of memory or processes holds for all that a command starts.
func TestLimitsAcrossProcesses(t *testing.T) {
	k := keeper(t, 0)
	if !k.Limited() {
		t.Skip("this machine gives no control groups")
	}
	out, how := ran(t, k, cage.Spec{Command: []string{"/usr/bin/python3", "-c", `
import subprocess, sys
children = [subprocess.Popen([sys.executable, "-c", "x = bytes([7]) * (60 << 20); print('held', flush=True); import time; time.sleep(3)"]) for _ in range(8)]
print("ended", [c.wait() for c in children].count(0), flush=True)
`}, Env: []string{"PATH=/usr/bin:/bin"}, Limits: cage.Limits{Memory: 200 << 20, Processes: 32, Scratch: 8 << 20}})
	// Three fit at once; when one is killed for its memory, another can start.
	if !strings.Contains(out, "ended 0") && !strings.Contains(out, "ended 1") && !strings.Contains(out, "ended 2") &&
		!strings.Contains(out, "ended 3") || how != "starved" {
		t.Errorf("%s: %s", how, out)
	}
	out, _ = ran(t, k, shell(`i=0; while [ $i -lt 100 ]; do sleep 2 & i=$((i+1)); done; echo all`))
	if strings.Contains(out, "all") && !strings.Contains(out, "annot fork") {
		t.Errorf("a hundred processes: %s", out)
	}
	out, _ = ran(t, k, shell("head -c 50000000 /dev/zero > /tmp/x; stat -c %s /tmp/x"))
	if strings.TrimSpace(out) == "50000000" {
		t.Errorf("more than its folder holds: %s", out)
	}
}

// Mounted files cannot be changed; layered ones can, for the command alone.
func TestMounts(t *testing.T) {
	k := keeper(t, 0)
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a"), []byte("kept"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(dir, "deep", "er"), 0o755); err != nil {
		t.Fatal(err)
	}
	s := shell("cat /shown/a /over/a; echo new > /shown/a; echo; rm /over/a; echo new > /over/a; echo new > /over/b; echo deep > /over/deep/er/c; cat /over/a /over/b /over/deep/er/c; ls /shown")
	s.Mounts = []cage.Mount{{From: dir, To: "/shown"}, {From: dir, To: "/over", Layered: true}}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	out, _ := ran(t, k, s)
	if !strings.Contains(out, "keptkept") || !strings.Contains(out, "new\nnew\ndeep\n") || !strings.Contains(out, "Read-only") || strings.Contains(out, "b\n\n") {
		t.Errorf("%q", out)
	}
	if text, err := os.ReadFile(filepath.Join(dir, "a")); string(text) != "kept" || err != nil {
		t.Errorf("it was changed: %q %v", text, err)
	}
	if _, err := os.Stat(filepath.Join(dir, "b")); err == nil {
		t.Error("a file was left")
	}
}

// A keeper that cannot start a command says why.
func TestFailuresAreReported(t *testing.T) {
	k := keeper(t, 0)
	p, err := k.Start(cage.Spec{Command: []string{"/no/such/program"}, Limits: cage.Limits{Scratch: 1 << 20}})
	if err != nil {
		t.Fatal(err)
	}
	defer p.Release()
	<-p.Done()
	if why := p.Failure(); why == nil || !strings.Contains(why.Error(), "no such file") {
		t.Errorf("it says %v", why)
	}
	k.Close()
	if _, err := k.Start(shell("true")); err == nil {
		t.Error("a closed keeper starts things")
	}
}

// Refused system calls fail; others work.
func TestSystemCallFilter(t *testing.T) {
	k := keeper(t, 0)
	s := shell("")
	s.Command = []string{"/usr/bin/python3", "-c", `
import ctypes, os
libc = ctypes.CDLL(None, use_errno=True)
for number in (165, 272, 101, 250, 321, 425, 435): # mount, unshare, ptrace, keyctl, bpf, io_uring_setup, clone3
    libc.syscall(number, 0, 0, 0, 0, 0, 0)
    print(number, ctypes.get_errno())
print("fork", os.waitstatus_to_exitcode(os.wait()[1]) if os.fork() else os._exit(7))
`}
	out, how := ran(t, k, s)
	if want := "165 1\n272 1\n101 1\n250 1\n321 1\n425 1\n435 38\nfork 7\n"; out != want {
		t.Errorf("%s: %q, want %q", how, out, want)
	}
}

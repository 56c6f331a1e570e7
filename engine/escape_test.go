package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/store"
)

// buildAttempt is a line of shell; second is the protection that stops it besides the cage, if it is not tried without
// one.
type buildAttempt struct{ name, line, second string }

// attempts of builds: what a command tries, as a line of shell that succeeds, or writes GOT, if it gets
// forbidden access. docs/security.md lists them all.
func buildAttempts(dir, open string, port int) []buildAttempt {
	python := func(body string) string {
		return "cat > try.py <<'END'\n" + body + "\nEND\npython3 try.py"
	}
	list := []buildAttempt{
		{name: "build: read the signing key", line: "cat " + filepath.Join(dir, "signing.key") + " " + filepath.Join(dir, "secret.key") + " && echo GOT"},
		{name: "build: find keys anywhere", line: "find / \\( -path /proc -o -path /usr -o -path /rudmar/go-build \\) -prune -o -name '*.key' -size -100c -readable -print 2>/dev/null | grep -q . && echo GOT"},
		{name: "build: list the data folder", line: "ls " + dir + "/* 2>/dev/null | grep -q . && echo GOT"},
		{name: "build: read the server's environment", line: "env | grep -q RUDMAR_TEST_MARK && echo GOT; cat /proc/[0-9]*/environ 2>/dev/null | tr '\\0' '\\n' | grep -q RUDMAR_TEST_MARK && echo GOT"},
		{name: "build: read what the first process asks", line: "timeout 2 head -c 10 /proc/1/fd/3 2>/dev/null | grep -q . && echo GOT; ls /proc/1/root/ 2>/dev/null | grep -q . && echo GOT"},
		{name: "build: read the passwords of the machine", line: "cat /etc/shadow && echo GOT"},
		{name: "build: be root", line: "test $(id -u) = 0 && ! grep -q 'CapEff:.0000000000000000' /proc/self/status && echo GOT"},
		{name: "build: reach a server of this machine", line: python(fmt.Sprintf("import socket\nfor h in ('127.0.0.1', '10.0.2.2'):\n  try: socket.create_connection((h, %d), timeout=1); print('GOT')\n  except OSError: pass", port))},
		{name: "build: go out through the proxy of fetching", line: python("import socket\ntry: socket.create_connection(('127.0.0.1', 3128), timeout=1); print('GOT')\nexcept OSError: pass")},
		{name: "build: leave a process running", line: "(sleep 600 >/dev/null 2>&1 &) ; (setsid sleep 600 >/dev/null 2>&1 &) ; true"},
		{name: "build: leave a file in the machine's temporary folder", line: "echo x > /tmp/planted-by-build; echo x > " + open +
			"/planted-by-build; true"},
		{name: "build: change the tools", line: "echo x > /usr/bin/x && echo GOT; echo x > /usr/local/go/x && echo GOT; true"},
		{name: "build: fill the disk", line: "head -c 3000000000 /dev/zero > large && echo GOT; rm -f large"},
		{name: "build: start very many processes", line: python("import os, time\ntry:\n  for _ in range(3000):\n    if os.fork() == 0: time.sleep(5); os._exit(0)\n  print('GOT')\nexcept OSError: pass")},
		{name: "build: take the machine's memory", line: python("try:\n  x = b'x' * (6 << 30)\n  print('GOT')\nexcept MemoryError: pass") + " || true"},
		{name: "build: mount a file system", line: "mount -t tmpfs x /mnt && echo GOT; unshare -Ur true && echo GOT; true"},
		{name: "build: end the server", line: fmt.Sprintf("kill -9 %d && echo GOT; true", os.Getpid())},
		{name: "build: take files of the machine into the archive by links", line: "ln -s /etc/passwd link.txt; ln -s /etc linked; ln /etc/hostname hard.txt; true"},
	}
	for i := range list {
		list[i].second = map[string]string{
			"build: fill the disk":                                       "the limit of a file's size",
			"build: take the machine's memory":                           "the limit of a process's memory",
			"build: leave a process running":                             "the end of all processes of the cage's user",
			"build: end the server":                                      "the cage's user, who is not the server's",
			"build: take files of the machine into the archive by links": "packing, which takes files of the folder alone",
		}[list[i].name]
	}
	return list
}

// No build escapes, or exceeds its limits.
func TestBuildIsIsolated(t *testing.T) {
	t.Setenv("RUDMAR_TEST_MARK", "secret")
	open, err := os.MkdirTemp("", "rudmar-open-")
	must(t, err)
	defer os.RemoveAll(open)
	must(t, os.Chmod(open, 0o777))
	l, err := net.Listen("tcp", "0.0.0.0:0")
	must(t, err)
	defer l.Close()
	r := newRig(t)
	for _, a := range buildAttempts(r.dir, open, l.Addr().(*net.TCPAddr).Port) {
		t.Run(a.name, func(t *testing.T) {
			manifest, err := json.Marshal(map[string]any{"function": "a", "handler": "main:run",
				"build": map[string]any{
					"run": []string{"set +e\n" + strings.ReplaceAll(a.line, "echo GOT", `printf '\nGOT\n'`) + "\nexit 0"}}})
			must(t, err)
			files := map[string]string{"a/function.yaml": string(manifest),
				"a/main.py": "def run(call): return 1 # " + a.name + "\n"}
			if r.head == "" {
				files["rudmar.yaml"] = root
			}
			r.push(files)
			b := r.builtOrNot()
			if strings.Contains(b.Log, "\nGOT") {
				t.Errorf("it got what it tried for:\n%s", b.Log)
			}
			if b.State != store.BuildSucceeded {
				return // it was stopped
			}
			functions, err := r.Store.VersionFunctions(t.Context(), "frostline", b.Version)
			must(t, err)
			artifact, err := r.Store.Artifact(t.Context(), functions[0].Digest)
			must(t, err)
			for _, f := range artifact.Listing {
				if f.Path != "main.py" && f.Path != "try.py" {
					t.Errorf("the archive has %s", f.Path)
				}
			}
		})
	}
	for _, name := range []string{"/tmp/planted-by-build", open + "/planted-by-build"} {
		if _, err := os.Lstat(name); err == nil {
			t.Errorf("%s is there", name)
		}
	}
	if left, _ := filepath.Glob("/proc/[0-9]*/cmdline"); len(left) > 0 {
		for _, name := range left {
			if text, _ := os.ReadFile(name); strings.HasPrefix(string(text), "sleep\x00600\x00") {
				t.Errorf("%s still sleeps", name)
			}
		}
	}
}

// builtOrNot waits until the newest build has ended, however.
func (r *rig) builtOrNot() store.Build {
	r.Helper()
	limit := time.Now().Add(4 * time.Minute)
	for {
		list, err := r.Build.Builds(r.Context(), "frostline", 1)
		if err == nil && len(list) == 1 && list[0].Hash == r.head &&
			slices.Contains([]string{store.BuildSucceeded, store.BuildFailed, store.BuildCancelled}, list[0].State) {
			return list[0]
		}
		if time.Now().After(limit) {
			r.Fatalf("the build is %+v: %v", list, err)
		}
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
	}
}

// attemptsInGo are attempts of a Go function, by the name of its event.
const attemptsInGo = `package main

import (
	"fmt"
	"net"
	"os"
	"strings"
)

func run(call *Call) (any, error) {
	switch call.Event["what"] {
	case "go: read files of the machine":
		for _, name := range []string{"/etc/passwd", "/fn/main.wasm", "/rudmar/data.sock", "/tmp/../etc/passwd", "/proc/self/environ"} {
			if _, err := os.ReadFile(name); err == nil {
				return "got", nil
			}
		}
	case "go: read the environment of others":
		for _, v := range os.Environ() {
			if strings.HasPrefix(v, "RUDMAR_TEST_MARK") {
				return "got", nil
			}
		}
	case "go: reach a server of this machine":
		if _, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", call.Event["port"])); err == nil {
			return "got", nil
		}
	case "go: hold more memory than it may":
		var held [][]byte
		for range 600 {
			b := make([]byte, 1<<20)
			for i := range b {
				b[i] = 1
			}
			held = append(held, b)
		}
		if len(held) == 600 {
			return "got", nil
		}
	case "go: run longer than its timeout":
		for i := 0; ; i++ {
		}
	}
	return "", nil
}
`

func goAttempts() []string {
	return []string{"go: read files of the machine", "go: read the environment of others", "go: reach a server of this machine",
		"go: hold more memory than it may", "go: run longer than its timeout"}
}

// Unprotected, each attempt succeeds: otherwise its failure would prove nothing. Those of builds run as root in
// namespaces of their own.
func TestAttemptsSucceedUnprotected(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can carry out the attempts without protection")
	}
	t.Setenv("RUDMAR_TEST_MARK", "secret")
	dir, open := t.TempDir(), t.TempDir()
	for _, name := range []string{"signing.key", "secret.key"} {
		must(t, os.WriteFile(filepath.Join(dir, name), []byte("key"), 0o600))
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer l.Close()
	if proxy, err := net.Listen("tcp", "127.0.0.1:3128"); err == nil {
		defer proxy.Close()
	}
	port := l.Addr().(*net.TCPAddr).Port
	for _, a := range buildAttempts(dir, open, port) {
		if a.second != "" {
			t.Logf("%s: not tried without protection; it is also stopped by %s", a.name, a.second)
			continue
		}
		line := strings.ReplaceAll(a.line, "find / ", "find "+dir+" ") // the whole machine takes a while
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		cmd := exec.CommandContext(ctx, "unshare", "--mount", "--pid", "--ipc", "--uts", "--fork", "--kill-child", "--mount-proc",
			"sh", "-c", "set +e\n"+line+"\nexit 0")
		cmd.Dir, cmd.WaitDelay = t.TempDir(), time.Second
		out, err := cmd.CombinedOutput()
		cancel()
		_, planted := os.Lstat(open + "/planted-by-build")
		if err != nil || !strings.Contains(string(out), "GOT") && planted != nil {
			t.Errorf("%s: without protection it does not succeed: %v %s", a.name, err, out)
		}
		for _, name := range []string{"/tmp/planted-by-build", open + "/planted-by-build", "/usr/bin/x", "/usr/local/go/x"} {
			must(t, os.RemoveAll(name))
		}
	}
	work := t.TempDir()
	must(t, os.WriteFile(filepath.Join(work, "main.go"), []byte(attemptsInGo), 0o600))
	must(t, os.WriteFile(filepath.Join(work, "go.mod"), []byte("module attempts\n\ngo 1.26\n"), 0o600))
	must(t, os.WriteFile(filepath.Join(work, "call.go"), []byte(`package main

import "fmt"
import "os"

type Call struct{ Event map[string]any }

func main() { fmt.Println(run(&Call{Event: map[string]any{"what": os.Args[1], "port": os.Args[2]}})) }
`), 0o600))
	build := exec.CommandContext(t.Context(), "go", "build", "-o", "attempts", ".")
	build.Dir = work
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for _, name := range goAttempts() {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		out, err := exec.CommandContext(ctx, filepath.Join(work, "attempts"), name, fmt.Sprint(port)).CombinedOutput()
		if endless := ctx.Err() != nil; !endless && !strings.Contains(string(out), "got") {
			t.Errorf("%s: without protection it does not succeed: %v %s", name, err, out)
		}
		cancel()
	}
}

// No Go function escapes.
func TestGoFunctionIsIsolated(t *testing.T) {
	t.Setenv("RUDMAR_TEST_MARK", "secret")
	r := newRig(t)
	r.push(map[string]string{"rudmar.yaml": root,
		"a/function.yaml": "function: a\nruntime: go\nhandler: main:run\nmemory: 64 MiB\ntimeout: 2s\n",
		"a/main.go":       attemptsInGo})
	r.reaches(1, "trial", delivery.Settled)
	client, scope := r.reach(place("trial", "north"))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer l.Close()
	for _, name := range goAttempts() {
		inv, err := client.Invoke(t.Context(), scope, "a", "", "", map[string]any{"what": name, "port": l.Addr().(*net.TCPAddr).Port},
			time.Minute)
		if err != nil || inv.Response == "got" {
			t.Errorf("%s: %+v %v", name, inv, err)
		}
	}
}

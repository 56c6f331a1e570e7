package engine_test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/store"
)

// attempts of builds: what a command tries, as a line of shell that succeeds, or writes GOT, if it gets
// forbidden access. docs/security.md lists them all.
func buildAttempts(dir, open string, port int) []struct{ name, line string } {
	python := func(body string) string {
		return "cat > try.py <<'END'\n" + body + "\nEND\npython3 try.py"
	}
	return []struct{ name, line string }{
		{"build: read the signing key",
			"cat " + filepath.Join(dir, "signing.key") + " " + filepath.Join(dir, "secret.key") + " && echo GOT"},
		{"build: find keys anywhere",
			"find / \\( -path /proc -o -path /usr -o -path /rudmar/go-build \\) -prune -o -name '*.key' -size -100c -readable -print 2>/dev/null | grep -q . && echo GOT"},
		{"build: list the data folder", "ls " + dir + "/* 2>/dev/null | grep -q . && echo GOT"},
		{"build: read the server's environment",
			"env | grep -q RUDMAR_TEST_MARK && echo GOT; cat /proc/[0-9]*/environ 2>/dev/null | tr '\\0' '\\n' | grep -q RUDMAR_TEST_MARK && echo GOT"},
		{"build: read what the first process asks",
			"head -c 10 /proc/1/fd/3 2>/dev/null | grep -q . && echo GOT; ls /proc/1/root/ 2>/dev/null | grep -q . && echo GOT"},
		{"build: read the passwords of the machine", "cat /etc/shadow && echo GOT"},
		{"build: be root", "test $(id -u) = 0 && ! grep -q 'CapEff:.0000000000000000' /proc/self/status && echo GOT"},
		{"build: reach a server of this machine",
			python(fmt.Sprintf("import socket\nfor h in ('127.0.0.1', '10.0.2.2'):\n  try: socket.create_connection((h, %d), timeout=1); print('GOT')\n  except OSError: pass", port))},
		{"build: go out through the proxy of fetching",
			python("import socket\ntry: socket.create_connection(('127.0.0.1', 3128), timeout=1); print('GOT')\nexcept OSError: pass")},
		{"build: leave a process running", "(sleep 600 >/dev/null 2>&1 &) ; (setsid sleep 600 >/dev/null 2>&1 &) ; true"},
		{"build: leave a file in the machine's temporary folder", "echo x > /tmp/planted-by-build; echo x > " + open +
			"/planted-by-build; true"},
		{"build: change the tools", "echo x > /usr/bin/x && echo GOT; echo x > /usr/local/go/x && echo GOT; true"},
		{"build: fill the disk", "head -c 3000000000 /dev/zero > large && echo GOT; rm -f large"},
		{"build: start very many processes",
			python("import os, time\ntry:\n  for _ in range(3000):\n    if os.fork() == 0: time.sleep(5); os._exit(0)\n  print('GOT')\nexcept OSError: pass")},
		{"build: take the machine's memory",
			python("try:\n  x = b'x' * (6 << 30)\n  print('GOT')\nexcept MemoryError: pass") + " || true"},
		{"build: mount a file system", "mount -t tmpfs x /mnt && echo GOT; unshare -Ur true && echo GOT; true"},
		{"build: end the server", fmt.Sprintf("kill -9 %d && echo GOT; true", os.Getpid())},
		{"build: take files of the machine into the archive by links",
			"ln -s /etc/passwd link.txt; ln -s /etc linked; ln /etc/hostname hard.txt; true"},
	}
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
	limit := time.Now().Add(2 * time.Minute)
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
		if _, err := net.Dial("tcp", "127.0.0.1:22"); err == nil {
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

// No Go function escapes.
func TestGoFunctionIsIsolated(t *testing.T) {
	t.Setenv("RUDMAR_TEST_MARK", "secret")
	r := newRig(t)
	r.push(map[string]string{"rudmar.yaml": root,
		"a/function.yaml": "function: a\nruntime: go\nhandler: main:run\nmemory: 64 MiB\ntimeout: 2s\n",
		"a/main.go":       attemptsInGo})
	r.reaches(1, "trial", delivery.Settled)
	client, scope := r.reach(place("trial", "north"))
	for _, name := range []string{"go: read files of the machine", "go: read the environment of others",
		"go: reach a server of this machine", "go: hold more memory than it may", "go: run longer than its timeout"} {
		inv, err := client.Invoke(t.Context(), scope, "a", "", "", map[string]any{"what": name}, time.Minute)
		if err != nil || inv.Response == "got" {
			t.Errorf("%s: %+v %v", name, inv, err)
		}
	}
}

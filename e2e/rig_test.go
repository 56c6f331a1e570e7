// Package e2e tests Rudmar as people use it: with a real git client, with requests, and with a browser, against
// the real program.
package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/go-rod/rod"
)

var (
	program  string // the built program
	building sync.Once
	errBuild error
	// goCache is Go's build cache on this machine: a function's parts of the standard library take half a
	// minute of a processor to compile.
	goCache string

	lanes = newLanes()

	shared  *rod.Browser
	opening sync.Once
	errOpen error

	ports atomic.Int32 // number of assigned addresses
)

// lane runs one test of the demo at a time.
type lane struct {
	orchard string // the data folder of a built and stopped demo; "" before the first use
	routes  string // address of its routes: deployed functions know it
}

// newLanes creates a lane per demo that can run concurrently: each needs much of a core.
func newLanes() chan *lane {
	out := make(chan *lane, 2)
	for range cap(out) {
		out <- &lane{}
	}
	return out
}

// build builds the program once for all tests of this package.
func build(t testing.TB) string {
	t.Helper()
	building.Do(func() {
		dir, err := os.MkdirTemp("", "rudmar-e2e-")
		if err != nil {
			errBuild = err
			return
		}
		program = filepath.Join(dir, "rudmar")
		cmd := exec.Command("go", "build", "-o", program, "rudmar/cmd/rudmar")
		if out, err := cmd.CombinedOutput(); err != nil {
			errBuild = fmt.Errorf("building: %w: %s", err, out)
			return
		}
		out, err := exec.Command("go", "env", "GOCACHE").Output()
		goCache, errBuild = strings.TrimSpace(string(out)), err
	})
	if errBuild != nil {
		t.Fatal(errBuild)
	}
	return program
}

func TestMain(m *testing.M) {
	code := m.Run()
	if shared != nil {
		_ = shared.Close()
	}
	if program != "" {
		os.RemoveAll(filepath.Dir(program))
	}
	for range len(lanes) {
		if l := <-lanes; l.orchard != "" {
			os.RemoveAll(l.orchard)
		}
	}
	os.Exit(code)
}

// rig is a running Rudmar.
type rig struct {
	*testing.T
	address string
	routes  string // address of its functions' routes
	data    string
	cmd     *exec.Cmd
	log     *told
}

// launch starts the program with arguments and waits until it prints its address.
func launch(t *testing.T, data string, args ...string) *rig {
	t.Helper()
	cmd := exec.Command(build(t), append(args, "--data", data)...)
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir(), "GOCACHE="+goCache)
	return begin(t, data, cmd)
}

// begin starts a command that runs Rudmar, and waits until it prints its address.
func begin(t *testing.T, data string, cmd *exec.Cmd) *rig {
	t.Helper()
	r := &rig{T: t, data: data, log: &told{}, cmd: cmd}
	out, err := r.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	r.cmd.Stderr = r.log
	if err := r.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	found := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(out)
		pattern := regexp.MustCompile(`(?:running|listening) at (http://\S+)`)
		for lines.Scan() {
			if m := pattern.FindStringSubmatch(lines.Text()); m != nil {
				found <- m[1]
			}
		}
		close(found)
	}()
	select {
	case r.address = <-found:
	case <-time.After(10 * time.Minute): // a slow machine takes its time
	}
	if r.address == "" {
		r.kill()
		t.Fatalf("it did not start: %s", r.log)
	}
	t.Cleanup(r.stop)
	return r
}

// demo starts the demo in a folder of its own, on free ports. The demo is built once in each lane; each test
// uses a copy, and runs beside others.
func demo(t *testing.T) *rig {
	t.Helper()
	t.Parallel()
	return demoAlone(t)
}

// demoAlone is like demo for a test that measures: nothing else of these runs beside it.
func demoAlone(t *testing.T) *rig {
	t.Helper()
	data, lane := grown(t)
	return start(t, data, lane.routes)
}

// grown returns a copy of the data of a demo that was built and stopped, in a lane of its own.
func grown(t *testing.T) (string, *lane) {
	t.Helper()
	lane := aLane()
	t.Cleanup(func() { lanes <- lane })
	if lane.orchard == "" {
		dir, err := os.MkdirTemp("", "rudmar-orchard-")
		if err != nil {
			t.Fatal(err)
		}
		lane.routes = freeAddress(t)
		start(t, dir, lane.routes).stop()
		lane.orchard = dir
	}
	data := filepath.Join(t.TempDir(), "data")
	if err := os.CopyFS(data, os.DirFS(lane.orchard)); err != nil {
		t.Fatal(err)
	}
	return data, lane
}

// aLane takes a lane, preferably one in which the demo is built already.
func aLane() *lane {
	one := <-lanes
	if one.orchard != "" {
		return one
	}
	select {
	case other := <-lanes:
		if other.orchard != "" {
			one, other = other, one
		}
		lanes <- other
	default: // the others are in use
	}
	return one
}

// freeAddress returns an unused address, below the ports that the system assigns to connections. None is
// returned twice, because tests run concurrently.
func freeAddress(t *testing.T) string {
	t.Helper()
	for range 100 {
		address := fmt.Sprintf("127.0.0.2:%d", 21070+ports.Add(1)%1000)
		l, err := net.Listen("tcp", address)
		if err != nil {
			continue
		}
		l.Close()
		return address
	}
	t.Fatal("no port is free of a hundred from 21070 to 22069")
	return ""
}

// tokenFile writes a token or a password to a file for a command.
func tokenFile(t *testing.T, text string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(name, []byte(text+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// start starts the demo in a folder, and builds it if it is not there yet.
func start(t *testing.T, data, routes string) *rig {
	t.Helper()
	r := launch(t, data, "demo", "--listen", "127.0.0.1:0", "--platform-listen", "127.0.0.1:0", "--routes-listen",
		routes, "--observe-every", "300ms")
	r.routes = routes
	return r
}

// stop ends the program as Ctrl+C does.
func (r *rig) stop() {
	if r.cmd.ProcessState != nil {
		return
	}
	_ = r.cmd.Process.Signal(syscall.SIGTERM) // it may have ended already
	done := make(chan error, 1)
	go func() { done <- r.cmd.Wait() }()
	select {
	case err := <-done:
		if err != nil {
			r.Errorf("it did not end well: %v\n%s", err, r.log)
		}
	case <-time.After(patience):
		_ = r.cmd.Process.Kill()
		r.Errorf("it does not end\n%s", r.log)
	}
}

// kill ends the program at once, with no chance to tidy up.
func (r *rig) kill() {
	_ = r.cmd.Process.Kill()
	_ = r.cmd.Wait()
}

// run runs a command and returns its output.
func run(t testing.TB, dir string, name string, args ...string) (string, error) {
	t.Helper()
	return runWith(t, "", dir, name, args...)
}

// runWith runs a program with something on its standard input.
func runWith(t testing.TB, stdin, dir, name string, args ...string) (string, error) {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(stdin)
	cmd.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null",
		"GIT_AUTHOR_NAME=wren", "GIT_AUTHOR_EMAIL=wren@brambleford.invalid", "GIT_COMMITTER_NAME=wren",
		"GIT_COMMITTER_EMAIL=wren@brambleford.invalid")
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// git runs git and fails the test if it fails.
func git(t *testing.T, dir string, args ...string) string {
	t.Helper()
	out, err := run(t, dir, "git", args...)
	if err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return out
}

// clone clones the demo's repository as a user.
func (r *rig) clone(username string) string {
	r.Helper()
	dir := filepath.Join(r.TempDir(), "clone")
	git(r.T, r.TempDir(), "clone", "--quiet",
		strings.Replace(r.address, "http://", "http://"+username+":orchard-at-dawn@", 1)+"/git/brambleford.git", dir)
	return dir
}

// edit changes a file of a clone.
func edit(t testing.TB, dir, name, old, now string) {
	t.Helper()
	file := filepath.Join(dir, name)
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(text), old) {
		t.Fatalf("%s does not have %q", name, old)
	}
	if err := os.WriteFile(file, []byte(strings.Replace(string(text), old, now, 1)), 0o644); err != nil {
		t.Fatal(err)
	}
}

// put writes files of a clone, by their paths.
func put(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// orchard writes a service of n functions, named by a format, with the contents of its rudmar.yaml and each
// function.yaml besides their names.
func orchard(t testing.TB, dir string, n int, names, service string, more func(i int) string) {
	t.Helper()
	files := map[string]string{"orchard/rudmar.yaml": "rudmar: 1\nservice: orchard\nowner: growers\n" + service}
	for i := range n {
		name := fmt.Sprintf(names, i)
		files["orchard/functions/"+name+"/function.yaml"] = "function: " + name + "\nruntime: python\nhandler: main:run\n" + more(i)
		files["orchard/functions/"+name+"/main.py"] = "def run(call):\n    return {}\n"
	}
	put(t, dir, files)
}

// push commits everything and pushes it.
func push(t *testing.T, dir, message string) (string, error) {
	t.Helper()
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", message)
	return run(t, dir, "git", "push", "origin", "HEAD")
}

// pushMeanwhile commits and pushes, and does not wait for the output about the build.
func pushMeanwhile(t *testing.T, dir, message string) {
	t.Helper()
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", message)
	cmd := exec.Command("git", "push", "origin", "HEAD")
	cmd.Dir = dir
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
}

// ask sends a request to the API as a user, and fails the test if it is rejected.
func (r *rig) ask(username, method, path string, body, out any) {
	r.Helper()
	if status, text := r.try(username, method, path, body, out); status >= 400 {
		r.Fatalf("%s %s: %d %s", method, path, status, text)
	}
}

// try sends a request to the API as a user, and returns the status and the body.
func (r *rig) try(username, method, path string, body, out any) (int, string) {
	r.Helper()
	var send io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			r.Fatal(err)
		}
		send = bytes.NewReader(text)
	}
	status, text := sent(r.T, method, r.address+"/api"+path, send, func(q *http.Request) { q.SetBasicAuth(username, "orchard-at-dawn") })
	if out != nil && status < 400 {
		if err := json.Unmarshal([]byte(text), out); err != nil {
			r.Fatalf("%s %s: %v: %s", method, path, err, text)
		}
	}
	return status, text
}

// sent sends a JSON request after a change of it, and returns the status and the body.
func sent(t *testing.T, method, address string, body io.Reader, change func(q *http.Request)) (int, string) {
	t.Helper()
	q, err := http.NewRequest(method, address, body)
	if err != nil {
		t.Fatal(err)
	}
	q.Header.Set("Content-Type", "application/json")
	if change != nil {
		change(q)
	}
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer.StatusCode, string(text)
}

// until repeats check until it succeeds, and fails the test if it never does.
func until(t *testing.T, what string, check func() bool) {
	t.Helper()
	waits(t, check, func() string { return what })
}

// waits is until with a report of the last state.
func waits(t *testing.T, check func() bool, what func() string) {
	t.Helper()
	limit := time.Now().Add(4 * time.Minute)
	for !check() {
		if time.Now().After(limit) {
			t.Fatalf("waited in vain until %s", what())
		}
		time.Sleep(30 * time.Millisecond) // interval of checks of a condition
	}
}

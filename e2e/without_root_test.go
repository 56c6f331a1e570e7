package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"rudmar/server/api"
)

// nobody is an ordinary user that every machine has.
const nobody = 65534

// The demo works for an ordinary user, with or without user namespaces. Go's build cache is shared between the
// cases.
func TestWithoutRoot(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("this is an ordinary user already: all tests are this test")
	}
	cache, err := os.MkdirTemp("", "rudmar-ordinary-go-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(cache) })
	if err := os.Chown(cache, nobody, nobody); err != nil {
		t.Fatal(err)
	}
	t.Run("with walls or without", func(t *testing.T) { mayMakeWalls(t, cache) })
	t.Run("where nothing is allowed", func(t *testing.T) { nothingIsAllowed(t, cache) })
}

// With user namespaces, functions and builds see none of the user's files; without them, Rudmar says so.
func mayMakeWalls(t *testing.T, cache string) {
	r, home := ordinary(t, cache)

	var health api.Health
	r.ask("wren", "GET", "/health", nil, &health)
	if len(health.Platforms) != 1 || !health.Platforms[0].Reachable {
		t.Fatalf("%+v", health)
	}
	var line api.StageLine
	r.ask("wren", "GET", base+"/stage-line", nil, &line)
	if len(line.Stages) != 3 || line.Stages[0].Version == 0 {
		t.Errorf("the demo is not whole: %+v", line.Stages)
	}
	if health.Builds.State != "shut in" {
		if len(health.Builds.Notes) == 0 {
			t.Error("nothing says what is missing")
		}
		return
	}
	dir := r.clone("wren")
	edit(t, dir, "frostline/functions/warn/warn.py", "import rudmar\n", "import os\nimport rudmar\n")
	curious := filepath.Join(dir, "frostline", "functions", "curious")
	for name, text := range map[string]string{
		"function.yaml": fmt.Sprintf(
			"function: curious\nhandler: main:run\nbuild: {run: [\"cat %s/diary > found || true\", \"ls %s > seen || true\", \"cat seen found\"]}\ntriggers: {ask: {route: GET /curious, open_to: anyone}}\n", home, home),
		"main.py": fmt.Sprintf(
			"import os\ndef run(call):\n    out = open(os.path.join(os.path.dirname(__file__), 'seen')).read() + open(os.path.join(os.path.dirname(__file__), 'found')).read()\n    for name in (%[1]q, %[1]q + '/diary', %[1]q + '/data/secret.key', '/proc/1/root' + %[1]q + '/diary'):\n        try: out += 'got ' + str(os.listdir(name) if os.path.isdir(name) else open(name, 'rb').read())\n        except OSError: pass\n    return out or 'nothing'\n", home),
	} {
		if err := os.MkdirAll(curious, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(curious, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := push(t, dir, "Somebody is curious"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	until(t, "it is in trial", func() bool {
		status, _ := r.try("wren", "GET", base+"/stages/trial/functions/curious", nil, nil)
		return status == 200 && r.function("trial", "curious").Deployed && len(r.function("trial", "curious").Routes) > 0
	})
	address := r.function("trial", "curious").Routes[0].Url
	if _, body := sent(t, "GET", address, nil, nil); strings.TrimSpace(body) != "nothing" {
		t.Errorf("the build or the function saw: %s", body)
	}
}

// ordinary starts the demo as an ordinary user, in a home folder of its own, behind a command if one is given.
func ordinary(t *testing.T, cache string, before ...string) (r *rig, home string) {
	t.Helper()
	home, err := os.MkdirTemp("", "rudmar-ordinary-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(home) })
	program, err := os.ReadFile(build(t))
	if err != nil {
		t.Fatal(err)
	}
	for _, err := range []error{os.WriteFile(filepath.Join(home, "rudmar"), program, 0o755),
		os.WriteFile(filepath.Join(home, "diary"), []byte("dear diary"), 0o600),
		os.Chmod(home, 0o755), os.Chown(home, nobody, nobody), os.Chown(filepath.Join(home, "diary"), nobody, nobody)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	data := filepath.Join(home, "data")
	args := append(before, filepath.Join(home, "rudmar"), "demo", "--data", data, "--listen", "127.0.0.1:0",
		"--platform-listen", "127.0.0.1:0", "--routes-listen", "127.0.0.2:0", "--observe-every", "300ms")
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Env = []string{"HOME=" + home, "GOCACHE=" + cache, "PATH=" + os.Getenv("PATH"), "TMPDIR=" + home}
	cmd.Dir = home
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	return begin(t, data, cmd), home
}

// On a machine without isolation, Rudmar starts, says so, and refuses builds that run commands.
func nothingIsAllowed(t *testing.T, cache string) {
	r, _ := ordinary(t, cache, "/usr/bin/unshare", "--user", "--map-root-user", "/bin/sh", "-c",
		`echo 0 > /proc/sys/user/max_user_namespaces && for n in mnt pid net ipc uts; do echo 0 > /proc/sys/user/max_${n}_namespaces || exit 1; done; exec "$0" "$@"`)
	var health api.Health
	r.ask("wren", "GET", "/health", nil, &health)
	if health.Builds.State != "refused" || !strings.Contains(strings.Join(health.Builds.Notes, " "), "no namespaces") ||
		!strings.Contains(strings.Join(health.Platforms[0].Notes, " "), "reaches this machine's network") {
		t.Errorf("%+v", health)
	}
	var line api.StageLine
	r.ask("wren", "GET", base+"/stage-line", nil, &line)
	if len(line.Stages) != 3 || line.Stages[0].Version == 0 {
		t.Errorf("the demo is not whole: %+v", line.Stages)
	}
	dir := r.clone("wren")
	edit(t, dir, "frostline/functions/warn/function.yaml", "max_concurrency: 8", "max_concurrency: 9\nbuild: {run: [\"true\"]}")
	if out, err := push(t, dir, "It runs a command"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	until(t, "the build is refused", func() bool {
		r.ask("wren", "GET", base+"/stage-line", nil, &line)
		return line.Source.State == "failed" && line.Source.Reason != nil &&
			strings.Contains(*line.Source.Reason, "--builds-uncaged")
	})
}

package e2e

import (
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"rudmar/server/api"
)

// watching is a running command: its output so far, and keys for it.
type watching struct {
	testing.TB
	cmd  *exec.Cmd
	keys io.WriteCloser
	out  told
}

// beginWatching starts a command of rudmar.
func beginWatching(t testing.TB, env []string, args ...string) *watching {
	t.Helper()
	w := &watching{TB: t, cmd: exec.Command(build(t), args...)}
	w.cmd.Env = append(os.Environ(), env...)
	w.cmd.Stdout, w.cmd.Stderr = &w.out, &w.out
	var err error
	if w.keys, err = w.cmd.StdinPipe(); err != nil {
		t.Fatal(err)
	}
	if err := w.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = w.cmd.Process.Kill()
		_ = w.cmd.Wait()
	})
	return w
}

// says waits for new output.
func (w *watching) says(after, text string) {
	w.Helper()
	limit := time.Now().Add(patience)
	for time.Now().Before(limit) {
		_, rest, found := strings.Cut(w.out.String(), after)
		if found && strings.Contains(rest, text) {
			return
		}
		time.Sleep(20 * time.Millisecond) // interval of checks of a condition
	}
	w.Fatalf("after %q it does not say %q:\n%s", after, text, w.out.String())
}

func (w *watching) press(key string) {
	w.Helper()
	if _, err := io.WriteString(w.keys, key+"\n"); err != nil {
		w.Fatal(err)
	}
}

func (w *watching) ends() {
	w.Helper()
	if err := w.cmd.Wait(); err != nil {
		w.Errorf("it ends with %v:\n%s", err, w.out.String())
	}
}

// A function is written from the starter to its case, without a server.
func TestRunOneCommand(t *testing.T) {
	t.Parallel()
	parent := t.TempDir()
	dir := filepath.Join(parent, "hello")
	if out, err := run(t, parent, build(t), "new", "service", "hello"); err != nil {
		t.Fatal(out)
	}
	if out, err := run(t, ".", build(t), "run", dir, "--once"); err != nil || !strings.Contains(out, "1 of 1 cases passed") {
		t.Errorf("%v: %s", err, out)
	}
	w := beginWatching(t, nil, "run", dir)
	w.says("", "-- synced")
	w.press("1")
	w.says("-- synced", `{"body":{"hello":"linden"},"status":200}`)
	edit(t, dir, "functions/hello/main.py", `{"hello"`, `{"good evening"`)
	w.says(`"hello":"linden"`, "-- synced in")
	w.says(`"hello":"linden"`, "code of hello, 2 steps") // a revision and its pointer: code alone changed
	w.press("1")
	w.says("2 steps", "good evening")
	w.press("c")
	w.says("good evening", "FAILED")
	w.says("FAILED", "0 of 1 cases passed")
	edit(t, dir, "functions/hello/function.yaml", "handler: main:run", "handler: main-run")
	w.says("0 of 1", "RM1605")
	w.says("RM1605", "not sent")
	w.press("9")
	w.says("not sent", "no function 9")
	w.press("q")
	w.ends()
	if out, err := run(t, t.TempDir(), build(t), "run"); err == nil || !strings.Contains(out, "rudmar new service") {
		t.Errorf("an empty folder: %v: %s", err, out)
	}
}

// A private copy on a server has data and addresses of its own, and the stage that
// versions go through stays as it is.
func TestWatch(t *testing.T) {
	r := demo(t)
	dir := filepath.Join(r.clone("wren"), "frostline")
	as := func(username string) []string {
		return []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_USERNAME=" + username, "RUDMAR_PASSWORD=orchard-at-dawn"}
	}
	before := r.trial(t)
	w := beginWatching(t, as("wren"), "watch", dir)
	w.says("-- synced in", "{station}/frost")
	w.says("only you can call", "Authorization: Bearer ")
	route := regexp.MustCompile(`GET (http\S+trial~wren/stations/\{station\}/frost)`).FindStringSubmatch(w.out.String())
	if route == nil {
		t.Fatalf("no address is told: %s", w.out.String())
	}
	edit(t, dir, "functions/warn/warn.py", `"mode": MODE`, `"mode": "mine"`)
	w.says("-- synced in", "code of warn, 2 steps")
	request, err := http.NewRequest(http.MethodGet, strings.Replace(route[1], "{station}", "hill", 1), http.NoBody)
	if err != nil {
		t.Fatal(err)
	}
	if answer, err := http.DefaultClient.Do(request); err != nil || answer.StatusCode != 401 || answer.Body.Close() != nil {
		t.Errorf("anybody can call the copy: %v %v", err, answer)
	}
	request.Header.Set("Authorization", regexp.MustCompile(`Bearer \S+`).FindString(w.out.String()))
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	body, err := io.ReadAll(answer.Body)
	if answer.Body.Close(); err != nil || !strings.Contains(string(body), `"mine"`) {
		t.Errorf("%v: the copy answers %s", err, body)
	}
	w.says("2 steps", "hill:") // its output follows
	w.press("c")
	w.says("2 steps", "of 8 cases passed")

	var list []api.PrivateCopy
	r.ask("teasel", "GET", "/copies", nil, &list)
	if len(list) != 1 || list[0].Username != "wren" || list[0].Stage != "trial" {
		t.Errorf("%+v", list)
	}
	if status, text := r.try("teasel", "DELETE", base+"/copies/wren", nil, nil); status != 403 {
		t.Errorf("somebody else's copy is removed: %d %s", status, text)
	}
	if status, text := r.try("teasel", "PUT", base+"/copy", api.CopyChange{Files: map[string]*api.FolderFile{}}, nil); status != 403 {
		t.Errorf("who may not write has a copy: %d %s", status, text)
	}
	if after := r.trial(t); after != before {
		t.Errorf("trial was touched: %s, and before %s", after, before)
	}
	p := r.open(browse(t), "wren")
	p.arrive("/account")
	p.reads("frostline in trial on local/north")
	p.press("^Delete")
	p.reads("No private copies")
	if answer, err = http.Get(strings.Replace(route[1], "{station}", "hill", 1)); err != nil || answer.StatusCode != 404 {
		t.Errorf("%v: what was removed answers %d", err, answer.StatusCode)
	}
	answer.Body.Close()
	w.press("q")
	w.ends()

	// A restarted server receives the whole folder.
	w = beginWatching(t, as("wren"), "watch", dir)
	w.says("", "code of intake")
	r.stop()
	launch(t, r.data, "demo", "--listen", strings.TrimPrefix(r.address, "http://"), "--platform-listen", "127.0.0.1:0",
		"--routes-listen", r.routes)
	edit(t, dir, "functions/warn/warn.py", `"mine"`, `"still mine"`)
	w.says("code of intake", "code of intake")
	w.press("x")
	w.says("code of intake", "the copy was deleted")
	w.ends()
}

// trial returns the deployed version of trial, and its deployments.
func (r *rig) trial(t *testing.T) string {
	t.Helper()
	var out []api.StageOutput
	r.ask("wren", "GET", base+"/outputs?stage=trial", nil, &out)
	var list []api.Deployment
	r.ask("wren", "GET", base+"/deployments", nil, &list)
	text := ""
	for _, o := range out {
		text += o.Address + " " + o.Value + "\n"
	}
	return text + string(list[0].State)
}

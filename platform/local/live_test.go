package local_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"rudmar/platform"
	"rudmar/platform/api"
	"rudmar/platform/local"
)

// clock is a time that tests move on.
type clock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *clock) set(t time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = t
}

// again opens a platform on a folder, and returns a stand over it and a function that ends it.
func again(t *testing.T, dir string, now func() time.Time) (*stand, func()) {
	t.Helper()
	s := &stand{T: t, scope: platform.Scope{Region: "north", Service: "frostline", Stage: "trial"},
		keys: int(time.Now().UnixNano() % 1e9)}
	var p *local.Platform
	s.protocol = httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.Protocol().ServeHTTP(w, r) }))
	s.routes = httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.Routes().ServeHTTP(w, r) }))
	var err error
	if p, err = local.Open(t.Context(),
		local.Options{Dir: dir, Token: "secret", RoutesAt: s.routes.URL, DataAt: s.protocol.URL, Now: now,
			Idle: 200 * time.Millisecond, Log: slog.New(slog.DiscardHandler)}); err != nil {
		t.Fatal(err)
	}
	if s.client, err = platform.NewClient(s.protocol.URL, "secret", platform.Within(time.Minute)); err != nil {
		t.Fatal(err)
	}
	return s, func() {
		s.protocol.Close()
		s.routes.Close()
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	}
}

func (s *stand) fires(schedule string) int {
	s.Helper()
	minutes, err := s.client.Metrics(s.Context(), s.scope, time.Time{})
	must(s, err)
	n := 0
	for _, m := range minutes {
		if m.Trigger == schedule {
			n += m.Invocations
		}
	}
	return n
}

func until(t *testing.T, what string, check func() bool) {
	t.Helper()
	limit := time.Now().Add(3 * time.Minute)
	for !check() {
		if time.Now().After(limit) {
			t.Fatalf("waited in vain until %s", what)
		}
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
	}
}

// A schedule fires when it is due, once, also across a restart; missed times are made up for once, and logged.
func TestSchedulesFire(t *testing.T) {
	dir := t.TempDir()
	c := &clock{now: time.Date(2026, 11, 23, 8, 0, 30, 0, time.UTC)}
	s, end := again(t, dir, c.Now)
	s.deploy("sweep", "def run(call):\n    print(call.event['type'], call.event['data']['due'])\n", nil)
	s.put("schedule/sweep/often", map[string]any{"cron": "*/10 * * * *", "zone": "UTC", "enabled": true})
	s.put("schedule/sweep/never", map[string]any{"every": 60_000.0, "enabled": false})
	c.set(c.Now().Add(10 * time.Minute))
	until(t, "it fires", func() bool { return s.fires("often") == 1 })
	lines, err := s.client.Logs(t.Context(), s.scope, platform.LogQuery{Function: "sweep"})
	if err != nil || len(lines) == 0 || lines[0].Text != "rudmar.schedule.fired 2026-11-23T08:10:00Z" {
		t.Errorf("lines: %v %v", lines, err)
	}
	end()
	s, end = again(t, dir, c.Now)
	c.set(c.Now().Add(10 * time.Minute))
	until(t, "it fires again", func() bool { return s.fires("often") == 2 })
	end()
	c.set(c.Now().Add(3 * time.Hour))
	s, end = again(t, dir, c.Now)
	defer end()
	until(t, "it makes up for what was missed", func() bool { return s.fires("often") == 3 })
	lines, err = s.client.Logs(t.Context(), s.scope, platform.LogQuery{Function: "sweep"})
	must(t, err)
	told := ""
	for _, l := range lines {
		told += l.Text + "\n"
	}
	if !strings.Contains(told,
		"the platform was down: often was due 18 times since 2026-11-23T08:30:00Z; it runs once now") {
		t.Errorf("missed fires are not told:\n%s", told)
	}
	if n := s.fires("never"); n != 0 {
		t.Errorf("a schedule that is off fired %d times", n)
	}
	// The clock is restored by two days: schedules do not wait for them to pass.
	c.set(c.Now().Add(-48 * time.Hour))
	until(t, "it counts from the clock's new time",
		func() bool { c.set(c.Now().Add(time.Minute)); return s.fires("often") == 4 })
}

// What was kept is there after a restart: resources, revisions, tables, logs.
func TestRestart(t *testing.T) {
	dir := t.TempDir()
	s, end := again(t, dir, time.Now)
	s.deploy("stations", "import rudmar\ndef run(call):\n    table = rudmar.table('stations')\n    if call.event: table.write('hill', call.event)\n    print('asked')\n    return table.read('hill')\n", nil)
	s.put("grant/stations/tables/stations", map[string]any{"resource": "tables/stations", "verbs": []any{"read", "write"}})
	if inv := s.call("stations", map[string]any{"limit": 0.5}); inv.Outcome != api.Succeeded {
		t.Fatalf("%+v", inv.Error)
	}
	before, err := s.client.Snapshot(t.Context(), s.scope)
	must(t, err)
	end()
	s, end = again(t, dir, time.Now)
	defer end()
	after, err := s.client.Snapshot(t.Context(), s.scope)
	if err != nil || after.Fingerprint != before.Fingerprint {
		t.Errorf("fingerprints %s and %s: %v", before.Fingerprint, after.Fingerprint, err)
	}
	inv := s.call("stations", nil)
	if fmt.Sprint(inv.Response) != "map[limit:0.5]" || !inv.Cold {
		t.Errorf("%+v %+v", inv, inv.Error)
	}
	lines, err := s.client.Logs(t.Context(), s.scope, platform.LogQuery{Function: "stations"})
	if err != nil || len(lines) != 4 {
		t.Errorf("%d lines: %v", len(lines), err)
	}
}

// An idle instance is ended, and so is one whose revision receives no invocations.
func TestInstancesEnd(t *testing.T) {
	s, end := again(t, t.TempDir(), time.Now)
	defer end()
	code := "import os\ndef run(call):\n    return os.getpid()\n"
	s.deploy("pid", code, nil)
	first := s.call("pid", nil)
	if warm := s.call("pid", nil); warm.Cold || warm.Response != first.Response {
		t.Errorf("the second call: cold %v, process %v and %v", warm.Cold, first.Response, warm.Response)
	}
	s.deploy("pid", code, map[string]any{"memory": 192.0 * (1 << 20)})
	moved := s.call("pid", nil)
	if !moved.Cold || moved.Revision == first.Revision || moved.MemoryLimit != 192<<20 {
		t.Errorf("another revision: %+v", moved)
	}
	until(t, "the idle instance is gone", func() bool {
		time.Sleep(300 * time.Millisecond) // longer than the idle time: each check is an invocation
		return s.call("pid", nil).Cold
	})
}

// A function runs as a user of its own, in a folder of its own, and sees nothing of
// the platform's data.
func TestFunctionsAreSeparate(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only a platform that runs as root can choose another user; elsewhere it says so in its notes")
	}
	dir := t.TempDir()
	s, end := again(t, dir, time.Now)
	defer end()
	s.deploy("curious", `
import os
def run(call):
    found = {"user": os.getuid(), "privileges": [l for l in open("/proc/self/status") if l.startswith("NoNewPrivs")][0].split()[1], "work": sorted(os.listdir(".")), "names": sorted(k for k in os.environ if not k.startswith("RUDMAR_"))}
    try:
        found["data"] = os.listdir(call.event)
    except OSError as error:
        found["data"] = type(error).__name__
    with open("note.txt", "w") as note:
        note.write("mine")
    return found
`, nil)
	inv := s.call("curious", dir)
	if inv.Outcome != api.Succeeded {
		t.Fatalf("%+v", inv.Error)
	}
	found := inv.Response.(map[string]any)
	if found["user"] == 0.0 || found["privileges"] != "1" || found["data"] != "FileNotFoundError" ||
		fmt.Sprint(found["work"]) != "[]" {
		t.Errorf("found %v", found)
	}
	if names := fmt.Sprint(found["names"]); names != "[HOME LANG LC_CTYPE PATH PLACE PYTHONDONTWRITEBYTECODE TMPDIR]" &&
		names != "[HOME LANG PATH PLACE PYTHONDONTWRITEBYTECODE TMPDIR]" {
		t.Errorf("environment: %v", names)
	}
	// Another instance, even of the same function, has another user and sees nothing of the first.
	s.deploy("nosy", `
import os
def run(call):
    seen = []
    for top, folders, names in os.walk("/"):
        if top == "/":
            folders[:] = [f for f in folders if f not in ("proc", "usr", "lib", "lib64", "dev", "etc", "sys", "bin", "sbin")]
        seen += [os.path.join(top, n) for n in names if "__pycache__" not in top]
    return {"user": os.getuid(), "seen": sorted(seen), "processes": sorted(p for p in os.listdir("/proc") if p.isdigit())}
`, nil)
	other := s.call("nosy", nil).Response.(map[string]any)
	if fmt.Sprint(other["seen"]) != "[/fn/main.py /rudmar/data.sock /rudmar/python/rudmar.py /rudmar/python/worker.py /rudmar/python/worker.pyc]" || fmt.Sprint(other["processes"]) != "[1]" {
		t.Errorf("it sees %v and the processes %v", other["seen"], other["processes"])
	}
	if other["user"] == found["user"] || other["user"].(float64) < 58_000 {
		t.Errorf("the other instance: %v, the first runs as %v", other, found["user"])
	}
}

// asks sends a request of the protocol with the platform's token, in JSON unless a header says otherwise, and
// returns the response with its body.
func (s *stand) asks(method, path string, body io.Reader, headers map[string]string) (*http.Response, string) {
	s.Helper()
	all := map[string]string{"Authorization": "Bearer secret", "Content-Type": "application/json"}
	maps.Copy(all, headers)
	return s.sent(method, s.protocol.URL+path, body, all)
}

// sent sends a request, and returns the response with its body.
func (s *stand) sent(method, address string, body io.Reader, headers map[string]string) (*http.Response, string) {
	s.Helper()
	q, err := http.NewRequestWithContext(s.Context(), method, address, body)
	must(s, err)
	for name, value := range headers {
		q.Header.Set(name, value)
	}
	answer, err := http.DefaultClient.Do(q)
	must(s, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	must(s, err)
	return answer, string(text)
}

func (s *stand) hand(method, path string, body any) (int, string) {
	s.Helper()
	text, err := json.Marshal(body)
	must(s, err)
	response, out := s.asks(method, "/hand/"+path, bytes.NewReader(text), nil)
	return response.StatusCode, out
}

// A function that is changed by hand is published at once.
func TestOutsideChanges(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "import os\ndef run(call):\n    return os.environ.get('PLACE')\n", nil)
	before := s.call("warn", nil)
	if status, text := s.hand("PUT", "north/frostline/trial/function%2Fwarn",
		map[string]any{"env.PLACE": "cellar", "memory": 256 << 20}); status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	after := s.call("warn", nil)
	if after.Response != "cellar" || after.MemoryLimit != 256<<20 || after.Revision == before.Revision {
		t.Errorf("%+v", after)
	}
	for _, tt := range []struct {
		method, path string
		body         any
		status       int
	}{
		{"PUT", "north/frostline/trial/function%2Fnothing", map[string]any{"memory": 1 << 28}, 404},
		{"PUT", "north/frostline/trial/function%2Fwarn", map[string]any{"color": "red"}, 422},
		{"PUT", "north/frostline/trial/function%2Fwarn", "no mapping", 400},
		{"DELETE", "north/frostline/trial/function%2Fwarn", nil, 409},
		{"DELETE", "north/frostline/trial/logs%2Fwarn", nil, 204},
		{"DELETE", "north/frostline/trial/logs%2Fwarn", nil, 404},
	} {
		if status, text := s.hand(tt.method, tt.path, tt.body); status != tt.status {
			t.Errorf("%s %s: %d %s, want %d", tt.method, tt.path, status, text, tt.status)
		}
	}
}

// Callers with a token can use the routes of their groups.
func TestCallers(t *testing.T) {
	s := newStand(t)
	s.deploy("stations", "def run(call):\n    return call.event['headers'].get('authorization', 'not told')\n", nil)
	for trigger, to := range map[string][]any{"authenticated": {"authenticated"}, "growers": {"growers", "council"}} {
		s.put("opening/stations/"+trigger, map[string]any{"to": to})
		s.put("route/stations/"+trigger, map[string]any{"method": "GET", "path": "/" + trigger, "enabled": true})
	}
	token := func(groups ...string) string {
		status, text := s.hand("POST", "callers", map[string]any{"name": "somebody", "groups": groups})
		var out struct{ Token string }
		if err := json.Unmarshal([]byte(text), &out); err != nil || status != 201 {
			t.Fatalf("%d %s", status, text)
		}
		return out.Token
	}
	grower, other := token("growers"), token()
	for _, tt := range []struct {
		path, token string
		status      int
	}{
		{"authenticated", "", 401}, {"authenticated", "wrong", 401}, {"authenticated", other, 200}, {"growers", other, 403},
		{"growers", grower, 200}, {"nothing", grower, 404},
	} {
		headers := map[string]string{"Authorization": "Bearer " + tt.token}
		if tt.token == "" {
			headers = nil
		}
		response, body := s.with(headers, "GET", "/"+tt.path, nil)
		if response.StatusCode != tt.status || tt.status == 200 && strings.TrimSpace(body) != "not told" {
			t.Errorf("%s with %q: %d %s, want %d", tt.path, tt.token, response.StatusCode, body, tt.status)
		}
	}
}

func TestPlatformAccess(t *testing.T) {
	s := newStand(t)
	for _, token := range []string{"", "wrong"} {
		stranger, err := platform.NewClient(s.protocol.URL, token)
		must(t, err)
		if _, err := stranger.Kinds(t.Context()); !platform.HasStatus(err, 401) {
			t.Errorf("with %q: %v", token, err)
		}
	}
	kinds, err := s.client.Kinds(t.Context())
	if err != nil || !kinds.Simulated || len(kinds.Regions) != 3 || kinds.Notes == nil {
		t.Errorf("%+v %v", kinds, err)
	}
	if at := platform.RoutesAt(kinds, s.scope); at != s.routes.URL+"/north/frostline/trial" {
		t.Errorf("routes at %s", at)
	}
	if err := s.client.PutArtifact(t.Context(), "sha256:"+strings.Repeat("0", 64),
		[]byte("no archive")); !platform.HasStatus(err, 422) {
		t.Errorf("an archive that is none: %v", err)
	}
	gone, err := platform.NewClient("http://127.0.0.1:1", "t")
	must(t, err)
	if _, err := gone.Kinds(t.Context()); err == nil || !strings.Contains(err.Error(), "is unreachable") {
		t.Errorf("a platform that does not exist: %v", err)
	}
}

// Concurrent callers each receive their own response.
func TestConcurrentResponses(t *testing.T) {
	s := newStand(t)
	s.deploy("echo", "def run(call):\n    print('for', call.event['n'])\n    return call.event['n']\n",
		map[string]any{"max_concurrency": 20.0})
	var group sync.WaitGroup
	for worker := range 16 {
		group.Add(1)
		go func() {
			defer group.Done()
			for i := range 25 {
				n := float64(worker*1000 + i)
				inv, err := s.client.Invoke(t.Context(), s.scope, "echo", "", "", map[string]any{"n": n}, time.Minute)
				if err != nil || inv.Response != n {
					t.Errorf("asked with %v, answered %v %v %+v", n, inv.Response, err, inv.Error)
					return
				}
				if inv.Logs[0].Text != fmt.Sprintf("for %d", int(n)) {
					t.Errorf("the call with %v has the line %q", n, inv.Logs[0].Text)
				}
			}
		}()
	}
	group.Wait()
}

package local_test

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform"
	"rudmar/platform/api"
	"rudmar/platform/local"
)

// stand is a local platform with a client, and a scope.
type stand struct {
	*testing.T
	client   *platform.Client
	protocol *httptest.Server
	routes   *httptest.Server
	scope    platform.Scope
	keys     int
	platform *local.Platform
}

// must ends a test that cannot continue.
func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func newStand(t *testing.T) *stand {
	t.Helper()
	return newStandWith(t, func(*local.Options) {})
}

func newStandWith(t *testing.T, change func(o *local.Options)) *stand {
	t.Helper()
	tellStuck(t)
	s := &stand{T: t, scope: platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}}
	var p *local.Platform
	s.protocol = httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.Protocol().ServeHTTP(w, r) }))
	s.routes = httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.Routes().ServeHTTP(w, r) }))
	var err error
	o := local.Options{Dir: t.TempDir(), Token: "secret", RoutesAt: s.routes.URL, DataAt: s.protocol.URL,
		Log: slog.New(slog.DiscardHandler)}
	change(&o)
	p, err = local.Open(t.Context(), o)
	must(t, err)
	s.platform = p
	t.Cleanup(func() {
		s.protocol.Close()
		s.routes.Close()
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	})
	if s.client, err = platform.NewClient(s.protocol.URL, "secret", platform.Within(time.Minute)); err != nil {
		t.Fatal(err)
	}
	return s
}

func (s *stand) put(address string, attributes map[string]any) {
	s.Helper()
	s.keys++
	if _, err := s.client.Put(s.Context(), s.scope, address,
		platform.Change{Key: fmt.Sprint("k", s.keys), Attributes: attributes, Version: 3,
			Replace: strings.HasPrefix(address, "revision/")}); err != nil {
		s.Fatalf("creating %s: %v", address, err)
	}
}

// deploy puts a Python function there.
func (s *stand) deploy(name, code string, changes map[string]any) {
	s.Helper()
	s.deployFile(name, "main.py", []byte(code), changes)
}

// deployFile deploys a function with one code file.
func (s *stand) deployFile(name, file string, code []byte, changes map[string]any) {
	s.Helper()
	entries := []pack.Entry{{Path: file, Content: code}}
	var archive bytes.Buffer
	listing, err := pack.List(entries)
	if err == nil {
		err = pack.Write(&archive, entries)
	}
	if err == nil {
		err = s.client.PutArtifact(s.Context(), listing.Digest(), archive.Bytes())
	}
	must(s, err)
	config := map[string]any{"runtime": "python", "handler": "main:run", "memory": 128.0 * (1 << 20), "timeout": 5000.0,
		"max_concurrency": 5.0, "env.PLACE": "orchard"}
	for k, v := range changes {
		config[k] = v
	}
	s.put("identity/"+name, map[string]any{"owner": "cold-nights"})
	s.put("logs/"+name, map[string]any{"retention": 86_400_000.0})
	s.put("function/"+name, config)
	configuration := resource.Configuration(config)
	id := resource.RevisionID(listing.Digest(), configuration)
	s.put("revision/"+name, map[string]any{"artifact": listing.Digest(), "configuration": configuration, "id": id})
	s.put("pointer/"+name, map[string]any{"shares": map[string]any{id: 100.0}})
}

func (s *stand) call(name string, event any) api.Invocation {
	s.Helper()
	inv, err := s.client.Invoke(s.Context(), s.scope, name, "", "", event, time.Minute)
	must(s, err)
	return inv
}

func TestInvokePython(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", `
import os
import sys
count = 0
def run(call):
    global count
    count += 1
    print("looking at", call.event["station"])
    print("careful", file=sys.stderr)
    return {"place": os.environ["PLACE"], "count": count, "version": call.version, "left": call.remaining_ms() > 1000}
`, nil)
	first := s.call("warn", map[string]any{"station": "hill"})
	if first.Outcome != api.Succeeded || !first.Cold || first.ColdStartMs <= 0 {
		t.Fatalf("first call: %+v %+v", first, first.Error)
	}
	second := s.call("warn", map[string]any{"station": "weir"})
	if second.Cold || second.MemoryPeak < 1<<20 {
		t.Errorf("second call: %+v", second)
	}
	want := map[string]any{"place": "orchard", "count": 2.0, "version": 3.0, "left": true}
	if got := fmt.Sprint(second.Response); got != fmt.Sprint(want) {
		t.Errorf("answer: %v, want %v", got, want)
	}
	streams := map[string]string{}
	for _, l := range second.Logs {
		streams[string(l.Stream)] = l.Text
	}
	if streams["out"] != "looking at weir" || streams["err"] != "careful" ||
		!strings.HasPrefix(streams["platform"], "succeeded in") {
		t.Errorf("log lines: %v", streams)
	}
	lines, err := s.client.Logs(t.Context(), s.scope, platform.LogQuery{Function: "warn", Invocation: second.Id})
	if err != nil || len(lines) != len(second.Logs) {
		t.Errorf("kept lines: %v, %v", lines, err)
	}
}

func TestInvocationErrors(t *testing.T) {
	tests := []struct {
		name, code string
		changes    map[string]any
		outcome    api.InvocationOutcome
		says       string
	}{
		{"raises", "def run(call):\n    return {}['frost']\n", nil, api.Failed, "frost"},
		{"no such function", "def other(call):\n    pass\n", nil, api.Failed, "main.py has no function run"},
		{"no such file", "def run(call):\n    pass\n", map[string]any{"handler": "gone:run"}, api.Failed, "gone"},
		{"broken code", "def run(call:\n", nil, api.Failed, "was never closed"},
		{"never returns", "def run(call):\n    while True: pass\n", map[string]any{"timeout": 300.0}, api.TimedOut, "300ms"},
		{"ignores being asked to end",
			"import signal, time\ndef run(call):\n    signal.signal(signal.SIGTERM, signal.SIG_IGN)\n    while True: time.sleep(1)\n", map[string]any{"timeout": 300.0}, api.TimedOut, "300ms"},
		{"eats memory", "def run(call):\n    held = []\n    while True: held.append(bytearray(1 << 20))\n",
			map[string]any{"memory": 64.0 * (1 << 20)}, api.OutOfMemory, "64 MiB"},
		{"ends its process", "import os\ndef run(call):\n    os._exit(3)\n", nil, api.Failed, "exit status 3"},
		{"answers what is not valid JSON", "def run(call):\n    return {1, 2}\n", nil, api.Failed, "not JSON serializable"},
	}
	s := newStand(t)
	for i, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			name := fmt.Sprint("f", i)
			s.deploy(name, tt.code, tt.changes)
			inv := s.call(name, nil)
			if inv.Outcome != tt.outcome {
				t.Fatalf("outcome %s, want %s: %+v", inv.Outcome, tt.outcome, inv.Error)
			}
			if !strings.Contains(inv.Error.Kind+inv.Error.Message, tt.says) {
				t.Errorf("error %+v does not say %q", inv.Error, tt.says)
			}
			if len(inv.Logs) == 0 || !strings.Contains(inv.Logs[len(inv.Logs)-1].Text, string(tt.outcome)) {
				t.Errorf("the log does not tell how it ended: %v", inv.Logs)
			}
		})
	}
}

func TestLargeOutput(t *testing.T) {
	s := newStand(t)
	s.deploy("loud", "def run(call):\n    for i in range(20000): print('x' * 60)\n    print('y' * 100000)\n    return 'done'\n", nil)
	inv := s.call("loud", nil)
	if inv.Outcome != api.Succeeded || inv.Response != "done" {
		t.Fatalf("%+v", inv.Error)
	}
	if inv.LogsTruncated == nil || !*inv.LogsTruncated {
		t.Error("it is not said that lines were left out")
	}
	total := 0
	for _, l := range inv.Logs {
		total += len(l.Text)
	}
	if total > 300<<10 {
		t.Errorf("%d bytes of log were kept", total)
	}
}

func TestTableGrants(t *testing.T) {
	s := newStand(t)
	s.deploy("stations", `
import rudmar

def attempt(verb, table, *args):
    try:
        return getattr(rudmar.table(table), verb)(*args)
    except rudmar.Refused as refused:
        return str(refused)

def run(call):
    return [attempt(*step) for step in call.event]
`, nil)
	s.put("grant/stations/tables/stations",
		map[string]any{"resource": "tables/stations", "verbs": []any{"read", "write", "query"}})
	inv := s.call("stations", []any{
		[]any{"write", "stations", "hill", map[string]any{"limit": 0.5}},
		[]any{"read", "stations", "hill"},
		[]any{"query", "stations"},
		[]any{"delete", "stations", "hill"},
		[]any{"read", "growers", "linden"},
		[]any{"read", "stations", "nowhere"},
	})
	if inv.Outcome != api.Succeeded {
		t.Fatalf("%+v", inv.Error)
	}
	row := map[string]any{"limit": 0.5}
	want := []any{nil, row, map[string]any{"hill": row},
		"stations cannot delete tables/stations; add permissions: {allow: [delete], resource: tables/stations}",
		"stations cannot read tables/growers; add permissions: {allow: [read], resource: tables/growers}", nil}
	if fmt.Sprint(inv.Response) != fmt.Sprint(want) {
		t.Errorf("answers:\n%v\nwant\n%v", inv.Response, want)
	}
	uses, err := s.client.Access(t.Context(), s.scope)
	must(t, err)
	counts := map[string]int{}
	for _, u := range uses {
		counts[fmt.Sprint(u.Verb, " ", u.Resource, " ", u.Allowed)] = u.Count
	}
	if counts["read tables/stations true"] != 2 || counts["delete tables/stations false"] != 1 ||
		counts["read tables/growers false"] != 1 {
		t.Errorf("uses: %v", counts)
	}
}

func TestResources(t *testing.T) {
	s := newStand(t)
	ctx := context.Background()
	put := func(address, key, match string, attributes map[string]any) (api.Resource, error) {
		return s.client.Put(ctx, s.scope, address, platform.Change{Key: key, Match: match, Attributes: attributes})
	}
	made, err := put("identity/warn", "a", "", map[string]any{"owner": "cold-nights"})
	must(t, err)
	before, _ := s.client.Snapshot(ctx, s.scope)
	if _, err := put("identity/warn", "b", "another tag", map[string]any{"owner": "x"}); !platform.HasStatus(err, 412) {
		t.Errorf("a wrong tag: %v", err)
	}
	if _, err := put("identity/warn", "c", made.Tag, map[string]any{"owner": "late-nights"}); err != nil {
		t.Errorf("the right tag: %v", err)
	}
	again, err := put("identity/warn", "a", "", map[string]any{"owner": "somebody"})
	if err != nil || again.Tag != made.Tag {
		t.Errorf("the same key again: %v %v", again, err)
	}
	after, _ := s.client.Snapshot(ctx, s.scope)
	if before.Fingerprint == after.Fingerprint || after.Resources[0].Attributes["owner"] != "late-nights" {
		t.Errorf("snapshot: %v", after)
	}
	if by := after.Resources[0].ChangedBy; by == nil || *by != "c" {
		t.Errorf("the last change was by the request c, and not by %v", by)
	}
	for name, wish := range map[string]struct {
		address    string
		attributes map[string]any
		status     int
	}{
		"unknown attribute":    {"identity/warn", map[string]any{"color": "blue"}, 422},
		"unknown kind":         {"balloon/warn", map[string]any{}, 422},
		"out of range":         {"function/warn", map[string]any{"memory": 5.0}, 422},
		"computed":             {"identity/warn", map[string]any{"id": "x"}, 422},
		"grant without its id": {"grant/other/tables/a", map[string]any{"resource": "tables/a", "verbs": []any{"read"}}, 409},
		"pointer to nothing":   {"pointer/warn", map[string]any{"shares": map[string]any{"r-1": 100.0}}, 409},
	} {
		if _, err := put(wish.address, "n-"+name, "", wish.attributes); !platform.HasStatus(err, wish.status) {
			t.Errorf("%s: %v, want status %d", name, err, wish.status)
		}
	}
}

func TestRoutes(t *testing.T) {
	s := newStand(t)
	s.deploy("stations", "def run(call):\n    e = call.event\n    return {'status': 201, 'headers': {'X-Made': 'yes'}, 'body': {'params': e['params'], 'query': e['query'], 'body': e['body']}}\n", nil)
	s.route("stations", "one", "POST", "/stations/{station}")
	s.route("stations", "list", "GET", "/stations")
	s.put("opening/stations/list", map[string]any{"to": []any{"growers"}})
	response, body := s.with(map[string]string{"Content-Type": "application/json"}, "POST",
		"/stations/on%20the%20hill?at=noon", strings.NewReader(`{"limit": 1}`))
	if response.StatusCode != 201 || response.Header.Get("X-Made") != "yes" ||
		strings.TrimSpace(body) != `{"body":{"limit":1},"params":{"station":"on the hill"},"query":{"at":"noon"}}` {
		t.Errorf("%d %v %s", response.StatusCode, response.Header, body)
	}
	closed, _ := s.request("GET", "/stations")
	if closed.StatusCode != 401 || closed.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("a route for a group answers a stranger with %d", closed.StatusCode)
	}
	if _, err := s.client.Put(t.Context(), s.scope, "route/stations/again",
		platform.Change{Key: "x",
			Attributes: map[string]any{"method": "GET", "path": "/stations", "enabled": true}}); !platform.HasStatus(err, 409) {
		t.Errorf("a colliding route: %v", err)
	}
}

func TestMaxConcurrency(t *testing.T) {
	s := newStand(t)
	s.deploy("slow", "import time\ndef run(call):\n    print('begun', flush=True)\n    time.sleep(call.event)\n    return 'ok'\n", map[string]any{"max_concurrency": 1.0})
	done := make(chan api.Invocation)
	go func() { done <- s.call("slow", 3) }()
	deadline := time.Now().Add(3 * time.Minute)
	for {
		lines, err := s.client.Logs(t.Context(), s.scope, platform.LogQuery{Function: "slow"})
		if err == nil && len(lines) > 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("the slow call did not begin")
		}
	}
	if inv := s.call("slow", 0); inv.Outcome != api.Throttled {
		t.Errorf("a second call at once: %s", inv.Outcome)
	}
	if inv := <-done; inv.Outcome != api.Succeeded {
		t.Errorf("the first call: %+v", inv.Error)
	}
}

package local_test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/core/pack"
	"rudmar/platform"
	"rudmar/platform/api"
	"rudmar/platform/local"
	"rudmar/platform/local/wasm"
)

// request sends a request to a route, and returns the response with its body.
func (s *stand) request(method, path string) (*http.Response, string) {
	s.Helper()
	return s.with(nil, method, path, nil)
}

// with is request with headers and a body.
func (s *stand) with(headers map[string]string, method, path string, body io.Reader) (*http.Response, string) {
	s.Helper()
	return s.sent(method, s.routes.URL+"/north/frostline/trial"+path, body, headers)
}

func (s *stand) route(fn, trigger, method, path string) {
	s.Helper()
	s.put("opening/"+fn+"/"+trigger, map[string]any{"to": []any{"anyone"}})
	s.put("route/"+fn+"/"+trigger, map[string]any{"method": method, "path": path, "enabled": true})
}

// TestRouteResponses sends other methods than a route's, HEAD, repeated query keys, and unknown paths.
func TestRouteResponses(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "def run(call):\n    return {'status': 200, 'headers': {'x-query': repr(call.event['query'])}, 'body': call.event['method']}\n", nil)
	s.route("warn", "ask", "GET", "/frost")
	s.route("warn", "set", "PUT", "/frost")
	if answer, body := s.request("POST", "/frost"); answer.StatusCode != 405 ||
		answer.Header.Get("Allow") != "GET, HEAD, PUT" || !strings.Contains(body, "expected GET, HEAD, PUT") {
		t.Errorf("POST: %d %q %s", answer.StatusCode, answer.Header.Get("Allow"), body)
	}
	if answer, body := s.request("HEAD", "/frost"); answer.StatusCode != 200 || body != "" ||
		answer.Header.Get("x-query") != "{}" || answer.ContentLength == 0 {
		t.Errorf("HEAD: %d %q %v", answer.StatusCode, body, answer.Header)
	}
	if answer, body := s.request("GET", "/nothing"); answer.StatusCode != 404 || answer.Header.Get("Allow") != "" ||
		!strings.Contains(body, "lists the routes") {
		t.Errorf("GET of nothing: %d %s", answer.StatusCode, body)
	}
	if answer, _ := s.request("GET", "/frost?a=1&b=2&a=3"); answer.Header.Get("x-query") != "{'a': ['1', '3'], 'b': '2'}" {
		t.Errorf("query: %s", answer.Header.Get("x-query"))
	}
	s.put("opening/warn/ask", map[string]any{"to": []any{"authenticated"}})
	if answer, body := s.request("GET", "/frost"); answer.StatusCode != 401 ||
		!strings.Contains(body, "rudmar platform caller") {
		t.Errorf("for members: %d %s", answer.StatusCode, body)
	}
}

// TestStackTraces fails in each runtime, deep down and for a reason: all of it
// is in the invocation, and in the log.
func TestStackTraces(t *testing.T) {
	s := newStand(t)
	s.deploy("py", `def deep(n):
    if n == 0:
        raise ValueError("the innermost")
    deep(n - 1)

def run(call):
    try:
        deep(30)
    except ValueError as error:
        raise RuntimeError("around it") from error
`, nil)
	s.deployFile("js", "main.mjs", []byte(`function deep(n) {
  if (n === 0) throw new Error('the innermost')
  deep(n - 1)
}
export function run() {
  try {
    deep(30)
  } catch (error) {
    throw new TypeError('around it', { cause: error })
  }
}
`), map[string]any{"runtime": "node"})
	s.deployFile("go", wasm.File, compileGo(t, `package main

import (
	"errors"
	"fmt"
)

func deep(n int) int {
	if n == 0 {
		panic("the innermost")
	}
	return deep(n-1) + 1
}

func run(call *Call) (any, error) {
	if call.Event["wrap"] == true {
		return nil, fmt.Errorf("around it: %w", errors.New("the innermost"))
	}
	return deep(30), nil
}
`), map[string]any{"runtime": "go"})
	for _, tt := range []struct {
		function string
		event    map[string]any
		wants    []string
		deep     string
		times    int
	}{
		{"py", nil, []string{"ValueError: the innermost", "RuntimeError: around it", "direct cause", "main.py"}, "", 0},
		{"js", nil, []string{"Error: the innermost", "TypeError: around it", "caused by", "main.mjs"}, "at deep ", 31},
		{"go", nil, []string{"main.deep"}, "main.deep(", 31},
		{"go", map[string]any{"wrap": true},
			[]string{"*fmt.wrapError: around it: the innermost", "*errors.errorString: the innermost"}, "", 0},
	} {
		inv := s.call(tt.function, tt.event)
		if inv.Outcome != api.Failed || inv.Error.Trace == nil {
			t.Errorf("%s: %+v", tt.function, inv.Error)
			continue
		}
		logged := ""
		for _, l := range inv.Logs {
			logged += l.Text + "\n"
		}
		for where, text := range map[string]string{"the invocation": *inv.Error.Trace, "the log": logged} {
			for _, want := range tt.wants {
				if !strings.Contains(text, want) {
					t.Errorf("%s: %s does not say %q:\n%s", tt.function, where, want, text)
				}
			}
			if n := strings.Count(text, tt.deep); tt.deep != "" && n < tt.times {
				t.Errorf("%s: %s has %d of %d frames:\n%s", tt.function, where, n, tt.times, text)
			}
			if strings.Contains(text, "worker.py") || strings.Contains(text, "importlib") {
				t.Errorf("%s: %s shows the worker:\n%s", tt.function, where, text)
			}
		}
	}
}

// TestGoIsCompiledWhenItIsDeployed deploys a revision: its code is compiled then, still after a restart of the
// platform, and an invalid module is rejected.
func TestGoIsCompiledWhenItIsDeployed(t *testing.T) {
	dir := t.TempDir()
	s := newStandWith(t, func(o *local.Options) { o.Dir = dir })
	module := compileGo(t, "package main\n\nfunc run(*Call) (any, error) { return 1, nil }\n")
	s.deployFile("warn", wasm.File, module, map[string]any{"runtime": "go"})
	entries := []pack.Entry{{Path: wasm.File, Content: module}}
	listing, err := pack.List(entries)
	must(t, err)
	made, err := filepath.Glob(filepath.Join(dir, "*", "*", strings.TrimPrefix(listing.Digest(), "sha256:")+".compiled"))
	if open, globErr := filepath.Glob(filepath.Join(os.TempDir(), "rudmar-*", "compiled", "*",
		"*.compiled")); err != nil || globErr != nil || len(made)+len(open) == 0 {
		t.Errorf("nothing was compiled: %v %v", made, err)
	}
	if inv := s.call("warn", nil); inv.Outcome != api.Succeeded || !inv.Cold {
		t.Errorf("%+v", inv)
	}
	bad := []pack.Entry{{Path: wasm.File, Content: []byte("no module")}}
	var archive bytes.Buffer
	badListing, err := pack.List(bad)
	if err == nil {
		err = pack.Write(&archive, bad)
	}
	if err == nil {
		err = s.client.PutArtifact(t.Context(), badListing.Digest(), archive.Bytes())
	}
	must(t, err)
	_, err = s.client.Put(t.Context(), s.scope, "revision/warn",
		platform.Change{Key: "bad",
			Attributes: map[string]any{"artifact": badListing.Digest(), "configuration": "x", "id": "y"}})
	if !platform.HasStatus(err, 422) || !strings.Contains(err.Error(), "the code of warn cannot be prepared") ||
		strings.Contains(err.Error(), dir) {
		t.Errorf("what is no module: %v", err)
	}
	// A request does not wait for its compilation: it is accepted as an operation.
	q, err := http.NewRequestWithContext(t.Context(), http.MethodPut, s.protocol.URL+"/regions/north/scopes/"+s.scope.Service+"/"+
		s.scope.Stage+"/resources/revision%2Fwarn", strings.NewReader(`{"attributes": {"artifact": "`+badListing.Digest()+`", "configuration": "x", "id": "y"}}`))
	must(t, err)
	q.Header.Set("Authorization", "Bearer secret")
	q.Header.Set("Content-Type", "application/json")
	q.Header.Set("Idempotency-Key", "worse")
	answer, err := http.DefaultClient.Do(q)
	must(t, err)
	answer.Body.Close()
	if answer.StatusCode != http.StatusAccepted {
		t.Errorf("a module that is not compiled yet: %s", answer.Status)
	}
}

// TestTimeoutDuringStart loads slow code: the timeout includes it.
func TestTimeoutDuringStart(t *testing.T) {
	s := newStand(t)
	s.deploy("slow", "import time\ntime.sleep(60)\ndef run(call): return 1\n", map[string]any{"timeout": 700.0})
	if inv := s.call("slow", nil); inv.Outcome != api.TimedOut ||
		!strings.Contains(inv.Error.Message, "700ms") || inv.ColdStartMs > 30_000 {
		t.Errorf("%+v %+v", inv, inv.Error)
	}
	s.deploy("half", "import time\ntime.sleep(1)\ndef run(call):\n    time.sleep(1)\n    return call.remaining_ms()\n",
		map[string]any{"timeout": 1500.0})
	if inv := s.call("half", nil); inv.Outcome != api.TimedOut {
		t.Errorf("half of it in each: %+v", inv)
	}
}

// TestInvocationSource invokes from a case and manually: these invocations and their consequences are counted
// separately, and left out of a function's metrics.
func TestInvocationSource(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "def run(call): return 1\n", nil)
	s.deploy("after", "def run(call): return 2\n", nil)
	s.put("subscription/after/then", map[string]any{"source": "function/warn", "enabled": true})
	for i, purpose := range []api.Purpose{api.Case, api.Manual, "", "", ""} {
		if inv, err := s.client.Invoke(t.Context(), s.scope, "warn", "", purpose, map[string]any{"n": i}, time.Minute); err != nil ||
			inv.Outcome != api.Succeeded {
			t.Fatalf("%+v %v", inv, err)
		}
	}
	counts := func() string {
		minutes, err := s.client.Metrics(t.Context(), s.scope, time.Unix(0, 0))
		must(t, err)
		sums := map[string]int{}
		for _, m := range minutes {
			sums[m.Function] += m.Invocations
		}
		return fmt.Sprint(sums)
	}
	until(s.T, "what follows is done", func() bool { return counts() == "map[after:3 warn:3]" })
	until(s.T, "all is counted", func() bool {
		_, body := s.asks("GET", "/regions/north/scopes/frostline/trial/metrics", nil, nil)
		return strings.Count(body, `"purpose":"case"`) == 2 && strings.Count(body, `"purpose":"manual"`) == 2
	})
}

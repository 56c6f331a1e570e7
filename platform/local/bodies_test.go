package local_test

import (
	"bytes"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"rudmar/platform"
	"rudmar/platform/local/wasm"
)

const largestBody = 6 << 20

// Binary bodies up to 6 MiB reach a handler and return unchanged.
func TestBinaryBodies(t *testing.T) {
	s := newStand(t)
	limits := map[string]any{"memory": 256.0 * (1 << 20), "timeout": 30_000.0}
	s.deploy("snake", `import base64
def run(call):
    e = call.event
    body = base64.b64decode(e['body']) if e.get('body_is_base64') else (e['body'] or '').encode()
    return {'status': 200, 'headers': {'Content-Type': 'image/png'}, 'body': body}
`, limits)
	s.deployFile("knot", "main.mjs", []byte(`export function run(call) {
  const { body, body_is_base64 } = call.event
  return { status: 200, headers: { 'Content-Type': 'image/png' }, body: Buffer.from(body ?? '', body_is_base64 ? 'base64' : 'utf8') }
}
`), node(limits))
	s.deployFile("burrow", wasm.File, compileGo(t, `package main

import "encoding/base64"

func run(call *Call) (any, error) {
	text, _ := call.Event["body"].(string)
	body := []byte(text)
	if call.Event["body_is_base64"] == true {
		var err error
		if body, err = base64.StdEncoding.DecodeString(text); err != nil {
			return nil, err
		}
	}
	return map[string]any{"status": 200, "headers": map[string]string{"Content-Type": "image/png"}, "body": body}, nil
}
`), map[string]any{"runtime": "go", "memory": 256.0 * (1 << 20), "timeout": 30_000.0})
	s.deploy("liar", "def run(call):\n    return {'status': 200, 'body': 'no base64!', 'body_is_base64': True}\n", nil)
	dice := rand.New(rand.NewPCG(1, 2))
	large := make([]byte, largestBody)
	for i := range large {
		large[i] = byte(dice.Uint32())
	}
	bodies := [][]byte{nil, []byte("plain"), {0}, {0xff, 0xfe, 0, 1}, large}
	for _, function := range []string{"snake", "knot", "burrow", "liar"} {
		s.route(function, "send", "POST", "/"+function)
	}
	send := func(function string, body []byte) (*http.Response, string) {
		t.Helper()
		return s.with(map[string]string{"Content-Type": "application/octet-stream"}, "POST", "/"+function, bytes.NewReader(body))
	}
	for _, function := range []string{"snake", "knot", "burrow"} {
		for _, body := range bodies {
			response, got := send(function, body)
			if response.StatusCode != http.StatusOK || response.Header.Get("Content-Type") != "image/png" ||
				got != string(body) {
				t.Errorf("%s: %d bytes come back as %d, %d %s %.300s", function, len(body), len(got), response.StatusCode,
					response.Header.Get("Content-Type"), got)
			}
		}
		if response, got := send(function, append(large, 1)); response.StatusCode != http.StatusRequestEntityTooLarge ||
			!strings.Contains(got, "6 MiB") {
			t.Errorf("%s: a byte too many: %d %.300s", function, response.StatusCode, got)
		}
	}
	if response, got := send("liar", nil); response.StatusCode != http.StatusBadGateway ||
		!strings.Contains(got, "not") {
		t.Errorf("an answer that is no base64: %d %s", response.StatusCode, got)
	}
}

// A function receives none of Rudmar's own cookies, and its response can neither set them, nor clear a host's
// data, nor set transfer headers.
// Every stage has an origin of its own, beside the path form; the listener for origins serves nothing else.
func TestOrigins(t *testing.T) {
	s := newStand(t)
	s.deploy("hello-from-a-service-with-a-long-name", "def run(call): return call.event['path']\n", nil)
	s.route("hello-from-a-service-with-a-long-name", "ask", "GET", "/ask/{x}")
	snapshot, err := s.client.Snapshot(t.Context(), s.scope)
	must(t, err)
	origin := ""
	for _, r := range snapshot.Resources {
		if r.Kind == "route" {
			origin, _ = r.Attributes["origin_url"].(string)
		}
	}
	if !regexp.MustCompile(`^http://frostline-[0-9a-f]{10}\.localhost:\d+/ask/\{x\}$`).MatchString(origin) {
		t.Fatalf("the origin is %q", origin)
	}
	ask := func(handler http.Handler, host, path string) (int, string) {
		r := httptest.NewRequest(http.MethodGet, "http://"+host+path, http.NoBody)
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	host := strings.TrimSuffix(strings.TrimPrefix(origin, "http://"), "/ask/{x}")
	for _, handler := range []http.Handler{s.platform.Routes(), s.platform.Origins()} {
		if code, text := ask(handler, host, "/ask/a%2Fb"); code != 200 || text != "/ask/a%2Fb" {
			t.Errorf("at its origin: %d %s", code, text)
		}
		if code, text := ask(handler, "frostline-0123456789.localhost", "/ask/x"); code != 404 {
			t.Errorf("at another host: %d %s", code, text)
		}
	}
	if code, text := ask(s.platform.Routes(), "127.0.0.2:7072", "/north/frostline/trial/ask/x"); code != 200 {
		t.Errorf("by the path: %d %s", code, text)
	}
	if code, text := ask(s.platform.Origins(), "127.0.0.1:7072", "/north/frostline/trial/ask/x"); code != 421 {
		t.Errorf("at the page's host: %d %s", code, text)
	}
}

func TestRouteHeaders(t *testing.T) {
	s := newStand(t)
	s.deploy("sly", `
def run(call):
    kind = call.event["query"].get("kind")
    if kind == "early": return {"status": 103, "headers": {"Link": "</x>"}}
    return {"status": 200, "body": call.event["headers"].get("cookie", "none"), "headers": {
        "Set-Cookie": call.event["query"].get("set", "own=1; Path=/"), "Clear-Site-Data": '"*"', "Content-Length": "3", "Transfer-Encoding": "chunked",
        "Connection": "close, X-Other", "Strict-Transport-Security": "max-age=1", "NEL": "{}", "Report-To": "{}", "Reporting-Endpoints": "a=1",
        "WWW-Authenticate": "Basic", "X-Own": "kept", "Bad Name": "x", "X-Split": "a\r\nSet-Cookie: b=c"}}
`, nil)
	s.route("sly", "ask", "GET", "/ask")
	ask := func(query, cookie string) (*http.Response, string) {
		t.Helper()
		return s.with(map[string]string{"Cookie": cookie}, "GET", "/ask?"+query, nil)
	}
	response, body := ask("", "__Host-rudmar_session=abc; taste=sweet;rudmar_session=def")
	if body != "taste=sweet" {
		t.Errorf("it gets the cookies %q", body)
	}
	if response.Header.Get("X-Own") != "kept" || response.Header.Get("Set-Cookie") != "own=1; Path=/" {
		t.Errorf("what it may set: %v", response.Header)
	}
	for _, name := range []string{"Clear-Site-Data", "Strict-Transport-Security", "X-Split", "Bad Name", "NEL", "Report-To",
		"Reporting-Endpoints", "WWW-Authenticate"} {
		if response.Header.Get(name) != "" {
			t.Errorf("%s: %q", name, response.Header.Get(name))
		}
	}
	if response.ContentLength != int64(len("taste=sweet")) || response.Close {
		t.Errorf("it says how it travels: %d %v", response.ContentLength, response.Close)
	}
	if _, body := ask("", "rudmar_session=def"); body != "none" {
		t.Errorf("with Rudmar's cookie alone it gets %q", body)
	}
	for _, cookie := range []string{"rudmar_session=x", "__Host-rudmar_session=x; Path=/; Secure",
		"a=b; Domain=127.0.0.1", "=__Host-rudmar_session=x", "rudmar_session", " =x", "; Path=/"} {
		if response, _ := ask("set="+url.QueryEscape(cookie), ""); response.Header.Get("Set-Cookie") != "" {
			t.Errorf("it sets %q", response.Header.Get("Set-Cookie"))
		}
	}
	if response, _ := ask("kind=early", ""); response.StatusCode != 502 || response.Header.Get("Link") != "" {
		t.Errorf("status 103: %d %v", response.StatusCode, response.Header)
	}
	lines, err := s.client.Logs(t.Context(), s.scope, platform.LogQuery{Function: "sly", Limit: 500})
	must(t, err)
	told := ""
	for _, l := range lines {
		told += l.Text + "\n"
	}
	for _, want := range []string{"dropped header Clear-Site-Data", "dropped header Transfer-Encoding",
		`dropped cookie "rudmar_session"`, "status 103 is not allowed", `dropped header "X-Split"`} {
		if !strings.Contains(told, want) {
			t.Errorf("the log does not say %q", want)
		}
	}
}

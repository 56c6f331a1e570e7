package local_test

import (
	"bytes"
	"net/http"
	"strings"
	"testing"

	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform"
)

// Invalid requests are rejected, with a status that says who has to act and a message with the remedy; and
// nothing is changed.
func TestRejectedRequests(t *testing.T) {
	s := newStand(t)
	s.deploy("watch", "def run(call): return 1\n", nil)
	before, err := s.client.Snapshot(t.Context(), s.scope)
	must(t, err)
	config, artifact := "", ""
	for _, r := range before.Resources {
		if r.Address == "revision/watch" {
			config, artifact = r.Attributes["configuration"].(string), r.Attributes["artifact"].(string)
		}
	}
	nowhere := pack.Listing{}.Digest()
	for _, tt := range []struct {
		address    string
		attributes map[string]any
		status     int
		says       string
	}{
		{"pointer/watch", map[string]any{"shares": map[string]any{resource.RevisionID(artifact, config): 60.0}}, 422, "add up to 60, not 100"},
		{"pointer/watch", map[string]any{"shares": map[string]any{"r-nothing": 100.0}}, 409, "does not exist"},
		{"subscription/watch/read", map[string]any{"source": "rain/readings", "enabled": true}, 422, "objects/NAME, queue/NAME or function/NAME"},
		{"subscription/watch/read", map[string]any{"enabled": true}, 422, "source"},
		{"schedule/watch/nightly", map[string]any{"enabled": true}, 422, "cron or every"},
		{"schedule/watch/nightly", map[string]any{"cron": "61 * * * *", "enabled": true}, 422, "minute"},
		{"route/gone/ask", map[string]any{"method": "GET", "path": "/gone", "enabled": true}, 409, "function/gone"},
		{"revision/gone", map[string]any{"artifact": artifact, "configuration": config, "id": "r"}, 409, "needs function/gone"},
		{"revision/watch", map[string]any{"artifact": artifact, "configuration": "other", "id": "r"}, 409, "does not have the configuration"},
		{"revision/watch", map[string]any{"artifact": artifact, "configuration": config, "id": "r"}, 422, "does not match its artifact"},
		{"revision/watch", map[string]any{"artifact": nowhere, "configuration": config,
			"id": resource.RevisionID(nowhere, config)}, 409, "upload it first"},
		{"function/watch", map[string]any{"memory": "much"}, 422, "memory"},
		{"function/watch", map[string]any{"color": "green"}, 422, "color"},
		{"hedge/watch", map[string]any{}, 422, "hedge"},
	} {
		_, err := s.client.Put(t.Context(), s.scope, tt.address, platform.Change{Key: tt.address + tt.says, Replace: true,
			Attributes: tt.attributes})
		if !platform.HasStatus(err, tt.status) || !strings.Contains(err.Error(), tt.says) {
			t.Errorf("%s %v: %v, not %d with %q", tt.address, tt.attributes, err, tt.status, tt.says)
		}
	}
	elsewhere := s.scope
	elsewhere.Region = "moon"
	if _, err := s.client.Put(t.Context(), elsewhere, "identity/a", platform.Change{Key: "m",
		Attributes: map[string]any{"owner": "x"}}); !platform.HasStatus(err, 404) || !strings.Contains(err.Error(), "north, coast, lake") {
		t.Errorf("a region that is none: %v", err)
	}
	after, err := s.client.Snapshot(t.Context(), s.scope)
	if err != nil || after.Fingerprint != before.Fingerprint {
		t.Errorf("something of it exists: %v %v", after, err)
	}
}

// A route's responses distinguish a slow function, a busy function, and an unknown path.
func TestRejectedRouteRequests(t *testing.T) {
	s := newStand(t)
	s.deploy("slow", "import time\ndef run(call):\n    time.sleep(30)\n", map[string]any{"timeout": 300.0})
	s.route("slow", "ask", "GET", "/slow")
	for path, want := range map[string]int{"/slow": http.StatusGatewayTimeout, "/nothing": http.StatusNotFound} {
		if answer, text := s.request("GET", path); answer.StatusCode != want {
			t.Errorf("%s: %d %s", path, answer.StatusCode, text)
		}
	}
	for path, says := range map[string]string{"/north": "/region/service/stage", "/north/frostline/nowhere/x": "nothing is deployed"} {
		answer, text := s.sent("GET", s.routes.URL+path, nil, nil)
		if answer.StatusCode != http.StatusNotFound || !strings.Contains(text, says) {
			t.Errorf("%s: %d %s", path, answer.StatusCode, text)
		}
	}
}

// What is uploaded by hand has a form, and a limit.
func TestUploads(t *testing.T) {
	s := newStand(t)
	const at = "north/frostline/trial/"
	for _, tt := range []struct {
		method, path string
		body         any
		status       int
		says         string
	}{
		{"POST", "callers", map[string]any{"groups": []string{"growers"}}, 400, "a caller needs a name"},
		{"POST", at + "queues/readings", strings.Repeat("x", 300<<10), 413, "256 KiB"},
		{"PUT", "moon/faults", map[string]any{}, 404, "north, coast, lake"},
		{"POST", at + "queues/readings", 1, 202, "id"},
	} {
		if status, text := s.hand(tt.method, tt.path, tt.body); status != tt.status || !strings.Contains(text, tt.says) {
			t.Errorf("%s %s: %d %s, not %d with %q", tt.method, tt.path, status, text, tt.status, tt.says)
		}
	}
	waiting, err := s.client.Messages(t.Context(), s.scope, false)
	if err != nil || len(waiting) != 1 {
		t.Errorf("%+v %v", waiting, err)
	}
}

// An archive exists once it was uploaded; an invalid one is rejected.
func TestArchivesExist(t *testing.T) {
	s := newStand(t)
	entries := []pack.Entry{{Path: "main.py", Content: []byte("def run(call): return 1\n")}}
	var archive bytes.Buffer
	listing, err := pack.List(entries)
	if err != nil || pack.Write(&archive, entries) != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		method, body string
		status       int
	}{
		{"HEAD", "", http.StatusNotFound}, {"PUT", "no archive", http.StatusUnprocessableEntity}, {"HEAD", "", http.StatusNotFound},
		{"PUT", archive.String(), http.StatusNoContent}, {"HEAD", "", http.StatusOK}, {"PUT", archive.String(), http.StatusNoContent},
	} {
		answer, _ := s.asks(tt.method, "/artifacts/"+listing.Digest(), strings.NewReader(tt.body), map[string]string{"Content-Type": "application/zip"})
		if answer.StatusCode != tt.status {
			t.Errorf("%s of %d bytes: %d, not %d", tt.method, len(tt.body), answer.StatusCode, tt.status)
		}
	}
}

// A request above the size limit is rejected by its size, before it is processed; one exactly at the limit is
// not.
func TestSizeLimits(t *testing.T) {
	s := newStand(t)
	for _, tt := range []struct {
		path  string
		bytes int
		large bool
		says  string
	}{
		{"/regions/north/scopes/frostline/trial/resources/identity%2Fwarn", 16<<20 + 1, true, "16 MiB"},
		{"/regions/north/scopes/frostline/trial/resources/identity%2Fwarn", 16 << 20, false, ""},
		{"/artifacts/" + pack.Listing{}.Digest(), 58<<20 + 1, true, "58 MiB"},
		{"/artifacts/" + pack.Listing{}.Digest(), 58 << 20, false, ""},
	} {
		headers := map[string]string{"Idempotency-Key": "k"}
		if strings.HasPrefix(tt.path, "/artifacts/") {
			headers["Content-Type"] = "application/zip"
		}
		answer, text := s.asks(http.MethodPut, tt.path, bytes.NewReader(bytes.Repeat([]byte(" "), tt.bytes)), headers)
		if large := answer.StatusCode == http.StatusRequestEntityTooLarge; large != tt.large ||
			!strings.Contains(text, tt.says) || answer.StatusCode < 400 {
			t.Errorf("%d bytes to %s: %d %s", tt.bytes, tt.path, answer.StatusCode, text)
		}
	}
}

// An idle instance ends with its revision's traffic: it is reused while the revision has a share, and not after
// the pointer moved away in between.
func TestIdleInstancesEnd(t *testing.T) {
	s := newStand(t)
	s.deploy("watch", "def run(call): return 1\n", nil)
	snapshot, err := s.client.Snapshot(t.Context(), s.scope)
	must(t, err)
	var first map[string]any
	for _, r := range snapshot.Resources {
		if r.Address == "pointer/watch" {
			first = r.Attributes["shares"].(map[string]any)
		}
	}
	if s.call("watch", nil); s.call("watch", nil).Cold {
		t.Fatal("its instance is not used again")
	}
	s.put("pointer/watch", map[string]any{"shares": first})
	if s.call("watch", nil).Cold {
		t.Error("its instance ended, though its revision is called as before")
	}
	must(t, s.client.Delete(t.Context(), s.scope, "pointer/watch", platform.Change{Key: "away"}))
	s.put("pointer/watch", map[string]any{"shares": first})
	if !s.call("watch", nil).Cold {
		t.Error("its instance outlived its pointer")
	}
}

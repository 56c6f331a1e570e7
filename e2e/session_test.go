package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"os/exec"
	"strings"
	"testing"
	"time"

	"rudmar/server/api"
)

// browserOf signs a user in as a page does, and returns a function that sends requests like a page.
func browserOf(t *testing.T, r *rig, username, password string) (send func(method, path string) *http.Response,
	status int) {
	t.Helper()
	response, err := http.Post(r.address+"/api/session", "application/json",
		strings.NewReader(`{"username":"`+username+`","password":"`+password+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var session api.Session
	if response.StatusCode == http.StatusOK {
		if err := json.NewDecoder(response.Body).Decode(&session); err != nil {
			t.Fatal(err)
		}
	}
	cookies := response.Cookies()
	return func(method, path string) *http.Response {
		t.Helper()
		q, err := http.NewRequest(method, r.address+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range cookies {
			q.AddCookie(c)
		}
		q.Header.Set("X-CSRF-Token", session.Csrf)
		answer, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		return answer
	}, response.StatusCode
}

// ends waits until a stream has ended.
func ends(t *testing.T, stream *http.Response, why string) {
	t.Helper()
	over := make(chan struct{})
	go func() {
		for lines := bufio.NewScanner(stream.Body); lines.Scan(); {
			continue
		}
		close(over)
	}()
	select {
	case <-over:
	case <-time.After(8 * time.Second): // a stream sends a keep-alive every ten
		t.Errorf("%s: the stream goes on", why)
	}
	stream.Body.Close()
}

func person(t *testing.T, r *rig, stdin string, args ...string) (string, error) {
	t.Helper()
	cmd := exec.Command(build(t), append(append([]string{"user"}, args...), "--data", r.data)...)
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// What happens between the first thing that a page loads and its stream is reported by the stream, too.
func TestNoPushIsLost(t *testing.T) {
	r := demo(t)
	var session api.Session
	r.ask("wren", "GET", "/session", nil, &session)
	if api.OrZero(session.Event) == 0 {
		t.Fatalf("the session does not say what the newest event is: %+v", session)
	}
	r.ask("wren", "PUT", "/services/frostline/stages/trial/secrets/sms_key", map[string]string{"value": "between"}, nil)
	send, status := browserOf(t, r, "wren", "orchard-at-dawn")
	if status != http.StatusOK {
		t.Fatal(status)
	}
	answer := send("GET", fmt.Sprint("/api/events?after=", *session.Event))
	defer answer.Body.Close()
	lines := bufio.NewScanner(answer.Body)
	for lines.Scan() {
		if strings.Contains(lines.Text(), `"secret"`) {
			return
		}
		if strings.Contains(lines.Text(), "event: alive") {
			break // it has sent everything
		}
	}
	t.Error("the stream does not tell of the secret that was set before it started")
}

// Signing out, a changed password, another role and a closed account end sessions and streams at once, also
// from another process.
func TestSessionsAndStreamsEndTogether(t *testing.T) {
	r := demo(t)
	const password = "orchard-at-dawn"
	for _, tt := range []struct {
		name string
		end  func(send func(method, path string) *http.Response)
		in   bool // whether they can sign in afterwards
	}{
		{"signing out", func(send func(method, path string) *http.Response) {
			send("DELETE", "/api/session").Body.Close()
		}, true},
		{"another password", func(func(method, path string) *http.Response) {
			if out, err := person(t, r, password+"\n", "password", "teasel"); err != nil {
				t.Fatal(out)
			}
		}, true},
		{"closed", func(func(method, path string) *http.Response) {
			if out, err := person(t, r, "", "close", "teasel"); err != nil {
				t.Fatal(out)
			}
		}, false},
	} {
		send, status := browserOf(t, r, "teasel", password)
		if status != http.StatusOK {
			t.Fatalf("%s: signing in: %d", tt.name, status)
		}
		events := send("GET", "/api/events")
		logs := send("GET", "/api/services/frostline/stages/trial/logs/stream?target=local/north")
		tt.end(send)
		ends(t, events, tt.name)
		ends(t, logs, tt.name)
		if answer := send("GET", "/api/services"); answer.StatusCode != http.StatusUnauthorized {
			t.Errorf("%s: the session still gets %d", tt.name, answer.StatusCode)
		}
		if _, status := browserOf(t, r, "teasel", password); (status == http.StatusOK) != tt.in {
			t.Errorf("%s: signing in again: %d", tt.name, status)
		}
	}
	if out, err := person(t, r, "", "reopen", "teasel"); err != nil {
		t.Fatal(out)
	}
	out, err := person(t, r, "", "list")
	if err != nil || !strings.Contains(out, "teasel") || strings.Contains(out, "closed") ||
		!strings.Contains(out, "growers-council") {
		t.Errorf("%v\n%s", err, out)
	}
	for _, args := range [][]string{{"password", "nobody"}, {"close", "nobody"}, {"create", "new", "--role", "king"},
		{"create", "New!"}, {"groups", "wren"}} {
		if out, err := person(t, r, "long-enough-for-one\n", args...); err == nil {
			t.Errorf("%v: %s", args, out)
		}
	}
	if out, err := person(t, r, "short\n", "create", "sedge"); err == nil ||
		!strings.Contains(out, "at least 12 characters") {
		t.Errorf("a short password: %v %s", err, out)
	}
	if out, err := person(t, r, "", "groups", "teasel", "--add", "night-watch", "--remove",
		"growers-council"); err != nil {
		t.Error(out)
	}
	if out, _ := person(t, r, "", "list"); !strings.Contains(out, "night-watch") {
		t.Errorf("%s", out)
	}
	var journal []api.JournalEntry
	r.ask("wren", "GET", "/services/frostline/journal?text=sign", nil, &journal)
	if len(journal) > 0 { // entries without a service are for administrators
		t.Errorf("an author sees %+v", journal)
	}
	if out, err := exec.Command(build(t), "right", "grant", "wren", "administer", "--data", r.data).CombinedOutput(); err != nil {
		t.Errorf("%s", out)
	}
	r.ask("wren", "GET", "/services/frostline/journal", nil, &journal)
	said := ""
	for _, e := range journal {
		said += e.Action + " " + e.Text + "\n"
	}
	for _, what := range []string{"signed in", "sign-in failed teasel", "user closed teasel", "user reopened teasel",
		"password changed teasel", "groups changed teasel"} {
		if !strings.Contains(said, what) {
			t.Errorf("the journal does not say %q:\n%s", what, said)
		}
	}
}

// API responses are not cached by proxies (a list only by the browser, which revalidates it each time), and the
// page can submit forms only to itself.
func TestHeaders(t *testing.T) {
	r := demo(t)
	send, _ := browserOf(t, r, "wren", "orchard-at-dawn")
	for path, want := range map[string]string{"/api/services": "private, no-cache", "/api/session": "no-store", "/": "",
		"/account": "no-cache", "/notifications": "no-cache", "/services": "no-cache", "/api": "no-cache", "/docs/manifest": "no-cache"} {
		answer := send("GET", path)
		answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			t.Errorf("%s: %s", path, answer.Status)
		}
		if got := answer.Header.Get("Cache-Control"); want != "" && got != want {
			t.Errorf("%s: Cache-Control %q", path, got)
		}
		for _, want := range []string{"base-uri 'none'", "form-action 'self'",
			"frame-ancestors 'none'", "default-src 'self'"} {
			if policy := answer.Header.Get("Content-Security-Policy"); !strings.Contains(policy, want) {
				t.Errorf("%s: the policy %q has no %s", path, policy, want)
			}
		}
	}
}

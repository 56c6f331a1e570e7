package main

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"
)

// answering answers requests, and notes how long each would be waited for.
type answering struct {
	*testing.T
	waits map[string]time.Duration // by method and the last part of the path
}

func (a answering) RoundTrip(r *http.Request) (*http.Response, error) {
	until, set := r.Context().Deadline()
	if !set {
		a.Errorf("%s %s is waited for without an end", r.Method, r.URL)
	}
	last := r.URL.Path[strings.LastIndex(r.URL.Path, "/")+1:]
	a.waits[r.Method+" "+last] = time.Until(until)
	body := map[string]string{"invocations": `{"outcome": "succeeded", "response": 1}`, "cases": `[]`}[last]
	if body == "" {
		body = `{}`
	}
	return &http.Response{StatusCode: http.StatusOK, Request: r, Body: io.NopCloser(strings.NewReader(body))}, nil
}

// What functions are built or run for is waited for an hour, and all else five minutes.
func TestRequestTimeouts(t *testing.T) {
	a := answering{t, map[string]time.Duration{}}
	was := http.DefaultTransport
	http.DefaultTransport = a
	t.Cleanup(func() { http.DefaultTransport = was })
	for name, value := range map[string]string{"RUDMAR_SERVER": "http://rudmar.invalid", "RUDMAR_USERNAME": "wren",
		"RUDMAR_PASSWORD": "orchard-at-dawn"} {
		t.Setenv(name, value)
	}
	for _, args := range []string{"invoke frostline trial warn", "case run frostline trial"} {
		if out, err := run(t, strings.Fields(args)...); err != nil {
			t.Error(args, out, err)
		}
	}
	copied := watcher{config: &config{server: "http://rudmar.invalid", username: "wren"}, dir: write(t, "function: order\nhandler: main:run\n"),
		service: "shop", out: io.Discard}
	if _, err := copied.step(t.Context()); err != nil {
		t.Error(err)
	}
	check := func(names string, least, most time.Duration) {
		for name := range strings.SplitSeq(names, ", ") {
			if got := a.waits[name]; got <= least || got > most {
				t.Errorf("%s is waited for %s", name, got)
			}
		}
	}
	check("GET warn", 0, 5*time.Minute)
	check("POST invocations, POST cases, PUT copy", 50*time.Minute, time.Hour)
	clear(a.waits)
	if err := copied.call(t.Context(), "order"); err != nil {
		t.Error(err)
	}
	if _, err := copied.cases(t.Context()); err != nil {
		t.Error(err)
	}
	check("POST invocations, POST cases", 50*time.Minute, time.Hour)
}

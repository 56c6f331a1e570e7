package local_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"rudmar/platform"
	"rudmar/platform/api"
)

// The response to a caller of a route whose function fails, is busy, or returns nothing: never the code's own
// error.
func TestErrorResponses(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", `
import time
def run(call):
    said = call.event['query'].get('say', '')
    if said == 'fail': raise ValueError('a secret')
    if said == 'busy':
        time.sleep(2)
    if said.isdigit(): return {'status': int(said)}
    if said == 'text': return {'status': 201, 'headers': {'Content-Type': 'application/json'}, 'body': 'quoted'}
    return None
`, map[string]any{"max_concurrency": 1.0, "timeout": 30_000.0})
	s.route("warn", "ask", "GET", "/warn")
	for said, want := range map[string]struct {
		status int
		text   string
	}{
		"fail": {502, "its log has the details"}, "204": {204, ""}, "404": {404, ""}, "200": {200, "null"}, "": {200, "null"},
		"99": {200, `"status":99`}, "150": {502, "returned an invalid status"}, "text": {201, `"quoted"`},
	} {
		answer, text := s.request("GET", "/warn?say="+said)
		if answer.StatusCode != want.status || !strings.Contains(text, want.text) || strings.Contains(text, "a secret") || want.text == "" && text != "" {
			t.Errorf("%q: %d %q, not %d %q", said, answer.StatusCode, text, want.status, want.text)
		}
		if answer.Header.Get("Rudmar-Invocation") == "" {
			t.Errorf("%q: the answer does not say which call it was", said)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for ctx.Err() == nil { // it can be the rejected one
			q, _ := http.NewRequestWithContext(ctx, "GET", s.routes.URL+"/north/frostline/trial/warn?say=busy", nil)
			if answer, err := http.DefaultClient.Do(q); err == nil {
				answer.Body.Close()
			}
		}
	}()
	until(t, "somebody else is told that it is busy", func() bool {
		answer, text := s.request("GET", "/warn")
		return answer.StatusCode == http.StatusTooManyRequests && answer.Header.Get("Retry-After") == "1" &&
			strings.Contains(text, "1 invocations of warn are running, the limit of max_concurrency")
	})
	cancel()
	<-ended
}

// Log lines are read from the newest or after one, up to a limit, and followed as they arrive, from a position.
func TestReadingAndFollowingLogs(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "def run(call):\n    print(call.event)\n", nil)
	s.deploy("watch", "def run(call):\n    print('else')\n", nil)
	for i := range 5 {
		s.call("warn", i)
	}
	s.call("watch", nil)
	read := func(q platform.LogQuery) (texts []string, ids []int64) {
		t.Helper()
		lines, err := s.client.Logs(t.Context(), s.scope, q)
		must(t, err)
		for _, l := range lines { // after each, the platform logs how the invocation ended
			if l.Stream == "out" {
				texts, ids = append(texts, l.Text), append(ids, l.Id)
			}
		}
		return texts, ids
	}
	all, ids := read(platform.LogQuery{Function: "warn"})
	if !slices.Equal(all, []string{"0", "1", "2", "3", "4"}) {
		t.Fatalf("%v", all)
	}
	for _, tt := range []struct {
		query platform.LogQuery
		want  string
	}{
		{platform.LogQuery{Limit: 4}, "4 else"},
		{platform.LogQuery{Function: "warn", Limit: 4}, "3 4"},
		{platform.LogQuery{Function: "warn", Before: ids[3]}, "0 1 2"},
		{platform.LogQuery{Function: "warn", Before: ids[3], Limit: 4}, "1 2"},
		{platform.LogQuery{Function: "warn", After: ids[2]}, "3 4"},
		{platform.LogQuery{Function: "watch"}, "else"},
		{platform.LogQuery{Since: time.Now().Add(time.Hour).UnixMilli()}, ""},
	} {
		if got, _ := read(tt.query); strings.Join(got, " ") != tt.want {
			t.Errorf("%+v: %v, not %q", tt.query, got, tt.want)
		}
	}
	enough := errors.New("enough")
	follow := func(q platform.LogQuery, want ...string) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		var got []string
		alive := 0
		var calls sync.WaitGroup
		defer calls.Wait()
		err := s.client.Follow(ctx, s.scope, q, func(l *api.LogLine) error {
			if l == nil {
				if alive++; alive == 1 && q.After > 0 { // lines during the follow
					calls.Go(func() { _, _ = s.client.Invoke(t.Context(), s.scope, "warn", "", "", "last", time.Minute) })
				}
				return nil
			}
			if l.Stream == "out" {
				got = append(got, l.Text)
			}
			if l.Text == "last" {
				return enough
			}
			return nil
		})
		if !errors.Is(err, enough) || !slices.Equal(got, want) || alive == 0 {
			t.Errorf("%+v: %v, not %v: %v", q, got, want, err)
		}
	}
	follow(platform.LogQuery{Function: "warn", After: ids[2], Limit: 1}, "3", "4", "last")
	follow(platform.LogQuery{Function: "warn", Limit: 4}, "4", "last")
}

// A response above the limit is the function's failure, with the limit; the next invocation succeeds.
func TestLargeResponse(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "def run(call): return 'x' * call.event['bytes']\n", map[string]any{"memory": 512.0 * (1 << 20), "timeout": 30_000.0})
	large := s.call("warn", map[string]any{"bytes": 13 << 20})
	if large.Outcome != api.Failed || large.Error == nil || !strings.Contains(large.Error.Message, "the response has 13 MiB; the limit is 12 MiB") {
		t.Errorf("%s %+v", large.Outcome, large.Error)
	}
	if small := s.call("warn", map[string]any{"bytes": 11 << 20}); small.Outcome != api.Succeeded || len(fmt.Sprint(small.Response)) != 11<<20 {
		t.Errorf("%s %+v", small.Outcome, small.Error)
	}
}

// The platform reports for each invocation its outcome, duration, cold start, peak memory, and dropped lines.
func TestOutcomes(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", `
def run(call):
    if call.event == 'fail': raise ValueError('frozen')
    if call.event == 'talk': print(('x' * 1023 + '\n') * 300)
    return 1
`, nil)
	for _, tt := range []struct{ event, says string }{
		{"first", `^succeeded in [0-9.]+ ms, after a cold start of [0-9.]+ ms, memory peak [0-9.]+ of 128 MiB$`},
		{"second", `^succeeded in [0-9.]+ ms, memory peak [0-9.]+ of 128 MiB$`},
		{"fail", `^failed in [0-9.]+ ms, memory peak [0-9.]+ of 128 MiB: ValueError: frozen$`},
		{"talk", `^succeeded in [0-9.]+ ms, memory peak [0-9.]+ of 128 MiB$`},
	} {
		inv := s.call("warn", tt.event)
		last := inv.Logs[len(inv.Logs)-1]
		if last.Stream != "platform" || !regexp.MustCompile(tt.says).MatchString(last.Text) {
			t.Errorf("%s: %s %q", tt.event, last.Stream, last.Text)
		}
		var told []string
		for _, l := range inv.Logs {
			if l.Stream != "out" {
				told = append(told, l.Text)
			}
		}
		text := strings.Join(told, "\n")
		if cut := inv.LogsTruncated != nil && *inv.LogsTruncated; cut != (tt.event == "talk") ||
			cut != regexp.MustCompile(`4[0-9] KiB of output were dropped; an invocation can write 256 KiB`).MatchString(text) {
			t.Errorf("%s: cut %v: %s", tt.event, cut, text)
		}
		if traced := strings.Contains(text, "line 3, in run"); traced != (tt.event == "fail") {
			t.Errorf("%s: %s", tt.event, text)
		}
	}
}

// The memory peak of an invocation is its own, not that of the one before.
func TestPeakPerInvocation(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "def run(call):\n    b'x' * (call.event << 20)\n    return 1\n", nil)
	for _, mib := range []int64{1, 60, 1, 40, 1} {
		if inv := s.call("warn", mib); inv.MemoryPeak < mib<<20 || inv.MemoryPeak > (mib+30)<<20 {
			t.Errorf("%d MiB: a peak of %d", mib, inv.MemoryPeak>>20)
		}
	}
}

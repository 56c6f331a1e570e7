package cases_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"rudmar/core/canon"
	"rudmar/core/cases"
	"rudmar/core/check"
	"rudmar/core/expression"
	"rudmar/core/manifest"
)

const fn = `function: warn
handler: warn:run
triggers:
  ask: {route: "GET /stations/{station}/frost", open_to: anyone}
  change: {route: "POST /stations/{station}/limit", open_to: authenticated}
  sweep: {every: 5m}
  photo: {objects: photos, events: [created], match: "raw/**/*.jpg"}
  reading: {queue: readings}
  relay: {after_function: grade, events: [failed]}
`

func function(t *testing.T) *manifest.Function {
	t.Helper()
	r := check.Service(manifest.Files{
		"rudmar.yaml": []byte(
			"rudmar: 1\nservice: s\nstages: [{stage: trial, target: local/north, enter: {when: push}}]\n"),
		"functions/warn/function.yaml": []byte(fn), "functions/warn/warn.py": []byte("def run(c): pass"),
		"functions/grade/function.yaml":  []byte("function: grade\nhandler: warn:run\ncode: ../warn\n"),
		"functions/warn/cases/mild.yaml": []byte("case: mild\nsend: {route: GET /stations/hill/frost}\nexpect: [cold]\n"),
	})
	if !r.OK() {
		t.Fatal(r.Diagnostics)
	}
	return r.Service.Function("warn")
}

func text(t *testing.T, v any) string {
	t.Helper()
	out, err := canon.Append(nil, v)
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

func TestBuild(t *testing.T) {
	now := time.Date(2031, 4, 2, 3, 0, 0, 0, time.UTC)
	config := function(t).At("")
	tests := []struct {
		send manifest.Send
		want string
	}{
		{manifest.Send{Route: "GET /stations/hill/frost", Query: map[string]any{"at": "noon"}},
			`{"event":{"body":null,"headers":{},"id":"e-sample","method":"GET","params":{"station":"hill"},"path":"/stations/hill/frost","query":{"at":"noon"},"time":"2031-04-02T03:00:00Z","type":"rudmar.route.requested"},"trigger":"ask"}`},
		{manifest.Send{Trigger: "sweep"},
			`{"event":{"data":{"due":"2031-04-02T03:00:00Z","missed":0,"schedule":"sweep"},"datacontenttype":"application/json","id":"e-sample","source":"/schedules/sweep","specversion":"1.0","time":"2031-04-02T03:00:00Z","type":"rudmar.schedule.fired"},"trigger":"sweep"}`},
		{manifest.Send{Trigger: "photo"},
			`{"event":{"data":{"key":"raw/some/some.jpg","size":1024,"store":"photos","type":"application/octet-stream"},"datacontenttype":"application/json","id":"e-sample","source":"/objects/photos","specversion":"1.0","subject":"raw/some/some.jpg","time":"2031-04-02T03:00:00Z","type":"rudmar.object.created"},"trigger":"photo"}`},
		{manifest.Send{Trigger: "reading", Event: map[string]any{"queue": "readings", "messages": []any{}}},
			`{"event":{"data":{"messages":[],"queue":"readings"},"datacontenttype":"application/json","id":"e-sample","source":"/queues/readings","specversion":"1.0","time":"2031-04-02T03:00:00Z","type":"rudmar.queue.messages"},"trigger":"reading"}`},
		{manifest.Send{Trigger: "reading", Event: map[string]any{"messages": []any{map[string]any{"body": "cold", "id": 7.0}}}},
			`{"event":{"data":{"messages":[{"attempts":1,"body":"cold","id":7,"sent_at":1932865200000}],"queue":"readings"},"datacontenttype":"application/json","id":"e-sample","source":"/queues/readings","specversion":"1.0","time":"2031-04-02T03:00:00Z","type":"rudmar.queue.messages"},"trigger":"reading"}`},
		{manifest.Send{Payload: map[string]any{"a": 1.0}}, `{"event":{"a":1}}`},
	}
	for _, tt := range tests {
		call, err := cases.Build(config, "warn", tt.send, now)
		if got := text(t, call); got != tt.want || err != nil {
			t.Errorf("%+v: %s %v\nwant %s", tt.send, got, err, tt.want)
		}
	}
	for _, bad := range []manifest.Send{{Route: "GET /elsewhere"}, {Trigger: "nightly"},
		{Trigger: "reading", Event: map[string]any{"own": true}}} {
		if _, err := cases.Build(config, "warn", bad, now); err == nil {
			t.Errorf("%+v was built", bad)
		}
	}
}

func TestSamples(t *testing.T) {
	f := function(t)
	var got []string
	for _, s := range cases.Samples(f, f.At(""), time.Unix(0, 0)) {
		var told map[string]any
		if err := json.Unmarshal([]byte(text(t, s.Call.Event)), &told); err != nil {
			t.Fatal(err)
		}
		got = append(got, fmt.Sprint(s.Name, " | ", told["path"], " ", told["type"]))
		if wrong := cases.Check(f.At(""), s.Call.Trigger, any(told)); s.Call.Trigger != "" && len(wrong) > 0 {
			t.Errorf("the sample %s: %q", s.Name, wrong)
		}
	}
	want := []string{
		"ask: GET /stations/{station}/frost | /stations/hill/frost rudmar.route.requested", // from the saved case
		"change: POST /stations/{station}/limit | /stations/some-station/limit rudmar.route.requested",
		"photo: objects | <nil> rudmar.object.created", "reading: queue | <nil> rudmar.queue.messages",
		"relay: after_function | <nil> rudmar.function.failed", "sweep: every | <nil> rudmar.schedule.fired",
		"an empty payload | <nil> <nil>",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("samples:\n%s", strings.Join(got, "\n"))
	}
}

func TestResponse(t *testing.T) {
	for _, tt := range []struct {
		answer any
		want   string
	}{
		{map[string]any{"status": 404.0, "body": "x", "headers": map[string]any{"X-A": 1.0}}, `404 map[x-a:1] "x"`},
		{map[string]any{"stations": 3.0}, `200 map[] {"stations":3}`},
		{"text", `200 map[] "text"`}, {nil, `200 map[] null`}, {[]any{1.0}, `200 map[] [1]`},
		{map[string]any{"status": "fine"}, `200 map[] {"status":"fine"}`},
	} {
		status, headers, body := cases.Response(tt.answer)
		if got := fmt.Sprint(status, " ", headers, " ", text(t, body)); got != tt.want {
			t.Errorf("%v: %s, want %s", tt.answer, got, tt.want)
		}
	}
}

func TestJudge(t *testing.T) {
	language, err := expression.ForCases()
	if err != nil {
		t.Fatal(err)
	}
	o := cases.Observed{Response: map[string]any{"status": 200.0,
		"body": map[string]any{"warning": false, "name": "hill"}}, Logs: []string{"looked at hill"},
		Took: 30 * time.Millisecond, MemoryPeak: 20 << 20}
	tests := []struct {
		expect string
		holds  bool
		found  string
	}{
		{"status == 200", true, "status is 200"}, {"status == 404", false, "status is 200"},
		{"body.warning == false", true, "body.warning is false"}, {`body.name.startsWith("h")`, true, `body.name is "hill"`},
		{`took < duration("10ms")`, false, "took is 30ms"},
		{"memory_peak < 64 * 1024 * 1024", true, "memory_peak is 20971520"},
		{`logs.exists(l, l.contains("hill"))`, true, `logs is ["looked at hill"]`}, {"cold", false, "cold is false"},
		{"!cold", true, "cold is false"},
		{`!logs.all(l, l == "")`, true, `logs is ["looked at hill"]`}, {"body.warning || cold", false, ""},
		{"body.temperature > 3", false, "no such key"}, {"status = 200", false, "Syntax error"},
		{`"hill" in [body.name]`, true, `[body.name] is ["hill"]`},
	}
	for _, tt := range tests {
		outcomes, all := cases.Judge(t.Context(), language, []manifest.Expectation{{Text: tt.expect}}, o)
		if len(outcomes) != 1 || all != tt.holds || outcomes[0].Holds != tt.holds ||
			!strings.Contains(outcomes[0].Found, tt.found) {
			t.Errorf("%s: %+v, want %v, %q", tt.expect, outcomes, tt.holds, tt.found)
		}
	}
	failed, all := cases.Judge(t.Context(), language,
		[]manifest.Expectation{{Text: "status == 200"}, {Text: "status == 502"}}, cases.Observed{Failed: "KeyError: 'frost'"})
	if all || failed[0].Found != "the invocation failed: KeyError: 'frost'" || !failed[1].Holds {
		t.Errorf("a failed call: %+v", failed)
	}
}

// Expressions that want too much are stopped, each by a limit of its own.
func TestHostileExpressions(t *testing.T) {
	language, err := expression.ForCases()
	if err != nil {
		t.Fatal(err)
	}
	list := "[" + strings.Repeat("1,", 200) + "1]"
	for name, text := range map[string]string{
		"loops in loops": fmt.Sprintf("%[1]s.all(a, %[1]s.all(b, %[1]s.all(c, a + b + c > 0)))", list),
		"deep":           strings.Repeat("(", 300) + "true" + strings.Repeat(")", 300),
		"long":           strings.Repeat("true && ", 2000) + "true",
	} {
		compiled, err := language.Compile(text)
		if err != nil {
			continue
		}
		begun := time.Now()
		if ok, err := compiled.Holds(t.Context(), map[string]any{"status": 200}); err == nil && ok &&
			time.Since(begun) > time.Second {
			t.Errorf("%s took %v", name, time.Since(begun))
		} else if err == nil {
			t.Errorf("%s was evaluated", name)
		}
	}
	if _, err := language.Compile("status + 1"); err == nil || !strings.Contains(err.Error(), "true or false") {
		t.Errorf("a number as an expectation: %v", err)
	}
}

package check_test

import (
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/manifest"
	"rudmar/engine/check"
	"rudmar/platform"
	"rudmar/platform/api"
)

const root = `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
`

const warn = `function: warn
handler: warn:run
runtime: python
permissions:
  - {allow: [read], resource: tables/stations}
`

// TestAgainstPlatforms checks manifests against a platform's description, keeps the last one while the platform
// does not respond, and notices a change.
func TestAgainstPlatforms(t *testing.T) {
	var silent atomic.Bool
	var verbs atomic.Value
	verbs.Store([]string{"read", "write"})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if silent.Load() {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(api.Kinds{Regions: []string{"north"}, Runtimes: []string{"python"},
			Triggers:    []string{"route"},
			Permissions: []api.PermissionKind{{Kind: "tables", Verbs: verbs.Load().([]string)}}})
	}))
	defer server.Close()
	client, err := platform.NewClient(server.URL, "t")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Unix(1_700_000_000, 0)
	checker := check.New(map[string]*platform.Client{"local": client}, func() time.Time { return now },
		slog.New(slog.DiscardHandler))
	find := func(function string, changes ...string) string {
		text := root
		if len(changes) > 0 {
			text = strings.NewReplacer(changes...).Replace(root)
		}
		r := checker.Check(t.Context(), "frostline",
			manifest.Files{"rudmar.yaml": []byte(text), "warn/function.yaml": []byte(function),
				"warn/warn.py": []byte("def run(call): pass\n")})
		var out []string
		for _, d := range r.Diagnostics {
			out = append(out, string(d.Code))
		}
		return strings.Join(out, " ")
	}
	for _, c := range []struct{ name, got, want string }{
		{"good", find(warn), ""},
		{"verb", find(strings.Replace(warn, "[read]", "[raed]", 1)), "RM1504"},
		{"kind", find(strings.Replace(warn, "tables/", "table/", 1)), "RM1503"},
		{"region", find(warn, "local/north", "local/nroth"), "RM1608"},
		{"platform", find(warn, "local/north", "loacl/north"), "RM1608"},
		{"runtime", find(strings.NewReplacer("runtime: python", "runtime: node", "warn:run", "warn:run").Replace(warn)),
			"RM1605 RM1608"},
		{"trigger", find(warn + "triggers: {hourly: {every: 1h}}\n"), "RM1608"},
	} {
		if c.got != c.want {
			t.Errorf("%s: %q, want %q", c.name, c.got, c.want)
		}
	}
	silent.Store(true)
	now = now.Add(time.Minute)
	if got := find(strings.Replace(warn, "[read]", "[raed]", 1)); got != "RM1504" {
		t.Errorf("while the platform is silent: %q", got)
	}
	silent.Store(false)
	verbs.Store([]string{"raed"})
	now = now.Add(time.Minute)
	if got := find(strings.Replace(warn, "[read]", "[raed]", 1)); got != "" {
		t.Errorf("after the platform knows the verb: %q", got)
	}
}

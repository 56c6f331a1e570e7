package expand_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"rudmar/core/canon"
	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

const root = `rudmar: 1
service: frostline
owner: cold-nights
settings:
  limit: {type: number, default: 0.5}
  loud: {type: boolean, default: false}
secrets: [sms_key]
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - {stage: live, targets: [local/north, local/coast], set: {limit: 1}, enter: {after: trial}}
`

const fn = `function: warn
handler: warn:run
memory: 192 MiB
env:
  LIMIT: "at ${settings.limit} in ${stage.name}/${stage.region}"
  LOUD: ${settings.loud}
  KEY: "key-${secrets.sms_key}"
  SELF: ${functions.warn.url}
  WHO: ${service} ${version} $${x}
triggers:
  ask: {route: "GET /stations/{station}/frost", open_to: [growers, council]}
  sweep: {cron: "*/10 * * * *", zone: Europe/Oslo}
  hourly: {every: 1h, enabled: false}
  photo: {objects: "photos-${stage.name}", events: [created], match: "raw/**"}
  reading: {queue: readings, batch_size: 20, max_wait: 5s}
  relay: {after_function: grade, events: [failed]}
  plain: {queue: plain}
permissions:
  - {allow: [read], resource: tables/stations}
  - {allow: [query, read], resource: tables/stations}
  - {allow: [send], resource: "queues/${stage.name}"}
`

func service(t *testing.T, changes ...string) *manifest.Service {
	t.Helper()
	text := strings.NewReplacer(changes...).Replace(fn)
	r := check.Service(manifest.Files{"rudmar.yaml": []byte(root), "functions/warn/function.yaml": []byte(text),
		"functions/warn/warn.py":        []byte("def run(c): pass"),
		"functions/grade/function.yaml": []byte("function: grade\nhandler: warn:run\ncode: ../warn\n")})
	if !r.OK() {
		t.Fatal(r.Diagnostics)
	}
	return r.Service
}

func expanded(t *testing.T, s *manifest.Service, stage string, in expand.Inputs) map[string]expand.Resource {
	t.Helper()
	if in.Secrets == nil {
		in.Secrets = map[string]string{"sms_key": "hidden"}
	}
	if in.Artifacts == nil {
		in.Artifacts = map[string]string{"warn": "sha256:1", "grade": "sha256:1"}
	}
	in.Version, in.Address = 7, "http://routes/north/frostline/"+stage
	resources, problems := expand.Expand(s, s.Stage(stage), s.Stage(stage).Targets[0], in)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	if !slices.IsSortedFunc(resources, func(a, b expand.Resource) int { return strings.Compare(a.Address, b.Address) }) {
		t.Error("not sorted by address")
	}
	out := map[string]expand.Resource{}
	for _, r := range resources {
		out[r.Address] = r
	}
	return out
}

func TestExpand(t *testing.T) {
	resources := expanded(t, service(t), "live", expand.Inputs{})
	values := func(address string) string {
		r, ok := resources[address]
		if !ok {
			return "not there"
		}
		text, err := canon.Append(nil, r.Values())
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	for address, want := range map[string]string{
		"identity/warn":              `{"owner":"cold-nights"}`,
		"logs/warn":                  `{"retention":1209600000}`,
		"grant/warn/tables/stations": `{"resource":"tables/stations","verbs":["query","read"]}`,
		"grant/warn/queues/live":     `{"resource":"queues/live","verbs":["send"]}`,
		"opening/warn/ask":           `{"to":["growers","council"]}`,
		"route/warn/ask":             `{"enabled":true,"method":"GET","path":"/stations/{station}/frost"}`,
		"schedule/warn/sweep":        `{"cron":"*/10 * * * *","enabled":true,"zone":"Europe/Oslo"}`,
		"schedule/warn/hourly":       `{"enabled":false,"every":3600000}`,
		"subscription/warn/photo":    `{"enabled":true,"events":["created"],"match":"raw/**","source":"objects/photos-live"}`,
		"subscription/warn/reading":  `{"batch_size":20,"enabled":true,"max_wait":5000,"source":"queue/readings"}`,
		"subscription/warn/plain":    `{"batch_size":1,"enabled":true,"max_wait":0,"source":"queue/plain"}`,
		"subscription/warn/relay":    `{"enabled":true,"events":["failed"],"source":"function/grade"}`,
	} {
		if got := values(address); got != want {
			t.Errorf("%s: %s, want %s", address, got, want)
		}
	}
	function := resources["function/warn"]
	for name, want := range map[string]any{
		"runtime": "python", "handler": "warn:run", "memory": float64(192 << 20), "timeout": 10000.0, "max_concurrency": 10.0,
		"env.LIMIT": "at 1 in live/north", "env.LOUD": "false", "env.WHO": "frostline 7 ${x}",
		"env.SELF": "http://routes/north/frostline/live/stations/{station}/frost",
	} {
		if got := function.Get(name); got != want {
			t.Errorf("%s: %v, want %v", name, got, want)
		}
	}
	if len(resources) != 20 { // 15 of warn, 5 of grade
		t.Errorf("%d resources", len(resources))
	}
}

func TestSecretsAreSeparate(t *testing.T) {
	function := expanded(t, service(t), "live", expand.Inputs{})["function/warn"]
	shown := fmt.Sprint(function.Get("env.KEY"))
	if !strings.HasPrefix(shown, "secret ") || strings.Contains(shown, "hidden") ||
		function.Secrets["env.KEY"] != "key-hidden" {
		t.Errorf("shown as %q, kept as %v", shown, function.Secrets)
	}
	other := expanded(t, service(t), "live",
		expand.Inputs{Secrets: map[string]string{"sms_key": "other"}})["function/warn"]
	if other.Get("env.KEY") == shown {
		t.Error("another secret has the same fingerprint")
	}
	keyed := expanded(t, service(t), "live", expand.Inputs{Key: []byte("the installation's")})["function/warn"]
	if keyed.Get("env.KEY") == shown {
		t.Error("the fingerprint can be guessed without the installation's key")
	}
	s := service(t)
	_, problems := expand.Expand(s, s.Stage("trial"), s.Stage("trial").Targets[0], expand.Inputs{})
	if len(problems) != 1 || !strings.Contains(problems[0].Message, "sms_key") || problems[0].From.Line == 0 {
		t.Errorf("a missing secret: %+v", problems)
	}
}

func TestOrigins(t *testing.T) {
	resources := expanded(t, service(t), "live", expand.Inputs{})
	origin := func(address, name string) string {
		r := resources[address]
		for _, a := range r.Attributes {
			if a.Name == name {
				text := fmt.Sprintf("%s:%d %s", a.From.File, a.From.Line, a.From.Rule)
				for _, o := range a.Through {
					text += fmt.Sprintf(" through %s:%d %s", o.File, o.Line, o.Rule)
				}
				return text
			}
		}
		return "no such attribute"
	}
	const file = "functions/warn/function.yaml"
	for _, tt := range [][3]string{
		{"function/warn", "memory", file + ":3 function"},
		{"function/warn", "timeout", ":0 built-in"},
		{"function/warn", "env.LIMIT", file + ":5 function through rudmar.yaml:10 stage"},
		{"function/warn", "env.LOUD", file + ":6 function through rudmar.yaml:6 setting"},
		{"identity/warn", "owner", "rudmar.yaml:3 service"},
		{"route/warn/ask", "path", file + ":11 function"},
		{"schedule/warn/hourly", "enabled", file + ":13 function"},
		{"schedule/warn/sweep", "enabled", ":0 built-in"},
		{"grant/warn/tables/stations", "verbs", file + ":19 function"},
	} {
		if got := origin(tt[0], tt[1]); got != tt[2] {
			t.Errorf("%s %s comes from %s, want %s", tt[0], tt[1], got, tt[2])
		}
	}
}

// The name of a revision follows from its content, and from nothing else.
func TestRevisionNamesAreContentDigests(t *testing.T) {
	id := func(stage string, in expand.Inputs, changes ...string) any {
		r := expanded(t, service(t, changes...), stage, in)["revision/warn"]
		return r.Get("id")
	}
	plain := id("live", expand.Inputs{})
	if again := id("live", expand.Inputs{}); again != plain {
		t.Errorf("%v and %v", plain, again)
	}
	for name, other := range map[string]any{
		"code":   id("live", expand.Inputs{Artifacts: map[string]string{"warn": "sha256:2"}}),
		"memory": id("live", expand.Inputs{}, "192 MiB", "256 MiB"),
		"stage":  id("trial", expand.Inputs{}),
		"secret": id("live", expand.Inputs{Secrets: map[string]string{"sms_key": "x"}}),
	} {
		if other == plain {
			t.Errorf("another %s has the same revision", name)
		}
	}
	if same := id("live", expand.Inputs{}, "memory: 192 MiB", "memory: 192 MiB\nmax_concurrency: 3"); same != plain {
		t.Error("max_concurrency may change under a running revision, but makes another")
	}
	if same := id("live", expand.Inputs{}, "handler: warn:run", "handler: warn:run\ndescription: other words"); same != plain {
		t.Error("other words about it make another revision")
	}
}

// Resources are sorted by address, and their attributes by name, without duplicates: comparisons rely on it.
func TestInOrder(t *testing.T) {
	s := service(t, "env:\n", "network: true\nenv:\n  ZONE: \"Z\"\n  A: \"a\"\n")
	for i := range s.Stages {
		got, problems := expand.Expand(s, &s.Stages[i], s.Stages[i].Targets[0],
			expand.Inputs{Artifacts: map[string]string{"warn": "sha256:a", "grade": "sha256:b"},
				Secrets: map[string]string{"sms_key": "x"}, Address: "http://routes"})
		if len(problems) > 0 || len(got) < 20 {
			t.Fatalf("%d resources, %v", len(got), problems)
		}
		for j, r := range got {
			if j > 0 && got[j-1].Address >= r.Address {
				t.Errorf("%s stands before %s", got[j-1].Address, r.Address)
			}
			for k, a := range r.Attributes {
				if k > 0 && r.Attributes[k-1].Name >= a.Name {
					t.Errorf("of %s %s stands before %s", r.Address, r.Attributes[k-1].Name, a.Name)
				}
			}
		}
	}
}

func TestEveryDependencyExists(t *testing.T) {
	resources := expanded(t, service(t), "live", expand.Inputs{})
	for _, r := range resources {
		for _, need := range r.Needs {
			if _, ok := resources[need]; !ok {
				t.Errorf("%s needs %s, which does not exist", r.Address, need)
			}
		}
	}
}

package check_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/timing"
	"rudmar/core/tree"
)

// whole is the service of docs/manifest.md, with every key.
const wholeService = `rudmar: 1
service: frostline
description: Frost warnings for the growers
owner: cold-nights
settings:
  frost_limit: {type: number, default: 0.5, min: -10, max: 10, description: "warn below this, °C"}
  sender:      {type: string, default: "co-op"}
  mode:        {type: enum, values: [quiet, loud], default: quiet}
secrets: [sms_key]
defaults:
  runtime: python
  memory: 128 MiB
  timeout: 5s
  log_retention: 14d
stages:
  - stage: trial
    target: local/north
    enter: {when: push, branch: main}
  - stage: preview
    target: local/north
    set: {frost_limit: 1}
    enter: {after: trial, when: ready}
    gates:
      cases: all
  - stage: live
    targets: [local/north, local/coast]
    set: {mode: loud}
    enter: {after: preview, when: request}
    gates:
      soak: {for: 30m, min_invocations: 200, errors_under: 1%}
      approvals: {count: 2, from: growers-council, allow_pushers: false}
      window: {days: mon-thu, hours: "08:00-15:00", zone: Europe/Oslo}
      rules:
        nothing-deleted: plan.deletes.size() == 0
        no-new-public-route: impact.public_routes.size() == 0
    shift: {steps: [10%, 50%], every: 5m}
`

const wholeFunction = `function: warn
description: Warns growers when a station is close to frost
code: .
runtime: python
handler: warn:run
memory: 192 MiB
timeout: 10s
max_concurrency: 5
network: true
env:
  LIMIT_C: ${settings.frost_limit}
  SMS_KEY: ${secrets.sms_key}
  STAGE:   ${stage.name}
build:
  run: [npm ci --omit=dev]
  exclude: ["*.md", "test/**"]
triggers:
  ask:     {route: "GET /stations/{station}/frost", open_to: anyone}
  change:  {route: "POST /stations/{station}/limit", open_to: [growers]}
  sweep:   {cron: "*/10 * * * *", zone: Europe/Oslo}
  hourly:  {every: 1h, enabled: false}
  photo:   {objects: photos, events: [created], match: "raw/**/*.jpg"}
  reading: {queue: readings, batch_size: 20, max_wait: 5s}
  relay:   {after_function: grade, events: [failed]}
permissions:
  - {allow: [read, query], resource: tables/stations}
  - {allow: [send],        resource: queues/alerts}
  - {allow: [read],        resource: "objects/photos/raw/*"}
renamed_from: frost-alert
per_stage:
  live: {memory: 256 MiB, triggers: {hourly: {enabled: true}}}
`

// wholeFolder is that service, with changes; "" deletes a file.
func wholeFolder(changes ...string) manifest.Files {
	files := manifest.Files{
		"rudmar.yaml":                  []byte(wholeService),
		"functions/warn/function.yaml": []byte(wholeFunction),
		"functions/warn/warn.py":       []byte("def run(call): pass\n"),
		"functions/warn/cases/mild.yaml": []byte(
			"case: a mild night gives no warning\nsend: {route: GET /stations/hill/frost, query: {at: \"2031-04-02T03:00:00Z\"}}\nexpect:\n  - status == 200\n  - body.warning == false\n  - took < duration(\"800ms\")\n"),
		"functions/warn/cases/photo.yaml": []byte(
			"case: by its trigger\nsend: {trigger: photo, event: {key: raw/a.jpg}}\nexpect: [memory_peak < 1000000000, logs.size() == 0]\n"),
		"functions/warn/cases/direct.yaml": []byte(
			"case: a payload\nsend: {payload: {}}\nexpect: [\"!cold\", \"headers.size() == 0\"]\n"),
		"functions/grade/function.yaml": []byte("function: grade\nhandler: main:run\n"),
		"functions/grade/main.py":       []byte("def run(call): pass\n"),
	}
	for i := 0; i+1 < len(changes); i += 2 {
		if files[changes[i]] = []byte(changes[i+1]); changes[i+1] == "" {
			delete(files, changes[i])
		}
	}
	return files
}

// edited returns the text of a file with something in place of something else.
func edited(t *testing.T, text, old, now string) string {
	t.Helper()
	if !strings.Contains(text, old) {
		t.Fatalf("there is no %q to edit", old)
	}
	return strings.Replace(text, old, now, 1)
}

func offersOfLocal() *check.Offers {
	return &check.Offers{All: true, Of: map[string]check.Offer{"local": {
		Regions: []string{"north", "coast"}, Runtimes: []string{"python", "node"},
		Triggers: []manifest.TriggerKind{"route", "cron", "every", "objects", "queue", "after_function"},
		Verbs: map[string][]string{"tables": {"read", "query", "write"}, "queues": {"send"},
			"objects": {"read"}, "secrets": {"read"}},
	}}}
}

// TestManifestReferenceIsCurrent tests each rule of docs/manifest.md: files to which it applies, and the
// reported codes, or the result.
func TestManifestReferenceIsCurrent(t *testing.T) {
	const file, service = "functions/warn/function.yaml", "rudmar.yaml"
	edit := func(old, now string) []string { return []string{file, edited(t, wholeFunction, old, now)} }
	editService := func(old, now string) []string { return []string{service, edited(t, wholeService, old, now)} }
	long := strings.Repeat("a", 40)
	for _, c := range []struct {
		rule    string
		changes []string
		codes   string
	}{
		{"every key of both files and of cases is known", nil, ""},
		{"a repository may hold several services: a folder with a rudmar.yaml below is another one",
			[]string{"other/rudmar.yaml", "nonsense: 1\n", "other/f/function.yaml", "nonsense: 1\n"}, ""},
		{"no and on are text, not truth values", edit("STAGE:   ${stage.name}", "STAGE: no"), ""},
		{"names have 1 to 40 letters", edit("function: warn", "function: "+long), ""},
		{"names have no more than 40 letters", edit("function: warn", "function: a"+long), "RM1201"},
		{"names start with a letter", edit("function: warn", "function: 4warn"), "RM1201"},
		{"names are of lower case", edit("  ask:     {route", "  Ask:     {route"), "RM1201"},
		{"an unknown reference is an error", edit("${settings.frost_limit}", "${settings.frost_limt}"), "RM1301"},
		{"secrets stand only in env", edit("queue: readings", "queue: \"${secrets.sms_key}\""), "RM1303"},
		{"references: stage, region, service, version, a function's url, and a literal",
			edit("STAGE:   ${stage.name}", "STAGE: \"${stage.region} ${service} ${version} ${functions.warn.url} $${kept}\""),
			""},
		{"no code in references", edit("${stage.name}", "${1 + 1}"), "RM1302"},
		{"sizes are IEC", edit("memory: 192 MiB", "memory: 192 MB"), "RM1203"},
		{"a bare size says which unit to write", edit("memory: 192 MiB", "memory: 192"), "RM1203"},
		{"sizes may be GiB", edit("memory: 192 MiB", "memory: 1 GiB"), ""},
		{"memory is a multiple of 16 MiB", edit("memory: 192 MiB", "memory: 193 MiB"), "RM1206"},
		{"a bare time says which unit to write", edit("timeout: 10s", "timeout: 10"), "RM1203"},
		{"times are ms s m h d", edit("timeout: 10s", "timeout: 1m30s500ms"), ""},
		{"a bare share says which unit to write", editService("errors_under: 1%", "errors_under: 1"), "RM1203"},
		{"two routes that match the same request with equal rank collide",
			edit("POST /stations/{station}/limit", "GET /stations/{other}/frost"), "RM1402"},
		{"literal before parameter is no collision", edit("POST /stations/{station}/limit", "GET /stations/hill/frost"), ""},
		{"ANY after a method is no collision", edit("POST /stations/{station}/limit", "ANY /stations/{station}/frost"), ""},
		{"a rest stands at the end", edit("POST /stations/{station}/limit", "POST /stations/{all...}"), ""},
		{"a rest stands nowhere else", edit("POST /stations/{station}/limit", "POST /{all...}/limit"), "RM1401"},
		{"open_to is required", edit(", open_to: anyone", ""), "RM1403"},
		{"open_to takes members", edit("open_to: anyone", "open_to: authenticated"), ""},
		{"open_to takes nothing else", edit("open_to: anyone", "open_to: everyone"), "RM1202"},
		{"every is from 1m", edit("every: 1h", "every: 59s"), "RM1205"},
		{"cron has five fields", edit("*/10 * * * *", "*/10 * * *"), "RM1404"},
		{"zones are those of IANA", edit("zone: Europe/Oslo", "zone: Oslo"), "RM1405"},
		{"may takes the verbs that the target knows", edit("allow: [read, query]", "allow: [read, paint]"), "RM1504"},
		{"of names a kind that the target has", edit("resource: tables/stations", "resource: shelves/stations"), "RM1503"},
		{"of is kind/name", edit("resource: tables/stations", "resource: stations"), "RM1501"},
		{"a secret that may be read is one of the service",
			edit("allow: [read, query], resource: tables/stations", "allow: [read], resource: secrets/sms_key"), ""},
		{"another secret is a warning", edit("allow: [read, query], resource: tables/stations", "allow: [read], resource: secrets/sms_kye"),
			"RM1505 warning"},
		{"* alone as a verb is a warning", edit("allow: [read, query]", "allow: [\"*\"]"), "RM1502 warning"},
		{"* alone as a kind is a warning", edit("resource: tables/stations", "resource: \"*\""), "RM1502 warning"},
		{"* alone is an error in a strict stage",
			[]string{file, edited(t, wholeFunction, "allow: [read, query]", "allow: [\"*\"]"), service,
				edited(t, wholeService, "    set: {mode: loud}", "    wildcards: forbid\n    set: {mode: loud}")}, "RM1502"},
		{"handler is an error to leave out", edit("handler: warn:run\n", ""), "RM1102"},
		{"the handler's file is there", edit("warn:run", "wran:run"), "RM1605"},
		{"the handler's function is there", edit("warn:run", "warn:walk"), "RM1605"},
		{"in names a stage of the service", edit("  live: {memory", "  prod: {memory"), "RM1602"},
		{"null takes a key away",
			edit("triggers: {hourly: {enabled: true}}}", "triggers: {photo: null}, env: {SMS_KEY: null}}"), ""},
		{"up to 256 KiB", edit("description: Warns", "description: "+strings.Repeat("w", 257<<10)), "RM1004"},
		{"nesting up to 32", edit("description: Warns growers when a station is close to frost",
			"description: "+strings.Repeat("[", 40)+strings.Repeat("]", 40)), "RM1005 RM1103"},
		{"no anchors", edit("description: Warns", "description: &a Warns"), "RM1006"},
		{"no aliases", edit("STAGE:   ${stage.name}", "STAGE: *a"), "RM1006"},
		{"no tags", edit("description: Warns", "description: !!str Warns"), "RM1007"},
		{"no merge keys", edit("env:\n", "env:\n  <<: {A: b}\n"), "RM1008"},
		{"one document in a file", []string{file, wholeFunction + "---\nfunction: other\n"}, "RM1009"},
		{"an after-function trigger names a function of the service",
			edit("{after_function: grade,", "{after_function: grad,"), "RM1408"},
		{"a trigger is of one kind", edit("{every: 1h, enabled: false}", "{every: 1h, queue: readings, enabled: false}"), "RM1406"},
		{"settings have bounds", editService("frost_limit: 1}", "frost_limit: 11}"), "RM1207"},
		{"settings have choices", editService("mode: loud", "mode: shrill"), "RM1207"},
		{"only declared settings are set", editService("mode: loud", "moode: loud"), "RM1301"},
		{"stages come after stages", editService("after: preview", "after: review"), "RM1603"},
		{"rules are CEL", editService("plan.deletes.size() == 0", "plan.deletes.size() = 0"), "RM1702"},
		{"windows have a zone of IANA", editService("zone: Europe/Oslo", "zone: Oslo"), "RM1405"},
		{"the target is there", editService("local/coast", "local/cosat"), "RM1608"},
		{"the runtime is there", edit("runtime: python", "runtime: go"), "RM1605 RM1608"},
		{"a case sends one thing",
			[]string{"functions/warn/cases/direct.yaml", "case: x\nsend: {payload: {}, trigger: photo}\nexpect: [cold]\n"},
			"RM1701"},
		{"a case expects CEL over what a call gives",
			[]string{"functions/warn/cases/direct.yaml", "case: x\nsend: {payload: {}}\nexpect: [warm]\n"}, "RM1702"},
		{"a build may have a network", edit("  exclude: [", "  network: true\n  exclude: ["), ""},
		{"a build's network is true or false", edit("  exclude: [", "  network: public\n  exclude: ["), "RM1202"},
		{"a stage changes only triggers that there are", edit("hourly: {enabled: true}", "houlry: {enabled: true}"), "RM1410"},
		{"a stage may add a trigger", edit("hourly: {enabled: true}", "nightly: {every: 1d}"), ""},
		{"a route that a stage adds says who may call it",
			edit("hourly: {enabled: true}", "more: {route: GET /more}"), "RM1403"},
		{"a stage cannot take open_to away", edit("hourly: {enabled: true}", "ask: {open_to: null}"), "RM1403"},
		{"a stage cannot take a route's path away", edit("hourly: {enabled: true}", "ask: {route: null}"), "RM1406"},
		{"a trigger is of one kind after merging", edit("hourly: {enabled: true}", "hourly: {cron: \"0 * * * *\"}"), "RM1406"},
		{"a trigger may become another kind in a stage",
			edit("hourly: {enabled: true}", "hourly: {cron: \"0 * * * *\", every: null}"), ""},
		{"a stage's handler fits the code", edit("memory: 256 MiB, triggers", "handler: warn:walk, triggers"), "RM1605"},
		{"a stage's runtime fits the code", edit("memory: 256 MiB, triggers", "runtime: node, triggers"), "RM1605"},
		{"batch is for queues", edit("events: [created], match", "batch_size: 3, events: [created], match"), "RM1407"},
		{"zone is for cron", edit("every: 1h, enabled: false", "every: 1h, zone: Europe/Oslo, enabled: false"), "RM1407"},
		{"open_to is for routes", edit("every: 1h, enabled: false", "every: 1h, open_to: authenticated, enabled: false"), "RM1407"},
		{"objects are created, changed, deleted", edit("events: [created]", "events: [created, changed, deleted]"), ""},
		{"objects do not fail", edit("events: [created]", "events: [failed]"), "RM1407"},
		{"functions succeed or fail", edit("events: [failed]", "events: [succeeded, failed]"), ""},
		{"functions are not deleted", edit("events: [failed]", "events: [deleted]"), "RM1407"},
		{"no other words", edit("events: [failed]", "events: [done]"), "RM1202 RM1407"},
		{"a function does not run after itself", edit("{after_function: grade,", "{after_function: warn,"), "RM1409"},
		{"functions do not run in a circle",
			[]string{"functions/grade/function.yaml",
				"function: grade\nhandler: main:run\ntriggers: {back: {after_function: warn}}\n"}, "RM1409"},
		{"a circle that is off is none",
			[]string{"functions/grade/function.yaml",
				"function: grade\nhandler: main:run\ntriggers: {back: {after_function: warn, enabled: false}}\n"}, ""},
		{"was is not a function that is there", edit("renamed_from: frost-alert", "renamed_from: grade"), "RM1609"},
		{"was is not the function itself", edit("renamed_from: frost-alert", "renamed_from: warn"), "RM1609"},
		{"was is one function's",
			[]string{"functions/grade/function.yaml", "function: grade\nhandler: main:run\nrenamed_from: frost-alert\n"}, "RM1609"},
		{"variables have no =", edit("  LIMIT_C:", "  A=B: x\n  LIMIT_C:"), "RM1210"},
		{"variables have no space", edit("  LIMIT_C:", "  C D: x\n  LIMIT_C:"), "RM1210"},
		{"PATH is the platform's", edit("  LIMIT_C:", "  PATH: x\n  LIMIT_C:"), "RM1210"},
		{"RUDMAR_ is the platform's, in a stage too", edit("memory: 256 MiB, triggers", "env: {RUDMAR_TOKEN: x}, triggers"),
			"RM1210"},
		{"a gate's cases are of functions that there are", editService("cases: all", "cases: [nobody]"), "RM1301"},
		{"a gate's cases are there", editService("cases: all", "cases: [grade]"), "RM1610 warning"},
		{"the first stage has no stage before",
			editService("enter: {when: push, branch: main}",
				"enter: {when: push, branch: main}\n    gates: {cases: all, soak: {for: 1h}}"), "RM1610"},
		{"gates read the plan by its fields", editService("plan.deletes.size() == 0", "plan.deletez.size() == 0"), "RM1702"},
		{"shares rise", editService("[10%, 50%]", "[50%, 10%]"), "RM1205"},
		{"shares do not repeat", editService("[10%, 50%]", "[10%, 10%]"), "RM1205"},
		{"shares are something", editService("[10%, 50%]", "[0%, 50%]"), "RM1205"},
		{"a permission is for something", edit("allow: [read, query]", "allow: []"), "RM1104"},
		{"open_to lists somebody", edit("open_to: [growers]", "open_to: []"), "RM1104"},
		{"a case expects something",
			[]string{"functions/warn/cases/direct.yaml", "case: x\nsend: {payload: {}}\nexpect: []\n"}, "RM1104"},
		{"a target stands once", editService("[local/north, local/coast]", "[local/north, local/north]"), "RM1105"},
		{"target or targets", editService("    targets: [local", "    target: local/north\n    targets: [local"), "RM1105"},
		{"a secret stands once", editService("secrets: [sms_key]", "secrets: [sms_key, sms_key]"), "RM1105"},
		{"a permission stands once", edit("resource: queues/alerts}", "resource: queues/alerts}\n  - {allow: [send], resource: queues/alerts}"),
			"RM1105"},
		{"a handler stays in its folder", edit("handler: warn:run", "handler: ../grade/main:run"), "RM1209"},
		{"a misnamed file is told", []string{"functions/more/function.yml", "function: more\n"}, "RM1611"},
		{"a case's file ends in .yaml", []string{"functions/warn/cases/more.yml", "case: x\n"}, "RM1611"},
		{"a case stands beside a function",
			[]string{"functions/lost/cases/more.yaml", "case: x\nsend: {payload: {}}\nexpect: [cold]\n"}, "RM1611 warning"},
		{"all of a kind is an error in a strict stage",
			[]string{file, edited(t, wholeFunction, "resource: tables/stations", "resource: tables/*"), service,
				edited(t, wholeService, "    set: {mode: loud}", "    wildcards: forbid\n    set: {mode: loud}")}, "RM1502"},
		{"all of a kind is no error elsewhere", edit("resource: tables/stations", "resource: tables/*"), ""},
		{"a case says where it runs",
			[]string{"functions/warn/cases/direct.yaml",
				"case: x\nsend: {payload: {}}\nexpect: [cold]\nstages: [trial]\nno_side_effects: true\n"}, ""},
		{"a case runs in stages that there are",
			[]string{"functions/warn/cases/direct.yaml", "case: x\nsend: {payload: {}}\nexpect: [cold]\nstages: [trail]\n"},
			"RM1602"},
		{"a stage says which cases run", editService("    set: {mode: loud}", "    run_cases: none\n    set: {mode: loud}"), ""},
		{"prove is all, harmless or none", editService("    set: {mode: loud}", "    run_cases: some\n    set: {mode: loud}"),
			"RM1202"},
		{"tue-sun is a range of days", editService("days: mon-thu", "days: tue-sun"), ""},
		{"what rudmar.yaml declares is not missed where it is broken itself",
			[]string{service, edited(t, edited(t, wholeService, "secrets: [sms_key]", "secrets: sms_key"),
				"stages:\n  - stage: trial", "stages:\n  - stage: [trial]")}, "RM1103"},
		{"or hosts with ports",
			edit("network: true", `network: {to: ["api.example.com:443", "203.0.113.7:80", "[2001:db8::1]:8443"]}`), ""},
		{"a network is true or false", edit("network: true", "network: all"), "RM1202"},
		{"a host needs a port", edit("network: true", "network: {to: [api.example.com]}"), "RM1202"},
		{"an address is no host", edit("network: true", `network: {to: ["https://api.example.com:443"]}`), "RM1202"},
		{"a port has a number", edit("network: true", `network: {to: ["api.example.com:65536"]}`), "RM1202"},
		{"no destination is a mistake", edit("network: true", "network: {to: []}"), "RM1104"},
		{"destinations are a list", edit("network: true", `network: {to: "api.example.com:443"}`), "RM1103"},
		{"a network has no other key", edit("network: true", `network: {from: ["api.example.com:443"]}`), "RM1101 RM1102"},
		{"a misspelt key is told with the nearest one", edit("memory: 192 MiB", "memroy: 192 MiB"), "RM1101"},
		{"a checker never stops at a broken file",
			[]string{file, "function: [\n", "functions/grade/function.yaml",
				"function: grade\nhandler: lost:run\nmemroy: 1\n"}, "RM1001 RM1101 RM1605"},
	} {
		r := check.Options{Offers: offersOfLocal()}.Service(wholeFolder(c.changes...))
		codes := []string{}
		for _, d := range r.Diagnostics {
			code := string(d.Code)
			if d.Severity == diagnostic.Warning {
				code += " warning"
			}
			if len(codes) == 0 || codes[len(codes)-1] != code {
				codes = append(codes, code)
			}
		}
		want := map[string]bool{}
		for _, code := range strings.Split(strings.ReplaceAll(c.codes, " warning", "!warning"), " ") {
			want[strings.ReplaceAll(code, "!", " ")] = true
		}
		got := map[string]bool{}
		for _, code := range codes {
			got[code] = true
		}
		if len(codes) == 0 {
			got[""] = true
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s: %v, want %v:\n%v", c.rule, got, want, r.Diagnostics)
		}
	}
}

// TestRenderedResourcesOfEveryKey tests the statements of docs/manifest.md about merging, kinds, addresses and
// origins.
func TestRenderedResourcesOfEveryKey(t *testing.T) {
	r := check.Service(wholeFolder())
	if !r.OK() {
		t.Fatal(r.Diagnostics)
	}
	warn := r.Service.Function("warn")
	trial, actual := warn.At("trial"), warn.At("live")
	for what, ok := range map[string]bool{
		"the function's value before defaults": trial.Timeout.V == 10*time.Second &&
			trial.Timeout.From.Rule == tree.OfFunction,
		"defaults before built-in values": trial.LogRetention.V == 14*24*time.Hour && trial.LogRetention.From.Rule == tree.Defaults,
		"built-in values have no file":    r.Service.Function("grade").At("").MaxConcurrency.From == tree.Origin{Rule: tree.BuiltIn},
		"a stage's value before all": actual.Memory.V == 256<<20 && actual.Memory.From.Rule == tree.OfStage &&
			trial.Memory.V == 192<<20,
		"mappings merge by key":          len(actual.Triggers) == 7 && actual.Triggers[2].Enabled.V && !trial.Triggers[2].Enabled.V,
		"a rename keeps the former name": warn.RenamedFrom == "frost-alert",
		"cases belong to the function":   len(warn.Cases) == 3,
	} {
		if !ok {
			t.Errorf("it is not so: %s", what)
		}
	}
	stage := r.Service.Stage("live")
	resources, problems := expand.Expand(r.Service, stage, stage.Targets[1],
		expand.Inputs{Secrets: map[string]string{"sms_key": "x"},
			Artifacts: map[string]string{"warn": "sha256:1", "grade": "sha256:2"}})
	if len(problems) > 0 {
		t.Error(problems)
	}
	have := map[string]*expand.Resource{}
	for i := range resources {
		have[resources[i].Address] = &resources[i]
	}
	for _, address := range []string{"identity/warn", "grant/warn/tables/stations", "grant/warn/queues/alerts",
		"grant/warn/objects/photos/raw/*", "logs/warn", "function/warn", "revision/warn", "pointer/warn",
		"opening/warn/ask", "opening/warn/change", "route/warn/ask", "route/warn/change", "schedule/warn/sweep",
		"schedule/warn/hourly", "subscription/warn/photo", "subscription/warn/reading", "subscription/warn/relay"} {
		if have[address] == nil {
			t.Errorf("%s is missing", address)
		}
	}
	if have["function/warn"].Get("env.LIMIT_C") != "0.5" || have["function/warn"].Get("network") != true {
		t.Errorf("function/warn: %+v", have["function/warn"])
	}
	for _, res := range resources {
		for _, a := range res.Attributes {
			if a.From.Rule != tree.BuiltIn && a.From.Rule != tree.DerivedFrom && (a.From.File == "" || a.From.Line == 0) {
				t.Errorf("%s %s came from nowhere: %+v", res.Address, a.Name, a.From)
			}
		}
	}
}

// A local time that does not exist fires at the next one that does, and a repeated one fires once.
func TestClockChanges(t *testing.T) {
	for _, c := range []struct{ from, want string }{
		{"2026-03-28T12:00:00Z", "2026-03-29T01:00:00Z"}, // 02:30 does not exist on the 29th: 03:00 does
		{"2026-10-24T12:00:00Z", "2026-10-25T00:30:00Z"}, // 02:30 exists twice on the 25th
	} {
		s, err := timing.Read("30 2 * * *", "Europe/Oslo", 0)
		if err != nil {
			t.Fatal(err)
		}
		from, _ := time.Parse(time.RFC3339, c.from)
		first, ok := s.Next(from)
		if got := first.UTC().Format(time.RFC3339); !ok || got != c.want {
			t.Errorf("after %s: %s, want %s", c.from, got, c.want)
		}
		if second, _ := s.Next(first); second.Sub(first) < 20*time.Hour {
			t.Errorf("after %s it fires twice: %s and %s", c.from, first, second)
		}
	}
}

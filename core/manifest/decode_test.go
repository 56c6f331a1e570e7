package manifest_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

const whole = `rudmar: 1
service: frostline
owner: cold-nights
secrets: [sms_key]
settings:
  limit: {type: number, default: 0.5, min: -4, max: 9}
  mood: {type: enum, values: [calm, loud]}
defaults: {memory: 192 MiB}
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - {stage: check, target: local/north, enter: {after: trial}, gates: {approvals: {from: growers}}}
  - stage: live
    targets: [local/north, local/coast]
    wildcards: forbid
    set: {limit: 1, mood: loud}
    enter: {after: check, when: ready}
    gates:
      cases: [all]
      soak: {for: 10m, min_invocations: 50, errors_under: 2%}
      approvals: {count: 2, from: council, allow_pushers: true}
      window: {days: mon-thu, hours: "08:00-15:00", zone: Europe/Oslo}
      rules: {small: "pushers.size() < 3"}
    shift: {steps: [5%, 50%]}
`

const warn = `function: warn
renamed_from: alarm
handler: warn:run
code: ../shared
env: {B: two, A: "limit ${settings.limit}"}
build: {run: [make], exclude: ["*.md"], network: true}
triggers:
  sweep: {cron: "0 * * * *"}
  ask: {route: GET /frost, open_to: [growers]}
  shut: {route: GET /shut, enabled: false}
permissions:
  - {allow: [read, write], resource: "tables/${stage.name}"}
per_stage:
  live: {memory: 256 MiB, env: {B: three}}
  gone: {memory: 512 MiB}
`

func decoded(t *testing.T) (*manifest.Service, *manifest.Function) {
	t.Helper()
	parse := func(name, text string) *tree.Node {
		n, problems := tree.Parse(name, []byte(text))
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		return n
	}
	root := parse("rudmar.yaml", whole)
	s := manifest.DecodeService(root)
	shared := manifest.Shared(language.New().Function, root)
	return s, manifest.DecodeFunction("functions/warn/function.yaml",
		parse("functions/warn/function.yaml", warn), shared, s)
}

// Written values are decoded, others have their defaults.
func TestDecode(t *testing.T) {
	s, fn := decoded(t)
	as := func(v any) string {
		text, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	trial, check, actual := s.Stage("trial"), s.Stage("check"), s.Stage("live")
	limit, mood := s.Setting("limit"), s.Setting("mood")
	base, there := fn.At("trial"), fn.At("live")
	for _, c := range []struct {
		what      string
		got, want any
	}{
		{"names", fmt.Sprint(s.Name, s.Owner.V, s.Secrets, fn.Name, fn.RenamedFrom), "frostlinecold-nights[sms_key]warnalarm"},
		{"a number", fmt.Sprint(limit.Type, *limit.Min, *limit.Max, limit.Default.V), "number-4 9 0.5"},
		{"a choice", fmt.Sprint(mood.Type, mood.Values, mood.Min, mood.Default.V), "enum[calm loud] <nil> <nil>"},
		{"nothing of the name", fmt.Sprint(s.Setting("lost"), s.Stage("lost"), s.Function("warn")), "<nil> <nil> <nil>"},
		{"on push, of main", trial.When + " " + trial.Branch, "push main"},
		{"after a stage, on request", check.When + " " + check.Branch + check.After, "request trial"},
		{"ready", actual.When + " " + actual.After, "ready check"},
		{"one target", as(trial.Targets), `["local/north"]`},
		{"targets", as(actual.Targets), `["local/north","local/coast"]`},
		{"what runs in each", trial.RunCases + " " + check.RunCases + " " + actual.RunCases, "all all no_side_effects"},
		{"strict", fmt.Sprint(trial.ForbidWildcards, actual.ForbidWildcards), "false true"},
		{"set", fmt.Sprint(actual.Set["limit"].V, actual.Set["mood"].V, actual.Set["mood"].From.Rule, len(trial.Set)),
			"1loudstage 0"},
		{"no gates", as(trial.Gates), `{"Cases":null,"Soak":null,"Approvals":null,"Window":null,"Rules":null}`},
		{"one approval", as(check.Gates.Approvals), `{"Count":1,"From":"growers","AllowPushers":false}`},
		{"gates", as(actual.Gates), `{"Cases":["all"],"Soak":{"For":600000000000,"MinInvocations":50,"ErrorsUnder":0.02},` +
			`"Approvals":{"Count":2,"From":"council","AllowPushers":true},` +
			`"Window":{"Days":"mon-thu","Hours":"08:00-15:00","Zone":"Europe/Oslo"},` +
			`"Rules":[{"Name":"small","Expression":"pushers.size() \u003c 3"}]}`},
		{"a shift of five minutes a step", as(actual.Shift), `{"Steps":[0.05,0.5],"Every":300000000000,"MinInvocations":50,"AtMost":7200000000000}`},
		{"no shift", trial.Shift == nil, true},
		{"its code", fn.Code, "functions/shared"},
		{"its build", as(base.Build), `{"Run":["make"],"Exclude":["*.md"],"Network":true}`},
		{"memory of all, of a stage", fmt.Sprint(base.Memory.V>>20, there.Memory.V>>20, fn.At("gone").Memory.V>>20),
			"192 256 192"},
		{"variables by name", base.Env[0].Name + base.Env[1].Name + there.Env[1].Value[0].Literal, "ABthree"},
		{"triggers by name", base.Triggers[0].Name + base.Triggers[1].Name + base.Triggers[2].Name, "askshutsweep"},
		{"a route that is off counts for nothing", as(base.Routes), `[{"Key":"GET/frost","Trigger":0}]`},
		{"a cron without a zone", base.Triggers[2].Zone.V, "UTC"},
		{"a route has none", base.Triggers[0].Zone.V, ""},
		{"permissions", strings.Join(base.Permissions[0].Allow, " ") + " " + string(base.Permissions[0].Resource[1].Kind),
			"read write stage.name"},
		{"a stage keeps what it does not change", &there.Triggers[0] == &base.Triggers[0], true},
	} {
		if c.got != c.want {
			t.Errorf("%s: %v, not %v", c.what, c.got, c.want)
		}
	}
}

// Code that would leave the service's folder is the manifest's own folder.
func TestCodePathStaysInTheService(t *testing.T) {
	s, _ := decoded(t)
	for code, want := range map[string]string{
		"": "functions/warn", "..": "functions", "../..": ".", "../../..": "functions/warn", "/etc": "functions/warn",
		"src": "functions/warn/src", "../..x": "functions/..x",
	} {
		n, _ := tree.Parse("function.yaml", []byte("function: warn\ncode: \""+code+"\"\n"))
		if fn := manifest.DecodeFunction("functions/warn/function.yaml", n, nil, s); fn.Code != want {
			t.Errorf("%q: %q, not %q", code, fn.Code, want)
		}
	}
}

func TestCasesRunInTheirStages(t *testing.T) {
	n, _ := tree.Parse("one.yaml", []byte("case: one\nno_side_effects: true\nstages: [trial, live]\n"+
		"send: {route: GET /a, query: {at: noon, id: [a, b]}, headers: {X-A: b}}\nexpect: [status == 200, cold]\n"))
	c := manifest.DecodeCase("one.yaml", n)
	if got := fmt.Sprint(c.Name, c.Send.Route, c.Send.Query, c.Send.Headers, len(c.Expect), c.Expect[1].Text); got !=
		"oneGET /amap[at:noon id:[a b]] map[X-A:b] 2cold" {
		t.Errorf("the case is %s", got)
	}
	for prove, want := range map[string][2]bool{"all": {true, true}, "no_side_effects": {true, false}, "none": {false, false}} {
		loud := c
		loud.NoSideEffects = false
		stage := &manifest.Stage{Name: "live", RunCases: prove}
		if got := [2]bool{c.RunsIn(stage), loud.RunsIn(stage)}; got != want {
			t.Errorf("%s: %v", prove, got)
		}
	}
	if c.RunsIn(&manifest.Stage{Name: "check", RunCases: "all"}) {
		t.Error("it runs in a stage that it does not name")
	}
}

// Manifests of a nested service do not belong to the outer one.
func TestManifests(t *testing.T) {
	all := []string{"functions/a/cases/one.yaml", "functions/a/cases/one.txt", "functions/a/function.yaml",
		"functions/a/main.py", "inner/functions/b/function.yaml", "inner/rudmar.yaml", "inner2/function.yaml", "rudmar.yaml",
		"docs/rudmar.yaml.txt", "cases/function.yaml/x", "functions/a/one.yaml"}
	if got := strings.Join(manifest.Manifests(all), " "); got !=
		"functions/a/cases/one.yaml functions/a/function.yaml inner2/function.yaml rudmar.yaml" {
		t.Errorf("manifests: %s", got)
	}
	if got := strings.Join(manifest.Services(all), " "); got != "inner ." {
		t.Errorf("services: %s", got)
	}
	if manifest.IsManifest("inner/rudmar.yaml") {
		t.Error("rudmar.yaml of another folder is taken for the service's")
	}
}

func TestFileLimit(t *testing.T) {
	folder, err := manifest.FromFS(fstest.MapFS{"fits": {Data: make([]byte, 64<<20)}, "big": {Data: make([]byte, 64<<20+1)}})
	if err != nil {
		t.Fatal(err)
	}
	if content, err := folder.Read("fits"); len(content) != 64<<20 || err != nil {
		t.Errorf("fits: %d bytes, %v", len(content), err)
	}
	if _, err := folder.Read("big"); err == nil || !strings.Contains(err.Error(), "larger than 64 MiB") {
		t.Errorf("big: %v", err)
	}
}

// A value fits its setting up to the borders, these with it.
func TestSettingTypes(t *testing.T) {
	least, most := -4.0, 9.0
	number := manifest.Setting{Type: "number", Min: &least, Max: &most}
	for v, want := range map[any]string{-4.0: "", 9.0: "", -4.5: "is below its minimum, -4",
		9.5: "is above its maximum, 9", "x": "is not a number: x"} {
		if got := number.Fits(v); got != want {
			t.Errorf("%v %s, want %q", v, got, want)
		}
	}
	free := manifest.Setting{Type: "number"}
	if got := free.Fits(1e9); got != "" {
		t.Error(got)
	}
	choice := manifest.Setting{Type: "enum", Values: []string{"calm", "loud"}}
	if choice.Fits("calm") != "" || choice.Fits("silent") == "" {
		t.Error(choice.Fits("calm"), choice.Fits("silent"))
	}
}

package check_test

import (
	"fmt"
	"strings"
	"testing"

	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

const service = `rudmar: 1
service: frostline
owner: cold-nights
settings:
  frost_limit: {type: number, default: 0.5, min: -10, max: 10}
  mode: {type: enum, values: [quiet, loud], default: quiet}
secrets: [sms_key]
defaults:
  runtime: python
  memory: 128 MiB
stages:
  - stage: trial
    target: local/north
    enter: {when: push, branch: main}
  - stage: live
    targets: [local/north, local/coast]
    set: {mode: loud}
    enter: {after: trial, when: request}
    gates:
      cases: all
      approvals: {count: 2, from: growers-council}
`

const warn = `function: warn
description: Warns growers
handler: warn:run
env:
  LIMIT_C: ${settings.frost_limit}
triggers:
  ask: {route: "GET /stations/{station}/frost", open_to: anyone}
permissions:
  - {allow: [read], resource: tables/stations}
`

// sound is a service without diagnostics; changes replace files, "" removes one.
func sound(changes map[string]string) manifest.Files {
	files := manifest.Files{
		"rudmar.yaml":                   []byte(service),
		"functions/warn/function.yaml":  []byte(warn),
		"functions/warn/warn.py":        []byte("def run(call):\n    return 1\n"),
		"functions/warn/cases/any.yaml": []byte("case: it answers\nsend: {payload: {}}\nexpect: [status == 200]\n"),
	}
	for name, text := range changes {
		if delete(files, name); text != "" {
			files[name] = []byte(text)
		}
	}
	return files
}

func TestValidServiceHasNoDiagnostics(t *testing.T) {
	r := check.Service(sound(nil))
	if !r.OK() || len(r.Diagnostics) > 0 {
		t.Fatalf("diagnostics: %v", r.Diagnostics)
	}
	if r.Service.Name != "frostline" || len(r.Service.Stages) != 2 || len(r.Service.Functions) != 1 {
		t.Errorf("read %+v", r.Service)
	}
}

// inService and inFunction place a faulty part.
func inService(old, wrong string) map[string]string {
	return map[string]string{"rudmar.yaml": replaced(service, old, wrong)}
}

func inFunction(old, wrong string) map[string]string {
	return map[string]string{"functions/warn/function.yaml": replaced(warn, old, wrong)}
}

func replaced(text, old, now string) string {
	if !strings.Contains(text, old) {
		panic(fmt.Sprintf("%q is not in the sound service", old))
	}
	return strings.Replace(text, old, now, 1)
}

func TestDiagnosticPositions(t *testing.T) {
	const fn, sv = "functions/warn/function.yaml", "rudmar.yaml"
	tests := []struct {
		name    string
		changes map[string]string
		want    string // file:line:column code
		says    string
	}{
		{"broken YAML", inFunction("handler: warn:run", "handler: [warn"), fn + ":3:10 RM1001", "not closed"},
		{"second colon", inFunction("description: Warns growers", "description: Warns: growers"), fn + ":2:19 RM1001", "colon"},
		{"unclosed quote", inFunction("description: Warns growers", "description: 'Warns growers"), fn + ":2:14 RM1001", "quote"},
		{"not UTF-8", inFunction("Warns growers", "caf\xe9"), fn + ":2:17 RM1002", "0xe9"},
		{"control character", inFunction("Warns growers", "a\x00b"), fn + ":2:15 RM1002", "control"},
		{"empty", map[string]string{fn: " \n"}, fn + ":1:1 RM1003", "empty"},
		{"only a comment", map[string]string{fn: "# nothing\n"}, fn + ":1:1 RM1003", "empty"},
		{"too large", map[string]string{fn: warn + strings.Repeat("# filler\n", 40_000)}, fn + ":1:1 RM1004", "256 KiB"},
		{"too deep", inFunction("description: Warns growers", "description: "+strings.Repeat("[", 40)+strings.Repeat("]", 40)),
			"RM1005", "32 levels"},
		{"anchor", inFunction("description: Warns growers", "description: &a Warns growers"), fn + ":2:14 RM1006", "defaults"},
		{"alias", inFunction("description: Warns growers", "description: *a"), fn + ":2:14 RM1006", "alias"},
		{"tag", inFunction("description: Warns growers", "description: !!str Warns growers"), "RM1007", "tags"},
		{"merge key", inFunction("description: Warns growers", "<<: {description: x}"), fn + ":2:1 RM1008", "defaults"},
		{"two documents", map[string]string{fn: warn + "---\nfunction: other\n"}, "RM1009", "one document"},
		{"key twice", inFunction("description: Warns growers", "description: a\ndescription: b"), fn + ":3:1 RM1010", "line 2"},
		{"tab", inFunction("  LIMIT_C:", "\tLIMIT_C:"), fn + ":5:1 RM1011", "spaces"},
		{"misspelt key", inFunction("description:", "descripton:"), fn + ":2:1 RM1101", `did you mean "description"`},
		{"unknown key", inFunction("description: Warns growers", "color: green"), fn + ":2:1 RM1101", ", network, env, objectives, build)"},
		{"no handler", inFunction("handler: warn:run\n", ""), fn + ":1:1 RM1102", "handler"},
		{"no stages", map[string]string{sv: "rudmar: 1\nservice: frostline\n"}, sv + ":1:1 RM1102", "stages"},
		{"no rudmar.yaml", map[string]string{sv: ""}, sv + ":1:1 RM1102", "eclares the service and its stages"},
		{"text for a list", inService("secrets: [sms_key]", "secrets: sms_key"), sv + ":7:10 RM1103", "square brackets"},
		{"list for a mapping", inFunction("  LIMIT_C: ${settings.frost_limit}", "  - LIMIT_C"),
			fn + ":5:3 RM1103", "mapping"},
		{"no value", inFunction("description: Warns growers", "description:"), "RM1103", "no value"},
		{"bad name", inFunction("function: warn", "function: Warn_1"), fn + ":1:11 RM1201", "nd hyphens, starting with a letter"},
		{"unknown runtime", inService("runtime: python", "runtime: pyhton"), sv + ":9:12 RM1202", `did you mean "python"`},
		{"no is text", inFunction("open_to: anyone}", "open_to: anyone, enabled: no}"), "RM1202", "true or false"},
		{"memory without a unit", inService("128 MiB", "128"), sv + ":10:11 RM1203", "no unit"},
		{"memory in MB", inService("128 MiB", "128 MB"), sv + ":10:11 RM1203", "MiB or GiB"},
		{"bare timeout", inFunction("description: Warns growers", "timeout: 10"), fn + ":2:10 RM1203", "10s"},
		{"at_once in words", inFunction("description: Warns growers", "max_concurrency: many"), fn + ":2:18 RM1204", "number"},
		{"timeout too long", inFunction("description: Warns growers", "timeout: 2d"), fn + ":2:10 RM1205", "15m"},
		{"memory too small", inService("128 MiB", "16 MiB"), sv + ":10:11 RM1205", "64 MiB"},
		{"memory no multiple", inService("128 MiB", "100 MiB"), sv + ":10:11 RM1206", "112 MiB"},
		{"default of another type", inService("default: 0.5", "default: warm"), "RM1207", "not a number"},
		{"default out of bounds", inService("default: 0.5", "default: 50"), "RM1207", "st_limit\" is above its maximum, 10"},
		{"stage sets no choice", inService("mode: loud", "mode: shrill"), "RM1207", "quiet, loud"},
		{"no default and not set", inService("type: number, default: 0.5,", "type: number,"), "RM1207", "no default"},
		{"target without a region", inService("target: local/north", "target: north"), sv + ":13:13 RM1208", "local/north"},
		{"code outside", inFunction("description: Warns growers", "code: ../../.."), fn + ":2:7 RM1209", "er; code must be a folder below it"},
		{"unknown setting", inFunction("settings.frost_limit", "settings.frost_limt"), fn + ":5:23 RM1301",
			`did you mean "frost_limit"`},
		{"unknown secret", inFunction("settings.frost_limit", "secrets.sms"), "RM1301", "secret"},
		{"unknown function's address", inFunction("settings.frost_limit", "functions.wran.url"),
			"RM1301", `did you mean "warn"`},
		{"stage sets what does not exist", inService("set: {mode: loud}", "set: {mood: loud}"), "RM1301",
			"expected one of frost_limit, mode)"},
		{"a shift without steps", inService("    set: {mode: loud}", "    shift: {every: 5m}"), sv + ":17:12 RM1102", "steps"},
		{"a shift's limit below its time", inService("    set: {mode: loud}", "    shift: {steps: [10%], every: 3h, at_most: 2h}"), "RM1205", "3h"},
		{"a soak of nothing", inService("      cases: all", "      soak: {}"), "RM1610", "requires nothing"},
		{"an exclusion of the handler", inFunction("env:", "build: {exclude: [\"*.py\"]}\nenv:"), fn + ":4:19 RM1209", "excludes warn.py"},
		{"an exclusion of everything", inFunction("env:", "build: {exclude: [\"**\"]}\nenv:"), "RM1209", "excludes warn.py"},
		{"a broken pattern", inFunction("env:", "build: {exclude: [\"[a\"]}\nenv:"), "RM1209", "not a pattern"},
		{"an empty command", inFunction("env:", "build: {run: [\"\"]}\nenv:"), "RM1103", "command is empty"},
		{"a NUL in a variable", inFunction("${settings.frost_limit}", `"a\0b"`), "RM1210", "NUL"},
		{"a stage removes the handler", inFunction("permissions:", "per_stage:\n  live: {handler: null}\npermissions:"), "RM1605", "needs a handler"},
		{"a handler of nothing", inFunction("handler: warn:run", "handler: null"), fn + ":3:10 RM1103", "required"},
		{"a limit of a text", inService("default: quiet", "default: quiet, min: 3"), "RM1207", "only valid for settings of type number"},
		{"no secrets", inService("secrets: [sms_key]", "secrets: []"), "RM1104", "empty"},
		{"a branch after a stage", inService("enter: {after: trial,", "enter: {after: trial, branch: main,"), "RM1603", "remove branch"},
		{"anyone among groups", inFunction("open_to: anyone", "open_to: [anyone, growers]"), "RM1403", "not a group"},
		{"a broken match", inFunction("permissions:", "  photo: {objects: photos, match: \"[a\"}\npermissions:"), "RM1209", "not a pattern"},
		{"objects of nothing", inFunction("permissions:", "  photo: {objects: \"\"}\npermissions:"), "RM1103", "objects is empty"},
		{"code without a manifest", map[string]string{"functions/lonely/main.py": "def run(c): pass\n"}, "functions/lonely/main.py:1:1 RM1611", "not deployed"},
		{"a case's name twice", map[string]string{"functions/warn/cases/other.yaml": "case: it answers\nsend: {payload: {}}\nexpect: [status == 200]\n"},
			"functions/warn/cases/other.yaml:1:7 RM1105", "already has a case"},
		{"a query for a payload", map[string]string{"functions/warn/cases/any.yaml": "case: a\nsend: {payload: {}, query: {a: b}}\nexpect: [status == 200]\n"},
			"RM1701", "only valid with a route"},
		{"a case of a disabled route", map[string]string{"functions/warn/cases/any.yaml": "case: a\nsend: {route: GET /stations/a/frost}\nexpect: [status == 200]\n",
			fn: warn + "per_stage:\n  trial: {triggers: {ask: {enabled: false}}}\n"}, "functions/warn/cases/any.yaml:2:15 RM1701", "runs in trial"},
		{"a duration that is none", map[string]string{"functions/warn/cases/any.yaml": "case: a\nsend: {payload: {}}\nexpect: ['took < duration(\"800 ms\")']\n"},
			"RM1702", "duration"},
		{"the address of a function without a route", map[string]string{fn: strings.Replace(warn, "${settings.frost_limit}", "${functions.night.url}", 1),
			"functions/night/function.yaml": "function: night\nhandler: main:run\n", "functions/night/main.py": "def run(c): pass\n"}, fn + ":5:12 RM1303", "no route"},
		{"a quote that another one closes", inFunction("description: Warns growers", "description: \"Warns growers"), fn + ":2:14 RM1001", "not closed"},
		{"half a reference", inFunction("${settings.frost_limit}", `"${settings."`), fn + ":5:13 RM1302", "closed"},
		{"unknown kind of reference", inFunction("settings.frost_limit", "setting.frost_limit"), "RM1302",
			`did you mean "settings"`},
		{"reference in a handler", inFunction("handler: warn:run", "handler: ${settings.mode}"),
			fn + ":3:10 RM1303", "no reference"},
		{"secret in a permission", inFunction("resource: tables/stations", `resource: "tables/${secrets.sms_key}"`), "RM1303",
			"secrets are only allowed in env"},
		{"route without a method", inFunction("GET /stations", "/stations"), fn + ":7:16 RM1401", "method"},
		{"lower case method", inFunction("GET /stations", "get /stations"), "RM1401", "GET"},
		{"rest in the middle", inFunction("{station}/frost", "{station...}/frost"), "RM1401", "at the end"},
		{"colliding routes", inFunction("permissions:",
			"  two: {route: \"GET /stations/{id}/frost\", open_to: anyone}\npermissions:"), fn + ":8:16 RM1402",
			"GET /stations/x/frost"},
		{"no open_to", inFunction(", open_to: anyone", ""), fn + ":7:16 RM1403", "cated, anyone, or a list of groups"},
		{"four cron fields", inFunction("permissions:", "  tick: {cron: \"*/10 * * *\"}\npermissions:"),
			fn + ":8:16 RM1404", "five fields"},
		{"a day that never comes", inFunction("permissions:", "  tick: {cron: \"0 0 31 2 *\"}\npermissions:"),
			"RM1404", "r, so the schedule would never run"},
		{"unknown zone", inFunction("permissions:", "  tick: {cron: \"0 0 * * *\", zone: Oslo}\npermissions:"),
			"RM1405", "Europe/Oslo"},
		{"two kinds of trigger", inFunction("open_to: anyone", "open_to: anyone, every: 5m"),
			fn + ":7:3 RM1406", "route and every"},
		{"no kind of trigger", inFunction("permissions:", "  tick: {zone: UTC}\npermissions:"),
			fn + ":8:3 RM1406", "objects, queue and after_function"},
		{"every ten seconds", inFunction("permissions:", "  tick: {every: 10s}\npermissions:"), "RM1205", "1m"},
		{"after a function that is not", inFunction("permissions:", "  tick: {after_function: wran, events: [failed]}\npermissions:"),
			"RM1408", `did you mean "warn"`},
		{"permission of no kind", inFunction("tables/stations", "stations"), fn + ":9:31 RM1501", "kind/name"},
		{"star in the middle", inFunction("tables/stations", "tables/*/x"), "RM1501", "at the end"},
		{"function twice", map[string]string{"functions/b/function.yaml": warn, "functions/b/warn.py": "def run(c): pass"},
			"functions/warn/function.yaml:1:11 RM1601", "functions/b/function.yaml"},
		{"unknown stage", inFunction("description: Warns growers", "per_stage: {prod: {memory: 256 MiB}}"),
			fn + ":2:13 RM1602", "trial, live"},
		{"after itself", inService("after: trial", "after: live"), "RM1603", "live\" is not a stage before \"live\""},
		{"first stage not on a push", inService("enter: {when: push, branch: main}", "enter: {when: request}"), "RM1603",
			"on a push"},
		{"stage twice", inService("stage: live", "stage: trial"), "RM1603", "l\" already exists; rename this one"},
		{"no such folder", inFunction("description: Warns growers", "code: src"), fn + ":2:7 RM1604", "src"},
		{"no such file", inFunction("warn:run", "wran:run"), fn + ":3:10 RM1605", `did you mean "warn"`},
		{"no such function in it", inFunction("warn:run", "warn:walk"), fn + ":3:10 RM1605", "does not define"},
		{"no handler's function", inFunction("warn:run", "warn"), "RM1605", "file:function"},
		{"no functions", map[string]string{fn: "", "functions/warn/warn.py": ""}, sv + ":1:1 RM1607", "no function"},
		{"format of the future", inService("rudmar: 1", "rudmar: 2"), sv + ":1:9 RM1205", "1"},
		{"bad window", inService("      cases: all\n", "      cases: all\n      window: {hours: \"late\"}\n"), "RM1205",
			"hours"},
		{"rule that is no CEL", inService("      cases: all\n", "      rules: {none: \"plan.deletes.size( == 0\"}\n"),
			"RM1702", "none"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			r := check.Service(sound(tt.changes))
			for _, d := range r.Diagnostics {
				at := fmt.Sprintf("%s:%d:%d %s", d.File, d.Line, d.Column, d.Code)
				if strings.HasSuffix(at, tt.want) && strings.Contains(d.Message, tt.says) {
					return
				}
			}
			t.Errorf("no %s that says %q in:\n%s", tt.want, tt.says, lines(r.Diagnostics))
		})
	}
}

func lines(ds []diagnostic.Diagnostic) string {
	out := ""
	for _, d := range ds {
		out += d.String() + "\n"
	}
	return out
}

func TestAllDiagnosticsAtOnce(t *testing.T) {
	r := check.Service(sound(map[string]string{
		"rudmar.yaml":                    replaced(service, "128 MiB", "128"),
		"functions/warn/function.yaml":   replaced(replaced(warn, "description", "abuot"), ", open_to: anyone", ""),
		"functions/broken/function.yaml": "function: [\n",
	}))
	codes := map[diagnostic.Code]bool{}
	for _, d := range r.Diagnostics {
		codes[d.Code] = true
	}
	for _, want := range []diagnostic.Code{diagnostic.CodeUnit, diagnostic.CodeUnknownKey, diagnostic.CodeOpenTo,
		diagnostic.CodeSyntax} {
		if !codes[want] {
			t.Errorf("%s is missing in:\n%s", want, lines(r.Diagnostics))
		}
	}
	if r.Service == nil || r.Service.Function("warn") == nil {
		t.Error("the rest was not read")
	}
}

func TestWildcardsAreErrorsInStrictStages(t *testing.T) {
	wide := inFunction("{allow: [read], resource: tables/stations}", `{allow: ["*"], resource: tables/stations}`)
	r := check.Service(sound(wide))
	if !r.OK() || len(r.Diagnostics) != 1 || r.Diagnostics[0].Severity != diagnostic.Warning {
		t.Errorf("not strict:\n%s", lines(r.Diagnostics))
	}
	wide["rudmar.yaml"] = replaced(service, "    set: {mode: loud}\n", "    set: {mode: loud}\n    wildcards: forbid\n")
	if r := check.Service(sound(wide)); r.OK() || !strings.Contains(r.Diagnostics[0].Message, `"live" forbids wildcards`) {
		t.Errorf("strict:\n%s", lines(r.Diagnostics))
	}
}

func TestFixesResolveDiagnostics(t *testing.T) {
	tests := []struct {
		name    string
		changes map[string]string
		file    string
		want    string
	}{
		{"misspelt key", inFunction("description:", "descripton:"), "functions/warn/function.yaml", warn},
		{"tab", inFunction("  LIMIT_C:", "\tLIMIT_C:"), "functions/warn/function.yaml", warn},
		{"missing unit", inService("128 MiB", "128"), "rudmar.yaml", service},
		{"MB", inService("128 MiB", "128 MB"), "rudmar.yaml", service},
		{"no multiple", inService("128 MiB", "120 MiB"), "rudmar.yaml", service},
		{"misspelt runtime", inService("runtime: python", "runtime: pyton"), "rudmar.yaml", service},
		{"misspelt setting", inFunction("frost_limit", "frost_limt"), "functions/warn/function.yaml", warn},
		{"misspelt file", inFunction("warn:run", "wran:run"), "functions/warn/function.yaml", warn},
		{"misspelt stage", inService("after: trial", "after: trail"), "rudmar.yaml", service},
		{"misspelt opening", inFunction("anyone", "anyon"), "functions/warn/function.yaml", warn},
		{"text for a list", inService("[sms_key]", "sms_key"), "rudmar.yaml", service},
		{"missing open_to", inFunction(", open_to: anyone", ""), "functions/warn/function.yaml",
			replaced(warn, "anyone", "authenticated")},
		{"missing open_to in a block",
			inFunction(`{route: "GET /stations/{station}/frost", open_to: anyone}`, "\n    route: GET /stations"),
			"functions/warn/function.yaml",
			replaced(warn, `{route: "GET /stations/{station}/frost", open_to: anyone}`,
				"\n    route: GET /stations\n    open_to: authenticated")},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			files := sound(tt.changes)
			files[tt.file] = diagnostic.Apply(files[tt.file], check.Service(files).Diagnostics)
			if got := string(files[tt.file]); got != tt.want {
				t.Errorf("mended to\n%s", got)
			}
			if r := check.Service(files); !r.OK() {
				t.Errorf("still wrong:\n%s", lines(r.Diagnostics))
			}
		})
	}
}

func TestCases(t *testing.T) {
	const file = "functions/warn/cases/mild.yaml"
	tests := []struct{ text, code string }{
		{"case: mild\nsend: {route: GET /stations/hill/frost}\nexpect: [status == 200, 'took < duration(\"1s\")']\n", ""},
		{"case: mild\nsend: {trigger: ask, event: {a: 1}}\nexpect: [\"body.size() > 0\"]\n", "RM1701"},
		{"case: mild\nsend: {payload: null}\nexpect: [cold]\n", ""},
		{"case: mild\nsend: {route: GET /elsewhere}\nexpect: [status == 200]\n", "RM1701"},
		{"case: mild\nsend: {trigger: nightly}\nexpect: [status == 200]\n", "RM1701"},
		{"case: mild\nsend: {payload: {}, trigger: ask}\nexpect: [status == 200]\n", "RM1701"},
		{"case: mild\nsend: {payload: {}}\nexpect: [\"status = 200\"]\n", "RM1702"},
		{"case: mild\nsend: {payload: {}}\nexpect: [\"temperature == 3\"]\n", "RM1702"},
		{"case: mild\nsend: {payload: {}}\nexpect: [\"status\"]\n", "RM1702"},
		{"case: mild\nsend: {payload: {}}\n", "RM1102"},
	}
	for _, tt := range tests {
		r := check.Service(sound(map[string]string{file: tt.text}))
		if tt.code == "" {
			if !r.OK() || len(r.Service.Function("warn").Cases) != 2 {
				t.Errorf("%s:\n%s", tt.text, lines(r.Diagnostics))
			}
			continue
		}
		if len(r.Diagnostics) == 0 || string(r.Diagnostics[0].Code) != tt.code || r.Diagnostics[0].File != file {
			t.Errorf("%s: want %s in:\n%s", tt.text, tt.code, lines(r.Diagnostics))
		}
	}
}

func TestMergingAndOrigins(t *testing.T) {
	files := sound(map[string]string{
		"rudmar.yaml": replaced(service, "  memory: 128 MiB\n", "  memory: 128 MiB\n  env: {SHARED: yes, GONE: old}\n"),
		"functions/warn/function.yaml": replaced(warn, "env:\n", "env:\n  GONE: null\n") +
			"per_stage:\n  live:\n    memory: 256 MiB\n    env: {LIMIT_C: \"9\"}\n    triggers: {ask: {enabled: false}}\n    permissions: []\n",
	})
	r := check.Service(files)
	if !r.OK() {
		t.Fatal(lines(r.Diagnostics))
	}
	fn := r.Service.Function("warn")
	trial, actual := fn.At("trial"), fn.At("live")
	env := func(c *manifest.Config) string {
		out := ""
		for _, v := range c.Env {
			text, literal := v.Value.Literal()
			if !literal {
				text = "reference"
			}
			out += v.Name + "=" + text + " " + v.From.Rule.String() + "; "
		}
		return out
	}
	for _, tt := range []struct{ what, got, want string }{
		{"memory in trial", fmt.Sprint(trial.Memory),
			fmt.Sprint(manifest.Value[int64]{V: 128 << 20,
				From: tree.Origin{File: "rudmar.yaml", Line: 10, Column: 11, Rule: tree.Defaults}})},
		{"memory in live", fmt.Sprint(actual.Memory),
			fmt.Sprint(manifest.Value[int64]{V: 256 << 20,
				From: tree.Origin{File: "functions/warn/function.yaml", Line: 13, Column: 13, Rule: tree.OfStage}})},
		{"timeout", trial.Timeout.V.String() + " " + trial.Timeout.From.Rule.String(), "10s built-in"},
		{"handler", trial.Handler.From.Rule.String(), "function"},
		{"env in trial", env(trial), "LIMIT_C=reference function; SHARED=yes defaults; "},
		{"env in live", env(actual), "LIMIT_C=9 stage; SHARED=yes defaults; "},
		{"off in trial", fmt.Sprint(trial.Triggers[0].Enabled.V == false), "false"},
		{"off in live", fmt.Sprint(actual.Triggers[0].Enabled.V == false, actual.Triggers[0].Route.V), "true GET /stations/{station}/frost"},
		{"permissions in live", fmt.Sprint(len(trial.Permissions), len(actual.Permissions)), "1 0"},
	} {
		if tt.got != tt.want {
			t.Errorf("%s: %s, want %s", tt.what, tt.got, tt.want)
		}
	}
}

func TestYAMLScalarRules(t *testing.T) {
	tests := []struct{ value, want string }{
		{"no", "no"}, {"on", "on"}, {"\"true\"", "true"}, {"010", "010"}, {"~tilde", "~tilde"}, {"1e3", "1e3"},
		{"2026-01-01", "2026-01-01"}, {"'it''s'", "it's"}, {"|\n    two\n    lines", "two\nlines\n"},
	}
	for _, tt := range tests {
		r := check.Service(sound(inFunction("${settings.frost_limit}", tt.value)))
		if !r.OK() {
			t.Errorf("%s: %s", tt.value, lines(r.Diagnostics))
			continue
		}
		if got, _ := r.Service.Function("warn").At("").Env[0].Value.Literal(); got != tt.want {
			t.Errorf("%s reads as %q, want %q", tt.value, got, tt.want)
		}
	}
	for _, ending := range []string{"\r\n", "\n"} {
		if r := check.Service(
			sound(map[string]string{"functions/warn/function.yaml": "\ufeff" +
				strings.ReplaceAll(warn, "\n", ending)})); !r.OK() {
			t.Errorf("ending %q with a byte order mark: %s", ending, lines(r.Diagnostics))
		}
	}
}

func TestHostileFiles(t *testing.T) {
	const fn = "functions/warn/function.yaml"
	manyKeys := strings.Builder{}
	for i := range 12_000 {
		fmt.Fprintf(&manyKeys, "  K%d: x\n", i)
	}
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c <= 'i'; c++ {
		bomb += fmt.Sprintf("%c: &%c [*%c,*%c,*%c,*%c,*%c,*%c,*%c,*%c]\n", c, c, c-1, c-1, c-1, c-1, c-1, c-1, c-1, c-1)
	}
	for name, text := range map[string]string{
		"alias bomb":   bomb,
		"deep nesting": "env: " + strings.Repeat("{a: ", 5000),
		"deep lists":   strings.Repeat("[", 100_000),
		"many keys":    "function: warn\nhandler: warn:run\nenv:\n" + manyKeys.String(),
		"50 MB":        strings.Repeat("x", 50<<20),
		"huge scalar":  "description: " + strings.Repeat("x", 200_000),
		"lone quote":   "'",
		"percent":      "%YAML 3.0\n---\na: b",
		"question":     "? [a, b]\n: c\n",
	} {
		t.Run(name, func(t *testing.T) {
			r := check.Service(sound(map[string]string{fn: text}))
			if name != "many keys" && r.OK() {
				t.Error("nothing was found wrong")
			}
		})
	}
}

func TestNestedServices(t *testing.T) {
	r := check.Service(sound(map[string]string{"other/rudmar.yaml": "rudmar: 1\n",
		"other/functions/x/function.yaml": "broken: ["}))
	if !r.OK() {
		t.Errorf("a service below was checked too:\n%s", lines(r.Diagnostics))
	}
}

// TestDiagnosticLines compares each position with the expected line and column.
func TestDiagnosticLines(t *testing.T) {
	for _, tt := range []struct{ file, old, now, want string }{
		{"functions/warn/function.yaml", "handler: warn:run", "handler warn:run",
			"functions/warn/function.yaml:3:1: invalid YAML: "},
		{"rudmar.yaml", "service: frostline", "service frostline",
			"rudmar.yaml:2:1: invalid YAML: a key without a colon"},
		{"rudmar.yaml", "      cases: all\n",
			"      rules: {good: \"true\", bad: \"plan.deletes.size() = 0\", fine: \"plan.deletes.size() == 0\"}\n",
			"rudmar.yaml:20:55: the rule \"bad\""},
		{"rudmar.yaml", "rudmar: 1", "rudmar: 2", "rudmar.yaml:1:9: rudmar must be 1"},
		{"functions/warn/function.yaml", "triggers:\n", "triggers:\n  photo: {objects: photos, events: [craeted]}\n",
			`unknown item of events "craeted"; did you mean "created"?`},
	} {
		text := service
		if tt.file != "rudmar.yaml" {
			text = warn
		}
		if !strings.Contains(text, tt.old) {
			t.Fatalf("there is no %q", tt.old)
		}
		r := check.Service(sound(map[string]string{tt.file: strings.Replace(text, tt.old, tt.now, 1)}))
		got := lines(r.Diagnostics)
		if !strings.Contains(got, tt.want) {
			t.Errorf("%s: %s\nwant %s", tt.now, got, tt.want)
		}
		if strings.Contains(got, `"good"`) || strings.Contains(got, `"fine"`) {
			t.Errorf("a good rule is told of: %s", got)
		}
	}
	both := check.Service(
		sound(map[string]string{"functions/warn/function.yaml": strings.Replace(warn, "triggers:\n",
			"triggers:\n  other: {route: \"GET /stations/{id}/frost\", open_to: anyone}\n", 1)}))
	if got := lines(both.Diagnostics); strings.Count(got, "RM1402") != 2 ||
		!strings.Contains(got, "functions/warn/function.yaml:7") || !strings.Contains(got, "functions/warn/function.yaml:8") {
		t.Errorf("a collision is told at both places, each with the other's: %s", got)
	}
}

// A problem in another file is not assigned to the stage that has its line in rudmar.yaml.
func TestStageOfOtherFiles(t *testing.T) {
	line := 1 + strings.Count(service[:strings.Index(service, "stage: live")], "\n")
	fn := strings.Replace(warn, "${settings.frost_limit}", "${functions.night.url}", 1)
	fn = strings.Repeat("# a comment\n", line-1-strings.Count(fn[:strings.Index(fn, "LIMIT_C")], "\n")) + fn
	files := sound(map[string]string{"functions/warn/function.yaml": fn, "functions/night/function.yaml": "function: night\nhandler: main:run\n",
		"functions/night/main.py": "def run(c): pass\n"})
	for _, stage := range []string{"", "trial", "live"} {
		r := check.Options{Stage: stage}.Service(files)
		if len(r.Diagnostics) != 1 || r.Diagnostics[0].Stage != "" || r.Diagnostics[0].Line != line {
			t.Errorf("in %q: %v", stage, r.Diagnostics)
		}
	}
}

// Conflicting keys of a stage are reported.
func TestExclusiveKeys(t *testing.T) {
	for _, tt := range []struct{ old, wrong, says string }{
		{"    set: {mode: loud}", "    target_order: parallel\n    target_order: test_each", "duplicates line 17"},
		{"    set: {mode: loud}", "    run_cases: none\n    target_order: test_each", "no case runs in live"},
		{"    set: {mode: loud}", "    shift: {steps: [10%]}\n    target_order: test_each", "remove target_order: test_each or shift"},
		{"when: request}", "when: ready, allow_partial: true}", "is not entered on request"},
		{"    set: {mode: loud}", "    target_order: test_each", ""},
		{"when: request}", "when: request, allow_partial: true}", ""},
	} {
		r := check.Service(sound(inService(tt.old, tt.wrong)))
		switch {
		case tt.says == "" && !r.OK():
			t.Errorf("%s: %v", tt.wrong, r.Diagnostics)
		case tt.says != "" && (len(r.Diagnostics) != 1 || !strings.Contains(r.Diagnostics[0].Message, tt.says)):
			t.Errorf("%s: %v", tt.wrong, r.Diagnostics)
		}
	}
}

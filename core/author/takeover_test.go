package author_test

import (
	"errors"
	"strings"
	"testing"

	"rudmar/core/author"
	"rudmar/core/canon"
	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

// After the edit, the manifest has the drifted value: the service results in exactly that, in the drifted
// stage, and nothing else of it changes.
func TestCopyToManifest(t *testing.T) {
	service := func(stages string) string {
		return "rudmar: 1\nservice: frostline\nowner: growers\nstages:\n" + stages
	}
	const trial = "  - {stage: trial, target: local/north, enter: {when: push, branch: main}}\n"
	const actual = "  - {stage: live, target: local/north, enter: {after: trial, when: request}}\n"
	const may = "permissions:\n  - {allow: [send], resource: \"queues/*\"}\n"
	const head = "function: warn # of the night\nruntime: python\nhandler: warn:run\n"
	for _, tt := range []struct {
		name, stages, text, address, attribute string
		value                                  any
		want                                   string // expected in the edited text
	}{
		{"in the place of what is said", trial, head + "memory: 128 MiB # enough\n", "function/warn", "memory", 256.0 * (1 << 20),
			"memory: 256 MiB # enough\n"},
		{"a new key", trial, head, "function/warn", "timeout", 1500.0, "timeout: 1s500ms\n"},
		{"for one stage of two", trial + actual, head + "memory: 128 MiB\n", "function/warn", "memory", 256.0 * (1 << 20),
			"memory: 128 MiB\nper_stage:\n  live:\n    memory: 256 MiB\n"},
		{"beside another stage", trial + actual, head + "per_stage:\n  trial:\n    memory: 64 MiB\n", "function/warn", "memory", 256.0 * (1 << 20),
			"per_stage:\n  live:\n    memory: 256 MiB\n  trial:\n    memory: 64 MiB\n"},
		{"in what is said of the stage", trial + actual, head + "per_stage:\n  live:\n    timeout: 3s\n", "function/warn", "memory", 256.0 * (1 << 20),
			"  live:\n    memory: 256 MiB\n    timeout: 3s\n"},
		{"in a line", trial + actual, head + "per_stage: {live: {timeout: 3s}}\n", "function/warn", "memory", 256.0 * (1 << 20),
			"per_stage: {live: {timeout: 3s, memory: 256 MiB}}\n"},
		{"in a line, after another mapping", trial + actual, head + "per_stage: {live: {env: {A: \"1\"}}}\n", "function/warn", "memory",
			256.0 * (1 << 20), "per_stage: {live: {memory: 256 MiB, env: {A: \"1\"}}}\n"},
		{"without an end of line", trial, strings.TrimSuffix(head, "\n"), "function/warn", "max_concurrency", 7.0, "max_concurrency: 7\n"},
		{"a variable", trial, head + "env: {MODE: loud}\n", "function/warn", "env.MODE", "a ${b} \"c\"", `MODE: "a $${b} \"c\""`},
		{"a new variable", trial, head + "env:\n  MODE: loud\n", "function/warn", "env.PLACE", "12", "  PLACE: \"12\"\n  MODE: loud\n"},
		{"a trigger that is off", trial, head + "triggers:\n  sweep: {every: 5m}\n", "schedule/warn/sweep", "enabled", false,
			"sweep: {every: 5m, enabled: false}\n"},
		{"how often", trial, head + "triggers:\n  sweep:\n    every: 5m\n", "schedule/warn/sweep", "every", 120_000.0, "every: 2m\n"},
		{"who may call", trial, head + "triggers:\n  ask: {route: GET /frost, open_to: authenticated}\n", "opening/warn/ask", "to",
			[]any{"council", "growers"}, "open_to: [council, growers]"},
		{"how long lines are kept", trial, head, "logs/warn", "retention", 86_400_000.0, "log_retention: 1d\n"},
		{"what it may do", trial, head + may + "  - allow: [read] # only looks\n    resource: tables/frost\n", "grant/warn/tables/frost", "verbs",
			[]any{"query", "read"}, "  - allow: [query, read] # only looks\n    resource: tables/frost\n"},
		{"what it may do, said in a list of lines", trial, head + may + "  - resource: tables/frost\n    allow:\n      - read\n      - query # for the report\n",
			"grant/warn/tables/frost", "verbs", []any{"write"}, "    allow:\n      [write] # for the report\n"},
		{"what it may do, in a list over lines", trial, head + may + "  - {resource: tables/frost, allow: [read,\n      query # ]\n      ] }\n",
			"grant/warn/tables/frost", "verbs", []any{"write"}, "  - {resource: tables/frost, allow: [write] }\n"},
		{"who may call, in place of others", trial, head + "triggers:\n  ask: {route: GET /frost, open_to: [vets, growers]}\n",
			"opening/warn/ask", "to", []any{"council"}, "open_to: [council]}\n"},
		{"nothing in a list", trial, head + "triggers:\n  ask: {route: GET /frost, open_to: []}\n", "opening/warn/ask", "to",
			[]any{"council"}, "open_to: [council]}\n"},
		{"what it may do in one stage", trial + actual, head + may + "  - {allow: [read], resource: tables/frost}\n", "grant/warn/tables/frost",
			"verbs", []any{"*"}, "per_stage:\n  live:\n    permissions: [{allow: [send], resource: \"queues/*\"}, {allow: [\"*\"], resource: tables/frost}]\n"},
		{"beside what is said of the stage", trial + actual,
			head + may + "per_stage:\n  live:\n    permissions: [{allow: [read], resource: tables/frost}]\n", "grant/warn/tables/frost", "verbs",
			[]any{"read", "write"}, "    permissions: [{allow: [read, write], resource: tables/frost}]\n"},
	} {
		files := manifest.FilesOf(map[string]string{"rudmar.yaml": service(tt.stages), "functions/warn/function.yaml": tt.text,
			"functions/warn/warn.py": "def run(call):\n    return 0\n"})
		before := check.Service(files)
		stage := "trial"
		if tt.stages != trial {
			stage = "live"
		}
		file, text, err := author.TakeOver(files, before.Service, stage, tt.address, tt.attribute, tt.value)
		if err != nil {
			t.Errorf("%s: %v", tt.name, err)
			continue
		}
		if !strings.Contains(string(text), tt.want) || !strings.Contains(string(text), "# of the night") {
			t.Errorf("%s: %s\nwant %s", tt.name, text, tt.want)
		}
		files[file] = text
		after := check.Service(files)
		if !after.OK() {
			t.Errorf("%s: %v\n%s", tt.name, after.Diagnostics, text)
			continue
		}
		for _, s := range after.Service.Stages {
			was, is := becomes(before.Service, s.Name), becomes(after.Service, s.Name)
			for address, values := range is {
				for name, v := range values {
					same := canon.Equal(v, was[address][name])
					taken := s.Name == stage && address == tt.address && name == tt.attribute
					follows := strings.HasPrefix(address, "revision/") || strings.HasPrefix(address, "pointer/")
					if taken && !canon.Equal(v, tt.value) || !taken && !same && !follows {
						t.Errorf("%s: in %s %s of %s is %v\n%s", tt.name, s.Name, name, address, v, text)
					}
				}
			}
		}
	}
	for _, tt := range []struct {
		stages, text, address string
		verbs                 any
		want                  error
	}{
		{trial, "", "grant/warn/tables/a", []any{"read"}, author.ErrNoPlace},
		{trial, "", "function/nobody", []any{"read"}, author.ErrNoFunction},
		{trial, may, "grant/warn/queues/*", []any{}, author.ErrNoPlace}, // a permission for nothing is none
		{trial, may, "grant/warn/queues/*", "send", author.ErrNoPlace},
		{trial, may + "  - {allow: [receive], resource: \"queues/*\"}\n", "grant/warn/queues/*", []any{"send"}, author.ErrNoPlace},
		{trial + actual, may, "grant/warn/queues/readings", []any{"send"}, author.ErrNoPlace},
		{trial + actual, "", "grant/warn/queues/readings", []any{"send"}, author.ErrNoPlace},
	} {
		files := manifest.FilesOf(map[string]string{"rudmar.yaml": service(tt.stages), "functions/warn/function.yaml": head + tt.text})
		_, _, err := author.TakeOver(files, check.Service(files).Service, "trial", tt.address, "verbs", tt.verbs)
		if !errors.Is(err, tt.want) {
			t.Errorf("%s with %q: %v", tt.address, tt.text, err)
		}
	}
}

func becomes(s *manifest.Service, stage string) map[string]map[string]any {
	resources, _ := expand.Expand(s, s.Stage(stage), s.Stage(stage).Targets[0],
		expand.Inputs{Artifacts: map[string]string{"warn": "sha256:x"}, Address: "http://routes"})
	out := map[string]map[string]any{}
	for _, r := range resources {
		out[r.Address] = r.Values()
	}
	return out
}

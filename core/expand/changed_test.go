package expand_test

import (
	"strings"
	"testing"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

const pair = `rudmar: 1
service: frostline
owner: cold-nights
settings:
  limit: {type: number, default: 0.5}
defaults: {memory: 128 MiB, timeout: 5s}
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - {stage: live, targets: [local/north, local/coast], set: {limit: 1}, enter: {after: trial}}
`

// two is a service of two functions: warn uses a setting, sweep a time.
func two(t *testing.T, changes ...string) *manifest.Service {
	t.Helper()
	change := strings.NewReplacer(changes...)
	r := check.Service(manifest.Files{
		"rudmar.yaml": []byte(change.Replace(pair)),
		"functions/warn/function.yaml": []byte(
			change.Replace("function: warn\nhandler: warn:run\ndescription: looks\nenv: {LIMIT: \"${settings.limit}\"}\n")),
		"functions/warn/warn.py":        []byte("def run(c): pass"),
		"functions/sweep/function.yaml": []byte(change.Replace("function: sweep\nhandler: sweep:run\ntimeout: 9s\n")),
		"functions/sweep/sweep.py":      []byte("def run(c): pass"),
	})
	if !r.OK() {
		t.Fatal(r.Diagnostics)
	}
	return r.Service
}

func TestChanged(t *testing.T) {
	for _, c := range []struct {
		name, from, to, want string
	}{
		{"nothing", "owner", "owner", ""},
		{"a comment", "rudmar: 1", "# frost\nrudmar: 1", ""},
		{"the owner", "cold-nights", "warm-days", "sweep warn"},
		{"a default that one takes", "timeout: 5s", "timeout: 6s", "warn"},
		{"a default that both take", "memory: 128", "memory: 192", "sweep warn"},
		{"a setting's default", "default: 0.5", "default: 0.7", "warn"},
		{"a stage's value", "limit: 1}", "limit: 2}", "warn"},
		{"a stage that is new", "enter: {when: push}}",
			"enter: {when: push}}\n  - {stage: extra, target: local/lake, set: {limit: 9}, enter: {when: push}}", ""},
		{"a target that is new", "target: local/north", "targets: [local/north, local/lake]", ""},
		{"what says nothing to the platform", "description: looks", "description: watches", ""},
		{"a function's own value", "timeout: 9s", "timeout: 8s", "sweep"},
		{"another name", "function: sweep", "function: broom", "broom"},
	} {
		changed := expand.Changed(two(t), two(t, c.from, c.to))
		var got []string
		for _, name := range []string{"broom", "sweep", "warn"} {
			if changed[name] {
				got = append(got, name)
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v changed, not %q", c.name, got, c.want)
		}
	}
}

// A permission to read one of the service's own secrets contains its value.
func TestReadableSecrets(t *testing.T) {
	const before = `  - {allow: [send], resource: "queues/${stage.name}"}`
	for _, c := range []struct {
		permission, address string
		carries             bool
	}{
		{"{allow: [read], resource: secrets/sms_key}", "grant/warn/secrets/sms_key", true},
		{`{allow: ["*"], resource: secrets/sms_key}`, "grant/warn/secrets/sms_key", true},
		{"{allow: [read], resource: secrets/elsewhere}", "grant/warn/secrets/elsewhere", false},
		{"{allow: [read], resource: tables/sms_key}", "grant/warn/tables/sms_key", false},
	} {
		s := service(t, before, "  - "+c.permission)
		grant, ok := expanded(t, s, "live", expand.Inputs{})[c.address]
		shown, _ := grant.Get("value").(string)
		if !ok || c.carries != (grant.Secrets["value"] == "hidden") || c.carries != strings.HasPrefix(shown, "secret ") ||
			strings.Contains(shown, "hidden") {
			t.Errorf("%s: %+v", c.permission, grant)
		}
	}
	s := service(t, before, "  - {allow: [read], resource: secrets/sms_key}")
	resources, problems := expand.Expand(s, s.Stage("trial"), s.Stage("trial").Targets[0], expand.Inputs{})
	if len(problems) != 2 {
		t.Errorf("a missing secret that is given and may be read: %+v", problems)
	}
	for _, r := range resources {
		if r.Address == "grant/warn/secrets/sms_key" && r.Get("value") != "secret without a value" {
			t.Errorf("it is shown as %v", r.Get("value"))
		}
	}
}

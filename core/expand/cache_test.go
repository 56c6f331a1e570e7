package expand_test

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

// rows is a service with a function of each name; changes are laid over their manifests.
func rows(t *testing.T, names string, changes map[string]string) *manifest.Service {
	t.Helper()
	files := map[string]string{"rudmar.yaml": "rudmar: 1\nservice: orchard\nowner: growers\nsecrets: [sms_key]\n" +
		"stages:\n  - {stage: trial, targets: [local/north, local/coast], enter: {when: push}}\n" +
		"  - {stage: live, target: local/north, enter: {after: trial}}\n"}
	for name := range strings.FieldsSeq(names) {
		more := changes[name]
		if more == "" {
			more = "env: {ROW: '1'}"
		}
		files["functions/"+name+"/function.yaml"] = "function: " + name + "\nhandler: main:run\n" + more + "\n"
		files["functions/"+name+"/main.py"] = "def run(call): pass\n"
	}
	r := check.Service(manifest.FilesOf(files))
	if !r.OK() {
		t.Fatal(r.Diagnostics)
	}
	return r.Service
}

// with returns a service with functions of another one that has more, fewer or other ones: those of the same
// name stay unchanged, except for the changed ones.
func with(s, other *manifest.Service, changed ...string) *manifest.Service {
	out := *s
	out.Functions = nil
	for _, fn := range other.Functions {
		if same := s.Function(fn.Name); same != nil && !slices.Contains(changed, fn.Name) {
			fn = same
		}
		out.Functions = append(out.Functions, fn)
	}
	return &out
}

// functionsIn returns, for each function, the address of its attributes in memory.
func functionsIn(resources []expand.Resource) map[string]*expand.Attribute {
	out := map[string]*expand.Attribute{}
	for _, r := range resources {
		if r.Kind == "function" {
			out[r.Function] = &r.Attributes[0]
		}
	}
	return out
}

// A function's result is reused exactly if none of its inputs has changed, and the result equals that of a
// fresh expansion.
func TestIncrementalExpand(t *testing.T) {
	const all = "ash birch elm fir larch oak pine yew"
	told := map[string]string{"oak": "env: {V: '${version}'}"}
	base := rows(t, all, told)
	inputs := func(change func(in *expand.Inputs)) expand.Inputs {
		in := expand.Inputs{Version: 3, Artifacts: map[string]string{}, Secrets: map[string]string{"sms_key": "k1"},
			Address: "http://routes"}
		for name := range strings.FieldsSeq(all) {
			in.Artifacts[name] = "sha256:" + name
		}
		change(&in)
		return in
	}
	same := func(*expand.Inputs) {}
	but := func(names ...string) string { // oak depends on the version
		return strings.Join(slices.DeleteFunc(strings.Fields(all),
			func(n string) bool { return n == "oak" || slices.Contains(names, n) }), " ")
	}
	changed := func(name, to string) *manifest.Service {
		more := maps.Clone(told)
		more[name] = to
		return with(base, rows(t, all, more), name)
	}
	for _, tt := range []struct {
		name    string
		service *manifest.Service
		change  func(in *expand.Inputs)
		stage   int
		target  int
		again   string
	}{
		{"nothing", base, same, 0, 0, but()},
		{"the version", base, func(in *expand.Inputs) { in.Version = 4 }, 0, 0, but()},
		{"an archive", base, func(in *expand.Inputs) { in.Artifacts["elm"] = "sha256:other" }, 0, 0, but("elm")},
		{"three archives", base, func(in *expand.Inputs) {
			in.Artifacts["ash"], in.Artifacts["elm"], in.Artifacts["yew"] = "a", "b", "c"
		}, 0, 0, but("ash", "elm", "yew")},
		{"a secret", base, func(in *expand.Inputs) { in.Secrets["sms_key"] = "k2" }, 0, 0, ""},
		{"the address", base, func(in *expand.Inputs) { in.Address = "http://elsewhere" }, 0, 0, ""},
		{"the stage", base, same, 1, 0, ""},
		{"the target", base, same, 0, 1, ""},
		{"rudmar.yaml", rows(t, all, told), same, 0, 0, ""},
		{"a value", changed("elm", "env: {ROW: '2'}"), same, 0, 0, but("elm")},
		{"a resource that comes", changed("elm", "triggers: {ask: {route: GET /elm, open_to: authenticated}}"), same, 0, 0, but("elm")},
		{"a name in the middle", with(base, rows(t, strings.ReplaceAll(all, "elm", "crab elm"), told)), same, 0, 0, but()},
		{"a name before all", with(base, rows(t, "apple "+all, told)), same, 0, 0, but()},
		{"a name behind all", with(base, rows(t, all+" zelkova", told)), same, 0, 0, but()},
		{"the first goes", with(base, rows(t, strings.TrimPrefix(all, "ash "), told)), same, 0, 0, but("ash")},
		{"the last goes", with(base, rows(t, strings.TrimSuffix(all, " yew"), told)), same, 0, 0, but("yew")},
		{"another one in its place", with(base, rows(t, strings.ReplaceAll(all, "fir", "hazel"), told)), same, 0, 0, but("fir")},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var cache expand.Cache
			stage := &base.Stages[0]
			before, _ := expand.ExpandAgain(base, stage, stage.Targets[0], inputs(same), &cache)
			in, stage := inputs(tt.change), &tt.service.Stages[tt.stage]
			expanded := func() []expand.Resource {
				got, problems := expand.ExpandAgain(tt.service, stage, stage.Targets[tt.target], in, &cache)
				fresh, wanted := expand.Expand(tt.service, stage, stage.Targets[tt.target], in)
				if !reflect.DeepEqual(got, fresh) || !reflect.DeepEqual(problems, wanted) {
					t.Fatalf("got %v\nwant %v", got, fresh)
				}
				return got
			}
			was, is := functionsIn(before), functionsIn(expanded())
			var again []string
			for name, at := range is {
				if was[name] == at {
					again = append(again, name)
				}
			}
			if slices.Sort(again); strings.Join(again, " ") != tt.again {
				t.Errorf("taken again: %v, not %s", again, tt.again)
			}
			expanded() // the former result is as good
		})
	}
}

// The network attribute is set only if the function has network access.
func TestNetworkAttribute(t *testing.T) {
	s := rows(t, "ash elm", map[string]string{"elm": "network: true"})
	resources, _ := expand.Expand(s, &s.Stages[0], s.Stages[0].Targets[0], expand.Inputs{})
	for _, r := range resources {
		if want := map[string]any{"function/elm": true}[r.Address]; r.Get("network") != want {
			t.Errorf("%s: %v", r.Address, r.Get("network"))
		}
	}
}

// Each permission becomes a grant, and permissions on the same resource are merged.
func TestGrantsOfPermissions(t *testing.T) {
	for more, want := range map[string]string{
		"permissions: []": "",
		"permissions: [{allow: [read], resource: tables/hills}]":                                                  "tables/hills [read]",
		"permissions: [{allow: [read], resource: tables/hills}, {allow: [send], resource: queues/alarms}]":        "queues/alarms [send], tables/hills [read]",
		"permissions: [{allow: [write], resource: tables/hills}, {allow: [query, read], resource: tables/hills}]": "tables/hills [query read write]",
	} {
		s := rows(t, "ash", map[string]string{"ash": more})
		stage := &s.Stages[0]
		resources, problems := expand.Expand(s, stage, stage.Targets[0], expand.Inputs{Version: 1})
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		var got []string
		for _, r := range resources {
			if r.Kind == "grant" {
				got = append(got, fmt.Sprint(r.Get("resource"), " ", r.Get("verbs")))
			}
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("%s: %v, not %s", more, got, want)
		}
	}
}

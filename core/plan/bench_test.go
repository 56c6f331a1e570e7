package plan_test

import (
	"bytes"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"testing"
	"time"

	"rudmar/core/check"
	"rudmar/core/cores"
	"rudmar/core/expand"
	"rudmar/core/impact"
	"rudmar/core/manifest"
	"rudmar/core/metrics"
	"rudmar/core/plan"
	"rudmar/core/resource"

	"go.yaml.in/yaml/v4"
)

// large is a service of n functions with about six resources each: all have a variable
// and a permission, every eighth has a route and a schedule, too.
func large(n int) manifest.Files {
	files := map[string]string{"rudmar.yaml": "rudmar: 1\nservice: orchard\nowner: growers\n" +
		"stages:\n  - {stage: trial, target: local/north, enter: {when: push, branch: main}}\n"}
	for i := range n {
		text := fmt.Sprintf(`function: row%05d
description: Looks after row %d of the orchard
runtime: python
handler: main:run
memory: 192 MiB
timeout: 20s
env: {ROW: "%d"}
permissions:
  - {allow: [read, write], resource: tables/rows%d}
`, i, i, i, i%50)
		if i%8 == 0 {
			text += fmt.Sprintf("triggers:\n  ask: {route: \"GET /rows/%d/{tree}\", open_to: authenticated}\n  sweep: {every: 5m}\n", i)
		}
		files[fmt.Sprintf("functions/row%05d/function.yaml", i)] = text
		files[fmt.Sprintf("functions/row%05d/main.py", i)] = "def run(call):\n    return 0\n"
	}
	return manifest.FilesOf(files)
}

func expanded(b *testing.B, s *manifest.Service) []expand.Resource {
	b.Helper()
	in := expand.Inputs{Artifacts: map[string]string{}, Address: "http://routes"}
	for _, f := range s.Functions {
		in.Artifacts[f.Name] = "sha256:" + f.Name
	}
	out, blockers := expand.Expand(s, &s.Stages[0], s.Stages[0].Targets[0], in)
	if len(blockers) > 0 {
		b.Fatal(blockers)
	}
	return out
}

// BenchmarkPlan measures plans of 10,000 functions, as ratios to the time in which the YAML library alone reads
// the same files: with the check and the expansion, when all is new, when nothing has changed, and the plan
// alone when one function has; and, all new, against a tenth of the functions. How much faster all cores parse
// than one reports what is the least that can be reached.
func BenchmarkPlan(b *testing.B) {
	size := 10_000
	if testing.Short() {
		size = 1_000
	}
	files, small := large(size), large(size/10)
	kinds := kindsOf(everyKind...)
	manifests := slices.DeleteFunc(slices.Sorted(maps.Keys(files)), func(name string) bool { return !manifest.IsManifest(name) })
	for b.Loop() {
		runtime.GC() // each prepares its own inputs
		tenth := timed(func() {
			plan.Compute(plan.Inputs{Wanted: expanded(b, check.Service(small).Service), Kinds: kinds})
		})
		parse := func(from, to int) {
			for _, name := range manifests[from:to] {
				var node yaml.Node
				if loader, err := yaml.NewLoader(bytes.NewReader(files[name])); err == nil {
					_ = loader.Load(&node) // the files are sound
				}
			}
		}
		parsing := timed(func() { parse(0, len(manifests)) })
		together := timed(func() { cores.Share(len(manifests), parse) })
		runtime.GC()
		var wanted []expand.Resource
		ready := timed(func() { wanted = expanded(b, check.Service(files).Service) })
		var p *plan.Plan
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		all := timed(func() { p = plan.Compute(plan.Inputs{Wanted: wanted, Kinds: kinds}) })
		runtime.ReadMemStats(&after)
		record, actual := asPut(wanted...)
		nothing := timed(func() {
			if q := plan.Compute(plan.Inputs{Wanted: wanted, Record: record, Actual: actual, Kinds: kinds}); !q.Empty() {
				b.Fatal(q.Steps[0])
			}
		})
		edited := append([]expand.Resource(nil), wanted...)
		for i := range edited {
			if edited[i].Address == "function/row00500" {
				edited[i] = wants("function/row00500", "memory", 1.0)
			}
		}
		one := timed(func() { plan.Compute(plan.Inputs{Wanted: edited, Record: record, Actual: actual, Kinds: kinds}) })
		few := expanded(b, check.Service(small).Service)
		many, seen := changedIn(few, size/10)
		fewRecorded, fewLive := asPut(few...)
		means := timed(func() {
			plan.Compute(plan.Inputs{Wanted: many, Record: fewRecorded, Actual: fewLive, Kinds: kinds, Seen: seen})
		})
		says := timed(func() { _, _ = p.ImpactLines(), p.Summary() })
		b.ReportMetric((ready+all).Seconds()/parsing.Seconds(), "x-parsing-all-new")
		b.ReportMetric((ready+nothing).Seconds()/parsing.Seconds(), "x-parsing-unchanged")
		b.ReportMetric(together.Seconds()/parsing.Seconds(), "x-parsing-on-all-cores")
		b.ReportMetric(100*one.Seconds()/(ready+all).Seconds(), "%-of-full-plan-one-changed")
		b.ReportMetric((ready+all).Seconds()/tenth.Seconds(), "x-at-tenfold-size")
		b.ReportMetric(1000*means.Seconds(), "ms-tenth-changed")
		b.ReportMetric(100*says.Seconds()/all.Seconds(), "%-for-text")
		b.ReportMetric(float64(after.TotalAlloc-before.TotalAlloc)/(1<<20), "MiB-allocated")
		b.Logf("%d resources, %d steps; parsing %v, check and expansion %v, all new %v, nothing %v, one %v, saying it %v", len(wanted), len(p.Steps), parsing,
			ready, all, nothing, one, says)
	}
}

// changedIn returns the desired state with n functions that have another memory limit and more permissions, and
// figures of each function's invocations.
func changedIn(wanted []expand.Resource, n int) ([]expand.Resource, *impact.Figures) {
	seen := &impact.Figures{Now: time.Unix(1_790_000_000, 0), Over: 7 * 24 * time.Hour, Here: map[string]metrics.Sum{}}
	out := slices.Clone(wanted)
	for i := range out {
		r := &out[i]
		seen.Here[r.Function] = metrics.Sum{Invocations: 1000, MemoryPeak: 180 << 20}
		name := map[string]string{resource.Function: "memory", resource.Grant: "verbs"}[r.Kind]
		if r.Function >= fmt.Sprintf("row%05d", n) || name == "" {
			continue
		}
		r.Attributes = slices.Clone(r.Attributes)
		for j := range r.Attributes {
			if a := &r.Attributes[j]; a.Name == name {
				a.Value = map[string]any{"memory": float64(160 << 20), "verbs": []any{"delete", "read", "write"}}[name]
			}
		}
	}
	return out, seen
}

func timed(do func()) time.Duration {
	begun := time.Now()
	do()
	return time.Since(begun)
}

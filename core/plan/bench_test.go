package plan_test

import (
	"bytes"
	"fmt"
	"runtime"
	"testing"
	"time"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/plan"

	"go.yaml.in/yaml/v4"
)

// large is a service of n functions, each with a route, a schedule, a variable and
// two permissions: about eleven resources.
func large(n int) manifest.Files {
	files := map[string]string{"rudmar.yaml": "rudmar: 1\nservice: orchard\nowner: growers\n" +
		"stages:\n  - {stage: trial, target: local/north, enter: {on: push, branch: main}}\n"}
	for i := range n {
		files[fmt.Sprintf("functions/row%05d/function.yaml", i)] = fmt.Sprintf(`function: row%05d
runtime: python
handler: main:run
memory: 192 MiB
env: {ROW: "%d"}
permissions:
  - {may: [read], of: tables/rows%d}
  - {may: [send], of: queues/rows%d}
triggers:
  ask: {route: "GET /rows/%d/{tree}", open_to: members}
  sweep: {every: 5m}
`, i, i, i%50, i%20, i)
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
	out, problems := expand.Expand(s, &s.Stages[0], s.Stages[0].Targets[0], in)
	if len(problems) > 0 {
		b.Fatal(problems)
	}
	return out
}

// BenchmarkPlan measures plans of 10,000 functions, as ratios to the time in which
// the YAML library alone reads the same files: with the check and the expansion,
// when all is new, when nothing has changed, and the plan alone when one function
// has; and against a tenth of the functions.
func BenchmarkPlan(b *testing.B) {
	files, small := large(10_000), large(1_000)
	for b.Loop() {
		parsing := timed(func() {
			for name, text := range files {
				var node yaml.Node
				if loader, err := yaml.NewLoader(bytes.NewReader(text)); err == nil && manifest.IsManifest(name) {
					_ = loader.Load(&node) // the files are sound
				}
			}
		})
		var wanted []expand.Resource
		ready := timed(func() { wanted = expanded(b, check.Service(files).Service) })
		few := expanded(b, check.Service(small).Service)
		kinds := kindsOf(everyKind...)
		var p *plan.Plan
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		all := timed(func() { p = plan.Compute(plan.Inputs{Wanted: wanted, Kinds: kinds}) })
		runtime.ReadMemStats(&after)
		tenth := timed(func() { plan.Compute(plan.Inputs{Wanted: few, Kinds: kinds}) })
		record, live := asPut(wanted...)
		nothing := timed(func() {
			if q := plan.Compute(plan.Inputs{Wanted: wanted, Record: record, Live: live, Kinds: kinds}); !q.Empty() {
				b.Fatal(q.Steps[0])
			}
		})
		edited := append([]expand.Resource(nil), wanted...)
		for i := range edited {
			if edited[i].Address == "function/row00500" {
				edited[i] = wants("function/row00500", "memory", 1.0)
			}
		}
		one := timed(func() { plan.Compute(plan.Inputs{Wanted: edited, Record: record, Live: live, Kinds: kinds}) })
		says := timed(func() { _, _ = p.Says(), p.Summary() })
		parse := parsing.Seconds()
		b.ReportMetric((ready+all).Seconds()/parse, "x-parsing-new")
		b.ReportMetric((ready+nothing).Seconds()/parse, "x-parsing-unchanged")
		b.ReportMetric(100*one.Seconds()/(ready+all).Seconds(), "%-one-changed")
		b.ReportMetric(all.Seconds()/tenth.Seconds(), "x-of-a-tenth")
		b.ReportMetric(100*says.Seconds()/all.Seconds(), "%-says")
		b.ReportMetric(float64(after.TotalAlloc-before.TotalAlloc)/(1<<20), "MiB-new")
		b.Logf("%d steps; parsing %v, check and expansion %v, all new %v, nothing %v, one %v, saying it %v", len(p.Steps), parsing,
			ready, all, nothing, one, says)
	}
}

func timed(do func()) time.Duration {
	begun := time.Now()
	do()
	return time.Since(begun)
}

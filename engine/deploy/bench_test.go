package deploy_test

import (
	"fmt"
	"testing"
	"time"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

// BenchmarkSteps reports the cost of a step of a first deployment for the local platform, in a service of 1,000
// functions relative to one of 100.
func BenchmarkSteps(b *testing.B) {
	for b.Loop() {
		perStep := map[int]time.Duration{}
		few, many := 100, 1000
		if testing.Short() {
			few, many = 5, 50
		}
		for _, n := range []int{few, many} {
			w := newWorld(b)
			files := map[string]string{"rudmar.yaml": "rudmar: 1\nservice: orchard\nowner: growers\n" +
				"stages: [{stage: trial, target: local/north, enter: {when: push, branch: main}}]\n"}
			for i := range n {
				files[fmt.Sprintf("f%d/function.yaml", i)] = fmt.Sprintf("function: f%d\nruntime: python\nhandler: main:run\n"+
					"permissions: [{allow: [read], resource: tables/t%d}]\ntriggers: {ask: {route: GET /f/%d, open_to: authenticated}}\n", i, i, i)
				files[fmt.Sprintf("f%d/main.py", i)] = "def run(call):\n    return 0\n"
			}
			s := check.Service(manifest.FilesOf(files)).Service
			in := expand.Inputs{Version: 1, Artifacts: map[string]string{}, Address: "http://routes"}
			for _, fn := range s.Functions {
				in.Artifacts[fn.Name] = w.digests[0]
			}
			wanted, _ := expand.Expand(s, s.Stage("trial"), s.Stage("trial").Targets[0], in)
			p := w.plans(s, wanted)
			begun := time.Now()
			if err := w.deploy(p); err != nil {
				b.Fatal(err)
			}
			perStep[n] = time.Since(begun) / time.Duration(len(p.Steps))
		}
		b.ReportMetric(float64(perStep[many])/float64(perStep[few]), "x-step-at-tenfold-size")
		b.Logf("a step takes %v of %d functions, %v of %d", perStep[few], few, perStep[many], many)
	}
}

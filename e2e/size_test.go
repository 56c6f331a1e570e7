package e2e

import (
	"flag"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"

	"rudmar/server/api"
)

var atSize = flag.Int("functions", 160, "how many functions the service of TestManyFunctions has")

// watchTasks counts the page's tasks of over 50 ms from here on.
func (p *tab) watchTasks() {
	p.page.MustEval(`() => {
		window.long = []
		new PerformanceObserver((l) => l.getEntries().forEach((e) => long.push(e.duration))).observe({ type: 'longtask' })
	}`)
}

func (p *tab) longTasks() string { return p.page.MustEval(`() => JSON.stringify(long)`).Str() }

// TestManyFunctions opens the pages of a service of many functions, and watches its Board during invocations
// and outside changes: the page contains only the visible rows.
func TestManyFunctions(t *testing.T) {
	r := demoAlone(t)
	dir := r.clone("wren")
	orchard(t, dir, *atSize, "row%04d", `stages:
  - stage: trial
    target: local/north
    enter: {when: push, branch: main}
  - stage: live
    target: local/north
    enter: {after: trial, when: request}
`, func(i int) string {
		return fmt.Sprintf("triggers:\n  get: {route: \"GET /rows/%d\", open_to: authenticated}\n", i)
	})
	if out, err := push(t, dir, "Rows"); err != nil {
		t.Fatal(out)
	}
	begun := time.Now()
	at := "/services/orchard"
	until(t, "the rows to be in trial", func() bool {
		var line api.StageLine
		r.ask("wren", "GET", at+"/stage-line", nil, &line)
		return len(line.Stages) > 0 && line.Stages[0].State == "settled"
	})
	t.Logf("%d functions were in trial after %.1f s", *atSize, time.Since(begun).Seconds())

	p := r.open(browse(t), "wren")
	last := fmt.Sprintf("row%04d", *atSize-1)
	opened := func(path, text string) {
		t.Helper()
		begun := time.Now()
		p.must("going there", p.page.Navigate(r.address+"/s/orchard/"+path))
		p.reads(text)
		t.Logf("%s: %.0f ms, %d nodes", path, float64(time.Since(begun).Milliseconds()),
			p.page.MustEval(`() => document.querySelectorAll('*').length`).Int())
	}
	opened("board?stage=trial", "row0000")
	if n := p.page.MustEval(`() => document.querySelectorAll('main tbody tr').length`).Int(); n > 80 {
		t.Errorf("the Board has %d rows in the page", n)
	}
	p.must("counting", proto.PerformanceEnable{}.Call(p.page))
	p.watchTasks()
	for i := range 20 {
		var got api.Invocation
		r.ask("wren", "POST", fmt.Sprintf("%s/stages/trial/functions/row%04d/invocations", at, i%4),
			map[string]any{"target": "local/north", "event": map[string]any{}}, &got)
	}
	p.reads("invocation")
	t.Logf("tasks of over 50 ms while the Board changed: %s", p.longTasks())
	p.page.MustEval(`() => window.scrollTo(0, document.body.scrollHeight)`)
	p.reads(last)
	opened("plan?stage=live&version=1", fmt.Sprintf("creates %d functions", *atSize))
	p.press("more functions$")
	p.press("^By function")
	p.watchTasks()
	p.page.MustEval(`() => window.scrollTo(0, document.body.scrollHeight)`)
	p.reads(fmt.Sprintf("row%04d", min(*atSize, 250)-1)) // of those that the fold held back
	t.Logf("tasks of over 50 ms while the plan scrolled: %s, with %d nodes", p.longTasks(),
		p.page.MustEval(`() => document.querySelectorAll('*').length`).Int())
	p.press("^By phase")
	p.reads("Phase 1")
	checkParts(t, r, 7**atSize)
	begun = time.Now()
	var sketch api.DraftPlan
	text := "function: row0000\nruntime: python\nhandler: main:run\nmemory: 256 MiB\ntriggers:\n  get: {route: \"GET /rows/0\", open_to: authenticated}\n"
	for range 3 {
		begun = time.Now()
		r.ask("wren", "POST", at+"/source/plan", map[string]any{"branch": "main", "stage": "trial",
			"files": map[string]any{"functions/row0000/function.yaml": text}}, &sketch)
	}
	if len(sketch.Plan.Steps) != 3 {
		t.Errorf("an edit of one function has %d steps: %s", len(sketch.Plan.Steps), sketch.Text)
	}
	t.Logf("the plan of an edit: %.0f ms", float64(time.Since(begun).Milliseconds()))
	var deployments []api.Deployment
	r.ask("wren", "GET", at+"/deployments", nil, &deployments)
	opened(fmt.Sprintf("deployments/%d", deployments[0].Id), "succeeded in")
	if n := p.page.MustEval(`() => document.querySelectorAll('main tbody tr').length`).Int(); n > 400 {
		t.Errorf("the deployment has %d rows in the page", n)
	}
	opened("deliveries", "settled")
	opened("functions/"+last+"?stage=trial", "GET /rows/")
	opened("source", "functions")
	opened("journal", "built")
	opened("versions", "Rows")
}

// checkParts reads the plan of the service's steps in live part by part, as the page does.
func checkParts(t *testing.T, r *rig, steps int) {
	t.Helper()
	var kept api.SavedPlan
	r.ask("wren", "GET", "/services/orchard/plan?stage=live&version=1", nil, &kept)
	p := kept.Plan
	if p.Total.Steps != steps || p.Next == nil || len(p.Steps) >= steps || len(p.Steps) < 1000 {
		t.Fatalf("of a plan of %d steps come first %d of %+v", steps, len(p.Steps), p.Total)
	}
	seen := map[int]bool{}
	for _, s := range p.Steps {
		seen[s.Index] = true
	}
	for next := p.Next; next != nil; {
		var part api.PlanPart
		r.ask("wren", "GET", "/services/orchard/plan/steps?digest="+p.Digest+"&after="+*next, nil, &part)
		for _, s := range part.Steps {
			if seen[s.Index] {
				t.Fatalf("step %d comes twice", s.Index)
			}
			seen[s.Index] = true
		}
		next = part.Next
	}
	if len(seen) != steps {
		t.Errorf("the parts have %d of %d steps", len(seen), steps)
	}
	for _, other := range []string{"frostline/plan/steps?digest=" + p.Digest,
		"orchard/plan/steps?digest=sha256:" + strings.Repeat("0", 64)} {
		if code, said := r.try("wren", "GET", "/services/"+other+"&after=row0000", nil, nil); code != http.StatusNotFound {
			t.Errorf("%s: %d %s", other, code, said)
		}
	}
}

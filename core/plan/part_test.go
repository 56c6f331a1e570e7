package plan_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"rudmar/core/plan"
)

// TestPartialPlansAddUp puts parts of made-up plans together again.
func TestPartialPlansAddUp(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	for range 300 {
		var p plan.Plan
		functions := map[string]bool{}
		for i := range random.IntN(60) {
			fn := fmt.Sprintf("f%d", random.IntN(12))
			functions[fn] = true
			p.Steps = append(p.Steps, plan.Step{Index: i, Function: fn})
		}
		if got := p.Total(); got.Steps != len(p.Steps) || got.Functions != len(functions) {
			t.Fatalf("%d steps of %d functions are counted as %+v", len(p.Steps), len(functions), got)
		}
		least := 1 + random.IntN(20)
		var all []plan.Step
		for after, parts := "", 0; ; parts++ {
			steps, next := p.Part(after, least)
			if next != "" && len(steps) < least {
				t.Fatalf("a part has %d steps, and there are more than the %d that were requested", len(steps), least)
			}
			if len(all) > 0 && len(steps) > 0 && steps[0].Function <= all[len(all)-1].Function {
				t.Fatalf("after %s comes %s", all[len(all)-1].Function, steps[0].Function)
			}
			if last := len(steps) - 1; last >= least && steps[last].Function != steps[least-1].Function {
				t.Fatalf("a part of at least %d goes on after the function that fills it: %d", least, len(steps))
			}
			if all = append(all, steps...); next == "" {
				break
			}
			if next != steps[len(steps)-1].Function || parts > len(p.Steps) {
				t.Fatalf("the next part comes after %s, which is not the last of this one", next)
			}
			after = next
		}
		for fn := range functions {
			own := slices.DeleteFunc(slices.Clone(all), func(s plan.Step) bool { return s.Function != fn })
			if !slices.IsSortedFunc(own, func(a, b plan.Step) int { return a.Index - b.Index }) {
				t.Fatalf("the steps of %s are in another order", fn)
			}
		}
		slices.SortFunc(all, func(a, b plan.Step) int { return a.Index - b.Index })
		if len(all) != len(p.Steps) {
			t.Fatalf("the parts have %d steps of %d", len(all), len(p.Steps))
		}
		for i := range all {
			if all[i].Index != i {
				t.Fatalf("step %d comes twice or not at all", i)
			}
		}
	}
}

package plan_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"rudmar/core/plan"
)

// simulated sends a limited number of steps at a time, each with its expected duration, and returns the end of
// the last one.
func simulated(t *testing.T, steps []plan.Step, done []bool, atOnce int) (end int64, order []int) {
	t.Helper()
	q := plan.NewQueue(steps, func(i int) bool { return done[i] })
	finished := slices.Clone(done)
	type flight struct {
		step int
		ends int64
	}
	var flying []flight
	for {
		for len(flying) < atOnce {
			i, ok := q.Next()
			if !ok {
				break
			}
			for _, need := range steps[i].Needs {
				if !finished[need] {
					t.Fatalf("%d is sent before %d, which it needs", i, need)
				}
			}
			flying, order = append(flying, flight{i, end + steps[i].Expected}), append(order, i)
		}
		if len(flying) == 0 {
			return end, order
		}
		first := 0
		for i := range flying {
			if flying[i].ends < flying[first].ends {
				first = i
			}
		}
		end = flying[first].ends
		finished[flying[first].step] = true
		q.Done(flying[first].step)
		flying = slices.Delete(flying, first, first+1)
	}
}

// Every remaining step is sent once, after its dependencies; and within the bound of list scheduling (Graham
// 1969): the longest path, plus the divided work.
func TestQueue(t *testing.T) {
	for seed := range uint64(500) {
		dice := rand.New(rand.NewPCG(seed, 41))
		steps, done := make([]plan.Step, 1+dice.IntN(60)), []bool{}
		for i := range steps {
			steps[i].Expected = int64(1 + dice.IntN(50))
			isDone := dice.IntN(5) == 0
			for j := range i {
				if dice.IntN(12) == 0 {
					steps[i].Needs = append(steps[i].Needs, j)
					isDone = isDone && done[j]
				}
			}
			done = append(done, isDone)
		}
		atOnce := 1 + dice.IntN(8)
		end, order := simulated(t, steps, done, atOnce)
		var longest, work int64
		way := make([]int64, len(steps))
		left := 0
		for i := range steps {
			if done[i] {
				continue
			}
			left++
			for _, need := range steps[i].Needs {
				way[i] = max(way[i], way[need])
			}
			way[i] += steps[i].Expected
			longest, work = max(longest, way[i]), work+steps[i].Expected
		}
		if slices.Sort(order); len(slices.Compact(order)) != left || end > longest+work/int64(atOnce) || end < longest {
			t.Fatalf("seed %d: %d of %d steps are sent, by %d; the longest way is %d, the work %d for %d", seed, len(order), left, end,
				longest, work, atOnce)
		}
	}
}

// The longest path starts first: a chain starts before independent steps.
func TestLongestPathStartsFirst(t *testing.T) {
	steps := []plan.Step{{Expected: 30}, {Expected: 30}, {Expected: 10}, {Expected: 10, Needs: []int{2}},
		{Expected: 40, Needs: []int{3}}}
	if end, order := simulated(t, steps, make([]bool, 5), 1); end != 120 || !slices.Equal(order, []int{2, 3, 4, 0, 1}) {
		t.Errorf("%v, by %d", order, end)
	}
	if end, _ := simulated(t, steps, make([]bool, 5), 2); end != 60 {
		t.Errorf("two at a time end by %d", end)
	}
}

package plan

import (
	"slices"
	"strings"
)

// Total is how much a plan has.
type Total struct {
	Steps     int `json:"steps"`
	Functions int `json:"functions"`
}

// Total counts the steps, and the functions that they are of.
func (p *Plan) Total() Total {
	functions := map[string]bool{}
	for i := range p.Steps {
		functions[p.Steps[i].Function] = true
	}
	return Total{Steps: len(p.Steps), Functions: len(functions)}
}

// Part returns the steps of the functions after one by name, "" for the first, until there are at least `least`
// steps: a function is returned completely or not at all. Within a function steps are in the plan's order. If
// functions remain, next is the last returned one, so Part returns the rest after it; otherwise it is "".
func (p *Plan) Part(after string, least int) (steps []Step, next string) {
	order := make([]int, 0, len(p.Steps))
	for i := range p.Steps {
		if after == "" || p.Steps[i].Function > after {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return strings.Compare(p.Steps[a].Function, p.Steps[b].Function)
	})
	steps = []Step{}
	for n, i := range order {
		if n >= least && n > 0 && p.Steps[i].Function != p.Steps[order[n-1]].Function {
			return steps, p.Steps[order[n-1]].Function
		}
		steps = append(steps, p.Steps[i])
	}
	return steps, ""
}

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

// Part returns the steps of the functions that come after one by their names, "" for the first, until there are
// at least `least` steps: a function is given whole or not at all. Within a function steps stand in the plan's
// order. Where there are functions behind, next is the last one that is given, so Part gives the rest after it;
// if there are none it is "".
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

package plan

import (
	"slices"

	"rudmar/core/canon"
)

// Difference is the difference of a plan from another one.
type Difference struct {
	Added   []Step       `json:"added"`
	Gone    []Step       `json:"removed"`
	Changed []StepChange `json:"changed"`
	// Says is the impact of this plan only, RemovedImpact that of the other one only.
	ImpactLines   []ImpactLine `json:"impact"`
	RemovedImpact []ImpactLine `json:"removedImpact"`
}

// StepChange is a step of both plans that differs.
type StepChange struct {
	Before Step `json:"before"`
	After  Step `json:"after"`
}

// Against compares a plan with an older one by its steps, regardless of their order.
func (p *Plan) Against(older *Plan) Difference {
	d := Difference{Added: []Step{}, Gone: []Step{}, Changed: []StepChange{}, ImpactLines: []ImpactLine{},
		RemovedImpact: []ImpactLine{}}
	before := map[string]*Step{}
	for i := range older.Steps {
		before[older.Steps[i].Address] = &older.Steps[i]
	}
	for _, s := range p.Steps {
		old, there := before[s.Address]
		delete(before, s.Address)
		switch {
		case !there:
			d.Added = append(d.Added, s)
		case !sameStep(old, &s):
			d.Changed = append(d.Changed, StepChange{Before: *old, After: s})
		}
	}
	for _, s := range older.Steps {
		if before[s.Address] != nil {
			d.Gone = append(d.Gone, s)
		}
	}
	mine, its := p.ImpactLines(), older.ImpactLines()
	d.ImpactLines = append(d.ImpactLines, without(mine, its)...)
	d.RemovedImpact = append(d.RemovedImpact, without(its, mine)...)
	return d
}

func sameStep(a, b *Step) bool {
	return a.Change == b.Change && a.RecordOnly == b.RecordOnly && a.RenamedFrom == b.RenamedFrom &&
		slices.EqualFunc(a.Attributes, b.Attributes, func(x, y AttributeChange) bool {
			return x.Name == y.Name && canon.Equal(x.Before, y.Before) && canon.Equal(x.After, y.After) &&
				canon.Equal(x.Actual, y.Actual)
		})
}

// without returns the lines of a that b does not have.
func without(a, b []ImpactLine) []ImpactLine {
	var out []ImpactLine
	for _, l := range a {
		if !slices.ContainsFunc(b, func(o ImpactLine) bool { return o.Kind == l.Kind && o.Text == l.Text }) {
			out = append(out, l)
		}
	}
	return out
}

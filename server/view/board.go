package view

import (
	"slices"
	"strings"

	"rudmar/core/manifest"
	"rudmar/engine/observe"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// Board returns the functions by stages, and what needs attention.
func Board(f *Facts) api.Board {
	out := api.Board{Stages: []string{}, Rows: []api.BoardRow{}, Attention: Attention(f)}
	rows := map[string]*api.BoardRow{}
	if f.Manifests != nil {
		for _, fn := range f.Manifests.Functions {
			row := &api.BoardRow{Function: fn.Name, Description: api.Optional(fn.About), Triggers: []string{}}
			for _, t := range fn.At("").Triggers {
				row.Triggers = append(row.Triggers, triggerWords(t))
			}
			rows[fn.Name] = row
		}
	}
	for i := range f.Stages() {
		out.Stages = append(out.Stages, f.Stages()[i].Name)
		column(f, i, rows)
	}
	for _, row := range rows {
		out.Rows = append(out.Rows, *row)
	}
	slices.SortFunc(out.Rows, func(a, b api.BoardRow) int { return strings.Compare(a.Function, b.Function) })
	return out
}

// column fills in the cells of a stage.
func column(f *Facts, i int, rows map[string]*api.BoardRow) {
	stage := f.Stages()[i]
	cells := map[string]*api.BoardCell{}
	for _, t := range stage.Targets {
		at := manifest.Place{Service: f.Service.Name, Stage: stage.Name, Target: t}
		look := f.Looks[at]
		for _, r := range f.Records[at] {
			if cells[r.Function] == nil {
				cells[r.Function] = &api.BoardCell{Stage: stage.Name, Deployed: true}
			}
			fill(cells[r.Function], r, look)
		}
		for _, d := range look.Drift {
			if cell := cells[d.Function]; cell != nil && d.Open() {
				cell.Drifted = api.Optional(true)
			}
		}
	}
	for fn, cell := range cells {
		cell.Behind = api.Optional(f.Behind[stage.Name][fn])
		if rows[fn] == nil { // removed from the manifests, but still deployed
			rows[fn] = &api.BoardRow{Function: fn, Triggers: []string{}}
		}
	}
	there, _ := f.VersionIn(stage.Name)
	for fn, row := range rows {
		for len(row.Cells) < i { // not in the stages before
			row.Cells = append(row.Cells, api.BoardCell{Stage: f.Stages()[len(row.Cells)].Name})
		}
		cell := cells[fn]
		if cell == nil {
			cell = &api.BoardCell{Stage: stage.Name}
		}
		if slices.Contains(f.Left[stage.Name], fn) {
			cell.MissingFrom = &there
		}
		row.Cells = append(row.Cells, *cell)
	}
}

// fill fills a function's cell from the record and the observation.
func fill(cell *api.BoardCell, r store.FunctionStatus, look observe.Observation) {
	if r.Version > 0 {
		cell.Version, cell.At = &r.Version, api.Optional(r.At.UnixMilli())
	}
	if r.Memory > 0 {
		cell.MemoryLimit = api.Optional(r.Memory)
		f := look.Functions[r.Function]
		cell.Invocations, cell.Errors = api.Optional(api.OrZero(cell.Invocations)+f.Invocations),
			api.Optional(api.OrZero(cell.Errors)+f.Errors)
		cell.MemoryPeak = api.Optional(max(api.OrZero(cell.MemoryPeak), f.MemoryPeak))
	}
}

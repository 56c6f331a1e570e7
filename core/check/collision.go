package check

import (
	"slices"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/route"
)

func (w *whole) collisions(stage string) {
	type taker struct {
		fn      *manifest.Function
		trigger *manifest.Trigger
	}
	first := make(map[string]taker, 2*len(w.out.Functions))
	for _, fn := range w.out.Functions {
		config := fn.At(stage)
		for _, r := range config.Routes {
			t := &config.Triggers[r.Trigger]
			other, taken := first[r.Key]
			if !taken {
				first[r.Key] = taker{fn, t}
				continue
			}
			request, collide := route.Collide(other.trigger.Route.V, t.Route.V)
			if !collide {
				continue
			}
			w.collision(stage, fn, t, other.fn, other.trigger, request)
			w.collision(stage, other.fn, other.trigger, fn, t, request)
		}
	}
}

// collision reports, at one of two routes, that it collides with the other, with the other's location.
func (w *whole) collision(stage string, fn *manifest.Function, t *manifest.Trigger, other *manifest.Function,
	o *manifest.Trigger, request string) {
	line, column := int(t.Route.From.Line), int(t.Route.From.Column)
	at := diagnostic.Range{File: t.Route.From.File, Line: line, Column: column, EndLine: line,
		EndColumn: column + len(t.Route.V.String())}
	if i := w.toldAt(diagnostic.CodeCollision, at); i >= 0 {
		w.diagnostics[i].Stage = "" // the same in several stages
		return
	}
	d := w.add(diagnostic.CodeCollision, at,
		"in %s both %s (%s) and %s (%s, %s:%d) match the request %s; change one of the paths", stage,
		t.Route.V, fn.Name, o.Route.V, other.Name, o.Route.From.File, o.Route.From.Line, request)
	d.Stage = stage
}

func (w *whole) toldAt(code diagnostic.Code, at diagnostic.Range) int {
	return slices.IndexFunc(w.diagnostics, func(d diagnostic.Diagnostic) bool { return d.Code == code && d.Range == at })
}

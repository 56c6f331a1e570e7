package manifest

import (
	"slices"
	"strings"

	"rudmar/core/route"
)

func (w *whole) collisions(stage string) {
	type place struct {
		fn      *Function
		trigger *Trigger
	}
	first := make(map[string]place, 2*len(w.out.Functions))
	for _, fn := range w.out.Functions {
		config := fn.At(stage)
		for _, r := range config.routes {
			t := &config.Triggers[r.trigger]
			other, taken := first[r.key]
			if !taken {
				first[r.key] = place{fn, t}
				continue
			}
			request, collide := route.Collide(other.trigger.Route.V, t.Route.V)
			if !collide {
				continue
			}
			line, column := int(t.Route.From.Line), int(t.Route.From.Column)
			at := Range{File: t.Route.From.File, Line: line, Column: column, EndLine: line, EndColumn: column + len(t.Route.V.String())}
			if i := w.toldAt(CodeCollision, at); i >= 0 {
				w.diagnostics[i].Stage = "" // it is so in several
				continue
			}
			d := w.add(CodeCollision, at, "in %s both %s (%s) and %s (%s) take the request %s; change one of the paths", stage,
				t.Route.V, fn.Name, other.trigger.Route.V, other.fn.Name, request)
			d.Stage = stage
		}
	}
}

// routeKey is the same for two routes just when they collide.
func routeKey(r route.Route) string {
	b := strings.Builder{}
	b.WriteString(r.Method)
	for _, s := range r.Segments {
		switch s.Kind {
		case route.Literal:
			b.WriteString("/" + s.Text)
		case route.Parameter:
			b.WriteString("/{}")
		case route.Rest:
			b.WriteString("/{...}")
		}
	}
	return b.String()
}

func (w *whole) toldAt(code Code, at Range) int {
	return slices.IndexFunc(w.diagnostics, func(d Diagnostic) bool { return d.Code == code && d.Range == at })
}

package check

import (
	"slices"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// stages lists the stages that a check is about.
func (w *whole) stages() []manifest.Stage {
	if w.options.Stage == "" {
		return w.out.Stages
	}
	return slices.DeleteFunc(slices.Clone(w.out.Stages), func(s manifest.Stage) bool { return s.Name != w.options.Stage })
}

// ofStages says of diagnostics of one file which stage they stand under, and
// leaves out those of stages that the check is not about.
func (w *whole) ofStages(f *known, found []diagnostic.Diagnostic) []diagnostic.Diagnostic {
	var out []diagnostic.Diagnostic
	for _, d := range found {
		if d.Stage == "" {
			d.Stage = f.stageAt(d.Line, d.Column)
		}
		if w.options.Stage == "" || d.Stage == "" || d.Stage == w.options.Stage {
			out = append(out, d)
		}
	}
	return out
}

// stageAt gives the stage whose part of a file a place lies in, or "".
func (k *known) stageAt(line, column int) string {
	within := func(from, to *tree.Node) bool {
		after := line > int(from.Line) || line == int(from.Line) && column >= int(from.Column)
		last := to.Last()
		before := line < int(last.EndLine) || line == int(last.EndLine) && column <= int(last.EndColumn)
		return after && before
	}
	if in := k.node.Get("in"); in != nil && in.Kind == tree.Mapping {
		for i, key := range in.Keys {
			if within(key, in.Items[i]) {
				return key.Text
			}
		}
	}
	if stages := k.node.Get("stages"); stages != nil && stages.Kind == tree.Sequence {
		for _, item := range stages.Items {
			if within(item, item) {
				return item.Get("stage").Value()
			}
		}
	}
	return ""
}

package manifest

import "slices"

// ForStage gives a language whose checks leave out what concerns other stages only.
func (l *Language) ForStage(name string) *Language {
	with := *l
	with.stage = name
	return &with
}

// stages lists the stages that a check is about.
func (w *whole) stages() []Stage {
	if w.language.stage == "" {
		return w.out.Stages
	}
	return slices.DeleteFunc(slices.Clone(w.out.Stages), func(s Stage) bool { return s.Name != w.language.stage })
}

// ofStages says of diagnostics of one file which stage they stand under, and
// leaves out those of stages that the check is not about.
func (w *whole) ofStages(f *known, found []Diagnostic) []Diagnostic {
	var out []Diagnostic
	for _, d := range found {
		if d.Stage == "" {
			d.Stage = f.stageAt(d.Line, d.Column)
		}
		if w.language.stage == "" || d.Stage == "" || d.Stage == w.language.stage {
			out = append(out, d)
		}
	}
	return out
}

// stageAt gives the stage whose part of a file a place lies in, or "".
func (k *known) stageAt(line, column int) string {
	within := func(from, to *Node) bool {
		after := line > int(from.line) || line == int(from.line) && column >= int(from.column)
		last := to.last()
		before := line < int(last.endLine) || line == int(last.endLine) && column <= int(last.endColumn)
		return after && before
	}
	if in := k.node.Get("in"); in != nil && in.Kind == Mapping {
		for i, key := range in.Keys {
			if within(key, in.Items[i]) {
				return key.Text
			}
		}
	}
	if stages := k.node.Get("stages"); stages != nil && stages.Kind == Sequence {
		for _, item := range stages.Items {
			if within(item, item) {
				return textOf(item.Get("stage"))
			}
		}
	}
	return ""
}

// last gives the node that ends last in a tree.
func (n *Node) last() *Node {
	for len(n.Items) > 0 {
		n = n.Items[len(n.Items)-1]
	}
	return n
}

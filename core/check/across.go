package check

import (
	"fmt"
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

func (w *whole) settingNames() []string {
	var out []string
	for _, s := range w.out.Settings {
		out = append(out, s.Name)
	}
	return out
}

func (w *whole) functionNames() []string {
	if w.out == nil {
		return nil
	}
	out := make([]string, len(w.out.Functions))
	for i, f := range w.out.Functions {
		out[i] = f.Name
	}
	return out
}

func (w *whole) unknownName(at diagnostic.Range, name, what string, known []string) {
	d := w.add(diagnostic.CodeUnknownReference, at, "%q is not a %s of this service", diagnostic.Clip(name), what)
	if near := diagnostic.Nearest(name, known); near != "" {
		d.Meant(near)
	} else if len(known) > 0 && len(known) <= 12 {
		d.Message += "; there are " + strings.Join(known, ", ")
	}
}

// across checks what concerns several places at once.
func (w *whole) across() {
	functions := w.functionNames()
	same := w.sameRoot && w.sameFiles && slices.Equal(functions, w.before.functions)
	if !same {
		var handlers []string
		for i := range w.declared {
			if name := w.handlerFile(w.out.Functions[i]); name != "" {
				handlers = append(handlers, name)
			}
		}
		load(w.folder, handlers)
	}
	w.platforms = w.offered()
	w.runtimeDefault()
	w.spread(len(w.declared), func(own *whole, i int) {
		f := w.files[w.declared[i]]
		if same && f.followed && own.sameCode(f) {
			return
		}
		if f == w.before.files[f.name] { // others may be reading it
			again := *f
			f = &again
			w.files[w.declared[i]] = f
		}
		f.followed = true
		f.alone = own.apart(func() { own.follow(f, w.out.Functions[i], functions) })
	})
	w.references(w.root.node.Get("defaults"), functions)
	for _, s := range w.stages() {
		w.collisions(s.Name)
	}
}

// sameCode tells whether the handler's file is as it was.
func (w *whole) sameCode(f *known) bool {
	if f.code == "" {
		return true
	}
	held, err := stampOf(w.folder, f.code)
	return err == nil && held.same(f.codeHeld)
}

// follow checks what concerns one function.
func (w *whole) follow(f *known, fn *manifest.Function, functions []string) {
	n := f.node
	w.handler(f, fn, n)
	w.offers(n)
	w.triggers(n.Get("triggers"), functions, false)
	w.permissions(n.Get("permissions"))
	w.references(n, functions)
	if in := n.Get("in"); in != nil && in.Kind == tree.Mapping {
		for _, stage := range in.Items {
			w.triggers(stage.Get("triggers"), functions, true)
			w.permissions(stage.Get("permissions"))
			w.references(stage, functions)
		}
	}
}

func (w *whole) triggers(n *tree.Node, functions []string, override bool) {
	if n == nil || n.Kind != tree.Mapping {
		return
	}
	for i, t := range n.Items {
		if t.Kind != tree.Mapping {
			continue
		}
		var kinds []string
		for _, kind := range manifest.TriggerKinds() {
			if t.Get(string(kind)) != nil {
				kinds = append(kinds, string(kind))
			}
		}
		name := n.Keys[i]
		switch {
		case len(kinds) > 1:
			w.add(diagnostic.CodeTriggerKind, name.Range(), "the trigger %q has %s; it can have one of them, so make it several triggers", name.Text, strings.Join(kinds, " and "))
		case len(kinds) == 0 && !override:
			w.add(diagnostic.CodeTriggerKind, name.Range(), "the trigger %q says nothing that calls it; give it one of route, cron, every, objects, queue and function", name.Text)
		}
		if r := t.Get("route"); r != nil && t.Get("open_to") == nil && !override {
			d := w.add(diagnostic.CodeOpenTo, r.Range(), "the route %q does not say who may call it; add open_to: members, anyone, or a list of groups", name.Text)
			if !r.Quoted || r.Line == r.EndLine {
				end := r.Range()
				end.Line, end.Column = end.EndLine, end.EndColumn
				insert := ", open_to: members"
				if !sameLine(t) {
					insert = "\n" + strings.Repeat(" ", max(0, int(t.Keys[0].Column)-1)) + "open_to: members"
				}
				d.Fix = &diagnostic.Fix{Title: "Open it to members", Edits: []diagnostic.Edit{{Range: end, Text: insert}}}
			}
		}
		if f := t.Get("function"); f != nil && !contains(functions, f.Text) {
			d := w.add(diagnostic.CodeWholeService, f.Range(), "%q is not a function of this service", diagnostic.Clip(f.Text))
			d.Meant(diagnostic.Nearest(f.Text, functions))
		}
	}
}

func contains(sorted []string, name string) bool {
	_, found := slices.BinarySearch(sorted, name)
	return found
}

// sameLine tells whether a mapping is written in braces on one line.
func sameLine(n *tree.Node) bool {
	return len(n.Keys) > 0 && n.Column < n.Keys[0].Column && n.Line == n.Keys[0].Line
}

func (w *whole) permissions(n *tree.Node) {
	if n == nil || n.Kind != tree.Sequence {
		return
	}
	warn := func(at *tree.Node, what string) {
		d := w.add(diagnostic.CodeWildcard, at.Range(), "%s allows what nobody has thought of yet; name what is needed", what)
		d.Severity = diagnostic.Warning
		for _, s := range w.stages() {
			if s.Strict {
				d.Severity = diagnostic.Error
				d.Message += fmt.Sprintf(" (the stage %q is strict)", s.Name)
				return
			}
		}
	}
	for _, p := range n.Items {
		if may := p.Get("may"); may != nil {
			for _, verb := range may.Items {
				if verb.Text == "*" {
					warn(verb, "the verb *")
				}
			}
		}
		of := p.Get("of")
		if of == nil {
			continue
		}
		if of.Text == "*" || strings.HasPrefix(of.Text, "*/") {
			warn(of, "the resource "+of.Text)
		}
		w.knownSecret(of)
	}
}

// knownSecret warns of a permission to read a secret that the service does not
// declare: most often it is misspelt.
func (w *whole) knownSecret(of *tree.Node) {
	name, ok := strings.CutPrefix(of.Text, "secrets/")
	if !ok || strings.ContainsAny(name, "*$") || slices.Contains(w.out.Secrets, name) {
		return
	}
	d := w.add(diagnostic.CodeUnknownSecret, of.Range(), "%q is not a secret of this service: declare it under secrets, or keep its value on the platform by hand", diagnostic.Clip(name))
	d.Severity = diagnostic.Warning
	if near := diagnostic.Nearest(name, w.out.Secrets); near != "" {
		d.Message += fmt.Sprintf("; did you mean %q?", near)
		d.Mend(fmt.Sprintf("Change to %q", "secrets/"+near), "secrets/"+near)
	}
}

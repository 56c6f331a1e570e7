package check

import (
	"regexp"
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// triggers checks the triggers that a function declares.
func (w *whole) triggers(n *tree.Node, functions []string) {
	if n == nil || n.Kind != tree.Mapping {
		return
	}
	for i, t := range n.Items {
		if t.Kind == tree.Mapping {
			w.trigger(n.Keys[i], t, t, functions)
		}
	}
}

// overrides checks a stage's changes of a function's triggers, after merging.
func (w *whole) overrides(base, over *tree.Node, stage string, functions []string) {
	if over == nil || over.Kind != tree.Mapping {
		return
	}
	var names []string
	if base != nil {
		for _, k := range base.Keys {
			names = append(names, k.Text)
		}
	}
	for i, t := range over.Items {
		key, own := over.Keys[i], base.Get(over.Keys[i].Text)
		switch {
		case own == nil && (t.Kind == tree.Null || t.Kind == tree.Mapping && len(kindsOf(t)) == 0):
			d := w.add(diagnostic.CodeNoTrigger, key.Range(), "the function has no trigger %q that %s could change",
				diagnostic.Clip(key.Text), stage)
			d.Meant(diagnostic.Nearest(key.Text, names))
		case t.Kind != tree.Mapping:
		case own == nil:
			w.trigger(key, t, t, functions)
		default:
			w.trigger(key, tree.Merge(own, t), t, functions)
		}
	}
}

func kindsOf(t *tree.Node) []string {
	var kinds []string
	for _, kind := range manifest.TriggerKinds() {
		if at := t.Get(string(kind)); at != nil && at.Kind != tree.Null {
			kinds = append(kinds, string(kind))
		}
	}
	return kinds
}

// trigger checks one trigger after merging; written is the part of it in this file, at which problems are
// reported.
func (w *whole) trigger(name, t, written *tree.Node, functions []string) {
	w.source(written)
	kinds := kindsOf(t)
	switch {
	case len(kinds) > 1 && written != t:
		w.add(diagnostic.CodeTriggerKind, name.Range(),
			"combined with the function's manifest, the trigger %q has %s; remove the other one (%s: null)", name.Text,
			strings.Join(kinds, " and "), kinds[0])
		return
	case len(kinds) > 1:
		w.add(diagnostic.CodeTriggerKind, name.Range(),
			"the trigger %q has %s; split it into several triggers", name.Text,
			strings.Join(kinds, " and "))
		return
	case len(kinds) == 0:
		w.add(diagnostic.CodeTriggerKind, name.Range(),
			"the trigger %q has no source; add one of route, cron, every, objects, queue and after_function",
			name.Text)
		return
	}
	kind := kinds[0]
	allowed := language.TriggerKeys(kind)
	takes := "only enabled"
	if len(allowed) > 0 {
		takes = strings.Join(allowed, " and ")
	}
	for i, key := range written.Keys {
		if ofSomeTrigger(key.Text) && !slices.Contains(allowed, key.Text) && written.Items[i].Kind != tree.Null {
			w.add(diagnostic.CodeTriggerKey, key.Range(), "%q is not valid for triggers of kind %s (expected %s)", key.Text, kind,
				takes)
		}
	}
	if events := written.Get("events"); events != nil && events.Kind == tree.Sequence {
		words := language.TriggerEvents(kind)
		for _, word := range events.Items {
			if len(words) > 0 && !slices.Contains(words, word.Text) && word.Kind == tree.Scalar {
				d := w.add(diagnostic.CodeTriggerKey, word.Range(), "%q is not an event of triggers of kind %s (expected one of %s)",
					diagnostic.Clip(word.Text), kind, strings.Join(words, ", "))
				d.Meant(diagnostic.Nearest(word.Text, words))
			}
		}
	}
	if r := t.Get("route"); r != nil {
		w.openTo(name, t, written, r)
	}
	if f := written.Get("after_function"); f != nil && f.Kind == tree.Scalar && !contains(functions, f.Text) {
		d := w.add(diagnostic.CodeWholeService, f.Range(), "%q is not a function of this service", diagnostic.Clip(f.Text))
		d.Meant(diagnostic.Nearest(f.Text, functions))
	}
}

// ofSomeTrigger reports whether a key belongs to a kind of trigger: unknown keys were already reported.
func ofSomeTrigger(key string) bool {
	return slices.ContainsFunc(manifest.TriggerKinds(),
		func(k manifest.TriggerKind) bool { return slices.Contains(language.TriggerKeys(string(k)), key) })
}

// openTo checks that a route names its callers.
func (w *whole) openTo(name, t, written, route *tree.Node) {
	if open := t.Get("open_to"); open != nil && open.Kind != tree.Null {
		return
	}
	at := route
	if written.Get("route") == nil { // the stage removed open_to
		at = name
	}
	d := w.add(diagnostic.CodeOpenTo, at.Range(),
		"the route %q does not say who can call it; add open_to: authenticated, anyone, or a list of groups", name.Text)
	if written.Get("open_to") != nil || written.Get("route") == nil || route.Quoted && route.Line != route.EndLine {
		return
	}
	end := route.Range()
	end.Line, end.Column = end.EndLine, end.EndColumn
	insert := ", open_to: authenticated"
	if !sameLine(written) {
		insert = "\n" + strings.Repeat(" ", max(0, int(written.Keys[0].Column)-1)) + "open_to: authenticated"
	}
	d.Fix = &diagnostic.Fix{Title: "Open to authenticated callers", Edits: []diagnostic.Edit{{Range: end, Text: insert}}}
}

// circles reports functions that run after themselves, directly or through others.
func (w *whole) circles() {
	stages := []string{""}
	for _, s := range w.stages() {
		stages = append(stages, s.Name)
	}
	told := map[diagnostic.Range]bool{}
	for _, stage := range stages {
		after := map[string][]*manifest.Trigger{} // function → its after-function triggers
		of := map[*manifest.Trigger]string{}
		for _, fn := range w.out.Functions {
			c := fn.At(stage)
			for i := range c.Triggers {
				if t := &c.Triggers[i]; t.Kind == manifest.FunctionTrigger && t.Enabled.V {
					after[fn.Name], of[t] = append(after[fn.Name], t), fn.Name
				}
			}
		}
		for _, fn := range w.out.Functions {
			if path := circle(fn.Name, after); path != nil {
				t := path[0]
				line, column := int(t.Source.From.Line), int(t.Source.From.Column)
				at := diagnostic.Range{File: t.Source.From.File, Line: line, Column: column, EndLine: line, EndColumn: column + 1}
				if told[at] {
					continue
				}
				told[at] = true
				names := []string{fn.Name}
				for _, step := range path {
					source, _ := step.Source.V.Literal()
					names = append(names, source)
				}
				w.add(diagnostic.CodeCircle, at, "these functions run after one another in a cycle: %s",
					strings.Join(names, " after "))
			}
		}
	}
}

// circle returns the triggers that lead from a function back to it, or nil.
func circle(from string, after map[string][]*manifest.Trigger) []*manifest.Trigger {
	seen := map[string]bool{}
	var walk func(name string) []*manifest.Trigger
	walk = func(name string) []*manifest.Trigger {
		if seen[name] {
			return nil
		}
		seen[name] = true
		for _, t := range after[name] {
			source, _ := t.Source.V.Literal()
			if source == from {
				return []*manifest.Trigger{t}
			}
			if rest := walk(source); rest != nil {
				return append([]*manifest.Trigger{t}, rest...)
			}
		}
		return nil
	}
	return walk(from)
}

// reserved are the environment variables that the platform sets.
func reserved() []string { return []string{"PATH", "HOME", "LANG", "TMPDIR"} }

// variableForm is the form of a variable's name (POSIX, XBD 8.1).
var variableForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,127}$`)

// variables checks the names of environment variables, and their values for characters that no process can receive.
func (w *whole) variables(env *tree.Node) {
	if env == nil || env.Kind != tree.Mapping {
		return
	}
	for i, k := range env.Keys {
		if item := env.Items[i]; item.Kind == tree.Scalar && strings.ContainsRune(item.Text, 0) {
			w.add(diagnostic.CodeVariable, item.Range(), "the value contains a NUL character, which ends it; remove it")
		}
		switch {
		case !variableForm.MatchString(k.Text):
			w.add(diagnostic.CodeVariable, k.Range(),
				"%q is not a variable name: letters, digits and _, not starting with a digit", diagnostic.Clip(k.Text))
		case slices.Contains(reserved(), k.Text) || strings.HasPrefix(k.Text, "RUDMAR_"):
			w.add(diagnostic.CodeVariable, k.Range(), "the platform sets %s itself; use another name", k.Text)
		}
	}
}

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
		d.Message += " (expected one of " + strings.Join(known, ", ") + ")"
	}
}

// across checks rules over several places.
func (w *whole) across() {
	functions := w.functionNames()
	same := w.sameRoot && w.sameFiles && slices.Equal(functions, w.before.functions)
	if !same {
		var handlers []string
		for i := range w.declared {
			if name := w.handlerFile(w.out.Functions[i].Code, w.out.Functions[i].At("")); name != "" {
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
		if f == w.before.files[f.name] { // others may read it concurrently
			again := *f
			f = &again
			w.files[w.declared[i]] = f
		}
		f.followed = true
		f.alone = own.apart(func() { own.follow(f, w.out.Functions[i], functions) })
	})
	w.addresses(w.references(w.root.node.Get("defaults"), functions))
	for _, i := range w.declared {
		w.addresses(w.files[i].urls) // other functions' routes decide
	}
	w.variables(w.root.node.Get("defaults").Get("env"))
	w.circles()
	w.formerNames()
	w.gates()
	w.nearlyRight()
	w.unread()
	for _, s := range w.stages() {
		w.collisions(s.Name)
	}
}

// sameCode reports whether the handler's file is unchanged.
func (w *whole) sameCode(f *known) bool {
	if f.code == "" {
		return true
	}
	held, err := stampOf(w.folder, f.code)
	return err == nil && held.same(f.codeHeld)
}

// follow checks rules over one function.
func (w *whole) follow(f *known, fn *manifest.Function, functions []string) {
	n := f.node
	w.handler(f, fn, n)
	w.build(n, fn, f.code)
	w.offers(n)
	w.triggers(n.Get("triggers"), functions)
	w.variables(n.Get("env"))
	w.permissions(n.Get("permissions"), w.stages())
	f.urls = w.references(n, functions)
	if in := n.Get("per_stage"); in != nil && in.Kind == tree.Mapping {
		for i, stage := range in.Items {
			w.overrides(n.Get("triggers"), stage.Get("triggers"), in.Keys[i].Text, functions)
			w.variables(stage.Get("env"))
			w.permissions(stage.Get("permissions"),
				slices.DeleteFunc(slices.Clone(w.stages()), func(s manifest.Stage) bool { return s.Name != in.Keys[i].Text }))
			f.urls = append(f.urls, w.references(stage, functions)...)
			w.required(stage)
			w.handlerIn(fn, in.Keys[i].Text, stage)
		}
	}
}

func contains(sorted []string, name string) bool {
	_, found := slices.BinarySearch(sorted, name)
	return found
}

// sameLine reports whether a mapping is in flow style on one line.
func sameLine(n *tree.Node) bool {
	return len(n.Keys) > 0 && n.Column < n.Keys[0].Column && n.Line == n.Keys[0].Line
}

// permissions checks a list of permissions in the stages that use it.
func (w *whole) permissions(n *tree.Node, stages []manifest.Stage) {
	if n == nil || n.Kind != tree.Sequence {
		return
	}
	strict := slices.IndexFunc(stages, func(s manifest.Stage) bool { return s.ForbidWildcards })
	warn := func(at *tree.Node, what string) {
		d := w.add(diagnostic.CodeWildcard, at.Range(), "%s also permits resources and verbs that do not exist yet; name the required ones", what)
		d.Severity = diagnostic.Warning
		if strict >= 0 {
			d.Severity = diagnostic.Error
			d.Message += fmt.Sprintf(" (the stage %q forbids wildcards)", stages[strict].Name)
		}
	}
	seen := map[string]bool{}
	for _, p := range n.Items {
		var verbs []string
		if may := p.Get("allow"); may != nil {
			for _, verb := range may.Items {
				if verb.Text == "*" {
					warn(verb, "the verb *")
				}
				if slices.Contains(verbs, verb.Text) {
					w.add(diagnostic.CodeTwice, verb.Range(), "duplicate verb %q", diagnostic.Clip(verb.Text))
				}
				verbs = append(verbs, verb.Text)
			}
		}
		of := p.Get("resource")
		if of == nil {
			continue
		}
		slices.Sort(verbs)
		if key := of.Text + " " + strings.Join(verbs, " "); seen[key] {
			w.add(diagnostic.CodeTwice, p.Range(), "duplicate permission; remove one")
		} else {
			seen[key] = true
		}
		kind, name, _ := strings.Cut(of.Text, "/")
		if kind == "*" || name == "*" && strict >= 0 {
			warn(of, "the resource "+of.Text)
		}
		w.knownSecret(of)
	}
}

// knownSecret warns of a permission to read a secret that the service does not
// declare: most often it is misspelt.
func (w *whole) knownSecret(of *tree.Node) {
	name, ok := strings.CutPrefix(of.Text, "secrets/")
	if !ok || strings.ContainsAny(name, "*$") || slices.Contains(w.out.Secrets, name) || !w.reads("secrets") {
		return
	}
	d := w.add(diagnostic.CodeUnknownSecret, of.Range(),
		"%q is not a secret of this service: declare it under secrets, or store its value on the platform",
		diagnostic.Clip(name))
	d.Severity = diagnostic.Warning
	if near := diagnostic.Nearest(name, w.out.Secrets); near != "" {
		d.Message += fmt.Sprintf("; did you mean %q?", near)
		d.Mend(fmt.Sprintf("Change to %q", "secrets/"+near), "secrets/"+near)
	}
}

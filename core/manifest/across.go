package manifest

import (
	"fmt"
	"slices"
	"strings"

	"rudmar/core/expression"
	"rudmar/core/timing"
)

func (w *whole) checkSettings(root *Node) {
	settings := root.Get("settings")
	for i := range w.out.Settings {
		s := &w.out.Settings[i]
		if s.Type == "choice" && len(s.Of) == 0 {
			w.add(CodeSetting, settings.Key(s.Name).Range(), "the setting %q is a choice; list what it may be: of: [a, b]", s.Name)
		}
		if at := settings.Get(s.Name).Get("default"); at != nil {
			if problem := s.Fits(s.Default.V); problem != "" {
				w.add(CodeSetting, at.Range(), "the default of %q %s", s.Name, problem)
			}
		}
	}
}

// Fits tells what is wrong with a value of the setting, or "" where nothing is.
func (s *Setting) Fits(v any) string {
	switch s.Type {
	case "number":
		f, ok := v.(float64)
		switch {
		case !ok:
			return fmt.Sprintf("is not a number: %v", v)
		case s.Min != nil && f < *s.Min:
			return fmt.Sprintf("is under its least value, %v", *s.Min)
		case s.Max != nil && f > *s.Max:
			return fmt.Sprintf("is over its greatest value, %v", *s.Max)
		}
	case "choice":
		if !slices.Contains(s.Of, fmt.Sprint(v)) {
			return fmt.Sprintf("is %v, not one of %s", v, strings.Join(s.Of, ", "))
		}
	case "truth":
		if _, ok := v.(bool); !ok {
			return fmt.Sprintf("is not true or false: %v", v)
		}
	case "text":
		switch v.(type) {
		case map[string]any, []any, nil:
			return "is not a text"
		}
	}
	return ""
}

func (w *whole) checkStages(root *Node) {
	list := root.Get("stages")
	if list == nil || list.Kind != Sequence {
		return
	}
	if len(list.Items) == 0 {
		w.add(CodeMissingKey, list.Range(), "a service needs a stage; the first one is usually {stage: trial, target: local/north, enter: {on: push}}")
	}
	var before []string
	items := slices.DeleteFunc(slices.Clone(list.Items), func(n *Node) bool { return n.Kind != Mapping }) // told already
	for i, s := range w.out.Stages {
		n := items[i]
		enter := n.Get("enter")
		if s.Name != "" && slices.Contains(before, s.Name) {
			w.add(CodeStageOrder, n.Get("stage").Range(), "there is a stage %q already; give this one another name", s.Name)
		}
		if len(s.Targets) == 0 {
			w.add(CodeMissingKey, n.Range(), "the stage %q needs a target, such as local/north", s.Name)
		}
		switch {
		case s.On == OnPush:
			if s.After != "" {
				w.add(CodeStageOrder, enter.Range(), "the stage %q is entered either on a push or after a stage; take one away", s.Name)
			}
		case s.After == "" && i == 0:
			w.add(CodeStageOrder, n.Range(), "the first stage is entered on a push: enter: {on: push, branch: main}")
		case s.After == "":
			d := w.add(CodeStageOrder, n.Range(), "the stage %q has to say after which stage it comes: enter: {after: %s}", s.Name, before[len(before)-1])
			d.Severity = Error
		case !slices.Contains(before, s.After):
			at := enter.Get("after")
			d := w.add(CodeStageOrder, at.Range(), "%q is not a stage that stands before %q", s.After, s.Name)
			if near := Nearest(s.After, before); near != "" {
				d.Fix = replaceWith("Change to \""+near+"\"", at.Range(), near)
			}
		}
		w.checkSet(n, &w.out.Stages[i])
		w.checkRules(n)
		w.checkWindow(n, &w.out.Stages[i])
		w.checkTargets(n, &w.out.Stages[i])
		before = append(before, s.Name)
	}
}

func (w *whole) checkSet(n *Node, s *Stage) {
	set := n.Get("set")
	for name, v := range s.Set {
		key := set.Key(name)
		setting := w.out.Setting(name)
		if setting == nil {
			w.unknownName(key.Range(), name, "setting", w.settingNames())
			continue
		}
		if problem := setting.Fits(v.V); problem != "" {
			w.add(CodeSetting, set.Get(name).Range(), "the value of %q in %s %s", name, s.Name, problem)
		}
	}
	for _, setting := range w.out.Settings {
		if _, ok := s.Set[setting.Name]; !ok && setting.Default.V == nil {
			w.add(CodeSetting, n.Range(), "the setting %q has no default, and the stage %q sets no value; add set: {%s: …}", setting.Name, s.Name, setting.Name)
		}
	}
}

func (w *whole) checkWindow(n *Node, s *Stage) {
	window := s.Gates.Window
	if window == nil || window.Zone != "" && !w.knownZone(window.Zone) {
		return
	}
	if _, err := timing.ParseWindow(window.Days, window.Hours, window.Zone); err != nil {
		w.add(CodeRange, n.Get("gates").Get("window").Range(), "the window of %s: %v", s.Name, err)
	}
}

func (w *whole) checkRules(n *Node) {
	rules := n.Get("gates").Get("rules")
	if rules == nil || rules.Kind != Mapping {
		return
	}
	language, err := expression.ForRules()
	for i, item := range rules.Items {
		if err == nil {
			_, err = language.Compile(textOf(item))
		}
		if err != nil {
			w.add(CodeCaseExpression, item.Range(), "the rule %q: %v", rules.Keys[i].Text, err)
		}
	}
}

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

func (w *whole) unknownName(at Range, name, what string, known []string) {
	d := w.add(CodeUnknownReference, at, "%q is not a %s of this service", clip(name), what)
	if near := Nearest(name, known); near != "" {
		d.Message += fmt.Sprintf("; did you mean %q?", near)
		d.Fix = replaceWith(fmt.Sprintf("Change to %q", near), at, near)
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
func (w *whole) follow(f *known, fn *Function, functions []string) {
	n := f.node
	w.handler(f, fn, n)
	w.offers(n)
	w.triggers(n.Get("triggers"), functions, false)
	w.permissions(n.Get("permissions"))
	w.references(n, functions)
	if in := n.Get("in"); in != nil && in.Kind == Mapping {
		for _, stage := range in.Items {
			w.triggers(stage.Get("triggers"), functions, true)
			w.permissions(stage.Get("permissions"))
			w.references(stage, functions)
		}
	}
}

func (w *whole) triggers(n *Node, functions []string, override bool) {
	if n == nil || n.Kind != Mapping {
		return
	}
	for i, t := range n.Items {
		if t.Kind != Mapping {
			continue
		}
		var kinds []string
		for _, kind := range triggerKinds() {
			if t.Get(string(kind)) != nil {
				kinds = append(kinds, string(kind))
			}
		}
		name := n.Keys[i]
		switch {
		case len(kinds) > 1:
			w.add(CodeTriggerKind, name.Range(), "the trigger %q has %s; it can have one of them, so make it several triggers", name.Text, strings.Join(kinds, " and "))
		case len(kinds) == 0 && !override:
			w.add(CodeTriggerKind, name.Range(), "the trigger %q says nothing that calls it; give it one of route, cron, every, objects, queue and function", name.Text)
		}
		if r := t.Get("route"); r != nil && t.Get("open_to") == nil && !override {
			d := w.add(CodeOpenTo, r.Range(), "the route %q does not say who may call it; add open_to: members, anyone, or a list of groups", name.Text)
			if !r.Quoted || r.line == r.endLine {
				end := r.Range()
				end.Line, end.Column = end.EndLine, end.EndColumn
				insert := ", open_to: members"
				if !sameLine(t) {
					insert = "\n" + strings.Repeat(" ", max(0, int(t.Keys[0].column)-1)) + "open_to: members"
				}
				d.Fix = &Fix{Title: "Open it to members", Edits: []Edit{{Range: end, Text: insert}}}
			}
		}
		if f := t.Get("function"); f != nil && !contains(functions, f.Text) {
			d := w.add(CodeWholeService, f.Range(), "%q is not a function of this service", clip(f.Text))
			if near := Nearest(f.Text, functions); near != "" {
				d.Message += fmt.Sprintf("; did you mean %q?", near)
				d.Fix = replaceWith(fmt.Sprintf("Change to %q", near), f.Range(), near)
			}
		}
	}
}

func contains(sorted []string, name string) bool {
	_, found := slices.BinarySearch(sorted, name)
	return found
}

// sameLine tells whether a mapping is written in braces on one line.
func sameLine(n *Node) bool {
	return len(n.Keys) > 0 && n.column < n.Keys[0].column && n.line == n.Keys[0].line
}

func (w *whole) permissions(n *Node) {
	if n == nil || n.Kind != Sequence {
		return
	}
	warn := func(at *Node, what string) {
		d := w.add(CodeWildcard, at.Range(), "%s allows what nobody has thought of yet; name what is needed", what)
		d.Severity = Warning
		for _, s := range w.stages() {
			if s.Strict {
				d.Severity = Error
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
func (w *whole) knownSecret(of *Node) {
	name, ok := strings.CutPrefix(of.Text, "secrets/")
	if !ok || strings.ContainsAny(name, "*$") || slices.Contains(w.out.Secrets, name) {
		return
	}
	d := w.add(CodeUnknownSecret, of.Range(), "%q is not a secret of this service: declare it under secrets, or keep its value on the platform by hand", clip(name))
	d.Severity = Warning
	if near := Nearest(name, w.out.Secrets); near != "" {
		d.Message += fmt.Sprintf("; did you mean %q?", near)
		d.Fix = replaceWith(fmt.Sprintf("Change to %q", "secrets/"+near), of.Range(), "secrets/"+near)
	}
}

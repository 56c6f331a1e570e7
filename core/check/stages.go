package check

import (
	"errors"
	"fmt"
	"slices"

	"rudmar/core/diagnostic"
	"rudmar/core/expression"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/timing"
	"rudmar/core/tree"
)

// stages lists the stages that a check is about.
func (w *whole) stages() []manifest.Stage {
	if w.options.Stage == "" {
		return w.out.Stages
	}
	return slices.DeleteFunc(slices.Clone(w.out.Stages), func(s manifest.Stage) bool { return s.Name != w.options.Stage })
}

// ofStages assigns diagnostics of one file to their stages, and leaves out those of other stages than the
// requested one.
func (w *whole) ofStages(f *known, found []diagnostic.Diagnostic) []diagnostic.Diagnostic {
	var out []diagnostic.Diagnostic
	for _, d := range found {
		if d.Stage == "" && d.File == f.name { // other files' lines are not those of its stages
			d.Stage = f.stageAt(d.Line, d.Column)
		}
		if w.options.Stage == "" || d.Stage == "" || d.Stage == w.options.Stage {
			out = append(out, d)
		}
	}
	return out
}

// stageAt returns the stage whose part of a file contains a position, or "".
func (k *known) stageAt(line, column int) string {
	within := func(from, to *tree.Node) bool {
		after := line > int(from.Line) || line == int(from.Line) && column >= int(from.Column)
		last := to.Last()
		before := line < int(last.EndLine) || line == int(last.EndLine) && column <= int(last.EndColumn)
		return after && before
	}
	if in := k.node.Get("per_stage"); in != nil && in.Kind == tree.Mapping {
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

func (w *whole) checkSettings(root *tree.Node) {
	settings := root.Get("settings")
	for i := range w.out.Settings {
		s := &w.out.Settings[i]
		if s.Type == "enum" && len(s.Values) == 0 {
			w.add(diagnostic.CodeSetting, settings.Key(s.Name).Range(),
				"the setting %q is an enum; list its values: values: [a, b]", s.Name)
		}
		w.settingLimits(settings.Get(s.Name), s)
		if at := settings.Get(s.Name).Get("default"); at != nil {
			if problem := s.Fits(s.Default.V); problem != "" {
				w.add(diagnostic.CodeSetting, at.Range(), "the default of %q %s", s.Name, problem)
			}
		}
	}
}

func (w *whole) checkStages(root *tree.Node) {
	w.twice(root.Get("secrets"), "secret")
	list := root.Get("stages")
	if list == nil || list.Kind != tree.Sequence {
		return
	}
	if len(list.Items) == 0 {
		w.add(diagnostic.CodeMissingKey, list.Range(),
			"a service needs a stage; the first one is usually {stage: trial, target: local/north, enter: {when: push}}")
	}
	var before []string
	// already reported
	items := slices.DeleteFunc(slices.Clone(list.Items), func(n *tree.Node) bool { return n.Kind != tree.Mapping })
	for i, s := range w.out.Stages {
		n := items[i]
		enter := n.Get("enter")
		if s.Name != "" && slices.Contains(before, s.Name) {
			w.add(diagnostic.CodeStageOrder, n.Get("stage").Range(),
				"stage %q already exists; rename this one", s.Name)
		}
		if len(s.Targets) == 0 {
			w.add(diagnostic.CodeMissingKey, n.Range(), "the stage %q needs a target, such as local/north", s.Name)
		}
		switch {
		case s.When == manifest.OnPush:
			if s.After != "" {
				w.add(diagnostic.CodeStageOrder, enter.Range(),
					"the stage %q has both a branch and a stage before; remove one", s.Name)
			}
		case s.After == "" && i == 0:
			w.add(diagnostic.CodeStageOrder, n.Range(), "the first stage must be entered on a push: enter: {when: push, branch: main}")
		case s.After == "":
			w.add(diagnostic.CodeStageOrder, n.Range(),
				"the stage %q must name the preceding stage: enter: {after: %s}", s.Name, before[len(before)-1])
		case !slices.Contains(before, s.After) && w.reads("stages"):
			at := enter.Get("after")
			d := w.add(diagnostic.CodeStageOrder, at.Range(), "%q is not a stage before %q", s.After, s.Name)
			if near := diagnostic.Nearest(s.After, before); near != "" {
				d.Mend(fmt.Sprintf("Change to %q", near), near)
			}
		}
		if n.Get("target") != nil && n.Get("targets") != nil {
			w.add(diagnostic.CodeTwice, n.Key("target").Range(),
				"the stage %q has both target and targets; move target into the list", s.Name)
		}
		w.twice(n.Get("targets"), "target")
		w.checkOrder(n, &w.out.Stages[i])
		w.checkShift(n)
		w.checkEnter(n, &w.out.Stages[i])
		w.checkSet(n, &w.out.Stages[i])
		w.checkRules(n)
		w.checkWindow(n, &w.out.Stages[i])
		w.checkTargets(n, &w.out.Stages[i])
		before = append(before, s.Name)
	}
}

// checkOrder reports keys that conflict with another key of the stage.
func (w *whole) checkOrder(n *tree.Node, s *manifest.Stage) {
	switch {
	case !s.TestEach():
	case s.RunCases == manifest.RunNone:
		w.add(diagnostic.CodeTwice, n.Key("target_order").Range(),
			"no case runs in %s, so no target can be tested before the next; set run_cases to all or no_side_effects", s.Name)
	case s.Shift != nil:
		w.add(diagnostic.CodeTwice, n.Key("target_order").Range(),
			"%s shifts traffic on all targets and tests afterward; remove target_order: test_each or shift", s.Name)
	}
	if s.AllowPartial && s.When != manifest.OnRequest {
		w.add(diagnostic.CodeTwice, n.Get("enter").Key("allow_partial").Range(),
			"functions are selected in a delivery request, but %s is not entered on request; set when: request", s.Name)
	}
}

func (w *whole) checkSet(n *tree.Node, s *manifest.Stage) {
	set := n.Get("set")
	for name, v := range s.Set {
		key := set.Key(name)
		setting := w.out.Setting(name)
		if setting == nil && !w.reads("settings") {
			continue
		}
		if setting == nil {
			w.unknownName(key.Range(), name, "setting", w.settingNames())
			continue
		}
		if problem := setting.Fits(v.V); problem != "" {
			w.add(diagnostic.CodeSetting, set.Get(name).Range(), "the value of %q in %s %s", name, s.Name, problem)
		}
	}
	for _, setting := range w.out.Settings {
		if _, ok := s.Set[setting.Name]; !ok && setting.Default.V == nil {
			w.add(diagnostic.CodeSetting, n.Range(),
				"the setting %q has no default, and the stage %q sets no value; add set: {%s: …}",
				setting.Name, s.Name, setting.Name)
		}
	}
}

func (w *whole) checkWindow(n *tree.Node, s *manifest.Stage) {
	window := s.Gates.Window
	if window == nil || window.Zone != "" && !w.knownZone(window.Zone) {
		return
	}
	if _, err := timing.ParseWindow(window.Days, window.Hours, window.Zone); err != nil {
		w.add(diagnostic.CodeRange, n.Get("gates").Get("window").Range(), "the window of %s: %v", s.Name, err)
	}
}

func (w *whole) checkRules(n *tree.Node) {
	rules := n.Get("gates").Get("rules")
	if rules == nil || rules.Kind != tree.Mapping {
		return
	}
	language, err := expression.ForRules()
	if err != nil {
		w.add(diagnostic.CodeCaseExpression, rules.Range(), "the rules cannot be read: %v", err)
		return
	}
	for i, item := range rules.Items {
		if item.Kind == tree.Scalar {
			w.expression(language, item, "the rule "+fmt.Sprintf("%q", rules.Keys[i].Text))
		}
	}
}

// expression checks a CEL expression.
func (w *whole) expression(language *expression.Language, n *tree.Node, what string) {
	_, err := language.Compile(n.Value())
	if err == nil {
		return
	}
	at := n.Range()
	var wrong *expression.CompileError
	if errors.As(err, &wrong) && wrong.Line == 1 {
		if runes := []rune(n.Text); wrong.Column-1 < len(runes) {
			at = n.Part(len(string(runes[:wrong.Column-1])), len(string(runes[wrong.Column-1:wrong.Column])))
		}
	}
	w.add(diagnostic.CodeCaseExpression, at, "%s: %v", what, err)
}

// checkShift checks that shares rise, from something to less than all, and that a step's longest time is not shorter
// than its time.
func (w *whole) checkShift(n *tree.Node) {
	if most := n.Get("shift").Get("at_most"); most != nil {
		every, err := language.ParseTime(n.Get("shift").Get("every").Value())
		if err != nil {
			every = manifest.ShiftEvery
		}
		if longest, err := language.ParseTime(most.Value()); err == nil && longest < every {
			w.add(diagnostic.CodeRange, most.Range(), "at_most is less than the %s that each step takes; use %s or more",
				language.FormatTime(every), language.FormatTime(every))
		}
	}
	steps := n.Get("shift").Get("steps")
	if steps == nil || steps.Kind != tree.Sequence {
		return
	}
	last := 0.0
	for _, item := range steps.Items {
		share, err := language.ParseShare(item.Value())
		switch {
		case err != nil:
		case share <= 0:
			w.add(diagnostic.CodeRange, item.Range(), "a share of 0%% moves no traffic; use a share above 0%%")
		case share <= last:
			w.add(diagnostic.CodeRange, item.Range(), "the shares must increase: %s follows %.3g%%", item.Text, last*100)
		default:
			last = share
		}
	}
}

// twice reports duplicate items of a list.
func (w *whole) twice(n *tree.Node, what string) {
	if n == nil || n.Kind != tree.Sequence {
		return
	}
	seen := map[string]bool{}
	for _, item := range n.Items {
		if text := item.Value(); text != "" {
			if seen[text] {
				w.add(diagnostic.CodeTwice, item.Range(), "duplicate %s %s", what, diagnostic.Clip(text))
			}
			seen[text] = true
		}
	}
}

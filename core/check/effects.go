package check

import (
	"path"
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/core/tree"
)

// The checks of this file report what is well-formed, but cannot have the effect that its author expects.

// settingLimits reports limits that settings of a type do not have.
func (w *whole) settingLimits(n *tree.Node, s *manifest.Setting) {
	for _, k := range n.Keys {
		if of := language.LimitOf(k.Text); of != "" && s.Type != "" && s.Type != of {
			w.add(diagnostic.CodeSetting, k.Range(), "%s is only valid for settings of type %s, not %s; remove it", k.Text, of,
				s.Type)
		}
	}
}

// checkEnter reports what an entry's rules leave without effect.
func (w *whole) checkEnter(n *tree.Node, s *manifest.Stage) {
	enter := n.Get("enter")
	if at := enter.Key("branch"); at != nil && s.After != "" && s.When != manifest.OnPush {
		w.add(diagnostic.CodeStageOrder, at.Range(),
			"%s receives versions from %s, of any branch; remove branch", s.Name, s.After)
	}
	if soak := n.Get("gates").Get("soak"); soak != nil && soak.Kind == tree.Mapping && len(soak.Keys) == 0 {
		w.add(diagnostic.CodeGate, soak.Range(), "this soak requires nothing; add for, min_invocations or errors_under")
	}
}

// build checks a function's build rules.
func (w *whole) build(n *tree.Node, fn *manifest.Function, handler string) {
	build := n.Get("build")
	if run := build.Get("run"); run != nil {
		for _, item := range run.Items {
			if item.Kind == tree.Scalar && strings.TrimSpace(item.Text) == "" {
				w.add(diagnostic.CodeWrongKind, item.Range(), "a build command is empty; write it, or remove the item")
			}
		}
	}
	exclude := build.Get("exclude")
	if exclude == nil {
		return
	}
	for _, item := range exclude.Items {
		switch {
		case item.Kind != tree.Scalar || !w.pattern(item):
		case handler != "" && pack.Exclude([]string{item.Text}, strings.TrimPrefix(handler, path.Clean(fn.Code)+"/")):
			w.add(diagnostic.CodePath, item.Range(), "%q excludes %s, which has the handler; name the files to exclude more precisely",
				diagnostic.Clip(item.Text), path.Base(handler))
		}
	}
}

// source reports a trigger without a source, a pattern that matches nothing, and callers that are not groups.
func (w *whole) source(t *tree.Node) {
	for _, key := range []string{"objects", "queue"} {
		if at := t.Get(key); at != nil && at.Kind == tree.Scalar && strings.TrimSpace(at.Text) == "" {
			w.add(diagnostic.CodeWrongKind, at.Range(), "%s is empty; name the source", key)
		}
	}
	if at := t.Get("match"); at != nil && at.Kind == tree.Scalar && !strings.Contains(at.Text, "${") {
		w.pattern(at)
	}
	open := t.Get("open_to")
	if open == nil || open.Kind != tree.Sequence {
		return
	}
	for _, item := range open.Items {
		if item.Text == "anyone" || item.Text == "authenticated" {
			w.add(diagnostic.CodeOpenTo, item.Range(), "%s is not a group; write open_to: %s, or only groups", item.Text, item.Text)
		}
	}
}

// pattern reports whether a pattern of files is valid.
func (w *whole) pattern(at *tree.Node) bool {
	valid := pack.ValidPattern(at.Text)
	if !valid {
		w.add(diagnostic.CodePath, at.Range(), "%q is not a pattern; close its brackets, such as *.[ch]", diagnostic.Clip(at.Text))
	}
	return valid
}

// required reports a stage that removes what a function needs.
func (w *whole) required(stage *tree.Node) {
	if at := stage.Get("handler"); at != nil && at.Kind == tree.Null {
		w.add(diagnostic.CodeHandlerFile, at.Range(), "a function needs a handler; remove this line to use the function's own")
	}
}

// addresses reports references to the address of a function without a route in a stage that the check is about.
func (w *whole) addresses(urls []urlReference) {
	for _, url := range urls {
		fn := w.out.Function(url.function)
		if fn.At("").HasRoute() || slices.ContainsFunc(w.stages(), func(s manifest.Stage) bool { return fn.At(s.Name).HasRoute() }) {
			continue
		}
		w.add(diagnostic.CodeReferencePlace, url.at, "%s has no route, so it has no address; add a route trigger to it",
			url.function)
	}
}

// sendKeys reports keys of a case's destination that it does not use.
func (w *whole) sendKeys(send *tree.Node, way string) {
	for _, k := range send.Keys {
		for _, other := range language.SendWays() {
			if other != way && slices.Contains(language.SendKeys(other), k.Text) {
				w.add(diagnostic.CodeCaseSend, k.Range(), "%s is only valid with a %s, and this case sends to a %s; remove it", k.Text,
					other, way)
			}
		}
	}
}

// caseRoutes reports stages in which a case runs although its route is disabled there.
func (w *whole) caseRoutes(fn *manifest.Function, c manifest.Case, send *tree.Node) {
	at := send.Get("route")
	if at == nil {
		return
	}
	if _, enabled := routeOf(fn.At(""), c.Send); !enabled {
		return
	}
	for _, s := range w.stages() {
		if _, enabled := routeOf(fn.At(s.Name), c.Send); !enabled && c.RunsIn(&s) && len(s.Targets) > 0 {
			w.add(diagnostic.CodeCaseSend, at.Range(),
				"the case runs in %s, where its route is disabled; leave the stage out with stages, or enable the route",
				s.Name)
			return
		}
	}
}

// routeOf reports whether a function has a route for a case, and whether one is enabled.
func routeOf(c *manifest.Config, send manifest.Send) (found, enabled bool) {
	method, target, _ := strings.Cut(send.Route, " ")
	for _, t := range c.Triggers {
		if t.Kind != manifest.RouteTrigger {
			continue
		}
		if _, ok := t.Route.V.Match(method, target); ok {
			found, enabled = true, enabled || t.Enabled.V
		}
	}
	return found, enabled
}

// unread reports folders of functions with code but without a manifest.
func (w *whole) unread() {
	last, suspect := "", false // the folder of the file before, and whether it has no manifest
	for _, name := range w.all {
		rest, ok := strings.CutPrefix(name, "functions/")
		folder, file, below := strings.Cut(rest, "/")
		if !ok || !below {
			continue
		}
		dir := "functions/" + folder
		if folder != last {
			last = folder
			suspect = !w.has(path.Join(dir, language.FunctionFile)) &&
				!slices.ContainsFunc(w.out.Functions, func(fn *manifest.Function) bool { return fn.Code == dir }) &&
				!slices.ContainsFunc(w.all, func(other string) bool { // another problem with its manifest
					return path.Dir(other) == dir && (strings.HasPrefix(path.Base(other), "function") || path.Ext(other) == ".yml")
				})
		}
		if !suspect || strings.Contains(file, "/") || !language.IsCode(file) {
			continue
		}
		suspect = false // told
		w.add(diagnostic.CodeNearlyRight, diagnostic.Range{File: name, Line: 1, Column: 1, EndLine: 1, EndColumn: 2},
			"%s has code, but no %s, so it is not deployed; add the manifest, or name the folder as the code of a function",
			dir, language.FunctionFile).Severity = diagnostic.Warning
	}
}

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
	only := map[string]string{"min": "number", "max": "number", "values": "enum"}
	for _, key := range []string{"min", "max", "values"} {
		if at := n.Key(key); at != nil && s.Type != "" && s.Type != only[key] {
			w.add(diagnostic.CodeSetting, at.Range(), "%s is only valid for settings of type %s, not %s; remove it", key,
				only[key], s.Type)
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
		case item.Kind != tree.Scalar:
		case !pack.ValidPattern(item.Text):
			w.add(diagnostic.CodePath, item.Range(), "%q is not a pattern; close its brackets, such as *.[ch]", diagnostic.Clip(item.Text))
		case handler != "" && pack.Exclude([]string{item.Text}, strings.TrimPrefix(handler, path.Clean(fn.Code)+"/")):
			w.add(diagnostic.CodePath, item.Range(), "%q excludes %s, which has the handler; name the files to exclude more precisely",
				diagnostic.Clip(item.Text), path.Base(handler))
		}
	}
}

// sources reports triggers without a source, and patterns that match nothing.
func (w *whole) sources(triggers *tree.Node) {
	if triggers == nil || triggers.Kind != tree.Mapping {
		return
	}
	for _, t := range triggers.Items {
		for _, key := range []string{"objects", "queue"} {
			if at := t.Get(key); at != nil && at.Kind == tree.Scalar && strings.TrimSpace(at.Text) == "" {
				w.add(diagnostic.CodeWrongKind, at.Range(), "%s is empty; name the source", key)
			}
		}
		if at := t.Get("match"); at != nil && at.Kind == tree.Scalar && !strings.Contains(at.Text, "${") && !pack.ValidPattern(at.Text) {
			w.add(diagnostic.CodePath, at.Range(), "%q is not a pattern; close its brackets, such as *.[ch]", diagnostic.Clip(at.Text))
		}
		open := t.Get("open_to")
		if open == nil || open.Kind != tree.Sequence {
			continue
		}
		for _, item := range open.Items {
			if item.Text == "anyone" || item.Text == "authenticated" {
				w.add(diagnostic.CodeOpenTo, item.Range(), "%s is not a group; write open_to: %s, or only groups", item.Text, item.Text)
			}
		}
	}
}

// values reports variables with characters that no process can receive.
func (w *whole) values(env *tree.Node) {
	if env == nil || env.Kind != tree.Mapping {
		return
	}
	for _, item := range env.Items {
		if item.Kind == tree.Scalar && strings.ContainsRune(item.Text, 0) {
			w.add(diagnostic.CodeVariable, item.Range(), "the value contains a NUL character, which ends it; remove it")
		}
	}
}

// required reports a stage that removes what a function needs.
func (w *whole) required(stage *tree.Node) {
	if at := stage.Get("handler"); at != nil && at.Kind == tree.Null {
		w.add(diagnostic.CodeHandlerFile, at.Range(), "a function needs a handler; remove this line to use the function's own")
	}
}

// addresses reports references to the address of a function without a route.
func (w *whole) addresses() {
	w.addressesIn(w.root.node.Get("defaults"))
	for _, i := range w.declared {
		n := w.files[i].node
		w.addressesIn(n)
		if in := n.Get("per_stage"); in != nil {
			for _, stage := range in.Items {
				w.addressesIn(stage)
			}
		}
	}
}

func (w *whole) addressesIn(n *tree.Node) {
	env := n.Get("env")
	if env == nil || env.Kind != tree.Mapping {
		return
	}
	for _, item := range env.Items {
		if item.Kind != tree.Scalar || !strings.Contains(item.Text, "${") {
			continue
		}
		template, err := manifest.ParseTemplate(item.Text)
		if err != nil {
			continue // reported elsewhere
		}
		for _, part := range template {
			if part.Kind == manifest.ToURL && !w.routed(part.Name) {
				w.add(diagnostic.CodeReferencePlace, item.Part(part.Offset, part.Length),
					"%s has no route, so it has no address; add a route trigger to it", part.Name)
			}
		}
	}
}

// routed reports whether a function has a route in a stage that the check is about.
func (w *whole) routed(name string) bool {
	fn := w.out.Function(name)
	if fn == nil {
		return true // reported elsewhere
	}
	configs := []*manifest.Config{fn.At("")}
	for _, s := range w.stages() {
		configs = append(configs, fn.At(s.Name))
	}
	return slices.ContainsFunc(configs, func(c *manifest.Config) bool {
		return slices.ContainsFunc(c.Triggers, func(t manifest.Trigger) bool { return t.Kind == manifest.RouteTrigger })
	})
}

// sendKeys reports keys of a case's destination that it does not use.
func (w *whole) sendKeys(send *tree.Node) {
	way := ""
	for _, key := range []string{"route", "trigger", "payload"} {
		if send.Get(key) != nil {
			way = key
		}
	}
	of := map[string]string{"query": "route", "headers": "route", "body": "route", "event": "trigger"}
	for _, k := range send.Keys {
		if needs := of[k.Text]; needs != "" && needs != way {
			w.add(diagnostic.CodeCaseSend, k.Range(), "%s is only valid with a %s, and this case sends to a %s; remove it", k.Text,
				needs, way)
		}
	}
}

// caseRoutes reports stages in which a case runs although its route is disabled there.
func (w *whole) caseRoutes(fn *manifest.Function, c manifest.Case, send *tree.Node) {
	at := send.Get("route")
	if at == nil {
		return
	}
	for _, s := range w.stages() {
		if c.RunsIn(&s) && len(s.Targets) > 0 && !takes(fn.At(s.Name), c.Send) && takes(fn.At(""), c.Send) {
			w.add(diagnostic.CodeCaseSend, at.Range(),
				"the case runs in %s, where its route is disabled; leave the stage out with stages, or enable the route",
				s.Name)
			return
		}
	}
}

// takes reports whether a function has an enabled route for a case.
func takes(c *manifest.Config, send manifest.Send) bool {
	method, target, _ := strings.Cut(send.Route, " ")
	return slices.ContainsFunc(c.Triggers, func(t manifest.Trigger) bool {
		if !t.Enabled.V || t.Kind != manifest.RouteTrigger {
			return false
		}
		_, ok := t.Route.V.Match(method, target)
		return ok
	})
}

// unread reports folders of functions with code but without a manifest.
func (w *whole) unread() {
	used := map[string]bool{}
	for _, fn := range w.out.Functions {
		used[fn.Code] = true
	}
	told := map[string]bool{}
	for _, name := range w.all {
		parts := strings.Split(name, "/")
		if len(parts) != 3 || parts[0] != "functions" || told[parts[1]] {
			continue
		}
		dir := path.Join(parts[0], parts[1])
		isCode := slices.ContainsFunc([]string{"python", "node", "go"}, func(runtime string) bool {
			return slices.Contains(language.Endings(runtime), path.Ext(name))
		})
		if !isCode || used[dir] || w.has(path.Join(dir, language.FunctionFile)) ||
			slices.ContainsFunc(w.all, func(other string) bool { // another problem with its manifest
				return path.Dir(other) == dir && (strings.HasPrefix(path.Base(other), "function") || path.Ext(other) == ".yml")
			}) {
			continue
		}
		told[parts[1]] = true
		w.add(diagnostic.CodeNearlyRight, diagnostic.Range{File: name, Line: 1, Column: 1, EndLine: 1, EndColumn: 2},
			"%s has code, but no %s, so it is not deployed; add the manifest, or name the folder as the code of a function",
			dir, language.FunctionFile).Severity = diagnostic.Warning
	}
}

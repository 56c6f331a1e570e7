package check

import (
	"path"
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// formerNames reports former names that functions cannot have had.
func (w *whole) formerNames() {
	first := map[string]string{}
	for i, fn := range w.out.Functions {
		if fn.RenamedFrom == "" {
			continue
		}
		at := w.files[w.declared[i]].node.Get("renamed_from").Range()
		other := first[fn.RenamedFrom]
		switch {
		case fn.RenamedFrom == fn.Name:
			w.add(diagnostic.CodeWas, at, "%s is the current name; renamed_from names the former one", fn.Name)
		case w.out.Function(fn.RenamedFrom) != nil:
			w.add(diagnostic.CodeWas, at, "function %s still exists in %s, so it cannot have been renamed to %s", fn.RenamedFrom,
				w.out.Function(fn.RenamedFrom).File, fn.Name)
		case other != "":
			w.add(diagnostic.CodeWas, at, "%s is also renamed from %s; only one function can be", other, fn.RenamedFrom)
		default:
			first[fn.RenamedFrom] = fn.Name
		}
	}
}

// gates reports gates that can never pass.
func (w *whole) gates() {
	withCases := map[string]bool{}
	for _, fn := range w.out.Functions {
		withCases[fn.Name] = len(fn.Cases) > 0
	}
	some := slices.ContainsFunc(w.files, func(f *known) bool { return manifest.IsCase(f.name) })
	list := w.root.node.Get("stages")
	if list == nil {
		return
	}
	for _, n := range list.Items {
		gates := n.Get("gates")
		if gates == nil {
			continue
		}
		name := n.Get("stage").Value()
		first := n.Get("enter").Get("after") == nil
		for _, key := range []string{"cases", "soak"} {
			if at := gates.Key(key); at != nil && first {
				w.add(diagnostic.CodeGate, at.Range(), "%s checks the preceding stage, but %q is the first stage, so the gate can never pass",
					key, name)
			}
		}
		at := gates.Get("cases")
		if at == nil || first {
			continue
		}
		if before := w.out.Stage(n.Get("enter").Get("after").Value()); before != nil && before.RunCases == manifest.RunNone {
			w.add(diagnostic.CodeGate, at.Range(), "no case runs in %s (run_cases: none), so this gate can never pass",
				before.Name)
		}
		if at.Value() == "all" && !some && len(w.out.Functions) > 0 {
			w.add(diagnostic.CodeGate, at.Range(),
				"the service has no cases, so this gate cannot pass; add one in a folder %s beside a function",
				language.CasesFolder).Severity = diagnostic.Warning
		}
		for _, item := range at.Items {
			has, known := withCases[item.Text]
			switch {
			case !known:
				w.unknownName(item.Range(), item.Text, "function", w.functionNames())
			case !has:
				w.add(diagnostic.CodeGate, item.Range(), "%s has no cases, so this gate cannot pass",
					item.Text).Severity = diagnostic.Warning
			}
		}
	}
}

// nearlyRight reports files that look like manifests but are not read.
func (w *whole) nearlyRight() {
	var inner []string
	for _, dir := range manifest.Services(w.all) {
		if dir != "." {
			inner = append(inner, dir+"/")
		}
	}
	function := func(dir string) bool { return w.has(path.Join(dir, language.FunctionFile)) }
	for _, name := range w.all {
		if slices.ContainsFunc(inner, func(dir string) bool { return strings.HasPrefix(name, dir) }) {
			continue // of another service
		}
		dir, base := path.Split(name)
		dir = path.Clean(dir)
		at := diagnostic.Range{File: name, Line: 1, Column: 1, EndLine: 1, EndColumn: 2}
		inCases := path.Base(dir) == language.CasesFolder
		switch {
		case strings.EqualFold(base, "function.yml") || strings.EqualFold(base, "functions.yaml") ||
			strings.EqualFold(base, language.FunctionFile) && base != language.FunctionFile:
			w.add(diagnostic.CodeNearlyRight, at, "a function's manifest must be named %s; this file is not read",
				language.FunctionFile)
		case dir == "." && (strings.EqualFold(base, "rudmar.yml") || strings.EqualFold(base, language.ServiceFile) &&
			base != language.ServiceFile):
			w.add(diagnostic.CodeNearlyRight, at,
				"a service's manifest must be named %s; this file is not read", language.ServiceFile)
		case inCases && function(path.Dir(dir)) && strings.HasSuffix(base, ".yml"):
			w.add(diagnostic.CodeNearlyRight, at, "a case's file must end in .yaml; this one is not read")
		case manifest.IsCase(name) && !function(path.Dir(dir)):
			w.add(diagnostic.CodeNearlyRight, at,
				"a case must be beside a function, in functions/<name>/%s; there is no %s in %s, so this case never runs",
				language.CasesFolder, language.FunctionFile, path.Dir(dir)).Severity = diagnostic.Warning
		}
	}
}

// Package check checks a service: against the manifest language, for consistency in each stage,
// and against what the platforms of its stages offer.
//
// Service checks a folder. It reports all problems, each with its location and, if the remedy is
// certain, a fix; one invalid file does not prevent the check of others. A Cache makes repeated
// checks of a folder fast when little has changed.
//
// Checks can run concurrently, also with the same Cache.
package check

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"

	"rudmar/core/cores"
	"rudmar/core/diagnostic"
	"rudmar/core/expression"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// Result is the result of a check.
type Result struct {
	// Service is the declared service; nil if rudmar.yaml cannot be read.
	Service     *manifest.Service
	Diagnostics []diagnostic.Diagnostic
}

// OK reports whether the version can be built.
func (r Result) OK() bool { return r.Service != nil && !diagnostic.HasErrors(r.Diagnostics) }

// Options configures a check.
type Options struct {
	// Offers describes the platforms; nil if none is known.
	Offers *Offers
	// Stage leaves out diagnostics of other stages; "" for all stages.
	Stage string
	// Cache holds the results for unchanged files of an earlier check and receives those of this one; nil for
	// none.
	Cache *Cache
	// Stored reads the manifests of a stored version, which can have former keys.
	Stored bool
}

// Service checks a service's folder. It reports all problems at once; an invalid file does not prevent the
// check of others.
func Service(folder manifest.Folder) Result { return Options{}.Service(folder) }

// Stored reads the manifests of a stored version: former keys and values mean what they
// meant when the version was built.
func Stored(folder manifest.Folder) *manifest.Service {
	return Options{Stored: true}.Service(folder).Service
}

// Service checks a service's folder with these options.
func (o Options) Service(folder manifest.Folder) Result {
	before := o.Cache.recall(o)
	w := &whole{options: o, language: language.New(), folder: folder, all: folder.Files(),
		before: before, checker: newChecker()}
	w.sameFiles = slices.Equal(w.all, before.names)
	w.parseAll(manifest.Manifests(w.all))
	w.service()
	if w.out != nil {
		w.ofRoot = w.diagnostics
		w.functions()
		w.cases()
		w.freezes()
		w.across()
	}

	r := Result{Service: w.out}
	if w.root != nil {
		w.diagnostics = w.ofStages(w.root, w.diagnostics)
	}
	r.Diagnostics = w.diagnostics
	after := &recalled{offers: o.Offers, stage: o.Stage, names: w.all, files: make(map[string]*known, len(w.files)),
		root: w.root, ofRoot: w.ofRoot, functions: w.functionNames()}
	for _, f := range w.files {
		for _, found := range [][]diagnostic.Diagnostic{f.diagnostics, f.declared, f.alone, f.ofSaved} {
			r.Diagnostics = append(r.Diagnostics, w.ofStages(f, found)...)
		}
		after.files[f.name] = f
	}
	diagnostic.Sort(r.Diagnostics)
	if w.out != nil {
		skeleton := *w.out
		skeleton.Functions = nil
		after.service = &skeleton
		o.Cache.keep(after)
	}
	return r
}

// parseAll parses each file that is not known, and checks it against its shape.
func (w *whole) parseAll(names []string) {
	load(w.folder, w.before.unknown(w.folder, names))
	w.files = make([]*known, len(names))
	cores.Share(len(names), func(from, to int) {
		c := newChecker()
		for i := from; i < to; i++ {
			w.files[i] = w.parseFile(c, names[i])
		}
	})
}

func (w *whole) parseFile(c *checker, name string) *known {
	held, err := stampOf(w.folder, name)
	if k := w.before.files[name]; k != nil && err == nil && k.held.same(held) {
		return k
	}
	f := &known{name: name, held: held}
	text := held.text
	if text == nil && err == nil {
		text, err = w.folder.Read(name)
	}
	if err != nil {
		f.diagnostics = []diagnostic.Diagnostic{{Code: diagnostic.CodeSyntax, Severity: diagnostic.Error,
			Range:   diagnostic.Range{File: name, Line: 1, Column: 1, EndLine: 1, EndColumn: 2},
			Message: "cannot be read: " + err.Error()}}
		return f
	}
	f.node, f.diagnostics = tree.Parse(name, text)
	if f.node == nil {
		return f
	}
	c.diagnostics = nil
	for _, use := range w.language.Present(name, f.node) {
		if !w.options.Stored {
			d := c.add(diagnostic.CodeFormer, use.At, "%q is now %q", use.Was, use.Now)
			d.Fix = &diagnostic.Fix{Title: fmt.Sprintf("Change to %q", use.Now), Edits: use.Edits}
		}
	}
	what := "a case"
	switch path.Base(name) {
	case language.ServiceFile:
		what = "a service"
		f.node.Mark(tree.OfService)
		f.node.Get("defaults").Mark(tree.Defaults)
	case language.FunctionFile:
		what = "a function"
		f.node.Mark(tree.OfFunction)
		f.node.Get("per_stage").Mark(tree.OfStage)
	}
	c.conform(f.node, w.language.Of(name), what)
	f.diagnostics = append(f.diagnostics, c.diagnostics...)
	return f
}

// whole is the check of a service as a whole.
type whole struct {
	*checker
	options  Options
	language *language.Language
	folder   manifest.Folder
	all      []string // the files of the folder, sorted
	out      *manifest.Service
	root     *known // rudmar.yaml
	ofRoot   []diagnostic.Diagnostic
	files    []*known
	declared []int // the files that declare the functions, in order

	platforms []offering
	before    *recalled
	sameFiles bool // the folder has the same files as before
	sameRoot  bool // rudmar.yaml is unchanged
}

func (w *whole) service() {
	i := slices.IndexFunc(w.files, func(f *known) bool { return f.name == language.ServiceFile })
	if i < 0 {
		w.add(diagnostic.CodeMissingKey,
			diagnostic.Range{File: language.ServiceFile, Line: 1, Column: 1, EndLine: 1, EndColumn: 2},
			"no %s in this folder; it declares the service and its stages", language.ServiceFile)
		return
	}
	n := w.files[i].node
	if n == nil || n.Kind != tree.Mapping {
		return
	}
	w.root = w.files[i]
	if w.sameRoot = w.root == w.before.root; w.sameRoot {
		again := *w.before.service
		w.out, w.diagnostics = &again, slices.Clip(w.before.ofRoot)
		return
	}
	w.out = manifest.DecodeService(n)
	w.checkSettings(n)
	w.checkStages(n)
}

func (w *whole) functions() {
	shared := manifest.Shared(w.language.Function, w.root.node)
	w.spread(len(w.files), func(own *whole, i int) {
		if f := w.files[i]; path.Base(f.name) == language.FunctionFile && f.node != nil && f.node.Kind == tree.Mapping {
			w.files[i] = own.declare(f, shared)
		}
	})
	first := make(map[string]*manifest.Function, len(w.files))
	w.declared = make([]int, 0, len(w.files))
	for i, f := range w.files {
		fn := f.function
		if fn == nil || fn.Name == "" {
			w.files[i] = f.unfollowed()
			continue
		}
		if other := first[fn.Name]; other != nil {
			w.add(diagnostic.CodeDuplicateFunction, f.node.Get("function").Range(),
				"function %q is already declared in %s; rename one of them", fn.Name, other.File)
			w.files[i] = f.unfollowed()
			continue
		}
		first[fn.Name] = fn
		w.declared = append(w.declared, i)
	}
	slices.SortFunc(w.declared, func(a, b int) int {
		return strings.Compare(w.files[a].function.Name, w.files[b].function.Name)
	})
	w.out.Functions = make([]*manifest.Function, len(w.declared))
	own := make([]manifest.Function, len(w.declared)) // the cached result has no cases
	for i, at := range w.declared {
		own[i] = *w.files[at].function
		w.out.Functions[i] = &own[i]
	}
	top := w.root.node.Range()
	switch n := len(w.out.Functions); {
	case n > language.MaxFunctions:
		w.add(diagnostic.CodeTooMany, top, "the service has %d functions, the limit is %d; split it into two services",
			n, language.MaxFunctions)
	case n == 0 && !slices.ContainsFunc(w.files,
		func(f *known) bool { return path.Base(f.name) == language.FunctionFile }):
		w.add(diagnostic.CodeNoFunctions, top, "the service has no function; create one in functions/<name>/%s",
			language.FunctionFile)
	}
}

// spread calls do for 0 to n on all cores, each with its own checker, and merges the results.
func (w *whole) spread(n int, do func(own *whole, i int)) {
	var mu sync.Mutex
	cores.Share(n, func(from, to int) {
		own := *w
		own.checker = newChecker()
		for i := from; i < to; i++ {
			do(&own, i)
		}
		mu.Lock()
		defer mu.Unlock()
		w.diagnostics = append(w.diagnostics, own.diagnostics...)
	})
}

// apart returns the diagnostics of do separately from the others.
func (w *whole) apart(do func()) []diagnostic.Diagnostic {
	kept := w.diagnostics
	w.diagnostics = nil
	do()
	found := w.diagnostics
	w.diagnostics = kept
	return found
}

// declare reads a function out of its file.
func (w *whole) declare(f *known, shared *tree.Node) *known {
	switch {
	case f.function == nil: // it was read just now
	case w.sameRoot && w.sameFiles:
		return f
	default:
		f = f.fresh()
	}
	f.declared = w.apart(func() { f.function = w.function(f, shared) })
	return f
}

func (w *whole) function(f *known, shared *tree.Node) *manifest.Function {
	n := f.node
	fn := manifest.DecodeFunction(f.name, n, shared, w.out)
	at, code := n.Get("code"), n.Get("code").Value()
	switch folder := path.Join(path.Dir(f.name), code); {
	case strings.HasPrefix(code, "/") || manifest.Leaves(folder):
		w.add(diagnostic.CodePath, at.Range(), "%q is outside the service's folder; code must be a folder below it",
			diagnostic.Clip(code))
	case code != "" && !w.hasFolder(folder):
		w.add(diagnostic.CodeCodeFolder, at.Range(), "the folder %q does not exist or is empty", folder)
	}
	if in := n.Get("per_stage"); in != nil && in.Kind == tree.Mapping {
		for _, k := range in.Keys {
			if w.out.Stage(k.Text) == nil {
				w.unknownStage(k)
			}
		}
	}
	return fn
}

// has reports whether the folder has a file.
func (w *whole) has(name string) bool {
	return contains(w.all, name)
}

func (w *whole) hasFolder(dir string) bool {
	if dir == "." {
		return true
	}
	i := sort.SearchStrings(w.all, dir+"/")
	return i < len(w.all) && strings.HasPrefix(w.all[i], dir+"/")
}

// reads reports whether a part of rudmar.yaml can be parsed: if not, its declarations are not reported as
// missing.
func (w *whole) reads(part string) bool {
	n := w.root.node.Get(part)
	switch {
	case n == nil:
		return true
	case part == "settings":
		return n.Kind == tree.Mapping
	case n.Kind != tree.Sequence:
		return false
	}
	return !slices.ContainsFunc(n.Items, func(item *tree.Node) bool {
		if part == "stages" {
			item = item.Get("stage")
		}
		return item == nil || item.Kind != tree.Scalar
	})
}

func (w *whole) unknownStage(k *tree.Node) {
	if !w.reads("stages") {
		return
	}
	var names []string
	for _, s := range w.out.Stages {
		names = append(names, s.Name)
	}
	d := w.add(diagnostic.CodeUnknownStage, k.Range(), "%q is not a stage of this service (expected one of %s)",
		diagnostic.Clip(k.Text), strings.Join(names, ", "))
	if near := diagnostic.Nearest(k.Text, names); near != "" {
		d.Mend(fmt.Sprintf("Change to %q", near), near)
	}
}

func (w *whole) cases() {
	byFolder := make(map[string]*manifest.Function, len(w.out.Functions))
	for _, fn := range w.out.Functions {
		byFolder[path.Dir(fn.File)] = fn
	}
	var language *expression.Language
	for i, f := range w.files {
		if !manifest.IsCase(f.name) || f.node == nil {
			continue
		}
		fn := byFolder[path.Dir(path.Dir(f.name))]
		if fn == nil { // a folder named cases that belongs to no function
			if f.saved != nil {
				w.files[i] = f.fresh()
			}
			continue
		}
		if f.saved == nil || f.of != fn.At("") {
			if language == nil {
				var err error
				if language, err = expression.ForCases(); err != nil {
					w.add(diagnostic.CodeCaseExpression, f.node.Range(), "%v", err)
					return
				}
			}
			f = f.fresh()
			c := manifest.DecodeCase(f.name, f.node)
			f.saved, f.of = &c, fn.At("")
			f.ofSaved = w.apart(func() { w.checkCase(fn, c, f.node, language) })
			w.files[i] = f
		}
		if slices.ContainsFunc(fn.Cases, func(c manifest.Case) bool { return c.Name == f.saved.Name }) {
			w.add(diagnostic.CodeTwice, f.node.Get("case").Range(), "%s already has a case named %q; rename this one", fn.Name,
				diagnostic.Clip(f.saved.Name))
		}
		fn.Cases = append(fn.Cases, *f.saved)
	}
}

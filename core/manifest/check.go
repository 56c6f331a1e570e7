// Package manifest reads the manifest language: it parses rudmar.yaml,
// function.yaml and cases with the place of every value, checks them, merges
// what stages change, and tells everything that is wrong at once.
package manifest

import (
	"path"
	"runtime"
	"sort"
	"strings"
	"sync"
	"sync/atomic"

	"rudmar/core/expression"
)

// Result is what a check found.
type Result struct {
	// Service is what the manifests declare; nil where rudmar.yaml cannot be read.
	Service     *Service
	Diagnostics []Diagnostic
}

// OK tells whether a version may be built.
func (r Result) OK() bool { return r.Service != nil && !HasErrors(r.Diagnostics) }

// file is one parsed manifest file.
type file struct {
	name        string
	node        *Node
	diagnostics []Diagnostic
}

// Check reads and checks a service's folder. All problems are told at once; a
// broken file does not keep the others from being checked.
func (l *Language) Check(folder Folder) Result {
	all := folder.Files()
	names := manifestFiles(all)
	files := l.parseAll(folder, names)

	w := &whole{language: l, folder: folder, all: all, present: make(map[string]bool, len(all)), checker: newChecker()}
	for _, name := range all {
		w.present[name] = true
	}
	var r Result
	for _, f := range files {
		r.Diagnostics = append(r.Diagnostics, f.diagnostics...)
	}
	w.service(files)
	w.functions(files)
	w.cases(files)
	if w.out != nil {
		w.across()
	}
	r.Service = w.out
	r.Diagnostics = append(r.Diagnostics, w.checker.diagnostics...)
	Sort(r.Diagnostics)
	return r
}

// manifestFiles takes the manifests of this service, not of one in a folder below.
func manifestFiles(all []string) []string {
	var inner []string
	for _, dir := range Services(all) {
		if dir != "." {
			inner = append(inner, dir+"/")
		}
	}
	var out []string
next:
	for _, name := range all {
		if !IsManifest(name) {
			continue
		}
		for _, dir := range inner {
			if strings.HasPrefix(name, dir) {
				continue next
			}
		}
		out = append(out, name)
	}
	return out
}

// onAllCores calls do for stretches of 0 to n that together are all of it.
func onAllCores(n int, do func(from, to int)) {
	const stretch = 64
	var next atomic.Int64
	var group sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), (n+stretch-1)/stretch) {
		group.Add(1)
		go func() {
			defer group.Done()
			for {
				from := int(next.Add(stretch)) - stretch
				if from >= n {
					return
				}
				do(from, min(n, from+stretch))
			}
		}()
	}
	group.Wait()
}

// parseAll parses and checks each file against its shape.
func (l *Language) parseAll(folder Folder, names []string) []file {
	files := make([]file, len(names))
	onAllCores(len(names), func(from, to int) {
		c := newChecker()
		for i := from; i < to; i++ {
			files[i] = l.parseFile(c, folder, names[i])
		}
	})
	return files
}

func (l *Language) parseFile(c *checker, folder Folder, name string) file {
	f := file{name: name}
	text, err := folder.Read(name)
	if err != nil {
		f.diagnostics = []Diagnostic{{Code: CodeSyntax, Severity: Error, Range: Range{File: name, Line: 1, Column: 1, EndLine: 1, EndColumn: 2}, Message: "cannot be read: " + err.Error()}}
		return f
	}
	f.node, f.diagnostics = parse(name, text)
	if f.node == nil {
		return f
	}
	c.diagnostics = nil
	shape, what := l.caseFile, "a case"
	switch path.Base(name) {
	case ServiceFile:
		shape, what = l.service, "a service"
		f.node.mark(OfService)
		f.node.Get("defaults").mark(Defaults)
	case FunctionFile:
		shape, what = l.function, "a function"
		f.node.mark(OfFunction)
		f.node.Get("in").mark(OfStage)
	}
	c.conform(f.node, shape, what)
	f.diagnostics = append(f.diagnostics, c.diagnostics...)
	return f
}

// whole is the check of a service as a whole.
type whole struct {
	*checker
	language *Language
	folder   Folder
	all      []string // the files of the folder, sorted
	present  map[string]bool
	out      *Service
	root     *Node // of rudmar.yaml
	nodes    map[string]*Node
}

func (w *whole) service(files []file) {
	for _, f := range files {
		if f.name == ServiceFile {
			if f.node == nil || f.node.Kind != Mapping {
				return
			}
			w.root = f.node
			w.out = decodeService(f.node)
			w.checkSettings(f.node)
			w.checkStages(f.node)
			return
		}
	}
	w.add(CodeMissingKey, Range{File: ServiceFile, Line: 1, Column: 1, EndLine: 1, EndColumn: 2}, "there is no %s in this folder; it names the service and its stages", ServiceFile)
}

func (w *whole) functions(files []file) {
	w.nodes = map[string]*Node{}
	if w.out == nil {
		return
	}
	builtIn := builtIns(w.language.function)
	shared := merge(builtIn, w.root.Get("defaults"))
	first := map[string]*Function{}
	decoded := make([]*Function, len(files))
	w.spread(len(files), func(own *whole, i int) {
		if f := files[i]; path.Base(f.name) == FunctionFile && f.node != nil && f.node.Kind == Mapping {
			decoded[i] = own.function(f, shared)
		}
	})
	for i, fn := range decoded {
		f := files[i]
		if fn == nil || fn.Name == "" {
			continue
		}
		if other := first[fn.Name]; other != nil {
			w.add(CodeDuplicateFunction, f.node.Get("function").Range, "a function %q is declared already, in %s; give one of them another name", fn.Name, other.File)
			continue
		}
		first[fn.Name] = fn
		w.nodes[fn.Name] = f.node
		w.out.Functions = append(w.out.Functions, fn)
	}
	sort.Slice(w.out.Functions, func(i, j int) bool { return w.out.Functions[i].Name < w.out.Functions[j].Name })
	top := w.root.Range
	switch n := len(w.out.Functions); {
	case n > MaxFunctions:
		w.add(CodeTooMany, top, "the service has %d functions; up to %d are possible, so make it two services", n, MaxFunctions)
	case n == 0 && len(files) == 1:
		w.add(CodeNoFunctions, top, "the service has no function; put one at functions/<name>/%s", FunctionFile)
	}
}

// spread calls do for 0 to n on all cores, each with a checker of its own; what
// they find is gathered.
func (w *whole) spread(n int, do func(own *whole, i int)) {
	var mu sync.Mutex
	onAllCores(n, func(from, to int) {
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

func (w *whole) function(f file, shared *Node) *Function {
	n := f.node
	fn := &Function{
		Name:  textOf(n.Get("function")),
		About: textOf(n.Get("about")),
		File:  f.name,
		Was:   textOf(n.Get("was")),
		From:  n.Get("function").Origin(),
	}
	code := textOf(n.Get("code"))
	fn.Code = path.Join(path.Dir(f.name), code)
	switch {
	case strings.HasPrefix(code, "/") || fn.Code == ".." || strings.HasPrefix(fn.Code, "../"):
		w.add(CodePath, n.Get("code").Range, "%q leaves the service's folder; code is a folder below it", clip(code))
		fn.Code = path.Dir(f.name)
	case code != "" && !w.hasFolder(fn.Code):
		w.add(CodeCodeFolder, n.Get("code").Range, "there is no folder %q with files in it", fn.Code)
	}
	own := merge(shared, n)
	fn.base = decodeConfig(own)
	fn.stage = map[string]*Config{}
	if in := n.Get("in"); in != nil && in.Kind == Mapping {
		for i, k := range in.Keys {
			if w.out.Stage(k.Text) == nil {
				w.unknownStage(k)
				continue
			}
			fn.stage[k.Text] = decodeConfig(merge(own, in.Items[i]))
		}
	}
	return fn
}

func (w *whole) hasFolder(dir string) bool {
	if dir == "." {
		return true
	}
	i := sort.SearchStrings(w.all, dir+"/")
	return i < len(w.all) && strings.HasPrefix(w.all[i], dir+"/")
}

func (w *whole) unknownStage(k *Node) {
	var names []string
	for _, s := range w.out.Stages {
		names = append(names, s.Name)
	}
	d := w.add(CodeUnknownStage, k.Range, "%q is not a stage of this service; there are %s", clip(k.Text), strings.Join(names, ", "))
	if near := Nearest(k.Text, names); near != "" {
		d.Fix = replaceWith("Change to \""+near+"\"", k.Range, near)
	}
}

func (w *whole) cases(files []file) {
	if w.out == nil {
		return
	}
	byFolder := map[string]*Function{}
	for _, fn := range w.out.Functions {
		byFolder[path.Dir(fn.File)] = fn
	}
	var language *expression.Language
	for _, f := range files {
		if !isCase(f.name) || f.node == nil {
			continue
		}
		fn := byFolder[path.Dir(path.Dir(f.name))]
		if fn == nil {
			continue // a folder named cases that stands beside no function
		}
		if language == nil {
			var err error
			if language, err = expression.ForCases(); err != nil {
				w.add(CodeCaseExpression, f.node.Range, "%v", err)
				return
			}
		}
		c := decodeCase(f.name, f.node)
		w.checkCase(fn, c, f.node, language)
		fn.Cases = append(fn.Cases, c)
	}
}

package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// handlerFile returns the file of a function's handler, or "" if there is none.
func (w *whole) handlerFile(code string, c *manifest.Config) string {
	file, _, ok := strings.Cut(c.Handler.V, ":")
	if ok && file != "" {
		for _, ending := range language.Endings(c.Runtime.V) {
			if name := path.Join(code, file+ending); w.has(name) {
				return name
			}
		}
	}
	return ""
}

// handler checks that the file is in the code folder and appears to define the function. It executes no code.
func (w *whole) handler(f *known, fn *manifest.Function, n *tree.Node) {
	at := n.Get("handler")
	text := fn.At("").Handler.V
	f.code = ""
	if at == nil || text == "" {
		return
	}
	file, function, ok := strings.Cut(text, ":")
	if !ok || file == "" || function == "" {
		w.add(diagnostic.CodeHandlerFile, at.Range(),
			"%q is not a handler; a handler is file:function, without the file's extension", diagnostic.Clip(text))
		return
	}
	if strings.HasPrefix(file, "/") || manifest.Leaves(path.Clean(file)) {
		w.add(diagnostic.CodePath, at.Range(), "%q is outside the code folder; the handler's file must be in it",
			diagnostic.Clip(text))
		return
	}
	runtime := fn.At("").Runtime.V
	if f.code = w.handlerFile(fn.Code, fn.At("")); f.code != "" {
		if held, err := stampOf(w.folder, f.code); err == nil {
			f.codeHeld = held
			w.handlerFunction(at, f.code, function, runtime)
		}
		return
	}
	var candidates, stems []string
	for _, ending := range language.Endings(runtime) {
		candidates = append(candidates, path.Join(fn.Code, file+ending))
		for _, name := range w.all {
			if stem, ok := strings.CutSuffix(name, ending); ok && path.Dir(name) == fn.Code {
				stems = append(stems, path.Base(stem))
			}
		}
	}
	if len(candidates) == 0 {
		return // the runtime is unknown, which is reported elsewhere
	}
	slices.Sort(stems)
	d := w.add(diagnostic.CodeHandlerFile, at.Range(), "no file %s", strings.Join(candidates, " or "))
	if near := diagnostic.Nearest(file, stems); near != "" {
		d.Message += fmt.Sprintf("; did you mean %q?", near)
		d.Mend(fmt.Sprintf("Change to %q", near+":"+function), near+":"+function)
	}
}

// handlerIn checks a handler or a runtime that a stage sets: they must match the same code.
func (w *whole) handlerIn(fn *manifest.Function, stage string, over *tree.Node) {
	at := over.Get("handler")
	if at == nil {
		at = over.Get("runtime")
	}
	if at == nil || at.Kind != tree.Scalar || w.out.Stage(stage) == nil {
		return
	}
	c := fn.At(stage)
	file, function, ok := strings.Cut(c.Handler.V, ":")
	switch name := w.handlerFile(fn.Code, c); {
	case !ok || file == "" || function == "":
		w.add(diagnostic.CodeHandlerFile, at.Range(),
			"%q is not a handler; a handler is file:function, without the file's extension", diagnostic.Clip(c.Handler.V))
	case strings.HasPrefix(file, "/") || manifest.Leaves(path.Clean(file)):
		w.add(diagnostic.CodePath, at.Range(), "%q is outside the code folder; the handler's file must be in it",
			diagnostic.Clip(c.Handler.V))
	case len(language.Endings(c.Runtime.V)) == 0: // reported elsewhere
	case name == "":
		w.add(diagnostic.CodeHandlerFile, at.Range(), "in %s the handler %s of the runtime %s has no file %s%s", stage,
			c.Handler.V, c.Runtime.V, file, strings.Join(language.Endings(c.Runtime.V), " or "))
	default:
		w.handlerFunction(at, name, function, c.Runtime.V)
	}
}

func (w *whole) handlerFunction(at *tree.Node, name, function, runtime string) {
	text, err := w.folder.Read(name)
	if err != nil {
		return
	}
	if !language.Defines(string(text), function, runtime) {
		w.add(diagnostic.CodeHandlerFile, at.Range(), "%s does not define %q; the handler is file:function", name, function)
	}
}

package manifest

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// endings of handler files, by runtime.
func endings(runtime string) []string {
	return map[string][]string{"python": {".py"}, "node": {".mjs", ".js", ".cjs"}, "go": {".go"}}[runtime]
}

// handlerFile gives the file that a function's handler stands in, or "" where there is none.
func (w *whole) handlerFile(fn *Function) string {
	file, _, ok := strings.Cut(fn.base.Handler.V, ":")
	if ok && file != "" {
		for _, ending := range endings(fn.base.Runtime.V) {
			if name := path.Join(fn.Code, file+ending); w.has(name) {
				return name
			}
		}
	}
	return ""
}

// handler checks that the file stands in the code folder and seems to define
// the function. Code is not run for it.
func (w *whole) handler(f *known, fn *Function, n *Node) {
	at := n.Get("handler")
	text := fn.base.Handler.V
	f.code = ""
	if at == nil || text == "" {
		return
	}
	file, function, ok := strings.Cut(text, ":")
	if !ok || file == "" || function == "" {
		w.add(CodeHandlerFile, at.Range(), "%q is not a handler; a handler is file:function, without the file's ending", clip(text))
		return
	}
	runtime := fn.base.Runtime.V
	if f.code = w.handlerFile(fn); f.code != "" {
		if held, err := stampOf(w.folder, f.code); err == nil {
			f.codeHeld = held
			w.handlerFunction(at, f.code, function, runtime)
		}
		return
	}
	var candidates, stems []string
	for _, ending := range endings(runtime) {
		candidates = append(candidates, path.Join(fn.Code, file+ending))
		for _, name := range w.all {
			if stem, ok := strings.CutSuffix(name, ending); ok && path.Dir(name) == fn.Code {
				stems = append(stems, path.Base(stem))
			}
		}
	}
	if len(candidates) == 0 {
		return // the runtime is unknown, which is told elsewhere
	}
	slices.Sort(stems)
	d := w.add(CodeHandlerFile, at.Range(), "there is no file %s", strings.Join(candidates, " or "))
	if near := Nearest(file, stems); near != "" {
		d.Message += fmt.Sprintf("; did you mean %q?", near)
		d.Fix = replaceWith(fmt.Sprintf("Change to %q", near+":"+function), at.Range(), near+":"+function)
	}
}

func (w *whole) handlerFunction(at *Node, name, function, runtime string) {
	text, err := w.folder.Read(name)
	if err != nil {
		return
	}
	if !defines(string(text), function, runtime) {
		w.add(CodeHandlerFile, at.Range(), "%s does not define %q; the handler is file:function", name, function)
	}
}

// defines tells whether code seems to define a function. It says yes where it
// cannot tell, such as with names that are imported.
func defines(code, function, runtime string) bool {
	if runtime == "node" {
		return hasWord(code, function)
	}
	for line := range strings.Lines(code) {
		words := strings.Fields(line)
		switch {
		case len(words) == 0 || !hasWord(line, function) && !strings.Contains(line, "import"):
		case runtime == "go":
			if words[0] == "func" {
				return true
			}
		case strings.HasPrefix(line, "def ") || strings.HasPrefix(line, "async ") || strings.HasPrefix(line, function):
			return true
		case strings.Contains(line, "import ") && (hasWord(line, function) || strings.ContainsAny(line, "(*")):
			return true
		}
	}
	return false
}

// hasWord tells whether a name stands in a text, not as a part of another name.
func hasWord(text, name string) bool {
	part := func(b byte) bool {
		return b == '_' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80
	}
	for at := 0; ; {
		i := strings.Index(text[at:], name)
		if i < 0 || name == "" {
			return false
		}
		from, to := at+i, at+i+len(name)
		if (from == 0 || !part(text[from-1])) && (to == len(text) || !part(text[to])) {
			return true
		}
		at = to
	}
}

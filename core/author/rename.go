package author

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"unicode/utf8"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// Errors of Rename.
var (
	ErrNoFunction = errors.New("unknown function")
	ErrNameTaken  = errors.New("a function of this name already exists")
	ErrNotName    = errors.New("invalid name")
)

// Rename returns the edit that renames a function of a checked folder: its name, a was key with its former
// name, every reference to it, and its folder if that has its name. Deleted files have nil content. A function
// that was renamed before keeps its was key.
func Rename(folder manifest.Folder, s *manifest.Service, from, to string) (map[string][]byte, error) {
	fn := s.Function(from)
	switch {
	case fn == nil:
		return nil, fmt.Errorf("%w: %s", ErrNoFunction, from)
	case s.Function(to) != nil:
		return nil, fmt.Errorf("%w: %s", ErrNameTaken, to)
	case !language.IsName(to):
		return nil, fmt.Errorf("%w: %q; a name has 1 to 40 lowercase letters, digits and hyphens and starts with a letter",
			ErrNotName, to)
	}
	out := map[string][]byte{}
	for _, name := range manifest.Manifests(folder.Files()) {
		if manifest.IsCase(name) {
			continue
		}
		text, err := folder.Read(name)
		if err != nil {
			return nil, err
		}
		node, _ := tree.Parse(name, text)
		if node == nil {
			continue
		}
		edits := renames(node, from, to)
		if name == fn.File {
			edits = append(edits, diagnostic.Edit{Range: node.Get("function").Range(), Text: to})
			if node.Get("renamed_from") == nil {
				edits = append(edits,
					diagnostic.Edit{Range: diagnostic.Range{File: name, Line: int(node.Get("function").Line) + 1, Column: 1,
						EndLine: int(node.Get("function").Line) + 1, EndColumn: 1}, Text: "renamed_from: " + from + "\n"})
			}
		}
		if len(edits) > 0 {
			at := diagnostic.Diagnostic{Range: diagnostic.Range{File: name}, Fix: &diagnostic.Fix{Edits: edits}}
			out[name] = diagnostic.Apply(text, []diagnostic.Diagnostic{at})
		}
	}
	return out, move(folder, fn, from, to, out)
}

// renames lists the edits of a file's references to the function.
func renames(n *tree.Node, from, to string) []diagnostic.Edit {
	var out []diagnostic.Edit
	var walk func(n *tree.Node, key string)
	walk = func(n *tree.Node, key string) {
		if n == nil {
			return
		}
		if n.Kind == tree.Scalar {
			if strings.Contains(n.Text, "${functions."+from+".") {
				template, _ := manifest.ParseTemplate(n.Text)
				for _, part := range template {
					if part.Kind == manifest.ToURL && part.Name == from {
						out = append(out, diagnostic.Edit{Range: n.Part(part.Offset+len("${functions."), len(from)), Text: to})
					}
				}
			}
			return
		}
		for i, item := range n.Items {
			inner := key
			if n.Kind == tree.Mapping {
				inner = n.Keys[i].Text
				if inner == "triggers" {
					for _, t := range item.Items {
						if f := t.Get("after_function"); f != nil && f.Text == from {
							out = append(out, diagnostic.Edit{Range: f.Range(), Text: to})
						}
					}
				}
			}
			if key == "gates" && inner == "cases" && item.Kind == tree.Sequence {
				for _, named := range item.Items {
					if named.Text == from {
						out = append(out, diagnostic.Edit{Range: named.Range(), Text: to})
					}
				}
			}
			walk(item, inner)
		}
	}
	walk(n, "")
	return out
}

// move moves the function's folder if it has the function's name and contains only text.
func move(folder manifest.Folder, fn *manifest.Function, from, to string, out map[string][]byte) error {
	dir := path.Dir(fn.File)
	if path.Base(dir) != from || fn.Code != dir {
		return nil
	}
	now := path.Join(path.Dir(dir), to)
	moved := map[string][]byte{}
	for _, name := range folder.Files() {
		if strings.HasPrefix(name, now+"/") {
			return nil // other text is there
		}
		rest, inside := strings.CutPrefix(name, dir+"/")
		if !inside {
			continue
		}
		text, edited := out[name]
		if !edited {
			var err error
			if text, err = folder.Read(name); err != nil {
				return err
			}
		}
		if !utf8.Valid(text) || len(text) > tree.MaxFileBytes {
			return nil
		}
		moved[path.Join(now, rest)] = text
		moved[name] = nil
	}
	for name, text := range moved {
		out[name] = text
	}
	return nil
}

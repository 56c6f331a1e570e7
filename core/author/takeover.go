package author

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

// ErrNoPlace reports that a value has no single place in the manifests, so it must be written by hand.
var ErrNoPlace = errors.New("this value cannot be written in the manifests automatically; edit them manually")

// TakeOver returns the edit that writes a drifted value to a function's manifest: for the drifted stage, if the
// service has others. address and attribute identify the value.
func TakeOver(folder manifest.Folder, s *manifest.Service, stage, address, attribute string,
	value any) (file string, text []byte, err error) {
	kind, rest := resource.Split(address)
	name, trigger, _ := strings.Cut(rest, "/")
	fn := s.Function(name)
	if fn == nil {
		return "", nil, fmt.Errorf("%w: %s", ErrNoFunction, name)
	}
	path, written, err := keyOfAttribute(kind, trigger, attribute, value)
	if err != nil {
		return "", nil, err
	}
	var of []string // the part of the file about the stage
	if len(s.Stages) > 1 {
		of = []string{"per_stage", stage}
	}
	if text, err = folder.Read(fn.File); err != nil {
		return "", nil, err
	}
	root, _ := tree.Parse(fn.File, text)
	if root == nil || root.Kind != tree.Mapping {
		return "", nil, fmt.Errorf("%s cannot be read: %w", fn.File, ErrNoPlace)
	}
	lines := strings.Split(string(text), "\n")
	var edit diagnostic.Edit
	if kind == resource.Grant {
		edit, err = permit(root, of, trigger, written, lines)
	} else {
		edit = put(root, append(of, path...), written, lines)
	}
	if err != nil {
		return "", nil, err
	}
	edit.File = fn.File
	if edit.Line > root.Last().Range().EndLine && len(text) > 0 && text[len(text)-1] != '\n' {
		text = append(text, '\n')
	}
	at := diagnostic.Diagnostic{Range: diagnostic.Range{File: fn.File},
		Fix: &diagnostic.Fix{Edits: []diagnostic.Edit{edit}}}
	return fn.File, diagnostic.Apply(text, []diagnostic.Diagnostic{at}), nil
}

// Copyable reports whether a function's manifest has a place for a value of a resource.
func Copyable(address, attribute string, value any) bool {
	kind, rest := resource.Split(address)
	_, trigger, _ := strings.Cut(rest, "/")
	_, _, err := keyOfAttribute(kind, trigger, attribute, value)
	return err == nil
}

// keyOfAttribute returns the manifest keys of an attribute, and the value in its manifest form.
func keyOfAttribute(kind, trigger, attribute string, value any) (path []string, written string, err error) {
	number, isNumber := value.(float64)
	truth, isTruth := value.(bool)
	text, isText := value.(string)
	env, isEnv := strings.CutPrefix(attribute, "env.")
	triggers := []string{resource.Route, resource.Schedule, resource.Subscription}
	at := func(ok bool, written string, path ...string) ([]string, string, error) {
		if !ok {
			return nil, "", fmt.Errorf("%s of %s: %w", attribute, kind, ErrNoPlace)
		}
		return path, written, nil
	}
	length := func() string { return language.FormatTime(time.Duration(number * float64(time.Millisecond))) }
	switch {
	case kind == resource.Function && isEnv:
		return at(isText, quoted(strings.ReplaceAll(text, "${", "$${")), "env", env)
	case kind == resource.Function && attribute == "memory":
		return at(isNumber, language.FormatSize(int64(number)), "memory")
	case kind == resource.Function && attribute == "timeout":
		return at(isNumber, length(), "timeout")
	case kind == resource.Function && attribute == "max_concurrency":
		return at(isNumber, fmt.Sprint(int64(number)), "max_concurrency")
	case kind == resource.Function && attribute == "network":
		return at(isTruth, fmt.Sprint(truth), "network")
	case kind == resource.Logs && attribute == "retention":
		return at(isNumber, length(), "log_retention")
	case slices.Contains(triggers, kind) && attribute == "enabled":
		return at(isTruth, fmt.Sprint(truth), "triggers", trigger, "enabled")
	case kind == resource.Schedule && attribute == "every":
		return at(isNumber, length(), "triggers", trigger, "every")
	case kind == resource.Schedule && (attribute == "cron" || attribute == "zone"):
		return at(isText, quoted(text), "triggers", trigger, attribute)
	case kind == resource.Grant && attribute == "verbs":
		list, isList := value.([]any)
		return at(isList && len(list) > 0, flowList(list), "permissions")
	case kind == resource.Opening && attribute == "to":
		return at(true, callers(value), "triggers", trigger, "open_to")
	}
	return at(false, "")
}

// permit returns the edit that sets the verbs on a resource in the permissions under a path of keys: in place
// of the present verbs, or, without permissions there, by the function's whole list, because a list replaces
// another.
func permit(root *tree.Node, of []string, resource, verbs string, lines []string) (diagnostic.Edit, error) {
	list := root
	for _, key := range append(slices.Clone(of), "permissions") {
		list = list.Get(key)
	}
	if list != nil && list.Kind == tree.Sequence {
		item, err := permissionFor(list, resource)
		if err != nil {
			return diagnostic.Edit{}, err
		}
		return diagnostic.Edit{Range: whole(item.Get("allow"), lines), Text: verbs}, nil
	}
	own := root.Get("permissions")
	if len(of) == 0 || own == nil || own.Kind != tree.Sequence {
		return diagnostic.Edit{}, fmt.Errorf("no permission of the function is only for %s: %w", resource, ErrNoPlace)
	}
	changed, err := permissionFor(own, resource)
	if err != nil {
		return diagnostic.Edit{}, err
	}
	items := make([]string, len(own.Items))
	for i, item := range own.Items {
		may := verbs
		if item != changed {
			may = flowList(item.Get("allow").Plain())
		}
		items[i] = "{allow: " + may + ", resource: " + plainOrQuoted(item.Get("resource").Value()) + "}"
	}
	return put(root, append(of, "permissions"), "["+strings.Join(items, ", ")+"]", lines), nil
}

// permissionFor returns the only permission for a resource by that name.
func permissionFor(list *tree.Node, resource string) (*tree.Node, error) {
	var found *tree.Node
	for _, item := range list.Items {
		if item.Get("resource").Value() != resource || item.Get("allow") == nil {
			continue
		}
		if found != nil {
			return nil, fmt.Errorf("several permissions are for %s: %w", resource, ErrNoPlace)
		}
		found = item
	}
	if found == nil {
		return nil, fmt.Errorf("no permission of the function is only for %s: %w", resource, ErrNoPlace)
	}
	return found, nil
}

// flowList writes texts as a list on one line; a single text is a list of itself.
func flowList(value any) string {
	list, isList := value.([]any)
	if !isList {
		list = []any{value}
	}
	names := make([]string, len(list))
	for i, v := range list {
		names[i] = plainOrQuoted(fmt.Sprint(v))
	}
	return "[" + strings.Join(names, ", ") + "]"
}

// plainOrQuoted writes a plain name without quotes.
func plainOrQuoted(text string) string {
	for _, r := range text {
		if (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune("/_.-", r) {
			return quoted(text)
		}
	}
	return text
}

// quoted writes text so that YAML reads it as text.
func quoted(text string) string {
	out, _ := json.Marshal(text) // JSON strings are valid YAML, and text always has one
	return string(out)
}

// callers writes the value of open_to.
func callers(value any) string {
	list, _ := value.([]any)
	if len(list) == 1 && (list[0] == "anyone" || list[0] == "authenticated") {
		return fmt.Sprint(list[0])
	}
	return flowList(list)
}

// put returns the edit that sets a value under a path of keys: in place of the present value, or in the
// innermost existing mapping of the path, in block or in flow style.
func put(root *tree.Node, path []string, written string, lines []string) diagnostic.Edit {
	at, depth := root, 0
	for depth < len(path) {
		next := at.Get(path[depth])
		if next == nil || next.Kind == tree.Null {
			break
		}
		if depth == len(path)-1 {
			return diagnostic.Edit{Range: whole(next, lines), Text: written}
		}
		if next.Kind != tree.Mapping || len(next.Keys) == 0 {
			break
		}
		at, depth = next, depth+1
	}
	left := path[depth:]
	if null := at.Get(left[0]); null != nil { // a key without a value: "in:"
		end := at.Key(left[0]).Range()
		return diagnostic.Edit{Range: diagnostic.Range{Line: end.EndLine, Column: end.EndColumn,
			EndLine: null.Range().EndLine, EndColumn: null.Range().EndColumn}, Text: ": " + flow(left[1:], written)}
	}
	first := at.Keys[0]
	if at != root && first.Line == at.Line && at.Column < first.Column { // {…}
		last := at.Items[len(at.Items)-1]
		if last.Kind != tree.Scalar { // an unclosed value has no known end
			begin := diagnostic.Range{Line: int(first.Line), Column: int(first.Column), EndLine: int(first.Line),
				EndColumn: int(first.Column)}
			return diagnostic.Edit{Range: begin, Text: left[0] + ": " + flow(left[1:], written) + ", "}
		}
		end := last.Range()
		return diagnostic.Edit{Range: diagnostic.Range{Line: end.EndLine, Column: end.EndColumn, EndLine: end.EndLine,
			EndColumn: end.EndColumn}, Text: ", " + left[0] + ": " + flow(left[1:], written)}
	}
	indent, line := strings.Repeat(" ", int(first.Column)-1), int(first.Line)
	if at == root {
		line = len(lines)
	}
	var text strings.Builder
	for i, key := range left {
		text.WriteString(indent + strings.Repeat("  ", i) + key + ":")
		if i == len(left)-1 {
			text.WriteString(" " + written)
		}
		text.WriteString("\n")
	}
	return diagnostic.Edit{Range: diagnostic.Range{Line: line, Column: 1, EndLine: line, EndColumn: 1},
		Text: text.String()}
}

// whole returns the range of a value. The node of a list has only its start: it ends with its last item,
// including a closing bracket on its own line.
func whole(n *tree.Node, lines []string) diagnostic.Range {
	at := n.Range()
	if n.Kind != tree.Sequence {
		return at
	}
	inLine := []rune(lines[at.Line-1])[at.Column-1] == '['
	if len(n.Items) > 0 {
		last := n.Last().Range()
		at.EndLine, at.EndColumn = last.EndLine, last.EndColumn
	}
	if !inLine {
		return at
	}
	for line, column := at.EndLine, at.EndColumn-1; line <= len(lines); line, column = line+1, 0 {
		rest := []rune(lines[line-1])[column:]
		if comment := slices.Index(rest, '#'); comment >= 0 {
			rest = rest[:comment]
		}
		if i := slices.Index(rest, ']'); i >= 0 {
			at.EndLine, at.EndColumn = line, column+i+2
			return at
		}
	}
	return at
}

// flow writes a value under a path of keys on one line.
func flow(path []string, written string) string {
	for i := len(path) - 1; i >= 0; i-- {
		written = "{" + path[i] + ": " + written + "}"
	}
	return written
}

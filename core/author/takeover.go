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

// ErrNoPlace tells that a value of a resource stands in no one place of the
// manifests, so that it has to be written by hand.
var ErrNoPlace = errors.New("this value has no place of its own in the manifests; write it by hand")

// TakeOver gives the edit by which a function's manifest says a value that was set
// by hand: for the stage where it was set, if the service has others. address and
// attribute are of the resource that has the value.
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
	if len(s.Stages) > 1 {
		path = append([]string{"in", stage}, path...)
	}
	if text, err = folder.Read(fn.File); err != nil {
		return "", nil, err
	}
	root, _ := tree.Parse(fn.File, text)
	if root == nil || root.Kind != tree.Mapping {
		return "", nil, fmt.Errorf("%s cannot be read: %w", fn.File, ErrNoPlace)
	}
	edit := put(root, path, written, len(strings.Split(string(text), "\n")))
	edit.File = fn.File
	if edit.Line > root.Last().Range().EndLine && len(text) > 0 && text[len(text)-1] != '\n' {
		text = append(text, '\n')
	}
	at := diagnostic.Diagnostic{Range: diagnostic.Range{File: fn.File},
		Fix: &diagnostic.Fix{Edits: []diagnostic.Edit{edit}}}
	return fn.File, diagnostic.Apply(text, []diagnostic.Diagnostic{at}), nil
}

// CanTakeOver tells whether a function's manifest has a place for a value of a resource.
func CanTakeOver(address, attribute string, value any) bool {
	kind, rest := resource.Split(address)
	_, trigger, _ := strings.Cut(rest, "/")
	_, _, err := keyOfAttribute(kind, trigger, attribute, value)
	return err == nil
}

// keyOfAttribute gives where a function's manifest says an attribute, and the value
// as it is written there.
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
	case kind == resource.Function && attribute == "at_once":
		return at(isNumber, fmt.Sprint(int64(number)), "at_once")
	case kind == resource.Function && attribute == "network":
		return at(isTruth, fmt.Sprint(truth), "network")
	case kind == resource.Logs && attribute == "keep":
		return at(isNumber, length(), "keep_logs")
	case slices.Contains(triggers, kind) && attribute == "enabled":
		return at(isTruth, fmt.Sprint(!truth), "triggers", trigger, "off")
	case kind == resource.Schedule && attribute == "every":
		return at(isNumber, length(), "triggers", trigger, "every")
	case kind == resource.Schedule && (attribute == "cron" || attribute == "zone"):
		return at(isText, quoted(text), "triggers", trigger, attribute)
	case kind == resource.Opening && attribute == "to":
		return at(true, callers(value), "triggers", trigger, "open_to")
	}
	return at(false, "")
}

// quoted writes a text so that it is read as a text.
func quoted(text string) string {
	out, _ := json.Marshal(text) // JSON's strings are YAML's, and a text has one
	return string(out)
}

// callers writes who may call, as open_to has it.
func callers(value any) string {
	list, _ := value.([]any)
	var names []string
	for _, v := range list {
		names = append(names, fmt.Sprint(v))
	}
	if len(names) == 1 && (names[0] == "anyone" || names[0] == "members") {
		return names[0]
	}
	return "[" + strings.Join(names, ", ") + "]"
}

// put gives the edit that makes a mapping say a value under a path of keys: in the
// place of what is said there, or in the innermost mapping of the path that is
// there, be it in block or in flow style.
func put(root *tree.Node, path []string, written string, lines int) diagnostic.Edit {
	at, depth := root, 0
	for depth < len(path) {
		next := at.Get(path[depth])
		if next == nil || next.Kind == tree.Null {
			break
		}
		if depth == len(path)-1 {
			return diagnostic.Edit{Range: next.Range(), Text: written}
		}
		if next.Kind != tree.Mapping || len(next.Keys) == 0 {
			break
		}
		at, depth = next, depth+1
	}
	left := path[depth:]
	if null := at.Get(left[0]); null != nil { // a key that says nothing yet: "in:"
		end := at.Key(left[0]).Range()
		return diagnostic.Edit{Range: diagnostic.Range{Line: end.EndLine, Column: end.EndColumn,
			EndLine: null.Range().EndLine, EndColumn: null.Range().EndColumn}, Text: ": " + flow(left[1:], written)}
	}
	first := at.Keys[0]
	if at != root && first.Line == at.Line && at.Column < first.Column { // {…}
		last := at.Items[len(at.Items)-1]
		if last.Kind != tree.Scalar { // of what is open at its end it is not known where it closes
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
		line = lines
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

// flow writes a value under a path of keys in one line.
func flow(path []string, written string) string {
	for i := len(path) - 1; i >= 0; i-- {
		written = "{" + path[i] + ": " + written + "}"
	}
	return written
}

package language

import (
	"path"
	"slices"
	"strings"
)

// Runtimes lists the runtimes that a manifest can name.
func Runtimes() []string { return []string{"python", "node", "go"} }

// Extensions of the files of a runtime that can contain a handler; none if the runtime is unknown.
func Endings(runtime string) []string {
	return map[string][]string{"python": {".py"}, "node": {".mjs", ".js", ".cjs"}, "go": {".go"}}[runtime]
}

// IsCode reports whether a file can contain a handler of some runtime.
func IsCode(name string) bool {
	return slices.ContainsFunc(Runtimes(), func(runtime string) bool {
		return slices.Contains(Endings(runtime), path.Ext(name))
	})
}

// Defines reports whether code appears to define a function; it executes nothing. It returns true if it cannot
// tell, such as for imported names.
func Defines(code, function, runtime string) bool {
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

// hasWord reports whether a text contains a name as a whole word.
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

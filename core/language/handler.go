package language

import "strings"

// runtimes that a manifest may name.
func runtimes() []string { return []string{"python", "node", "go"} }

// Endings of the files of a runtime that may hold a handler; none if the runtime is not known.
func Endings(runtime string) []string {
	return map[string][]string{"python": {".py"}, "node": {".mjs", ".js", ".cjs"}, "go": {".go"}}[runtime]
}

// Defines reports whether code seems to define a function, by the
// looks of it: nothing is run. It says yes where it
// cannot tell, such as with names that are imported.
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

// hasWord reports whether a name stands in a text, not as a part of another name.
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

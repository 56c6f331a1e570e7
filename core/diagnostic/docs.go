package diagnostic

import (
	"fmt"
	"strings"
)

// markdown writes the explanations of all codes, for docs/diagnostics.md.
func markdown() string {
	b := strings.Builder{}
	b.WriteString("# Diagnostics\n\nWhat `rudmar check`, a push and the editor tell. Each code keeps its meaning for\ngood. Made from the table that the checker uses: `make docs` writes this file.\n")
	subject := ""
	subjects := map[string]string{"10": "The file", "11": "Keys", "12": "Values", "13": "References", "14": "Triggers",
		"15": "Permissions", "16": "The service as a whole", "17": "Cases"}
	for _, e := range Explanations() {
		if s := subjects[string(e.Code)[2:4]]; s != subject {
			subject = s
			fmt.Fprintf(&b, "\n## %s\n", s)
		}
		fmt.Fprintf(&b, "\n### %s: %s\n\n%s\n\nWrong:\n\n%s\n\nRight:\n\n%s\n", e.Code, e.Title, e.Why,
			indented(e.Wrong), indented(e.Right))
	}
	return b.String()
}

func indented(s string) string { return "    " + strings.ReplaceAll(s, "\n", "\n    ") }

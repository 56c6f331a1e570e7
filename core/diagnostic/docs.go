package diagnostic

import (
	"fmt"
	"strings"
)

// markdown writes the explanations of all codes, for docs/diagnostics.md.
func markdown() string {
	b := strings.Builder{}
	b.WriteString("# Diagnostics\n\nDiagnostics of `rudmar check`, a push and the editor. A code never changes its meaning.\n`make docs` generates this file from the checker's own table.\n")
	subject := ""
	subjects := map[string]string{"10": "The file", "11": "Keys", "12": "Values", "13": "References", "14": "Triggers",
		"15": "Permissions", "16": "The service as a whole", "17": "Cases"}
	for _, e := range Explanations() {
		if s := subjects[string(e.Code)[2:4]]; s != subject {
			subject = s
			fmt.Fprintf(&b, "\n## %s\n", s)
		}
		fmt.Fprintf(&b, "\n### %s: %s\n\n%s\n\nWrong:\n\n%s\n\nRight:\n\n%s\n", e.Code, e.Title, e.Reason,
			indented(e.Wrong), indented(e.Right))
	}
	return b.String()
}

func indented(s string) string { return "    " + strings.ReplaceAll(s, "\n", "\n    ") }

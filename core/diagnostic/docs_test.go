package diagnostic

import (
	"flag"
	"os"
	"testing"
)

var writeDocs = flag.Bool("write-docs", false, "write docs/diagnostics.md anew")

// docs/diagnostics.md matches the table of codes.
func TestDocsAreCurrent(t *testing.T) {
	const file = "../../docs/diagnostics.md"
	if *writeDocs {
		if err := os.WriteFile(file, []byte(markdown()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(file)
	if err != nil || string(text) != markdown() {
		t.Errorf("docs/diagnostics.md is not what the table says; run make docs: %v", err)
	}
}

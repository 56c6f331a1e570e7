package manifest_test

import (
	"flag"
	"os"
	"testing"

	"rudmar/core/manifest"
)

var writeDocs = flag.Bool("write-docs", false, "write docs/diagnostics.md anew")

// docs/diagnostics.md is what the table of codes says.
func TestDocsAreTrue(t *testing.T) {
	const file = "../../docs/diagnostics.md"
	if *writeDocs {
		if err := os.WriteFile(file, []byte(manifest.Markdown()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(file)
	if err != nil || string(text) != manifest.Markdown() {
		t.Errorf("docs/diagnostics.md is not what the table says; run make docs: %v", err)
	}
}

// The examples that stand for a whole piece of a function's manifest do what
// they say: the wrong one is told with its code, the right one is not.
func TestExamplesDoWhatTheySay(t *testing.T) {
	inFile := map[manifest.Code]bool{}
	for _, code := range []manifest.Code{
		manifest.CodeSyntax, manifest.CodeAnchor, manifest.CodeTag, manifest.CodeMergeKey, manifest.CodeDuplicateKey, manifest.CodeTab, manifest.CodeUnknownKey,
		manifest.CodeChoice, manifest.CodeUnit, manifest.CodeNotNumber, manifest.CodeRange, manifest.CodeMultiple, manifest.CodeUnknownReference, manifest.CodeReferenceForm, manifest.CodeUnknownStage, manifest.CodeCodeFolder,
	} {
		inFile[code] = true
	}
	tell := func(text string) map[manifest.Code]bool {
		base := "function: warn\nhandler: warn:run\n"
		r := check(sound(map[string]string{"functions/warn/function.yaml": base + text + "\n", "rudmar.yaml": replaced(service, "frost_limit:", "limit: {type: number, default: 1}\n  frost_limit:")}))
		codes := map[manifest.Code]bool{}
		for _, d := range r.Diagnostics {
			codes[d.Code] = true
		}
		return codes
	}
	tried := 0
	for _, e := range manifest.Explanations() {
		if !inFile[e.Code] {
			continue
		}
		tried++
		if !tell(e.Wrong)[e.Code] {
			t.Errorf("%s is not told of %q: %v", e.Code, e.Wrong, tell(e.Wrong))
		}
		if tell(e.Right)[e.Code] {
			t.Errorf("%s is told of %q", e.Code, e.Right)
		}
	}
	if tried != len(inFile) {
		t.Errorf("%d examples were tried", tried)
	}
}

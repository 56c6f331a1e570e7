package check_test

import (
	"testing"

	"rudmar/core/check"
	"rudmar/core/diagnostic"
)

// Examples of whole parts of a function's manifest: the wrong one is reported with its code, the right one is
// not.
func TestDocumentedExamples(t *testing.T) {
	inFile := map[diagnostic.Code]bool{}
	for _, code := range []diagnostic.Code{
		diagnostic.CodeSyntax, diagnostic.CodeAnchor, diagnostic.CodeTag, diagnostic.CodeMergeKey,
		diagnostic.CodeDuplicateKey, diagnostic.CodeTab, diagnostic.CodeUnknownKey,
		diagnostic.CodeChoice, diagnostic.CodeUnit, diagnostic.CodeNotNumber, diagnostic.CodeRange, diagnostic.CodeMultiple,
		diagnostic.CodeUnknownReference, diagnostic.CodeReferenceForm, diagnostic.CodeUnknownStage, diagnostic.CodeCodeFolder,
	} {
		inFile[code] = true
	}
	tell := func(text string) map[diagnostic.Code]bool {
		base := "function: warn\nhandler: warn:run\n"
		r := check.Service(sound(map[string]string{"functions/warn/function.yaml": base + text + "\n",
			"rudmar.yaml": replaced(service, "frost_limit:", "limit: {type: number, default: 1}\n  frost_limit:")}))
		codes := map[diagnostic.Code]bool{}
		for _, d := range r.Diagnostics {
			codes[d.Code] = true
		}
		return codes
	}
	tried := 0
	for _, e := range diagnostic.Explanations() {
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

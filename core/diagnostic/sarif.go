package diagnostic

import "sort"

// SARIF returns diagnostics in the form of SARIF 2.1.0, for tools that show the
// findings of checkers beside the code. Files are relative to the folder that
// was checked.
func SARIF(found []Diagnostic) map[string]any {
	used := map[Code]bool{}
	results := []any{}
	for _, d := range found {
		used[d.Code] = true
		region := map[string]any{"startLine": d.Line, "startColumn": d.Column, "endLine": d.EndLine, "endColumn": d.EndColumn}
		result := map[string]any{
			"ruleId": string(d.Code), "level": string(d.Severity), "message": map[string]any{"text": d.Message},
			"locations": []any{map[string]any{
				"physicalLocation": map[string]any{"artifactLocation": location(d.File), "region": region}}},
		}
		if d.Fix != nil {
			result["fixes"] = []any{sarifFix(d)}
		}
		results = append(results, result)
	}
	rules := []any{}
	for _, e := range Explanations() {
		if used[e.Code] {
			rules = append(rules, map[string]any{"id": string(e.Code), "name": e.Title,
				"shortDescription": map[string]any{"text": e.Title}, "fullDescription": map[string]any{"text": e.Reason}})
		}
	}
	sort.Slice(rules, func(i, j int) bool {
		return rules[i].(map[string]any)["id"].(string) < rules[j].(map[string]any)["id"].(string)
	})
	return map[string]any{
		"$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0",
		"runs": []any{map[string]any{
			"tool":       map[string]any{"driver": map[string]any{"name": "rudmar check", "rules": rules}},
			"columnKind": "unicodeCodePoints",
			"results":    results,
		}},
	}
}

func location(file string) map[string]any { return map[string]any{"uri": file} }

func sarifFix(d Diagnostic) map[string]any {
	replacements := []any{}
	for _, e := range d.Fix.Edits {
		replacements = append(replacements, map[string]any{
			"deletedRegion": map[string]any{"startLine": e.Line, "startColumn": e.Column, "endLine": e.EndLine,
				"endColumn": e.EndColumn},
			"insertedContent": map[string]any{"text": e.Text},
		})
	}
	return map[string]any{"description": map[string]any{"text": d.Fix.Title},
		"artifactChanges": []any{map[string]any{"artifactLocation": location(d.File), "replacements": replacements}}}
}

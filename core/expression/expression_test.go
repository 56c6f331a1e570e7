package expression_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"rudmar/core/expression"
)

func ExampleExpression_Holds() {
	language, err := expression.ForCases()
	if err != nil {
		panic(err)
	}
	e, err := language.Compile("status == 200 && body.warning == false")
	if err != nil {
		panic(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	fmt.Println(e.Holds(ctx, map[string]any{"status": 200, "body": map[string]any{"warning": true}}))
	// Output: false <nil>
}

// answered has the variables of a response.
func answered() map[string]any {
	list := make([]any, 300)
	for i := range list {
		list[i] = float64(i)
	}
	return map[string]any{
		"status": 200, "headers": map[string]string{"content-type": "text/plain"},
		"body": map[string]any{"warning": false, "list": list, "name": "hill",
			"long": strings.Repeat("x", 298), "longer": strings.Repeat("x", 299)},
		"logs": []string{"one", "two"}, "took": 300 * time.Millisecond, "memory_peak": 5 << 20, "cold": true,
	}
}

func TestEvaluate(t *testing.T) {
	language, err := expression.ForCases()
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		text  string
		holds bool
		found string
	}{
		{"status == 200", true, "status is 200"},
		{"status in [201, 202]", false, "status is 200"},
		{"body.warning == false", true, "body.warning is false"},
		{"!cold", false, "cold is true"},
		{"cold", true, "cold is true"},
		{`body.name.startsWith("h")`, true, `body.name is "hill"`},
		{`logs.exists(l, l == "two")`, true, `logs is ["one","two"]`},
		{`took < duration("800ms")`, true, "took is 300ms"},
		{"memory_peak <= 1", false, "memory_peak is 5242880"},
		{"true", true, ""},
		{`logs.size() == 3`, false, `logs is ["one","two"]`},
		{`size(logs) == 3`, false, `size(logs) is 2`},
		{`!(status == 200)`, false, "status is 200"},
		{`"three" in logs`, false, `logs is ["one","two"]`},
		{`status == 200 && cold == false`, false, "status is 200, cold is true"},
		{"200 != status", false, "status is 200"},
		{"status == 1 || cold == false", false, "status is 200, cold is true"},
		{"status == 200 && status < 100", false, "status is 200"},
		{"body.lost == 1", false, "body.lost: no such key: lost"},
		{"took.getSeconds() == 1", false, "took.getSeconds() is 0"},
		{"body.long != ''", true, `body.long is "` + strings.Repeat("x", 298) + `"`},
		{"body.longer != ''", true, `body.longer is "` + strings.Repeat("x", 299) + "…"},
	} {
		e, err := language.Compile(tt.text)
		if err != nil {
			t.Errorf("%s: %v", tt.text, err)
			continue
		}
		holds, err := e.Holds(t.Context(), answered())
		if holds != tt.holds || err != nil && !strings.Contains(tt.text, "lost") {
			t.Errorf("%s: %v %v", tt.text, holds, err)
		}
		if found := language.Found(t.Context(), tt.text, answered()); found != tt.found {
			t.Errorf("%s: found %q, want %q", tt.text, found, tt.found)
		}
		if e.String() != tt.text {
			t.Errorf("it is written %q", e)
		}
	}
}

// What is wrong is reported with its place in the expression.
func TestCompileErrors(t *testing.T) {
	language, err := expression.ForRules()
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		"plan.deletes.size() = 0":   "1:21",
		"lost == 1":                 "1:1",
		"1 + 1":                     "1:1",
		"version.number >\n  ) + 1": "2:3",
		"":                          "1:1",
	} {
		_, err := language.Compile(text)
		var c *expression.CompileError
		if !errors.As(err, &c) || c.Message == "" {
			t.Errorf("%q: %v", text, err)
			continue
		}
		if got := fmt.Sprintf("%d:%d", c.Line, c.Column); got != want {
			t.Errorf("%q: at %s, want %s (%v)", text, got, want, err)
		}
	}
	for _, text := range []string{"plan.deletez.size() == 0", "impact.public == []", "version.numbr > 3",
		"metrics.invocations == 'many'", "plan.deletes"} {
		if _, err := language.Compile(text); err == nil {
			t.Errorf("%s was taken", text)
		}
	}
}

// TestFields evaluates every field of rules and cases.
func TestFields(t *testing.T) {
	rules, err := expression.ForRules()
	if err != nil {
		t.Fatal(err)
	}
	cases, err := expression.ForCases()
	if err != nil {
		t.Fatal(err)
	}
	found := expression.Rules{Plan: expression.Plan{Deletes: []string{"logs/warn"}},
		Version: expression.Version{Number: 4, Branch: "main"}}
	same := map[string]string{"list of strings": " == [] || true", "number": " >= 0", "string": " != 'x'",
		"duration": " >= duration('0s')", "boolean": " || true", "map of strings": ".size() >= 0", "anything": " != 1"}
	for i, list := range [][]expression.Field{expression.RuleFields(), expression.CaseFields()} {
		language, variables := rules, found.Variables()
		if i == 1 {
			language, variables = cases, answered()
		}
		if len(list) < 7 {
			t.Errorf("only %d fields", len(list))
		}
		for _, f := range list {
			e, err := language.Compile(f.Name + same[f.Type])
			if err != nil {
				t.Errorf("%s (%s): %v", f.Name, f.Type, err)
				continue
			}
			if ok, err := e.Holds(t.Context(), variables); !ok || err != nil || f.About == "" {
				t.Errorf("%s (%s, %q): %v %v", f.Name, f.Type, f.About, ok, err)
			}
		}
	}
	if got, want := rules.Found(t.Context(), "plan.deletes.size() == 0 && version.branch == 'release'",
		found.Variables()), `plan.deletes is ["logs/warn"], version.branch is "main"`; got != want &&
		got != `plan.deletes.size() is 1, version.branch is "main"` {
		t.Errorf("found %s", got)
	}
}

// Each kind of hostile expression is stopped by its own limit.
func TestLimits(t *testing.T) {
	language, err := expression.ForCases()
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"depth": strings.Repeat("(", 500) + "true" + strings.Repeat(")", 500),
		"size":  strings.Repeat("true || ", 1000) + "true",
	} {
		if _, err := language.Compile(text); err == nil {
			t.Errorf("%s: it was taken", name)
		}
	}
	// Exactly at the limit, and one more.
	padded := func(n int) string { return "true" + strings.Repeat(" ", n-len("true")) }
	nested := func(n int) string { return strings.Repeat("(", n) + "true" + strings.Repeat(")", n) }
	for name, texts := range map[string][2]string{"size": {padded(4096), padded(4097)}, "depth": {nested(49), nested(50)}} {
		if _, err := language.Compile(texts[0]); err != nil {
			t.Errorf("%s: what is allowed: %v", name, err)
		}
		var c *expression.CompileError
		if _, err := language.Compile(texts[1]); !errors.As(err, &c) || c.Line != 1 || c.Column < 1 {
			t.Errorf("%s: one more: %#v", name, err)
		}
	}
	costly, err := language.Compile("body.list.all(a, body.list.all(b, body.list.all(c, a + b + c >= 0.0)))")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := costly.Holds(t.Context(), answered()); err == nil || !strings.Contains(err.Error(), "cost") {
		t.Errorf("cost: %v", err)
	}
	late, cancel := context.WithDeadline(t.Context(), time.Now().Add(-time.Second))
	defer cancel()
	slow, err := language.Compile("body.list.all(a, a >= 0.0)")
	if err != nil {
		t.Fatal(err)
	}
	if holds, err := slow.Holds(t.Context(), answered()); !holds || err != nil {
		t.Errorf("in time: %v %v", holds, err)
	}
	if holds, err := slow.Holds(late, answered()); holds || err == nil {
		t.Errorf("too late: %v %v", holds, err)
	}
}

var writeDocs = flag.Bool("write-docs", false, "replace the placeholders of docs/manifest.md by tables")

// TestFieldsAreDocumented compares docs/manifest.md with the fields of expressions.
func TestFieldsAreDocumented(t *testing.T) {
	const file = "../../docs/manifest.md"
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for placeholder, list := range map[string][]expression.Field{"RULEFIELDS": expression.RuleFields(),
		"CASEFIELDS": expression.CaseFields()} {
		table := ""
		for _, f := range list {
			table += fmt.Sprintf("| `%s` | %s | %s |\n", f.Name, f.Type, f.About)
		}
		if *writeDocs {
			text = []byte(strings.Replace(string(text), placeholder+"\n", table, 1))
		}
		if !strings.Contains(string(text), table) {
			t.Errorf("docs/manifest.md does not have\n%s", table)
		}
	}
	if *writeDocs {
		if err := os.WriteFile(file, text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

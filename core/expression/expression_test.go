package expression_test

import (
	"context"
	"errors"
	"fmt"
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

// answered is what an answer gives expressions to speak of.
func answered() map[string]any {
	list := make([]any, 300)
	for i := range list {
		list[i] = float64(i)
	}
	return map[string]any{
		"status": 200, "headers": map[string]string{"content-type": "text/plain"}, "body": map[string]any{"warning": false, "list": list, "name": "hill"},
		"logs": []string{"one", "two"}, "took": 300 * time.Millisecond, "memory_peak": 5 << 20, "cold": true,
	}
}

func TestHoldsAndFound(t *testing.T) {
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
		{"body.lost == 1", false, "body.lost: no such key: lost"},
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

// What is wrong is told with its place in the expression.
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
	e, err := language.Compile("plan.deletes") // dyn: known only when it is evaluated
	if err != nil {
		t.Fatal(err)
	}
	if _, err := e.Holds(t.Context(), map[string]any{"plan": map[string]any{"deletes": 3}}); !errors.Is(err, expression.ErrNotBoolean) {
		t.Errorf("a number holds: %v", err)
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
